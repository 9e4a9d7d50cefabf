"""From one event of the log to the next: findings, faults of the record, marks, pulls, gear changes, lifts."""

from __future__ import annotations

from collections.abc import Callable

from yarvic.core.checks.finding import PASS
from yarvic.core.evidence.events import Event, events
from yarvic.core.evidence.origin import Marker
from yarvic.desk.views.logs.pull_view import PullView
from yarvic.desk.widgets.words import word

# Two events nearer than this are one place to stop at, s. Our choice.
ONE_PLACE_S = 0.02


class Events:
    """Two words that move the cursor, and say what is there."""

    def __init__(self, view: PullView, markers: Callable[[], list[Marker]]) -> None:
        self._view, self._markers = view, markers
        self.back = word("Before", lambda: self._step(-1), "Shift+N")
        self.back.setToolTip("Event before (Shift+N)")
        self.back.setAccessibleName("Event before")
        self.on = word("Next event", lambda: self._step(1), "N")

    def all(self) -> list[Event]:
        """What there is in the log that is drawn, in the order of time."""
        view = self._view
        shown = view.shown()
        if shown is None or shown.evidence.is_sheet:
            return []
        same = [p for p in view.pulls_of_run(shown)]
        found = events(shown.log, [p.pull for p in same])
        for p in same:
            found += [
                Event(f.where.time_s, f.statement)
                for f in p.findings
                if f.severity != PASS and f.where.time_s is not None
            ]
        found += [Event(a, problem.sentence) for problem in view.problems_of(shown) for a, _ in problem.spans]
        found += [Event(m.time_s, f"marked: {m.text}" if m.text else "marked") for m in self._markers()]
        return sorted(found, key=lambda e: e.time_s)

    def _step(self, by: int) -> None:
        view, now = self._view, self._view.time_at_cursor()
        if now is None:
            return
        ahead = [e for e in self.all() if (e.time_s - now) * by > ONE_PLACE_S]
        if not ahead:
            view.session.say("No event follows." if by > 0 else "No event lies before.")
            return
        to = ahead[0] if by > 0 else ahead[-1]
        there = [e.what for e in ahead if abs(e.time_s - to.time_s) <= ONE_PLACE_S]
        view.move_to_time(to.time_s)
        view.session.say(f"{'; '.join(dict.fromkeys(there))}.")
