"""The station in hand: what is fitted and fitting something else, its readiness, its limits."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.errors import JobError, UnitError, YarvicError
from yarvic.core.job.model import parts_on
from yarvic.core.plan.parts import Part
from yarvic.core.plan.stations import caution, stations, usual_title
from yarvic.core.typed_numbers import Fits, parse_number
from yarvic.desk.views.job.items import ItemRow
from yarvic.desk.widgets.entry import Line, Sheet
from yarvic.desk.widgets.limits import LimitRow
from yarvic.desk.widgets.rows import Rows
from yarvic.desk.widgets.words import act, chooser, label, row, show_choice, word
from yarvic.state.session import Session

LEFT_PX = 268
OWN = ""  # a part that is in no ledger


class FittingForm(QWidget):
    """A fitting or removal event: what, when, at which reading, for how much."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.station = ""
        self._part = OWN
        self.pick = chooser("Part to fit or remove", self._parts)
        self.what = Line("What is fitted then", lambda text: None, 160, "what is there then")
        self.day = Line("Date", lambda text: None, 96, "2025-03-18")
        self.odometer = Line("Odometer, km", lambda text: None, 76, "km")
        self.hours = Line("Engine hours", lambda text: None, 76, "h")
        self.cost = Line("Cost", lambda text: None, 76)
        self.work = Line("Hours of work", lambda text: None, 76, "h")
        self.go = act("Fit", self.fit)
        self.off = word("Remove", self.take_off)
        self.caution = label("", "caption", wrap=True)
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        sheet = Sheet("")
        sheet.line("Part", self.pick)
        sheet.line("Then there is", self.what)
        sheet.line("Date", self.day)
        for name, one, other in (("Reading", self.odometer, self.hours), ("Cost, hours", self.cost, self.work)):
            pair = QWidget()
            inner = QHBoxLayout(pair)
            inner.setContentsMargins(0, 0, 0, 0)
            inner.addWidget(one)
            inner.addWidget(other)
            sheet.line(name, pair)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addLayout(sheet)
        column.addWidget(self.caution)
        column.addLayout(row(self.go, self.off, None))
        column.addWidget(self.fault)

    def _parts(self) -> list[tuple[str, Callable[[], None]]]:
        mine = [p for p in self._ledger() if p.station == self.station]
        return [
            *((p.title, partial(self._choose, p.key)) for p in mine),
            ("another part", partial(self._choose, OWN)),
        ]

    def _ledger(self) -> tuple[Part, ...]:
        job = self.session.job
        return job.sheet.parts if job is not None else ()

    def part(self) -> Part | None:
        """The part of the ledger that is chosen."""
        return next((p for p in self._ledger() if p.key == self._part), None)

    def show_station(self, station: str) -> None:
        """Begin anew for a station."""
        if station == self.station:
            self.refresh()
            return
        self.station = station
        mine = [p for p in self._ledger() if p.station == station]
        for field in (self.what, self.odometer, self.hours, self.cost, self.work):
            field.show_text("")
            field.clear()
        self._choose(mine[0].key if mine else OWN)

    def _choose(self, key: str) -> None:
        self._part = key
        part = self.part()
        if part is not None:
            self.what.setText(part.title[0].lower() + part.title[1:])
            self.cost.setText(f"{part.price:g}")
            self.work.setText(f"{part.hours:g}")
        if not self.day.text():
            self.day.setText(date.today().isoformat())
        self.refresh()

    def refresh(self) -> None:
        """Show whether the part is on."""
        job, part = self.session.job, self.part()
        on = parts_on(job.builds()) if job is not None else frozenset()
        show_choice(self.pick, part.title if part is not None else "another part")
        self.go.setText("Fit" if part is None or part.key not in on else "Fit again")
        self.off.setVisible(part is not None and part.key in on)
        may = job is not None and not job.read_only
        self.go.setEnabled(may)
        self.off.setEnabled(may)
        told = part.caution if part is not None and part.caution else caution(self.station)
        self.caution.setText(told)
        self.caution.setVisible(bool(told))

    def fit(self) -> None:
        """Record that the part was fitted."""
        part = self.part()
        text = self.what.text().strip()
        title = text or (part.title if part else "")
        self._record(title, text, parts=(part.key,) if part else ())

    def take_off(self) -> None:
        """Record that the part was removed."""
        part, job = self.part(), self.session.job
        if part is not None and job is not None:
            received = job.sheet.fitted.get(self.station, "stock")
            self._record(f"{part.title} removed", received, removed=(part.key,))

    def _record(self, title: str, text: str, **parts: tuple[str, ...]) -> None:
        sheet = self.session.sheet
        self.fault.hide()
        try:
            if sheet is None:
                raise JobError("no job is open", remedy="Open a job first.")
            if self.session.busy is not None:
                raise JobError(f"{self.session.busy} is under way", remedy="Wait or cancel it first.")
            numbers = {
                "odometer_km": _number(self.odometer, "Odometer", float.is_integer),
                "engine_hours": _number(self.hours, "Engine hours"),
                "cost": _number(self.cost, "Cost") or 0.0,
                "labour_hours": _number(self.work, "Hours of work") or 0.0,
            }
            sheet.fit(title, self.station, text, day=self.day.text().strip(), **parts, **numbers)  # type: ignore[arg-type]
        except (YarvicError, ValueError) as error:
            self.fault.setText(str(error))
            self.fault.show()
            return
        self.session.say(f"Recorded: {title}. A new build begins; measure on it before a map is released.")
        self.refresh()


def _number(field: Line, name: str, fits: Fits | None = None) -> float | None:
    text = field.text().strip()
    try:
        return parse_number(text, fits) if text else None
    except UnitError as error:
        raise UnitError(f"{name}: {error.what}", remedy=error.remedy) from None


class StationPanel(QWidget):
    """Three columns under the strip."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setMinimumWidth(780)  # where the window is narrower, it scrolls
        self.session = session
        self.station = ""
        self.title = label("", "title")
        self.received = Line("Fitted when it came in", self._enter_received, 176)
        self.now = label("", "quiet", wrap=True)
        self.form = FittingForm(session)
        self.items: Rows[ItemRow] = Rows(
            lambda key: ItemRow(session, str(key), narrow=True), "No item of the list belongs to this station."
        )
        self.limits: Rows[LimitRow] = Rows(lambda name: LimitRow(session, name), "No limit is stated for it.")  # type: ignore[arg-type]
        self.add = word("Add a limit", self._add_limit)
        left, middle, right = QWidget(), QWidget(), QWidget()
        self._left(left)
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(label("Readiness", "title"))
        column.addWidget(self.items, 1)
        self._right(right)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(10)
        left.setFixedWidth(LEFT_PX)
        whole.addWidget(left)
        whole.addWidget(middle, 9)
        whole.addWidget(right, 12)

    def _left(self, widget: QWidget) -> None:
        column = QVBoxLayout(widget)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.title)
        sheet = Sheet("")
        sheet.line("As received", self.received)
        column.addLayout(sheet)
        column.addWidget(self.now)
        column.addWidget(label("Fit or remove", "quiet"))
        column.addWidget(self.form)
        column.addStretch(1)

    def _right(self, widget: QWidget) -> None:
        column = QVBoxLayout(widget)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addLayout(row(label("Limits", "title"), None, self.add))
        column.addWidget(self.limits, 1)

    def _keys(self) -> list[str]:
        job = self.session.job
        return [i.key for i in job.sheet.readiness if i.station == self.station] if job is not None else []

    def refresh(self) -> None:
        """Show what is kept."""
        job = self.session.job
        if job is None or not self.station:
            return
        titles = {s.key: s.title for s in stations(job.sheet.vehicle)}
        self.title.setText(titles.get(self.station, usual_title(self.station)))
        self.received.show_text(job.sheet.fitted.get(self.station, ""))
        self.received.setReadOnly(job.read_only)
        now = job.fitted().get(self.station, "")
        changed = now != job.sheet.fitted.get(self.station, "")
        self.now.setText(f"Now: {now}" if changed else "")
        self.now.setVisible(changed)
        self.form.show_station(self.station)
        self.items.show_rows(self._keys())
        self.limits.show_rows([m.name for m in job.sheet.limits if m.station == self.station])
        self.add.setEnabled(not job.read_only)

    def _enter_received(self, text: str) -> None:
        if self.session.sheet is not None:
            self.session.sheet.set_fitted(self.station, text)

    def _add_limit(self) -> None:
        sheet, job = self.session.sheet, self.session.job
        if sheet is None or job is None:
            return
        title = usual_title(self.station).lower()
        taken = {m.component for m in job.sheet.limits}
        name = next(n for n in (title, *(f"{title} {i}" for i in range(2, 99))) if n not in taken)
        new = ComponentLimit(
            key="power", component=name, basis="wheel", unit="kW", safe=100.0, stretch=110.0, station=self.station,
            source="to be stated",
        )  # fmt: skip
        self.session.attempt(lambda: sheet.save_limit(new))
