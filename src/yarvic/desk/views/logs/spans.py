"""The ends of a pull set by hand, and the stretches that were driven beside the pulls, to be looked at."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from yarvic.core.errors import YarvicError
from yarvic.core.evidence.driving import Driven, driven
from yarvic.core.evidence.log import Log
from yarvic.desk.views.logs.pull_view import PullView
from yarvic.desk.views.view import Desk
from yarvic.state.results import PullResult

# So much of the log is shown before and behind a stretch, s. Our choice.
BESIDE_S = 3.0


class Spans:
    """What stands under the pulls in their chooser."""

    def __init__(self, view: PullView, window: Desk) -> None:
        self._view, self._window = view, window
        self._known: tuple[Log, list[Driven]] | None = None

    def choices(self) -> list[tuple[str, Callable[[], None]]]:
        """What can be done with the pull that is drawn, and where its log was driven otherwise."""
        shown = self._view.shown()
        if shown is None or shown.evidence.is_sheet:
            return []
        found: list[tuple[str, Callable[[], None]]] = []
        if self.can_adjust(shown):
            words = (
                "Judge it between the cursors"
                if self._view.span()
                else "Judge it between two cursors: put the second"
            )
            found.append((words, self.adjust))
            if self.adjusted(shown):
                found.append(("Judge it as it was found", partial(self._say, shown, None)))
        return [*found, *((f"See: {d.title}", partial(self.see, d)) for d in self.stretches(shown))]

    def can_adjust(self, shown: PullResult) -> bool:
        """Whether the ends of this pull can be set: not those of a held speed, and not in a job that is only read."""
        job = self._view.session.job
        # Of a log without a pull it makes one.
        return job is not None and not job.read_only and (shown.sweeps or shown.whole)

    @staticmethod
    def adjusted(shown: PullResult) -> bool:
        """Whether a person set the ends of a pull."""
        return shown.number in shown.evidence.spans

    def stretches(self, shown: PullResult) -> list[Driven]:
        """Holds, cruises and cool-downs of the log that is drawn."""
        log = shown.log
        if self._known is None or self._known[0] is not log:
            self._known = log, driven(log, [p.pull for p in self._view.pulls_of_run(shown)])
        return self._known[1]

    def adjust(self) -> None:
        """Judge the pull that is drawn between the two cursors; where there is no second one, put it."""
        shown, span = self._view.shown(), self._view.span()
        if shown is None or not self.can_adjust(shown):
            return
        if span is None:
            if not self._view.second.isChecked():
                self._view.second.click()
            self._view.session.say("Move the cursor to the other end of the pull, then choose it again.")
            return
        self._say(shown, span)

    def _say(self, shown: PullResult, span: tuple[float, float] | None) -> None:
        session = self._view.session
        job = session.job
        run = next((e for e in job.evidence() if e.id == shown.evidence.id), None) if job is not None else None
        if run is None:
            return
        try:
            self._window.arrivals.span(run, shown.number, span)
        except YarvicError as error:
            session.failed.emit(error)
            return
        where = f"from {span[0]:.2f} to {span[1]:.2f} s of its log" if span is not None else "as it was found"
        session.say(f"{shown.title} is judged {where}. Ctrl+Z undoes it.")

    def see(self, stretch: Driven) -> None:
        """Show a stretch in the traces."""
        view = self._view
        view.laying.over_time()
        view.redraw()
        view.traces.show_span(stretch.start_s - BESIDE_S, stretch.end_s + BESIDE_S)
        view.move_to_time(0.5 * (stretch.start_s + stretch.end_s))
        view.session.say(f"{stretch.title}.")
