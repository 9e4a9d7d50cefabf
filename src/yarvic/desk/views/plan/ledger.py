"""The ledger: every limit as a line, the parts that move them, and the library beside."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout, QWidget

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.plan.parts import Kind, Part, library
from yarvic.core.plan.stations import stations, usual_title
from yarvic.core.typed_numbers import parse_number
from yarvic.desk.widgets.entry import Line, choice
from yarvic.desk.widgets.limits import LimitRow
from yarvic.desk.widgets.rows import Rows
from yarvic.desk.widgets.words import chooser, label, row, show_choice, word
from yarvic.state.acts import LIBRARY
from yarvic.state.plan import PlanState
from yarvic.state.session import Session
from yarvic.state.shop import own_kinds, save_kind


class PartRow(QFrame):
    """A part: what it costs, where it stands, what it needs, and which limits it moves."""

    def __init__(self, session: Session, key: str) -> None:
        super().__init__()
        self.session, self.key = session, key
        self.setObjectName("line")
        self.title = Line("Part", self._enter_title)
        self.station = choice("Station", self._stations, lambda k: self._set("station", k))
        self.price = Line("Price", partial(self._enter_number, "price"), 60)
        self.hours = Line("Hours of work", partial(self._enter_number, "hours"), 44)
        self.money = label("", "caption")
        self.needs = chooser("Needs or excludes another part", self._related)
        show_choice(self.needs, "needs, excludes")
        self.caution = Line(
            "Caution", lambda text: self._save("caution", text.strip()), hint="what to mind, if anything"
        )
        self.drop = word("Remove", self._remove)
        self.summary = label("", "caption", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(2, 4, 2, 4)
        column.setSpacing(2)
        column.addLayout(row(self.title, self.drop))
        column.addLayout(
            row(self.station, self.price, self.money, self.hours, label("h", "caption"), None, self.needs)
        )
        for field in (self.title, self.price, self.hours):
            column.addWidget(field.fault)
        column.addWidget(self.caution)
        column.addWidget(self.summary)

    def part(self) -> Part | None:
        """The part as it is kept; None once it is gone."""
        job = self.session.job
        return next((p for p in job.sheet.parts if p.key == self.key), None) if job is not None else None

    def refresh(self) -> None:
        """Show what is kept."""
        part, job = self.part(), self.session.job
        if part is None or job is None:
            return
        self.title.show_text(part.title)
        show_choice(self.station, usual_title(part.station))
        self.price.show_text(f"{part.price:g}")
        self.hours.show_text(f"{part.hours:g}")
        self.caution.show_text(part.caution)
        self.money.setText(job.sheet.plan.currency)
        titles = {p.key: p.title for p in job.sheet.parts}
        lines = [f"needs {titles.get(k, k)}" for k in part.needs] + [
            f"not with {titles.get(k, k)}" for k in part.excludes
        ]
        for limit in job.sheet.limits:
            lines += [f"{limit.component}: {m.in_words(limit.unit)}" for m in limit.moved_by if m.part == part.key]
        fitted = part.key in PlanState(self.session).fitted
        lines += ["fitted now"] if fitted else []
        self.summary.setText("; ".join(lines) or "moves no limit yet")
        for field in (self.title, self.price, self.hours, self.caution):
            field.setReadOnly(job.read_only)

    def _stations(self) -> list[tuple[str, str]]:
        job = self.session.job
        return [(s.key, s.title) for s in stations(job.sheet.vehicle)] if job is not None else []

    def _set(self, entry: str, value: object) -> None:
        self.session.attempt(lambda: self._save(entry, value))

    def _save(self, entry: str, value: object) -> None:
        part, sheet = self.part(), self.session.sheet
        if part is None or sheet is None:
            return
        sheet.save_part(part.changed(**{entry: value}), part.key)

    def _enter_title(self, text: str) -> None:
        self._save("title", text.strip())

    def _enter_number(self, entry: str, text: str) -> None:
        self._save(entry, parse_number(text))

    def _related(self) -> list[tuple[str, Callable[[], None]]]:
        job, part = self.session.job, self.part()
        if job is None or part is None:
            return []
        found: list[tuple[str, Callable[[], None]]] = []
        for other in job.sheet.parts:
            if other.key == part.key:
                continue
            for entry, has_not, has in (
                ("needs", "Needs", "No longer needs"),
                ("excludes", "Incompatible with", "Compatible with"),
            ):
                keys = getattr(part, entry)
                there = other.key in keys
                new = tuple(k for k in keys if k != other.key) if there else (*keys, other.key)
                found.append((f"{has if there else has_not} {other.title}", partial(self._set, entry, new)))
        return found

    def _remove(self) -> None:
        sheet, job = self.session.sheet, self.session.job
        if sheet is None or job is None:
            return
        self.session.attempt(lambda: sheet.drop_part(self.key))


class LedgerPanel(QWidget):
    """Limits left, parts right."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setMinimumWidth(640)  # where the window is narrower, it scrolls
        self.session = session
        self._own: dict[str, Kind] = {}  # the shop's own kinds, once they are read
        self.library = chooser("Add a kind from the library", self._kinds)
        show_choice(self.library, "Add from the library")
        self.preset = Line("Add preset to the shop's library", self._save_kind, 190, "title of the preset")
        self.add_limit = word("Add a limit", self._add_limit)
        self.add_part = word("Add a part", self._add_part)
        self.limits: Rows[LimitRow] = Rows(lambda name: LimitRow(session, name), "No limit is stated yet.")  # type: ignore[arg-type]
        self.parts: Rows[PartRow] = Rows(lambda key: PartRow(session, str(key)), "No part is listed yet.")
        columns = QHBoxLayout()
        for title, add, area in (("Limits", self.add_limit, self.limits), ("Parts", self.add_part, self.parts)):
            column = QVBoxLayout()
            column.addLayout(row(label(title, "title"), None, add))
            column.addWidget(area, 1)
            columns.addLayout(column, 1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addLayout(row(self.library, None, self.preset))
        whole.addWidget(self.preset.fault)
        whole.addLayout(columns, 1)
        session.job_changed.connect(self._read_own)
        self._read_own()

    def refresh(self) -> None:
        """Show what is kept."""
        job = self.session.job
        if job is None:
            return
        self.limits.show_rows([m.name for m in job.sheet.limits])
        self.parts.show_rows([p.key for p in job.sheet.parts])
        for button in (self.library, self.add_limit, self.add_part):
            button.setEnabled(not job.read_only)

    def _kinds(self) -> list[tuple[str, Callable[[], None]]]:
        return [(k.title, partial(self.add_kind, k)) for k in {**library(), **self._own}.values()]

    def _read_own(self) -> None:
        """Read the shop's own library, beside the window: it is in the list of kinds once it is read."""

        def keep(found: dict[str, Kind]) -> None:
            self._own = found

        s = self.session
        s.requests.submit(
            s.request(LIBRARY), "Reading the shop's library", lambda p, c: own_kinds(), keep, visible=False
        )

    def add_kind(self, kind: Kind) -> None:
        """Take a kind's limits and parts into the ledger."""
        sheet = self.session.sheet
        if sheet is None:
            return

        def enter() -> None:
            limits, parts = sheet.add_kind(kind)
            self.session.say(f"{limits} limits and {parts} parts added. Review each value before you plan with it.")

        self.session.attempt(enter)

    def _save_kind(self, text: str) -> None:
        if self.session.job is None or not text.strip():
            return
        s, sheet = self.session, self.session.job.sheet

        def saved(path: Path) -> None:
            self.preset.clear()
            s.say(f"Saved in the shop's own library: {path}")
            self._read_own()

        s.start(s.request("saving the preset"), "Saving the preset", lambda p, c: save_kind(sheet, text), saved)

    def _add_limit(self) -> None:
        sheet, job = self.session.sheet, self.session.job
        if sheet is None or job is None:
            return
        taken = {m.component for m in job.sheet.limits}
        name = next(n for n in (f"component {i}" for i in range(1, 999)) if n not in taken)
        new = ComponentLimit(
            key="power", component=name, basis="wheel", unit="kW", safe=100.0, stretch=110.0, source="to be stated"
        )
        self.session.attempt(lambda: sheet.save_limit(new))

    def _add_part(self) -> None:
        sheet, job = self.session.sheet, self.session.job
        if sheet is None or job is None:
            return
        taken = {p.key for p in job.sheet.parts}
        key = next(k for k in (f"part-{i}" for i in range(1, 999)) if k not in taken)
        self.session.attempt(lambda: sheet.save_part(Part(key=key, title="Part to be named", station="cylinders")))
