"""What stands on the axis, which pulls are drawn behind the one in hand, and by what they are laid over each other."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from yarvic.core.evidence.align import WAYS, offset_by_fit, zero_of
from yarvic.core.evidence.log import Log
from yarvic.desk.views.logs.axis import DISTANCE, SPEED, TIME, Laid
from yarvic.desk.views.logs.traces import Shown
from yarvic.desk.widgets.words import chooser, word
from yarvic.state.results import PullResult, logged
from yarvic.state.session import Session

# So much of a log before and behind a pull is looked at, and drawn of one that stands behind another. Our choice.
AROUND_S = 10.0
# The same ways, short, as they stand where one was chosen.
SHORT = {"start": "start", "throttle": "throttle", "speed": "speed", "fit": "best fit"}


class Laying:
    """The words that choose it; `changed` draws anew."""

    def __init__(self, session: Session, shown: Callable[[], PullResult | None], changed: Callable[[], None]) -> None:
        self._session, self._shown, self._changed = session, shown, changed
        self.way = "start"
        self.ghost = word("Reference", changed, "G", checkable=True)
        self.ghost.setChecked(True)
        self.all_pulls = word("All pulls", changed, "A", checkable=True)
        self.by_speed = word("Over rpm", self._choose_speed, "X", checkable=True)
        self.by_distance = word("Over m", self._choose_distance, checkable=True)
        self.by_distance.setToolTip("Over the distance that was covered, m")
        self.by_distance.setAccessibleName("Over distance")
        self.laid_on = chooser("By what pulls are laid over each other", self._ways)

    def axis(self) -> str:
        """What stands on the axis: by choice, and engine speed always for a curve, which has no time."""
        shown = self._shown()
        if shown is not None and "engine_speed" not in shown.log.channels and not shown.evidence.is_sheet:
            return TIME  # or nothing could stand over it
        if self.by_speed.isChecked() or (shown is not None and shown.evidence.is_sheet):
            return SPEED
        return DISTANCE if self.by_distance.isChecked() else TIME

    def over_time(self) -> None:
        """Time stands on the axis."""
        self.by_speed.setChecked(False)
        self.by_distance.setChecked(False)

    def _choose_speed(self) -> None:
        self.by_distance.setChecked(False)
        self._changed()

    def _choose_distance(self) -> None:
        self.by_speed.setChecked(False)
        self._changed()

    def _ways(self) -> list[tuple[str, Callable[[], None]]]:
        return [(f"Laid on {title}", partial(self.choose_way, way)) for way, title in WAYS.items()]

    def choose_way(self, way: str) -> None:
        """Lay pulls over each other by something else."""
        self.way = way
        self._changed()

    def label(self) -> str:
        """What the axis counts from, where that is not the start of the pull."""
        shown = self._shown()
        if shown is not None and shown.whole and self.axis() == TIME:
            return "Time from the start of the log, s"
        return f"Time from {WAYS[self.way]}, s" if self.axis() == TIME and self.way != "start" else ""

    def others(self, shown: PullResult, at: int) -> list[PullResult]:
        """The pulls that are drawn behind the one in hand: the reference's, and the others of its revision."""
        if shown.whole:
            return []  # what holds no pull has nothing to be laid on
        reference = self._reference(at)
        others = [p for p in logged(self._session.working_results()) if p is not shown]
        return ([reference] if reference is not None else []) + (others if self.all_pulls.isChecked() else [])

    def _reference(self, at: int) -> PullResult | None:
        results = self._session.reference_results()
        pulls = logged(results)
        if not pulls or not self.ghost.isChecked() or results is self._session.working_results():
            return None
        return pulls[min(at, len(pulls) - 1)]

    def laid(self, p: PullResult, log: Log, onto: Shown | None = None) -> Shown | None:
        """A pull on the axis as it was chosen; None where it never comes to what the pulls are laid on."""
        part = log.cut(p.pull.start_s - AROUND_S, p.pull.end_s + AROUND_S)
        first = onto.pull.pull if onto is not None else p.pull
        middle = 0.5 * (first.from_rpm + first.to_rpm)
        if self.way == "fit" and onto is not None:
            moved = offset_by_fit(onto.laid.log, onto.pull.pull, part, p.pull)
            zero = p.pull.start_s - moved if moved is not None else None
        else:
            zero = zero_of(part, p.pull, self.way, middle)
        if zero is None and onto is None:
            zero = p.pull.start_s
        # Behind the one in hand a pull is drawn, not all else that was logged with it.
        drawn = log if onto is None else part
        return Shown(p, Laid(drawn, p.pull, self.axis(), zero)) if zero is not None else None
