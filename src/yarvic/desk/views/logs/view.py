"""The Logs view: which pull is shown, over time or engine speed, and where the cursor stands."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QVBoxLayout, QWidget

from yarvic.core.checks.finding import Where, amount
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.job.model import Evidence, parts_on
from yarvic.core.units import from_canonical
from yarvic.desk.overlays import Command
from yarvic.desk.views.aside import left_out, title_of
from yarvic.desk.views.logs.belongs import Belongs
from yarvic.desk.views.logs.saving import Saving
from yarvic.desk.views.logs.track import NO_VALUE, NOTHING, Lane, Points, Track, lanes_of
from yarvic.desk.views.selected_run import SelectedRun
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.plot import sheet
from yarvic.desk.widgets.words import Elided, Empty, chooser, label, row, show_choice, word
from yarvic.state.results import PullResult, RevisionResults, logged, simulated_mark
from yarvic.state.session import Session


class LogsView(View):
    """The traces of one pull of working, with the same pull of the reference as a ghost."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Logs")
        self.maps = window.maps
        self.add_bench(window.open_bench)
        self.at = 0
        self.pull = chooser("Pull shown", self._choices)
        self.ghost = word("Reference", self._redraw, "G", checkable=True)
        self.ghost.setChecked(True)
        self.by_speed = word("Over rpm", self._redraw, "X", checkable=True)
        self.whole = word("Whole pull", self._whole, "W")
        self.window_ = window
        self.saving = Saving(self, session, self.shown)
        self.save = self.saving.button
        self.head.insertWidget(2, self.save)
        self.live_word = word("Live log", window.open_live)
        self.import_word = word("Import", window.ask_for_logs, "Ctrl+I")
        self.head.insertWidget(2, self.import_word)
        self.head.insertWidget(3, self.live_word)
        self.arrived = chooser("Runs that belong to no revision yet", self._arrived)
        self.head.insertWidget(3, self.arrived)
        self.left_out = chooser("Pulls that are left out: choose one to count it again", self._left_out)
        self.head.insertWidget(4, self.left_out)
        self.reading = label("", "quiet")
        self.run = SelectedRun(window, self.shown, "Columns")
        self.belongs = Belongs(window, self.shown)
        self.column.addLayout(
            row(
                self.pull,
                self.belongs.button,
                self.run,
                self.by_speed,
                self.ghost,
                self.whole,
                None,
                spacing=2,
            )
        )
        frame = QFrame()
        frame.setObjectName("sheet")
        inner = QVBoxLayout(frame)
        inner.setContentsMargins(2, 2, 2, 2)
        self.sheet = sheet()
        inner.addWidget(self.sheet)
        self.column.addWidget(frame, 1)
        self.frame = frame
        self.empty = Empty("Go to Dyno", partial(session.go, "dyno"))
        self.column.addWidget(self.empty, 1)
        self.caption = label("", "caption", wrap=True)
        below = row(self.caption, self.reading, spacing=12)
        below.setStretch(0, 1)
        below.setAlignment(self.reading, Qt.AlignmentFlag.AlignTop)
        self.column.addLayout(below)
        self.cell = Elided("caption")
        self.cell.setAccessibleName("What the table gives at the cursor")
        self.column.addWidget(self.cell)
        self.tracks: list[Track] = []
        self._cursor: float | None = None
        self.sheet.scene().sigMouseMoved.connect(self._mouse)
        self.sheet.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.refresh_on(
            session.job_changed, session.selection_changed, session.results_changed, session.units_changed
        )
        session.place_changed.connect(self._jump)

    # -- showing

    def _lay(self, lanes: tuple[Lane, ...]) -> None:
        """Lay out the charts for these lanes, unless they stand already."""
        if tuple(track.lane for track in self.tracks) == lanes:
            return
        self.sheet.clear()
        self.tracks = [Track(self.sheet, i, lane, last=i == len(lanes) - 1) for i, lane in enumerate(lanes)]
        for track in self.tracks[1:]:
            track.plot.setXLink(self.tracks[0].plot)

    def refresh(self) -> None:
        """Take up the pulls of the working revision."""
        results, revision = self.session.working_results(), self.session.evidence_revision()
        count = len(logged(results))
        self.at = min(max(self.at, 0), max(count - 1, 0))
        self.about.setText(
            f"{simulated_mark(results)}evidence of {revision.name}{self._on(results)}" if revision else ""
        )
        for button in (self.pull, self.ghost, self.by_speed, self.whole, self.save):
            button.setEnabled(count > 0)
        show_choice(self.save, "Save as CSV")
        self._show_arrived()
        self._redraw()

    @staticmethod
    def _on(results: RevisionResults | None) -> str:
        return f" on {results.on_builds}" if results is not None and results.on_builds else ""

    # -- runs from files

    def _show_arrived(self) -> None:
        job = self.session.job
        waiting = len(job.runs_of(None)) if job is not None else 0
        show_choice(self.arrived, f"Arrived, not assigned: {waiting}" if waiting else "")
        self.arrived.setVisible(waiting > 0)
        out = len(self._left_out())
        show_choice(self.left_out, f"Left out: {out}" if out else "")
        self.left_out.setVisible(out > 0)
        self.run.refresh()
        self.belongs.refresh()

    def _arrived(self) -> list[tuple[str, Callable[[], None]]]:
        job = self.session.job
        runs = job.runs_of(None) if job is not None else []
        return [(r.title, partial(self._read_anew, r)) for r in runs]

    def _left_out(self) -> list[tuple[str, Callable[[], None]]]:
        """What of the evidence of the working revision is left out, why, and the way back."""
        job, revision = self.session.job, self.session.evidence_revision()
        if job is None or revision is None:
            return []
        return left_out(job.runs_of(revision.id), self._count_again)

    def _count_again(self, run: Evidence, pull: int | None) -> None:
        self.window_.arrivals.take_back(run, pull)
        self.session.say(f"{title_of(run, pull)} counts again. Ctrl+Z undoes it.")

    def _read_anew(self, run: Evidence) -> None:
        self.window_.arrivals.read_anew(run, opened=self.window_.open_import)

    def shown(self) -> PullResult | None:
        """The pull that is drawn."""
        pulls = logged(self.session.working_results())
        return pulls[self.at] if self.at < len(pulls) else None

    def _over_speed(self) -> bool:
        """Whether the traces stand over engine speed: by choice, and always for a curve, which has no time."""
        shown = self.shown()
        return self.by_speed.isChecked() or (shown is not None and shown.evidence.is_sheet)

    def _choices(self) -> list[tuple[str, Callable[[], None]]]:
        pulls = logged(self.session.working_results())
        return [(p.title, partial(self.choose, i)) for i, p in enumerate(pulls)]

    def choose(self, at: int) -> None:
        """Show another pull."""
        self.at = at
        self._show_arrived()
        self._redraw()

    def _reference(self) -> PullResult | None:
        results = self.session.reference_results()
        pulls = logged(results)
        if not pulls or not self.ghost.isChecked() or results is self.session.working_results():
            return None
        return pulls[min(self.at, len(pulls) - 1)]

    def _redraw(self) -> None:
        shown, reference = self.shown(), self._reference()
        show_choice(self.pull, shown.title if shown is not None else "")
        self.frame.setVisible(shown is not None)
        self.empty.setVisible(shown is None)
        if shown is None:
            for track in self.tracks:
                track.clear()
            self.caption.setText("")
            self.reading.setText("")
            action = ("Import", self.window_.ask_for_logs) if self.session.from_outside else None
            self.empty.say(*self.nothing_yet("The traces of its log")[:2], action=action)
            return
        speed = self._over_speed()
        self._lay(lanes_of(shown.log.channels))
        for track in self.tracks:
            lane = track.lane
            unit = self._unit(lane.keys[0])
            track.show(
                [self._points(shown, key, unit) for key in lane.keys],
                [self._points(shown, key, unit) for key in lane.beside],
                self._points(reference, track.ghost_key, unit) if reference is not None else NOTHING,
                unit,
                None if speed else shown.pull.length_s,
                self._limit(lane, unit),
            )
        wrong = self._mark(shown)
        self.tracks[-1].plot.setLabel(
            "bottom", "Engine speed, rpm" if speed else "Time from the start of the pull, s"
        )
        name = f" Dashed ochre: {reference.title}." if reference is not None else ""
        cylinders = (
            " Cylinders in turn: dotted, solid blue, dashed." if "spark_correction_1" in shown.log.channels else ""
        )
        self.caption.setText(
            f"{wrong}Shaded: what is judged. Dashed ink: target or limit of the unit.{name}{cylinders} Move the mouse, or"
            " Left and Right, to read values; the wheel zooms."
        )
        self._whole()

    def _mark(self, shown: PullResult) -> str:
        """Mark what is wrong with the run where it is, and give the sentence for it."""
        results = self.session.working_results()
        run = results.runs.get(shown.evidence.id) if results is not None else None
        found = run.problems if run is not None else ()
        start, end = shown.pull.start_s, shown.pull.end_s
        for track in self.tracks:
            keys = {*track.lane.keys, *track.lane.beside}
            spans = [(a - start, b - start) for p in found if p.channel in keys for a, b in p.spans]
            track.mark([] if self._over_speed() else spans)
        inside = [p.sentence for p in found if any(a <= end and b >= start for a, b in p.spans)]
        return f"Marked: {inside[0]}{f', and {len(inside) - 1} more' if len(inside) > 1 else ''}. " if inside else ""

    def _unit(self, key: str) -> str:
        kind = CHANNELS[key]
        return self.session.settings.units.get(kind.unit_choice, kind.unit)

    def _points(self, p: PullResult, key: str, unit: str) -> Points:
        if key not in p.log.channels:
            return NOTHING
        channel = p.log.channels[key]
        values = np.asarray(from_canonical(channel.values, unit))
        if not self._over_speed():
            return channel.time_s - p.pull.start_s, values
        inside = (channel.time_s >= p.pull.start_s) & (channel.time_s <= p.pull.end_s)
        return p.log.at("engine_speed", channel.time_s[inside]), values[inside]

    def _limit(self, lane: Lane, unit: str) -> float | None:
        job = self.session.job
        judged = job.sheet.judged_limits(parts_on(job.builds())) if job is not None else ()
        limits = [m for m in judged if m.key == lane.limit_key]
        if not limits:
            return None
        return min(float(from_canonical(m.canonical("stretch"), unit)) for m in limits)

    def _whole(self) -> None:
        shown = self.shown()
        if shown is None:
            return
        if self._over_speed():
            self.tracks[0].plot.setXRange(shown.pull.from_rpm, shown.pull.to_rpm, padding=0.02)
        else:
            start, end = shown.log.span()
            self.tracks[0].plot.setXRange(start - shown.pull.start_s, end - shown.pull.start_s, padding=0.01)
        self.move_cursor(self._cursor if self._cursor is not None else shown.pull.length_s / 2)

    # -- the cursor

    def move_cursor(self, x: float) -> None:
        """Put the cursor at a place of the axis and read all traces there."""
        shown = self.shown()
        if shown is None:
            return
        self._cursor = x
        time = self._time_at(shown, x)
        rpm = float(shown.log.at("engine_speed", np.array([time]))[0])
        self.reading.setText(
            f"{'' if shown.evidence.is_sheet else f'{time - shown.pull.start_s:.2f} s, '}{rpm:,.0f} rpm"
            if np.isfinite(rpm)
            else "outside the log"
        )
        if not shown.evidence.is_sheet:
            self._show_cell(shown.evidence.id, time)
        for track in self.tracks:
            parts, beside = (
                [self._amount(shown, key, time) for key in keys if key in shown.log.channels]
                for keys in (track.lane.keys, track.lane.beside)
            )
            track.read_out(x, parts, beside)

    def _show_cell(self, run: str, time: float) -> None:
        """What the table in hand under Maps gives here, with the weights of its cells."""
        cells, table = self.maps.cells, self.maps.table()
        cells.point_at(run, time)
        reading = cells.reading()
        if reading is None or table is None:
            self.cell.setText("")
            return
        unit = self.maps.display_unit(table.unit)
        value = float(self.maps.shown_value(reading.value, table.unit))
        of = "; ".join(f"{w:.2f} of {table.place(r, c)}" for r, c, w in reading.cells)
        self.cell.setText(f"{table.title} at the cursor: {value:.{self.maps.decimals(table)}f} {unit} ({of})")

    def _amount(self, shown: PullResult, key: str, time: float) -> str:
        value = float(shown.log.at(key, np.array([time]))[0])
        if not np.isfinite(value):
            return NO_VALUE
        doubt = shown.log.channels[key].doubt
        if doubt is not None and doubt.about == "fuel":
            return f"{value:.2f} AFR of unknown fuel"
        return f"{amount(value, self._unit(key))} ?" if doubt is not None else amount(value, self._unit(key))

    def _time_at(self, p: PullResult, x: float) -> float:
        if not self._over_speed():
            return x + p.pull.start_s
        speed = p.log.channel("engine_speed")
        inside = (speed.time_s >= p.pull.start_s) & (speed.time_s <= p.pull.end_s)
        return float(speed.time_s[inside][np.argmin(np.abs(speed.values[inside] - x))])

    def _mouse(self, position) -> None:
        for track in self.tracks:
            if track.plot.sceneBoundingRect().contains(position):
                self.move_cursor(float(track.plot.getViewBox().mapSceneToView(position).x()))
                return

    def _jump(self, where: Where) -> None:
        """A reading was followed: show its pull and put the cursor there."""
        if not self.isVisible():
            return
        for i, p in enumerate(logged(self.session.working_results())):
            if p.evidence.id == where.evidence:
                self.by_speed.setChecked(False)
                self.choose(i)
                if where.time_s is not None:
                    self.move_cursor(where.time_s - p.pull.start_s)
                return

    def keyPressEvent(self, event) -> None:
        """Left and right move the cursor; Shift moves it further."""
        shown = self.shown()
        if shown is None or self._cursor is None:
            super().keyPressEvent(event)
            return
        step = 50.0 if self._over_speed() else 0.05
        step *= 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.move_cursor(self._cursor + (step if key == Qt.Key.Key_Right else -step))
        elif key == Qt.Key.Key_G:
            self.ghost.click()
        elif key == Qt.Key.Key_X:
            self.by_speed.click()
        elif key == Qt.Key.Key_W:
            self._whole()
        else:
            super().keyPressEvent(event)

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        return [
            ("Left, Right", "move the cursor; with Shift further"),
            ("X", "over time or over engine speed"),
            ("G", "reference on or off"),
            ("W", "whole pull"),
        ]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        return [
            Command("Show traces over engine speed", "X", self.by_speed.click),
            Command("Show the reference in the traces", "G", self.ghost.click),
        ]

    def main_widget(self) -> QWidget:
        """The view itself takes the keys."""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        return self


def make(session: Session, window: Desk) -> LogsView:
    """The view of this step."""
    return LogsView(session, window)
