"""The vehicle's sheet: what it is, what follows from it beside each entry, and what it is for."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QWidget

from yarvic.core.checks.finding import amount
from yarvic.core.errors import JobError, UnitError
from yarvic.core.job.model import JobSheet
from yarvic.core.physics.correction import STANDARDS
from yarvic.core.physics.correction import title as standard_title
from yarvic.core.plan.derived import Derived, derived
from yarvic.core.plan.ratings import torque_of_tag
from yarvic.core.plan.vehicle import Vehicle, entries
from yarvic.core.typed_numbers import parse_entry, parse_number, parse_numbers
from yarvic.core.units import UNITS, from_canonical, to_canonical
from yarvic.desk.widgets.entry import Line, Sheet, choice
from yarvic.desk.widgets.words import show_choice, word
from yarvic.state.coast import measured_loss
from yarvic.state.session import Session
from yarvic.state.sheet import SheetState

FIELD_PX, TEXT_PX = 84, 126
# Entries in words that need a line of their own.
LONG = ("engine", "cams", "fuels", "gears", "clutch", "drivetrain_loss_from", "shop")
LONG_PX = 244
_CHOICES: dict[str, tuple[str, tuple[str, ...]]] = {
    "ignition": ("Ignition", ("spark", "compression")),
    "induction": ("Induction", ("natural", "turbo", "vane turbo", "mechanical")),
    "injection": ("Injection", ("port", "direct", "common rail")),
    "gearbox": ("Gearbox", ("manual", "automatic", "double clutch", "sequential", "variable")),
    "driven": ("Driven", ("front", "rear", "four wheels", "tracks")),
}
_DAYS = {
    "hottest_k": "Hottest day, degC",
    "coldest_k": "Coldest day, degC",
    "lowest_m": "Lowest place, m",
    "highest_m": "Highest place, m",
}
_FLAGS = {"knock_control": ("Knock control", "the unit listens"), "gearbox_unit": ("Gearbox unit", "has its own")}
_PURPOSES = ("towing", "daily road", "track", "race", "rescue")
_USES = ("public road", "closed course")


class VehiclePanel(QWidget):
    """Three sheets side by side."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 4, 0)
        row.setSpacing(10)
        self.fields: dict[str, QLineEdit | QPushButton] = {}
        self.beside: dict[str, QLabel] = {}
        self._sheets = {name: Sheet(name) for name in ("Engine", "Drive", "Body and use")}
        self._engine(self._sheets["Engine"])
        self._drive(self._sheets["Drive"])
        self._use(self._sheets["Body and use"])
        for sheet in self._sheets.values():
            sheet.close()
            row.addLayout(sheet, 1)

    # -- what is asked

    def _engine(self, sheet: Sheet) -> None:
        self._text(sheet, "name", "Name", "")
        self._text(sheet, "kind", "Vehicle", "such as rescue buggy")
        self._text(sheet, "engine", "Engine", "in words")
        for key in ("ignition", "induction", "injection"):
            self._choice(sheet, key)
        for key in ("cylinders", "bore_mm", "stroke_mm", "compression_ratio", "idle_rpm", "redline_rpm"):
            self._number(sheet, key)
        self._text(sheet, "cams", "Cams", "such as two, phased")
        self._flag(sheet, "knock_control")
        fuels = Line("Fuels by map slot", self._enter_fuels, TEXT_PX, "slot = fuel; slot = fuel")
        self._add(sheet, "fuels", "Fuels", fuels)

    def _drive(self, sheet: Sheet) -> None:
        self._choice(sheet, "gearbox")
        self._flag(sheet, "gearbox_unit")
        rating = Line("Gearbox rating", self._enter_rating, FIELD_PX, "or tag 42")
        self._add(sheet, "gearbox_torque_nm", "Gearbox rating, N m", rating)
        gears = Line("Gear ratios", self._enter_gears, TEXT_PX, "lowest gear first")
        self._add(sheet, "gears", "Gears", gears)
        self._number(sheet, "final_drive")
        self._text(sheet, "clutch", "Clutch", "")
        self._choice(sheet, "driven")
        self._number(sheet, "tyre_radius_mm")
        self._number(sheet, "drivetrain_loss")
        self._text(sheet, "drivetrain_loss_from", "Loss is from", "stated, or coast-down")
        sheet.wide(word("Use the loss of the last coast-down", self.use_coast_down))
        self._text(sheet, "family", "Engine family", "for ratings")
        self._text(sheet, "rating", "Rating", "")

    def _use(self, sheet: Sheet) -> None:
        for key in ("mass_kg", "frontal_area_m2", "drag_coefficient", "rolling_coefficient"):
            self._number(sheet, key)
        for key, name, values in (("purpose", "Purpose", _PURPOSES), ("use", "Used on", _USES)):
            pick = choice(name, lambda values=values: [(v, v) for v in values], partial(self._set_sheet, key))  # type: ignore[misc]
            self._add(sheet, key, name, pick)
        self._sheet_number(sheet, "altitude_m", "Altitude, m", "m")
        for key, name in _DAYS.items():
            self._add(sheet, key, name, Line(name, partial(self._enter_day, key), FIELD_PX))
        for at, name in ((0, "Band from, rpm"), (1, "Band to, rpm")):
            field = Line(name, partial(self._enter_band, at), FIELD_PX)
            self._add(sheet, f"band_{at}", name, field)
        pick = choice(
            "House standard",
            lambda: [(n, standard_title(n)) for n in STANDARDS],
            partial(self._set_sheet, "standard"),
        )
        self._add(sheet, "standard", "Standard", pick)
        self._sheet_number(sheet, "pulls_required", "Pulls wanted", "")
        shop = Line("Shop", lambda text: self._set_sheet("shop", text.strip()), TEXT_PX)
        self._add(sheet, "shop", "Shop", shop)
        title = Line("Title of the job", lambda text: self._set_sheet("title", text.strip()), TEXT_PX)
        self._add(sheet, "title", "Job", title)

    def _add(self, sheet: Sheet, key: str, name: str, field: QLineEdit | QPushButton) -> None:
        self.fields[key] = field
        if key in LONG and isinstance(field, Line):
            field.setFixedWidth(LONG_PX)
            self.beside[key] = sheet.long_line(name, field)
        else:
            self.beside[key] = sheet.line(name, field)

    def _number(self, sheet: Sheet, key: str) -> None:
        entry = entries()[key]
        name = f"{entry.title}, {entry.unit}" if entry.unit else entry.title
        self._add(sheet, key, name, Line(entry.title, partial(self._enter_number, key), FIELD_PX))

    def _text(self, sheet: Sheet, key: str, name: str, hint: str) -> None:
        def enter(text: str) -> None:
            self._state().set_vehicle(**{key: text.strip()})

        self._add(sheet, key, name, Line(name, enter, TEXT_PX, hint))

    def _choice(self, sheet: Sheet, key: str) -> None:
        name, values = _CHOICES[key]
        self._add(sheet, key, name, choice(name, lambda: [(v, v) for v in values], partial(self._set_vehicle, key)))

    def _flag(self, sheet: Sheet, key: str) -> None:
        name, words = _FLAGS[key]
        pick = choice(name, lambda: [("yes", words), ("", "no")], lambda v: self._set_vehicle(key, bool(v)))
        self._add(sheet, key, name, pick)

    def _sheet_number(self, sheet: Sheet, key: str, name: str, unit: str) -> None:
        def enter(text: str) -> None:
            words = text.strip().removesuffix(unit).strip() if unit else text.strip()
            if not words and key == "altitude_m":
                self._state().set("Altitude removed.", altitude_m=None)
                return
            value = parse_number(words)
            self._state().set(f"{name}: {value:g}.", **{key: int(value) if key == "pulls_required" else value})

        self._add(sheet, key, name, Line(name, enter, FIELD_PX))

    def _enter_day(self, key: str, text: str) -> None:
        """The ends of the weather and the places that the map is meant for; empty takes one away."""
        days, words, unit = self._state().sheet.days, text.strip(), "degC" if key.endswith("_k") else "m"
        if not words:
            value = None
        else:
            value = parse_entry(words, unit)
        what = f"{_DAYS[key]}: {words}." if words else f"{_DAYS[key]} removed."
        self._state().set(what, days=days.changed(**{key: value}))

    # -- what is taken

    def _state(self) -> SheetState:
        state = self.session.sheet
        if state is None:
            raise JobError("no job is open", remedy="Open a job first.")
        return state

    def _enter_number(self, key: str, text: str) -> None:
        self._state().set_vehicle(**{key: entries()[key].read(text)})

    def _enter_rating(self, text: str) -> None:
        if text.strip().lower().startswith("tag"):
            value = float(to_canonical(torque_of_tag(text), "lb-ft"))
            self._state().set_vehicle(gearbox_torque_nm=round(value, 1))
        else:
            self._enter_number("gearbox_torque_nm", text)

    def _enter_gears(self, text: str) -> None:
        try:
            ratios = parse_numbers(text)
        except UnitError as error:
            raise UnitError(f"Gears: {error.what}", remedy=error.remedy) from None
        self._state().set_vehicle(gears=ratios)

    def _enter_fuels(self, text: str) -> None:
        fuels = {}
        for entry in text.split(";"):
            if not entry.strip():
                continue
            slot, equals, key = entry.partition("=")
            if not equals:
                raise ValueError("Fuels: write slot = fuel, such as RON 95 = petrol-95; E30 = petrol-95+e30.")
            fuels[slot.strip()] = key.strip()
        self._state().set_vehicle(fuels=fuels)

    def _enter_band(self, at: int, text: str) -> None:
        value = parse_number(text.lower().removesuffix("rpm"))
        band = list(self._state().sheet.band_rpm)
        band[at] = value
        self._state().set(f"Evaluation band {band[0]:,.0f} to {band[1]:,.0f} rpm.", band_rpm=tuple(band))

    def _set_vehicle(self, key: str, value: Any) -> None:
        self.session.attempt(lambda: self._state().set_vehicle(**{key: value}))

    def _set_sheet(self, key: str, value: Any) -> None:
        what = f"{key.replace('_', ' ').capitalize()}: {value}."
        if key in ("purpose", "use", "standard"):
            self.session.attempt(lambda: self._state().set(what, **{key: value}))
            if key == "standard" and self.session.job is not None:
                self.session.choose_standard(self.session.job.sheet.standard)
        else:
            self._state().set(what, **{key: value})

    def use_coast_down(self) -> None:
        """Put the loss that the last coast-down measured onto the sheet."""

        def enter() -> None:
            loss = measured_loss(self.session)
            share = f"{loss.share * 100:.1f} % (the run's own scatter: {loss.half_width * 100:.2f})"
            self._state().set_vehicle(
                drivetrain_loss=round(loss.share * 100.0, 2), drivetrain_loss_from=f"{loss.source}, {share}"
            )
            self.session.say(f"The drivetrain loses {share}: {loss.source}. Losses under load come on top.")

        self.session.attempt(enter)

    # -- what is shown

    def refresh(self) -> None:
        """Show what is kept."""
        job = self.session.job
        if job is None:
            return
        v, sheet = job.sheet.vehicle, job.sheet
        for key, field in self.fields.items():
            text = _shown(v, sheet, key)
            if isinstance(field, Line):
                field.show_text(text)
                field.setReadOnly(job.read_only)
            elif isinstance(field, QPushButton):
                show_choice(field, text)
                field.setEnabled(not job.read_only)
        found: dict[str, list[str]] = {}
        for each in derived(v):
            found.setdefault(each.beside, []).append(_in_words(each))
        for key, label in self.beside.items():
            label.setText("; ".join(found.get(key, [])))
            label.setVisible(key in found)


def _shown(vehicle: Vehicle, sheet: JobSheet, key: str) -> str:
    if key in ("purpose", "use", "title", "shop"):
        return str(getattr(sheet, key))
    if key == "standard":
        return standard_title(sheet.standard)
    if key.startswith("band_"):
        return f"{sheet.band_rpm[int(key[-1])]:g}"
    if key in _DAYS:
        value = getattr(sheet.days, key)
        return "" if value is None else f"{from_canonical(value, 'degC' if key.endswith('_k') else 'm'):.4g}"
    if key in ("altitude_m", "pulls_required"):
        value = getattr(sheet, key)
        return "" if value is None else f"{value:g}"
    value = getattr(vehicle, key)
    if key == "fuels":
        return "; ".join(f"{slot} = {name}" for slot, name in value.items())
    if key == "gears":
        return "  ".join(f"{g:.2f}" for g in value)
    if key in _FLAGS:
        return _FLAGS[key][1] if value else "no"
    if key in _CHOICES:
        return value or "not stated"
    return "" if value is None else f"{value:g}" if isinstance(value, float | int) else str(value)


_SHORT = {
    "displacement": "{} in all",
    "piston_speed": "{} piston speed",
    "knock_tone": "knocks at {}",
    "wheel_to_crank": "crank is {} x wheel",
    "top_speed": "{} in top gear",
    "drag_area": "{} drag area",
}


def _in_words(each: Derived) -> str:
    if each.key.startswith("stoichiometric"):
        return f"{each.key.removeprefix('stoichiometric ')}: AFR {each.value:.2f}"
    unit = "kHz" if each.unit == "Hz" else each.unit
    shown = amount(each.value, unit) if unit in UNITS else f"{each.value:.3f}"
    return _SHORT[each.key].format(shown)
