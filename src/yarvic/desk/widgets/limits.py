"""A limit of the ledger as a line that can be written in."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PyQt6.QtWidgets import QFrame, QVBoxLayout, QWidget

from yarvic.core.checks.components import LIMITED, ComponentLimit, Mover
from yarvic.core.errors import YarvicError
from yarvic.core.job.model import parts_on
from yarvic.core.plan.stations import stations
from yarvic.core.typed_numbers import parse_number
from yarvic.core.units import UNITS, units_of
from yarvic.desk.widgets.entry import Line, choice
from yarvic.desk.widgets.words import label, row, show_choice, tip, word
from yarvic.state.session import Session

# A longer name of a part is cut: the line stands in a narrow column, and the tooltip has it whole.
MOST_LETTERS = 20


class MoverRow(QWidget):
    """What a part does to a limit: which part, whether it adds or is what the limit becomes, and by how much."""

    def __init__(self, session: Session, name: Callable[[], tuple[str, str]], at: int) -> None:
        super().__init__()
        self.session, self._name, self.key = session, name, at
        self.part = choice("Part that moves it", self._parts, lambda key: self._set("part", key))
        hows = [("adds", "adds"), ("becomes", "becomes")]
        self.how = choice("How it moves", lambda: hows, lambda how: self._set("how", how))
        self.safe = Line("Safe, by the part", partial(self._enter, "safe"), 50)
        self.stretch = Line("At most, by the part", partial(self._enter, "stretch"), 50)
        self.state = label("", "caption")
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(row(self.part, None, word("Remove", self._remove)))
        column.addLayout(row(self.how, self.safe, label("to", "caption"), self.stretch, self.state, None))
        for field in (self.safe, self.stretch):
            column.addWidget(field.fault)

    def _limit(self) -> ComponentLimit | None:
        job = self.session.job
        return next((m for m in job.sheet.limits if m.name == self._name()), None) if job is not None else None

    def refresh(self) -> None:
        """Show what is kept."""
        limit, job = self._limit(), self.session.job
        if limit is None or job is None or self.key >= len(limit.moved_by):
            return
        mover = limit.moved_by[self.key]
        title = next((p.title for p in job.sheet.parts if p.key == mover.part), mover.part)
        show_choice(self.part, f"with {title if len(title) <= MOST_LETTERS else title[:MOST_LETTERS].rstrip() + '…'}")
        tip(self.part, f"Moved with {title}: choose another part")
        show_choice(self.how, mover.how)
        self.safe.show_text(f"{mover.safe:g}")
        self.stretch.show_text(f"{mover.stretch:g}")
        self.state.setText(f"{limit.unit}, {'fitted' if mover.part in parts_on(job.builds()) else 'not fitted'}")
        for field in (self.safe, self.stretch):
            field.setReadOnly(job.read_only)

    def _parts(self) -> list[tuple[str, str]]:
        job = self.session.job
        return [(p.key, p.title) for p in job.sheet.parts] if job is not None else []

    def _set(self, entry: str, value: str) -> None:
        self.session.attempt(lambda: self._save(entry, value))

    def _enter(self, entry: str, text: str) -> None:
        self._save(entry, parse_number(text))

    def _save(self, entry: str, value: str | float) -> None:
        limit, sheet = self._limit(), self.session.sheet
        if limit is None or sheet is None:
            return
        movers = list(limit.moved_by)
        movers[self.key] = movers[self.key].changed(**{entry: value})
        sheet.save_limit(limit.changed(moved_by=tuple(movers)), limit.name)

    def _remove(self) -> None:
        limit, sheet = self._limit(), self.session.sheet
        if limit is not None and sheet is not None:
            movers = tuple(m for i, m in enumerate(limit.moved_by) if i != self.key)
            self.session.attempt(lambda: sheet.save_limit(limit.changed(moved_by=movers), limit.name))


class LimitRow(QFrame):
    """Component, quantity and basis, the ends of safe and stretch, source; what moves it stands under it."""

    def __init__(self, session: Session, name: tuple[str, str]) -> None:
        super().__init__()
        self.session, self.name = session, name
        self.setObjectName("line")
        self.component = Line("Component", self._enter_component)
        self.quantity = choice("Quantity", self._quantities, partial(self._set, "key"))
        self.basis = choice("Basis", self._bases, partial(self._set, "basis"))
        self.safe = Line("Safe to", partial(self._enter_number, "safe"), 50)
        self.stretch = Line("At most", partial(self._enter_number, "stretch"), 50)
        self.unit = choice("Unit", self._units, partial(self._set, "unit"))
        self.speed = Line("At engine speed", self._enter_speed, 58, "rpm")
        self.source = Line("Source", partial(self._enter_text, "source"), hint="where this number is from")
        self.drop = word("Remove", self._remove)
        self.station = choice("Station", self._stations, partial(self._set, "station"))
        self.add = word("Moved by a part", self._add_mover)
        self.movers: list[MoverRow] = []
        self.moved = label("", "caption", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(2, 4, 2, 4)
        column.setSpacing(2)
        column.addLayout(row(self.component, self.drop))
        column.addLayout(row(self.quantity, self.basis, label("at", "caption"), self.speed, None))
        ends = (label("safe to", "caption"), self.safe, label("at most", "caption"), self.stretch, self.unit, None)
        column.addLayout(row(*ends))
        column.addWidget(self.source)
        column.addLayout(row(self.station, None, self.add))
        self.inside = QVBoxLayout()
        column.addLayout(self.inside)
        for field in (self.component, self.safe, self.stretch, self.speed, self.source):
            column.addWidget(field.fault)
        column.addWidget(self.moved)

    @property
    def key(self) -> tuple[str, str]:
        """Component and quantity."""
        return self.name

    @property
    def limit(self) -> ComponentLimit | None:
        """The limit as it is kept; None once it is gone."""
        job = self.session.job
        return next((m for m in job.sheet.limits if m.name == self.name), None) if job is not None else None

    def refresh(self) -> None:
        """Show what is kept."""
        limit, job = self.limit, self.session.job
        if limit is None or job is None:
            return
        self.component.show_text(limit.component)
        show_choice(self.quantity, limit.limited.title)
        show_choice(self.basis, limit.basis)
        show_choice(self.unit, limit.unit)
        self.safe.show_text(f"{limit.safe:g}")
        self.stretch.show_text(f"{limit.stretch:g}")
        self.speed.show_text("" if limit.speed_rpm is None else f"{limit.speed_rpm:g}")
        self.source.show_text(limit.source)
        titles = {s.key: s.title for s in stations(job.sheet.vehicle)}
        show_choice(self.station, titles.get(limit.station, "no station"))
        self.add.setEnabled(bool(job.sheet.parts) and not job.read_only)
        self._show_movers(limit)
        now = limit.with_parts(parts_on(job.builds()))
        moved = (now.safe, now.stretch) != (limit.safe, limit.stretch)
        self.moved.setText(f"As fitted: {now.safe:g} safe, {now.stretch:g} at most, {limit.unit}." if moved else "")
        self.moved.setVisible(moved)
        for field in (self.component, self.safe, self.stretch, self.speed, self.source):
            field.setReadOnly(job.read_only)

    def _show_movers(self, limit: ComponentLimit) -> None:
        while len(self.movers) > len(limit.moved_by):
            gone = self.movers.pop()
            self.inside.removeWidget(gone)
            gone.hide()
            gone.deleteLater()
        while len(self.movers) < len(limit.moved_by):
            made = MoverRow(self.session, lambda: self.name, len(self.movers))
            self.movers.append(made)
            self.inside.addWidget(made)
        for each in self.movers:
            each.refresh()

    # -- what is taken

    def _stations(self) -> list[tuple[str, str]]:
        job = self.session.job
        found = stations(job.sheet.vehicle) if job is not None else ()
        return [("", "no station"), *((s.key, s.title) for s in found)]

    def _add_mover(self) -> None:
        """A part that adds a tenth, to be set: one that does not move it yet, of the same station if there is one."""
        limit, job, sheet = self.limit, self.session.job, self.session.sheet
        if limit is None or job is None or sheet is None:
            return
        moving = {m.part for m in limit.moved_by}
        free = [p for p in job.sheet.parts if p.key not in moving]
        if not free:
            self.session.say("Every part of the ledger moves it already: add a part first.", trouble=True)
            return
        part = next((p for p in free if p.station == limit.station), free[0])
        tenth = round(0.1 * limit.stretch, 1)
        mover = Mover(part=part.key, safe=tenth, stretch=tenth)
        self.session.attempt(lambda: sheet.save_limit(limit.changed(moved_by=(*limit.moved_by, mover)), limit.name))

    def _quantities(self) -> list[tuple[str, str]]:
        return [(key, limited.title) for key, limited in LIMITED.items()]

    def _bases(self) -> list[tuple[str, str]]:
        return [(b, b) for b in self.limit.limited.bases] if self.limit is not None else []

    def _units(self) -> list[tuple[str, str]]:
        return [(u, u) for u in units_of(self.limit.limited.quantity)] if self.limit is not None else []

    def _set(self, entry: str, value: str) -> None:
        self.session.attempt(lambda: self._save(entry, value))

    def _save(self, entry: str, value: Any) -> None:
        limit, sheet = self.limit, self.session.sheet
        if limit is None or sheet is None:
            return
        values: dict[str, Any] = {entry: value}
        if entry == "key" and value != limit.key:
            limited = LIMITED[value]
            if value not in LIMITED or UNITS[limit.unit].quantity != limited.quantity:
                # Another quantity has other units: the number is not carried over as if it were one of those.
                values["unit"] = units_of(limited.quantity)[0]
            if limit.basis not in limited.bases:
                values["basis"] = limited.bases[0]
        elif entry == "unit":
            old, new = UNITS[limit.unit], UNITS[value]
            for band in ("safe", "stretch"):
                canonical = getattr(limit, band) * old.factor + old.offset
                values[band] = round((canonical - new.offset) / new.factor, 4)
            values["moved_by"] = tuple(
                m.model_copy(
                    update={
                        band: round(
                            getattr(m, band) * old.factor / new.factor
                            if m.how == "adds"
                            else (getattr(m, band) * old.factor + old.offset - new.offset) / new.factor,
                            4,
                        )
                        for band in ("safe", "stretch")
                    }
                )
                for m in limit.moved_by
            )
        new_limit = limit.changed(**values)
        before, self.name = self.name, new_limit.name
        try:
            sheet.save_limit(new_limit, before)
        except YarvicError:
            self.name = before
            raise

    def _enter_component(self, text: str) -> None:
        self._save("component", text.strip())

    def _enter_text(self, entry: str, text: str) -> None:
        self._save(entry, text.strip())

    def _enter_number(self, entry: str, text: str) -> None:
        self._save(entry, parse_number(text))

    def _enter_speed(self, text: str) -> None:
        self._save("speed_rpm", parse_number(text) if text.strip() else None)

    def _remove(self) -> None:
        sheet = self.session.sheet
        if sheet is not None:
            self.session.attempt(lambda: sheet.drop_limit(self.name))
