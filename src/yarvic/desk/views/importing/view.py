"""The page of a file that arrived: its columns, what is known beside them, where it belongs; then it is imported."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QStackedWidget, QVBoxLayout, QWidget

from yarvic.core.checks.finding import amount
from yarvic.core.errors import YarvicError
from yarvic.core.evidence.dyno import Curve
from yarvic.core.evidence.mapping import AFR
from yarvic.core.physics.fuel import fuels
from yarvic.core.typed_numbers import parse_measure
from yarvic.core.units import from_canonical
from yarvic.desk.overlays import Command
from yarvic.desk.views.importing.answer import About, Answer
from yarvic.desk.views.importing.columns import ColumnTable
from yarvic.desk.views.importing.conditions import ConditionsForm
from yarvic.desk.views.importing.curve import CurveForm
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.entry import Line, choice
from yarvic.desk.widgets.words import act, chooser, label, row, show_choice, sideways, word
from yarvic.state.arrival import TIME_PLACE
from yarvic.state.arrivals import Arrivals
from yarvic.state.mappings import share_mapping
from yarvic.state.session import STEP_TITLES, Session

NOT_ASSIGNED = "0"


class ImportView(View):
    """What arrived, one recording at a time."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Import")
        self.window_ = window
        self.arrivals: Arrivals = window.arrivals
        self.came_from = "logs"
        self.which = chooser("Recording", self._recordings)
        self.mapping = word("Use a mapping", self._ask_for_mapping)
        self.share = word("Save the mapping", self._ask_to_share)
        self.leave = word("Let it go", self._leave, "Delete")
        self.back = word("Back", self.escape, "Esc")
        for widget in (self.which, self.mapping, self.share, self.leave, self.back):
            self.head.addWidget(widget)
        self.notes = label("", "caption", wrap=True)
        self.column.addWidget(self.notes)
        self.show_columns = word("Columns", partial(self.turn_to, 0), "C", checkable=True)
        self.show_conditions = word("Conditions", partial(self.turn_to, 1), "D", checkable=True)
        self.column.addLayout(row(self.show_columns, self.show_conditions, None, spacing=2))
        self.table = ColumnTable()
        self.answer = Answer(self._tell, self._next_doubt)
        columns = QWidget()
        inner = QVBoxLayout(columns)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.addWidget(self.table, 1)
        inner.addWidget(self.answer)
        arrivals = self.arrivals
        self.conditions = ConditionsForm(arrivals.state, arrivals.state_air, session.settings.units)
        self.pages = QStackedWidget()
        self.pages.addWidget(columns)
        self.pages.addWidget(sideways(self.conditions))
        self.column.addWidget(self.pages, 1)
        self.curve = CurveForm(arrivals.say_curve, arrivals.state, arrivals.join, self._run_title)
        self.column.addWidget(self.curve)
        self.turn_to(0)
        self.title = Line("Title of the run", lambda t: self.arrivals.say(title=t.strip()[:80]), 190)
        self.barometer = Line("Barometer", self._barometer, 130, "such as 970 mbar")
        self.fuel = choice("Fuel of a ratio", self._fuels, lambda k: self.arrivals.say(fuel=k))
        self.at_pull: int | None = None  # the pull that the two choosers behind it are about; None: all of it
        self.which_pull = choice("Which of its pulls", self._its_pulls, self._look_at_pull)
        self.revision = choice("Revision", self._revisions, self._revision)
        self.build = choice("Build", self._builds, self._build)
        self.belongs_name = label("Belongs to", "quiet")
        self.take = act("Import", self.arrivals.accept)
        self.column.addLayout(
            row(
                label("Title", "quiet"), self.title, self.which_pull, self.belongs_name, self.revision, self.build, None,
                spacing=6,
            )
        )  # fmt: skip
        self.beside = QWidget()
        self.barometer_name = label("Barometer", "quiet")
        self.beside.setLayout(
            row(
                self.barometer_name, self.barometer, label("Fuel of a ratio", "quiet"), self.fuel, None,
                spacing=6,
            )
        )  # fmt: skip
        self.column.addWidget(self.beside)
        self.column.addWidget(self.barometer.fault)
        self.pulls = label("", "quiet", wrap=True)
        last = row(self.pulls, self.take, spacing=8)
        last.setStretch(0, 1)
        self.column.addLayout(last)
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(lambda now, before: self._show_answer())
        self.arrivals.changed.connect(self.changed)
        self.refresh_on(session.job_changed, session.selection_changed)

    # -- showing

    def refresh(self) -> None:
        """Show the arrival that is looked at."""
        arrival = self.arrivals.shown
        fresh = arrival is not self.table.columns.arrival
        self.table.columns.show_arrival(arrival)
        for widget in (
            self.mapping,
            self.share,
            self.leave,
            self.title,
            self.barometer,
            self.fuel,
            self.revision,
            self.build,
            self.take,
        ):
            widget.setEnabled(arrival is not None)
        if arrival is None:
            self.about.setText("Nothing waits to be imported: drop a file on the window, or choose one.")
            show_choice(self.which, "")
            self.notes.setText("")
            self.pulls.setText("")
            self.curve.hide()
            self.conditions.show_answers(None, [])
            self._show_answer()
            return
        if fresh:
            self.turn_to(0)
            self.at_pull = None
            self.table.selectRow(0)
        origin, said = arrival.recording.origin, arrival.answers
        part = f", {origin.part}" if origin.part else ""
        rows = arrival.recording.raw.time.values.size if arrival.recording.raw.time is not None else 0
        self.about.setText(
            f"{origin.name}{part} · {len(said.columns)} columns, {rows:,} rows · SHA-256 {origin.sha256[:12]}"
        )
        waiting = len(self.arrivals.waiting)
        show_choice(self.which, f"{self.arrivals.at + 1} of {waiting}" if waiting > 1 else "")
        said_of = arrival.recording.said
        notes = [*arrival.recording.raw.notes, *(said_of.notes if said_of is not None else ())]
        self.notes.setText(" · ".join(notes[:4]))
        self.notes.setVisible(bool(notes))
        self._show_conditions()
        self.title.show_text(said.title)
        pressure = self.session.settings.units.get("ambient_pressure", "mbar")
        known = said.barometer_pa
        self.barometer.show_text(
            f"{float(from_canonical(known, pressure)):.0f} {pressure}" if known is not None else ""
        )
        show_choice(self.fuel, fuels()[said.fuel].title if said.fuel in fuels() else "not stated")
        self._show_place()
        self.take.setText("Read it so" if arrival.run else "Import")
        self._show_pulls()
        self._show_answer()

    def _show_conditions(self) -> None:
        """The conditions, and for a curve what its numbers are."""
        arrival = self.arrivals.shown
        assert arrival is not None
        said, sheet = arrival.answers, arrival.recording.said
        open_ = dict(sheet.asked) if sheet is not None else {}
        for what, known in (
            ("pressure", said.weather.station_pa), ("temperature", said.conditions.temperature_k),
            ("humidity", said.stated.relative_humidity), ("factor", said.conditions.stated_factor),
        ):  # fmt: skip
            if known is not None:
                open_.pop(what, None)
        asked = [f"{q[:1].upper()}{q[1:]}" for q in open_.values()]
        self.conditions.show_answers(said, asked)
        unknown = said.stated.unknown_air
        self.show_conditions.setText(f"Conditions: {', '.join(unknown)} unknown" if unknown else "Conditions")
        self.curve.setVisible(said.curve is not None)
        # Of a curve nothing but the columns beside it may need a fuel; its barometer stands with its conditions.
        ratio = any(c.unit == AFR for c in said.columns)
        self.beside.setVisible(said.curve is None or ratio)
        for widget in (self.barometer_name, self.barometer):
            widget.setVisible(said.curve is None)
        if said.curve is not None:
            there = {c.channel for c in said.columns}
            road = there & {"vehicle_speed", "gps_speed"}
            over = (
                "engine" if "engine_speed" in there else "road" if road or "roller_speed" not in there else "roller"
            )
            self.curve.show_answers(said, arrival.curve_asked(), arrival.candidates, over)

    def turn_to(self, page: int) -> None:
        """Show the columns (0), or the conditions (1)."""
        self.pages.setCurrentIndex(page)
        for at, button in enumerate((self.show_columns, self.show_conditions)):
            button.setChecked(at == page)

    def _run_title(self, run: str) -> str:
        job = self.session.job
        return next((e.title for e in job.evidence() if e.id == run), run) if job is not None else run

    def _show_place(self) -> None:
        arrival, job = self.arrivals.shown, self.session.job
        if arrival is None or job is None:
            return
        several = arrival.answers.curve is None and len(arrival.pulls()) > 1
        self.which_pull.setVisible(several)
        self.at_pull = self.at_pull if several else None
        show_choice(self.which_pull, "All its pulls" if self.at_pull is None else f"Pull {self.at_pull + 1}")
        self.belongs_name.setText(
            "belongs to" if self.at_pull is not None else "belong to" if several else "Belongs to"
        )
        revision, build = arrival.answers.place_of(self.at_pull)
        show_choice(self.revision, self.session.name_of(revision) if revision is not None else "not assigned")
        titles = {b.number: f"build {b.number}" for b in job.builds()}
        show_choice(self.build, titles.get(build or 0, "build?"))
        self.build.setVisible(revision is not None)

    def _show_pulls(self) -> None:
        arrival = self.arrivals.shown
        assert arrival is not None
        asked = arrival.asked()
        if arrival.answers.curve is not None:
            self.pulls.setText(self._curve_words(arrival.curve()))
            return
        found = arrival.pulls()
        doubt = (
            f"{asked} column{'s are' if asked != 1 else ' is'} in doubt and will not be judged by. " if asked else ""
        )
        if not found:
            self.pulls.setText(f"{doubt}No pull was found: engine speed and throttle tell where one is.")
            return
        p = found[0]
        words = f"{p.from_rpm:,.0f} to {p.to_rpm:,.0f} rpm at {p.throttle * 100:.0f} % throttle"
        count = "1 pull was" if len(found) == 1 else f"{len(found)} pulls were"
        self.pulls.setText(f"{doubt}{count} found{', the first' if len(found) > 1 else ''}: {words}.")

    def _curve_words(self, curve: Curve | None) -> str:
        if curve is None:
            return "It gives no curve before what is asked is answered; it may be imported as it is."
        units = self.session.settings.units
        (power, at_power), (torque, at_torque) = curve.peak_power, curve.peak_torque
        return (
            f"At the {curve.basis}, {curve.correction.title.lower()}:"
            f" {amount(power, units.get('power', 'kW'))} at {at_power:,.0f} rpm,"
            f" {amount(torque, units.get('torque', 'N m'))} at {at_torque:,.0f} rpm."
        )

    def _place(self) -> int | None:
        found = self.table.columns.column_at(self.table.currentIndex().row())
        return found[0] if found is not None else None

    def _show_answer(self) -> None:
        found = self.table.columns.column_at(self.table.currentIndex().row())
        if found is None:
            self.answer.show_column(None)
        else:
            arrival = self.arrivals.shown
            assert arrival is not None
            place, column = found
            own = place == TIME_PLACE
            beside = self.table.columns.beside.get(place, "")
            times, others = arrival.time_units(place), arrival.addable(place)
            self.answer.show_column(About(place, column, beside, times, others, own, own and arrival.rows_counted))

    # -- answering

    def _tell(self, **said: object) -> None:
        place = self._place()
        if place is not None:
            self.arrivals.tell(place, **said)

    def _next_doubt(self) -> None:
        """Go on to the next column that is in doubt; behind the last one to what brings it in."""
        model = self.table.columns
        rows = [n for n in range(len(model.order)) if (c := model.column_at(n)) is not None and c[1].doubtful]
        at = self.table.currentIndex().row()
        later = [n for n in rows if n > at] or rows
        if later:
            self.table.selectRow(later[0])
            self.table.setFocus(Qt.FocusReason.OtherFocusReason)
        else:
            self.take.setFocus(Qt.FocusReason.OtherFocusReason)

    def _barometer(self, text: str) -> None:
        self.arrivals.say(barometer_pa=parse_measure(text, "pressure") if text.strip() else None)

    def _fuels(self) -> list[tuple[str, str]]:
        return [("", "not stated"), *((k, f"{f.title} ({f.stoichiometric_afr:g})") for k, f in fuels().items())]

    def _revisions(self) -> list[tuple[str, str]]:
        return [(NOT_ASSIGNED, "not assigned"), *((str(r.id), r.name) for r in self.session.revisions())]

    def _revision(self, key: str) -> None:
        job, arrival = self.session.job, self.arrivals.shown
        if job is None or arrival is None:
            return
        if key == NOT_ASSIGNED:
            self.arrivals.place(self.at_pull, None, None)
        else:
            self.arrivals.place(self.at_pull, int(key), self.arrivals.build_of(int(key)))

    def _build(self, key: str) -> None:
        arrival = self.arrivals.shown
        if arrival is not None:
            self.arrivals.place(self.at_pull, arrival.answers.place_of(self.at_pull)[0], int(key))

    def _its_pulls(self) -> list[tuple[str, str]]:
        arrival = self.arrivals.shown
        if arrival is None:
            return []
        found = []
        for n, p in enumerate(arrival.pulls()):
            revision = arrival.answers.place_of(n)[0]
            name = self.session.name_of(revision) if revision is not None else "not assigned"
            found.append(
                (str(n), f"Pull {n + 1}, at {p.start_s:,.0f} s, {p.from_rpm:,.0f} to {p.to_rpm:,.0f} rpm: {name}")
            )
        return [("", "All its pulls"), *found]

    def _look_at_pull(self, key: str) -> None:
        self.at_pull = int(key) if key else None
        self._show_place()

    def _builds(self) -> list[tuple[str, str]]:
        job = self.session.job
        return [(str(b.number), f"build {b.number}: {b.title}") for b in job.builds()] if job is not None else []

    def _recordings(self):
        waiting = self.arrivals.waiting
        return [(a.answers.title, partial(self.arrivals.look_at, n)) for n, a in enumerate(waiting)]

    # -- mappings

    def _ask_for_mapping(self) -> None:
        chosen, _ = QFileDialog.getOpenFileName(self, "Use a mapping", "", "Mapping (*.toml)")
        if chosen:
            self.window_.use_mapping(Path(chosen))

    def _ask_to_share(self) -> None:
        chosen, _ = QFileDialog.getSaveFileName(self, "Save the mapping", "mapping.toml", "Mapping (*.toml)")
        arrival = self.arrivals.shown
        if chosen and arrival is not None:
            try:
                share_mapping(arrival.reading().mapping, Path(chosen))
                self.session.say(f"The mapping is in {chosen}.")
            except YarvicError as error:
                self.session.failed.emit(error)

    # -- the page

    def _leave(self) -> None:
        self.arrivals.leave()
        if self.arrivals.shown is None:
            self.escape()

    def escape(self) -> None:
        """Back to the step; what waits, waits."""
        self.window_.session.go(self.came_from)

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this page."""
        return [
            ("C, D", "columns; conditions"),
            ("Up, Down", "another column"),
            ("Enter", "confirm the column and go on to the next in doubt"),
            ("Ctrl+Z, Ctrl+Shift+Z", "undo, redo an answer"),
            ("Delete", "let the recording go"),
            ("Esc", f"back to {STEP_TITLES[self.came_from]}; what waits, waits"),
        ]

    def commands(self) -> list[Command]:
        """Commands of this page."""
        return [
            Command("Import this recording", "", self.arrivals.accept),
            Command("Conditions of this recording", "", partial(self.turn_to, 1)),
            Command("Use a mapping of columns", "", self._ask_for_mapping),
            Command("Save the mapping of columns", "", self._ask_to_share),
        ]

    def keyPressEvent(self, event) -> None:
        """Enter confirms, Delete lets go."""
        in_list = self.table.hasFocus()
        if in_list and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.answer.confirm.isEnabled():
            self.answer.confirm.click()
        elif in_list and event.key() == Qt.Key.Key_Delete and self.arrivals.shown is not None:
            self._leave()
        elif in_list and event.key() in (Qt.Key.Key_C, Qt.Key.Key_D):
            self.turn_to(int(event.key() == Qt.Key.Key_D))
        else:
            super().keyPressEvent(event)

    def main_widget(self) -> QWidget:
        """The list takes the keys."""
        return self.table


def make(session: Session, window: Desk) -> ImportView:
    """The page of arrivals."""
    return ImportView(session, window)
