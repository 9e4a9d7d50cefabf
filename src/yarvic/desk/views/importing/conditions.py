"""The conditions of a run, by hand: its air, its gear, its dyno; each may stay unknown."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout

from yarvic.core.errors import UnitError
from yarvic.core.evidence.conditions import RUN_WORDS, Conditions, bounds_of
from yarvic.core.physics.fuel import fuels
from yarvic.core.typed_numbers import parse_entry, parse_number
from yarvic.core.units import from_canonical, unit
from yarvic.desk.widgets.entry import Line, Sheet, choice
from yarvic.desk.widgets.words import label, row, show_choice
from yarvic.state.arrival import Answers
from yarvic.state.weather import STATION_PA, Weather

UNSAID = "unknown"
AT = (("station", "at the station"), ("sea level", "reduced to sea level"))
NAME_PX, FIELD_PX = 104, 124


class ConditionsForm(QFrame):
    """What the run was made under. `state` is given conditions by their fields, `air` those of the weather."""

    def __init__(self, state: Callable[..., None], air: Callable[..., None], units: dict[str, str]) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self._state, self._air, self._units = state, air, units
        self.temperature = self._of_run("Air temperature", "temperature_k", choice_of="temperature")
        self.pressure = self._measured(
            "Air pressure",
            "ambient_pressure",
            lambda v: air(pressure_pa=v),
            fits=lambda v: STATION_PA[0] <= v <= STATION_PA[1],
        )
        self.at = choice("Counted at", lambda: list(AT), lambda at: air(at=at))
        self.altitude = self._measured("Altitude", "", lambda v: air(altitude_m=v), "m")
        self.humidity = self._of_run("Relative humidity", "relative_humidity", "%")
        self.dew = self._measured("Dew point", "temperature", lambda v: air(dew_point_k=v))
        self.gear = Line("Gear", self._gear, FIELD_PX, UNSAID)
        self.throttle = self._of_run("Throttle", "throttle", "%")
        self.kind = choice(
            "How it was run", lambda: [(k, t.capitalize()) for k, t in RUN_WORDS.items()], lambda k: state(run=k)
        )
        self.fuel = choice("Fuel", self._fuels, lambda k: state(fuel=k))
        self.dyno = self._text("Dyno", "dyno")
        self.cool = self._of_run("Cool-down before", "cool_down_s", "s")
        self.fan = self._of_run("Fan", "fan", "%")
        self.tyres = self._of_run("Tyre pressure, gauge", "tyre_pressure_pa", choice_of="pressure")
        self.straps = self._text("Strapping", "strapping")
        self.note = self._text("Note", "note", 0)
        self.asked = label("", "fault", wrap=True)
        left, right = Sheet("Air", NAME_PX), Sheet("Run", NAME_PX)
        self.pressure_said = left.line("Air pressure", self.pressure)
        for name, field in (("Counted", self.at), ("Altitude", self.altitude), ("Air temperature", self.temperature),
                            ("Humidity", self.humidity), ("or dew point", self.dew),
                            ("Fuel", self.fuel)):  # fmt: skip
            left.line(name, field)
        for name, field in (("Dyno", self.dyno), ("Gear", self.gear), ("Throttle", self.throttle),
                            ("How it was run", self.kind), ("Cool-down", self.cool), ("Fan", self.fan),
                            ("Tyre pressure", self.tyres), ("Strapping", self.straps)):  # fmt: skip
            right.line(name, field)
        left.close()
        right.close()
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        both = QHBoxLayout()
        both.setSpacing(16)
        both.addLayout(left, 1)
        both.addLayout(right, 1)
        column.addWidget(self.asked)
        column.addLayout(both)
        note_name = label("Note", "quiet")
        note_name.setBuddy(self.note)
        note_name.setFixedWidth(NAME_PX)
        last = row(note_name, self.note, spacing=8)
        last.setStretch(1, 1)
        column.addLayout(last)
        column.addStretch(1)

    # -- fields

    def _measured(
        self,
        name: str,
        choice_of: str,
        enter: Callable[[Any], None],
        usual: str = "",
        fits: Callable[[float], bool] | None = None,
    ) -> Line:
        def done(text: str) -> None:
            enter(parse_entry(text, usual or self._unit(choice_of), fits) if text.strip() else None)

        return Line(name, done, FIELD_PX, UNSAID)

    def _of_run(self, name: str, key: str, usual: str = "", choice_of: str = "") -> Line:
        """A field of the conditions; what they cannot hold is said in the unit of the field."""

        low, high = bounds_of(key)

        def enter(value: float | None) -> None:
            label_ = usual or self._unit(choice_of)
            if value is not None and not low <= value <= high:
                a, b = (float(from_canonical(v, label_)) for v in (low, high))
                raise UnitError(f"must be between {a:g} and {b:g} {label_}", remedy="Check its unit.")
            self._state(**{key: value})

        return self._measured(name, choice_of, enter, usual, lambda v: low <= v <= high)

    def _gear(self, text: str) -> None:
        value = parse_number(text) if text.strip() else None
        low, high = bounds_of("gear")
        if value is not None and (value != int(value) or not low <= value <= high):
            raise UnitError(f"must be a whole number between {low:g} and {high:g}", remedy="Count from first gear.")
        self._state(gear=None if value is None else int(value))

    def _text(self, name: str, key: str, width: int = FIELD_PX) -> Line:
        return Line(name, lambda text: self._state(**{key: text.strip()}), width, UNSAID)

    def _unit(self, choice_of: str) -> str:
        usual = {"temperature": "degC", "ambient_pressure": "mbar", "pressure": "kPa"}[choice_of]
        return self._units.get(choice_of, usual)

    @staticmethod
    def _fuels() -> list[tuple[str, str]]:
        return [("", UNSAID), *((k, f.title) for k, f in fuels().items())]

    # -- showing

    def show_answers(self, said: Answers | None, asked: list[str]) -> None:
        """Show what is said of the run, and what its file leaves open."""
        self.setEnabled(said is not None)
        if said is None:
            return
        c, w = said.conditions, said.weather
        temperature, pressure = self._unit("temperature"), self._unit("ambient_pressure")
        _put(self.temperature, c.temperature_k, temperature)
        _put(self.pressure, w.pressure_pa, pressure)
        _put(self.altitude, w.altitude_m, "m", 0)
        show_choice(self.at, dict(AT).get(w.at, "station or sea level?"))
        _put(self.dew, w.dew_point_k, temperature)
        stated = said.stated
        _put(self.humidity, stated.relative_humidity, "%", 0)
        self.humidity.setEnabled(w.dew_point_k is None)
        self._show_run(c)
        self.pressure_said.setText(_of_pressure(w, pressure))
        self.pressure_said.setVisible(bool(self.pressure_said.text()))
        self.asked.setText("  ".join(asked))
        self.asked.setVisible(bool(asked))

    def _show_run(self, c: Conditions) -> None:
        self.gear.show_text("" if c.gear is None else str(c.gear))
        _put(self.throttle, c.throttle, "%", 0)
        show_choice(self.kind, RUN_WORDS[c.run].capitalize() if c.run else UNSAID)
        show_choice(self.fuel, fuels()[c.fuel].title if c.fuel in fuels() else UNSAID)
        _put(self.cool, c.cool_down_s, "s", 0)
        _put(self.fan, c.fan, "%", 0)
        _put(self.tyres, c.tyre_pressure_pa, self._unit("pressure"))
        for field, text in ((self.dyno, c.dyno), (self.straps, c.strapping), (self.note, c.note)):
            field.show_text(text)


def _put(field: Line, value: float | None, label_: str, decimals: int | None = None) -> None:
    digits = unit(label_).decimals if decimals is None else decimals
    field.show_text("" if value is None else f"{float(from_canonical(value, label_)):.{digits}f} {label_}")


def _of_pressure(weather: Weather, label_: str) -> str:
    """What is missing of a pressure, or what it is at the station."""
    if weather.question or weather.at != "sea level" or weather.station_pa is None:
        return weather.question
    return f"{float(from_canonical(weather.station_pa, label_)):.{unit(label_).decimals}f} {label_} at the station"
