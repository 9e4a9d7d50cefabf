"""Marks in a log: a place, or the span between the two cursors, with words, kept with the evidence."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from uuid import uuid4

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout

from yarvic.core.errors import YarvicError
from yarvic.core.evidence.origin import Marker
from yarvic.desk.views.logs.pull_view import PullView
from yarvic.desk.widgets.entry import Line
from yarvic.desk.widgets.words import act, chooser, label, show_choice, word
from yarvic.state.results import PullResult
from yarvic.state.session import Session

NEAR_S = 0.05


class Marking(QFrame):
    """The strip in which a mark's words are written. It stays with the run and place that it was opened for."""

    def __init__(self, session: Session, view: PullView) -> None:
        super().__init__()
        self.session, self._view = session, view
        self.setObjectName("card")
        self.word = word("Mark", self._open, "M")
        self.about = label("", "caption")
        self.text = Line("What is there", lambda text: None, hint="what is there")
        self.taken = chooser("Marks of this run: choose one to take it away", self._marks)
        self.fault = label("", "fault")
        self._run: PullResult | None = None
        self._span: tuple[float, float | None] = (0.0, None)
        line = QHBoxLayout(self)
        line.setContentsMargins(10, 4, 10, 4)
        line.addWidget(self.about)
        line.addWidget(self.text, 1)
        line.addWidget(self.fault)
        line.addWidget(act("Keep", self.keep))
        line.addWidget(self.taken)
        line.addWidget(word("Cancel", self.hide))
        self.text.returnPressed.connect(self.keep)
        self.hide()

    def markers(self) -> list[Marker]:
        """The marks of the run that is drawn, as they stand in the job now."""
        shown, job = self._view.shown(), self.session.job
        if shown is None or job is None:
            return []
        run = next((e for e in job.evidence() if e.id == shown.evidence.id), None)
        return list(run.markers) if run is not None else []

    def show_for(self, shown: PullResult | None) -> None:
        """Another run is drawn: what was begun for the one before is dropped."""
        job = self.session.job
        self.word.setEnabled(shown is not None and job is not None and not job.read_only)
        if self._run is not None and (shown is None or shown.evidence.id != self._run.evidence.id):
            self._run = None
            self.hide()

    def draw(self) -> None:
        """Show the marks in the traces: their words stand in the lowest of them."""
        laid = self._view.traces.shown
        if laid is None:
            return
        found = [(float(laid.laid.at(np.array([m.time_s]))[0]), m.text) for m in self.markers()]
        places = [(x, text) for x, text in found if np.isfinite(x)]
        tracks = self._view.traces.tracks
        for track in tracks:
            track.flag([(x, text if track is tracks[-1] else "") for x, text in places])

    def _open(self) -> None:
        view, at = self._view, self._view.time_at_cursor()
        shown = view.shown()
        if shown is None or at is None:
            return
        laid, anchor = view.traces.shown, view.traces.anchor
        other = laid.laid.time(anchor) if laid is not None and anchor is not None else None
        self._run = shown
        self._span = (at, None) if other is None or abs(other - at) < NEAR_S else (min(at, other), max(at, other))
        start = self._span[0] - shown.pull.start_s
        until = f" to {self._span[1] - shown.pull.start_s:.2f} s" if self._span[1] is not None else ""
        self.about.setText(f"{shown.title} at {start:.2f} s{until}")
        self.text.clear()
        self.fault.setText("")
        show_choice(self.taken, "Marks" if self.markers() else "")
        self.taken.setVisible(bool(self.markers()))
        self.show()
        self.text.setFocus()

    def keep(self) -> None:
        """Keep the mark with the run that it was begun for."""
        run = self._run
        if run is None:
            return
        marker = Marker(
            key=uuid4().hex[:12], time_s=self._span[0], end_s=self._span[1], text=self.text.text().strip()[:400],
            name=self.session.settings.author,
        )  # fmt: skip
        if self._say(run, marker, f"{run.title} marked at {self._span[0]:.2f} s: {marker.text}."):
            self.hide()
            self.session.say("The mark is kept with the run.")

    def _marks(self) -> list[tuple[str, Callable[[], None]]]:
        run = self._run

        def take_away(marker: Marker) -> None:
            if run is not None:
                self._say(run, marker.changed(gone=True), f"Mark of {run.title} taken away: {marker.text}.")
                self.hide()

        return [(f"{m.time_s:.2f} s: {m.text or 'no words'}", partial(take_away, m)) for m in self.markers()]

    def _say(self, run: PullResult, marker: Marker, sentence: str) -> bool:
        job = self.session.job
        if job is None:
            return False
        try:
            job.say_of([(run.evidence.id, "marker", marker)], sentence)
        except YarvicError as error:
            self.fault.setText(str(error))
            return False
        self.draw()
        return True

    def keyPressEvent(self, event) -> None:
        """Escape leaves; Enter goes no further."""
        if event.key() == Qt.Key.Key_Escape:
            self.hide()
        elif event.key() not in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            super().keyPressEvent(event)
