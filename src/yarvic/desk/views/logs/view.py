"""The Logs view: which pull is shown, over time or engine speed, and where the cursor stands."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPixmap
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from yarvic.core.checks.finding import Where
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.quality import quality
from yarvic.core.job.model import parts_on
from yarvic.core.units import from_canonical
from yarvic.desk.overlays import Command
from yarvic.desk.views.logs.axis import SPEED
from yarvic.desk.views.logs.belongs import Belongs
from yarvic.desk.views.logs.by_keys import ByKeys
from yarvic.desk.views.logs.events import Events
from yarvic.desk.views.logs.figures import CYLINDERS, TRACES, Figures
from yarvic.desk.views.logs.finder import Finder, lanes_arranged
from yarvic.desk.views.logs.laying import SHORT, Laying
from yarvic.desk.views.logs.legend import legend
from yarvic.desk.views.logs.marking import Marking
from yarvic.desk.views.logs.pull_view import PullView
from yarvic.desk.views.logs.saving import Saving
from yarvic.desk.views.logs.spans import Spans
from yarvic.desk.views.logs.track import Lane
from yarvic.desk.views.logs.waiting import Waiting
from yarvic.desk.views.selected_run import SelectedRun
from yarvic.desk.views.view import Desk
from yarvic.desk.widgets.words import Empty, chooser, label, row, show_choice, word
from yarvic.state.log_panes import with_computed
from yarvic.state.results import PullResult, RevisionResults, logged, simulated_mark
from yarvic.state.session import Session


class LogsView(PullView):
    """The traces of one pull of working, with the same pull of the reference as a ghost."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, window)
        self.add_bench(window.open_bench)
        self.pull = chooser("Pull shown", self._choices)
        self.laying = Laying(session, self.shown, self.redraw)
        self.ghost, self.all_pulls = self.laying.ghost, self.laying.all_pulls
        self.by_speed, self.by_distance, self.laid_on = (
            self.laying.by_speed,
            self.laying.by_distance,
            self.laying.laid_on,
        )
        self.whole = word("Whole", self._whole, "W")
        self.whole.setToolTip("Whole pull (W)")
        self.whole.setAccessibleName("Whole pull")
        self.second = word("Second cursor", self._toggle_second, "S", checkable=True)
        self.channels_word = word("Channels", self.open_channels, "C")
        self.middle = QVBoxLayout()
        self.figures = Figures(self, self.middle)
        self.traces, self.knock = self.figures.traces, self.figures.knock
        self.marking = Marking(session, self)
        self.events = Events(self, self.marking.markers)
        self.window_ = window
        self.spans = Spans(self, window)
        self.by_keys = ByKeys(self)
        self.saving = Saving(self, session, self.shown, self.span, self.picture)
        self.save = self.saving.button
        self.head.insertWidget(2, self.save)
        self.live_word = word("Live log", window.open_live)
        self.import_word = word("Import", window.ask_for_logs, "Ctrl+I")
        self.head.insertWidget(2, self.import_word)
        self.head.insertWidget(2, self.figures.pick)
        self.head.insertWidget(3, self.live_word)
        self.waiting = Waiting(session, window)
        self.arrived, self.left_out = self.waiting.arrived, self.waiting.left_out
        self.head.insertWidget(3, self.arrived)
        self.head.insertWidget(4, self.left_out)
        self.run = SelectedRun(window, self.shown, "Columns")
        self.belongs = Belongs(window, self.shown)
        self.column.addLayout(
            row(
                self.pull,
                self.belongs.button,
                self.run,
                self.ghost,
                self.all_pulls,
                self.laid_on,
                None,
                spacing=2,
            )
        )
        self.column.addLayout(
            row(
                self.channels_word,
                self.by_speed,
                self.by_distance,
                self.second,
                self.events.back,
                self.events.on,
                self.marking.word,
                self.whole,
                None,
                spacing=2,
            )
        )
        self.column.addWidget(self.marking)
        self.column.addLayout(self.middle, 1)
        self.finder = Finder(self, session, self._laid_log, self.redraw)
        self.empty = Empty("Go to Dyno", partial(session.go, "dyno"))
        self.column.addWidget(self.empty, 1)
        self.caption = label("", "caption", wrap=True)
        below = row(self.caption, self.reading, spacing=12)
        below.setStretch(0, 1)
        below.setAlignment(self.reading, Qt.AlignmentFlag.AlignTop)
        self.column.addLayout(below)
        self.column.addWidget(self.cell)
        self.sheet = self.traces.sheet
        self._faults: list[str] = []
        self.sheet.scene().sigMouseMoved.connect(self._mouse)
        self.refresh_on(
            session.job_changed, session.selection_changed, session.results_changed, session.units_changed
        )
        session.place_changed.connect(self._jump)

    # -- showing

    def refresh(self) -> None:
        """Take up the pulls of the working revision."""
        results, revision = self.session.working_results(), self.session.evidence_revision()
        count = len(logged(results))
        self.at = min(max(self.at, 0), max(count - 1, 0))
        self.about.setText(
            f"{simulated_mark(results)}evidence of {revision.name}{self._on(results)}" if revision else ""
        )
        held = self.focusWidget()
        if count == 0 and held in self._of_a_pull():
            self.setFocus()  # or the focus would go on to a word that does something else
        for button in self._of_a_pull():
            button.setEnabled(count > 0)
        show_choice(self.save, "Save")
        self._show_arrived()
        self.redraw()

    @staticmethod
    def _on(results: RevisionResults | None) -> str:
        return f" on {results.on_builds}" if results is not None and results.on_builds else ""

    def _show_arrived(self) -> None:
        self.waiting.refresh()
        self.run.refresh()
        self.belongs.refresh()

    def _of_a_pull(self) -> tuple[QWidget, ...]:
        """What does something with the pull that is drawn."""
        return (
            self.pull, self.ghost, self.all_pulls, self.laid_on, self.by_speed, self.by_distance, self.whole, self.save,
            self.second, self.channels_word, self.events.back, self.events.on, self.marking.word,
        )  # fmt: skip

    def _choices(self) -> list[tuple[str, Callable[[], None]]]:
        pulls = logged(self.session.working_results())
        return [*((p.title, partial(self.choose, i)) for i, p in enumerate(pulls)), *self.spans.choices()]

    def choose(self, at: int) -> None:
        """Show another pull."""
        self.at = at
        self._show_arrived()
        self.redraw()

    def redraw(self) -> None:
        """Draw what is shown anew."""
        shown = self.shown()
        show_choice(self.pull, shown.title if shown is not None else "")
        show_choice(self.laid_on, f"Laid on {SHORT[self.laying.way]}")
        stands = self.figures.stand(shown)
        self.empty.setVisible(shown is None)
        self.marking.show_for(shown)
        if shown is None:
            self.traces.clear()
            self.caption.setText("")
            self.reading.setText("")
            self.cell.setText("")
            action = ("Import", self.window_.ask_for_logs) if self.session.from_outside else None
            self.empty.say(*self.nothing_yet("The traces of its log")[:2], action=action)
            return
        kept = self._kept_places()
        panes = self.finder.panes()
        log, self._faults = with_computed(shown.log, panes.computed)
        drawn = self.laying.laid(shown, log)
        assert drawn is not None
        ghosts = [
            (p, self.laying.laid(p, with_computed(p.log, panes.computed)[0], drawn))
            for p in self.laying.others(shown, self.at)
        ]
        self.traces.lay(lanes_arranged(panes, log))
        self.traces.draw(drawn, [g for _, g in ghosts if g is not None], self._limit, self.laying.label())
        wrong = self._mark(shown)
        lost = [p.title for p, g in ghosts if g is None]
        behind = [p.title for p, g in ghosts if g is not None]
        self.caption.setText(wrong + self._legend(shown, behind, lost))
        self._put_back(shown, kept)
        self._whole()
        self.figures.fill(stands)
        self.laid_on.setVisible(stands == TRACES)
        for of_traces in (self.channels_word, self.by_speed, self.by_distance, self.ghost, self.whole):
            of_traces.setEnabled(stands == TRACES)
        self.all_pulls.setEnabled(stands in (TRACES, CYLINDERS))
        if stands != TRACES and shown.sweeps:
            self.caption.setText(f"{quality(shown.log, shown.pull).sentence}.")

    def _legend(self, shown: PullResult, behind: list[str], lost: list[str]) -> str:
        several = any(len(track.lane.keys) > 1 for track in self.tracks)
        by_hand = self.spans.adjusted(shown)
        return legend(shown, self.laying.way, behind, lost, self._faults, several=several, by_hand=by_hand)

    def _kept_places(self) -> tuple[float | None, float | None]:
        """Where the cursors stand, in s from the start of the pull: the axis below them may change."""
        before = self.traces.shown
        if before is None:
            return None, None
        places = (self.traces.place, self.traces.anchor)
        at, other = (before.laid.time(x) - before.pull.pull.start_s if x is not None else None for x in places)
        return at, other

    def _put_back(self, shown: PullResult, kept: tuple[float | None, float | None]) -> None:
        now = self.traces.shown
        if now is None:
            return
        places = [
            float(now.laid.at(np.array([shown.pull.start_s + since]))[0]) if since is not None else float("nan")
            for since in kept
        ]
        self.traces.place, self.traces.anchor = (x if np.isfinite(x) else None for x in places)
        self.second.setChecked(self.traces.anchor is not None)

    def _mark(self, shown: PullResult) -> str:
        """Mark what is wrong with the run where it is, and give the sentence for it."""
        found = self.problems_of(shown)
        start, end = shown.pull.start_s, shown.pull.end_s
        laid = self.traces.shown.laid if self.traces.shown is not None else None
        for track in self.tracks:
            keys = {*track.lane.keys, *track.lane.beside}
            spans = [(a, b) for p in found if p.channel in keys for a, b in p.spans]
            drawn = laid is not None and laid.axis != SPEED
            places = [tuple(laid.at(np.array(span)).tolist()) for span in spans] if drawn and laid is not None else []
            track.mark([(a, b) for a, b in places if np.isfinite(a) and np.isfinite(b)])
        self.marking.draw()
        inside = [p.sentence for p in found if any(a <= end and b >= start for a, b in p.spans)]
        return f"Marked: {inside[0]}{f', and {len(inside) - 1} more' if len(inside) > 1 else ''}. " if inside else ""

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
        self.traces.whole()
        self.move_cursor(self.traces.place if self.traces.place is not None else self._middle(shown))

    def _middle(self, shown: PullResult) -> float:
        laid = self.traces.shown
        ends = laid.laid.pull_ends() if laid is not None else None
        low, high = ends if ends is not None else (shown.pull.from_rpm, shown.pull.to_rpm)
        return (low + high) / 2.0

    # -- the cursor

    def picture(self) -> QPixmap:
        """The figure as it stands."""
        return self.figures.standing().grab()

    def _toggle_second(self) -> None:
        """The second cursor is put where the first stands now."""
        self.traces.set_anchor(self.traces.place if self.second.isChecked() else None)
        if self.traces.place is not None:
            self.move_cursor(self.traces.place)

    def open_channels(self) -> None:
        """Choose the channels by typing."""
        self.finder.open()

    def _laid_log(self) -> Log | None:
        shown = self.traces.shown
        return shown.laid.log if shown is not None else None

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
                self.laying.over_time()
                self.choose(i)
                if where.time_s is not None:
                    self.move_to_time(where.time_s)
                return

    def keyPressEvent(self, event) -> None:
        """Left and right move the cursor; Shift moves it further. Letters press the words that name them."""
        if self.shown() is None or self.traces.place is None or not self.by_keys.take(event):
            super().keyPressEvent(event)

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        return self.by_keys.named()

    def commands(self) -> list[Command]:
        """Commands of this view."""
        return self.by_keys.commands()

    def main_widget(self) -> QWidget:
        """The view itself takes the keys."""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        return self


def make(session: Session, window: Desk) -> LogsView:
    """The view of this step."""
    return LogsView(session, window)
