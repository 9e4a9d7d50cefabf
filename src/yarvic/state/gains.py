"""Differences between sets of pulls, with what is known of the order in which they were pulled."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.days import DAY_SHARE
from yarvic.core.evidence.repeatability import Gain, Interval, Order, difference, gain
from yarvic.core.job.model import Evidence
from yarvic.core.physics import FloatArray
from yarvic.core.physics.correction import title
from yarvic.state.results import PullResult

# Pulls further apart than this are of two sessions: what drifted in the one does not go on in the other. Our choice.
SESSION_BREAK_S = 3.0 * 3600.0
ASSUMED = "a steady drift from pull to pull is removed"
_DAYS = f"{DAY_SHARE * 100.0:g} %"
OTHER_DAY = f"measured on different days: the interval allows for {_DAYS} from day to day, which is our assumption"


def places(working: Sequence[Evidence], reference: Sequence[Evidence]) -> tuple[Order, Order]:
    """The place of each run among all runs of its session, and the number of its session."""
    runs = sorted({e.id: e for e in (*working, *reference)}.values(), key=lambda e: (e.made_at or e.time, e.id))
    place: dict[str, float] = {}
    session: dict[str, float] = {}
    first, breaks = 0, 0
    for i, run in enumerate(runs):
        if i == 0 or not _one_session(runs[i - 1], run):
            first, breaks = _number(run), breaks + (i > 0)
        place[run.id], session[run.id] = float(_number(run) - first), float(breaks)

    def of(each: Sequence[Evidence], known: dict[str, float]) -> FloatArray:
        return np.array([known[e.id] for e in each])

    return (of(working, place), of(reference, place)), (of(working, session), of(reference, session))


def _of_one_day(sessions: Order) -> bool:
    return np.unique(np.concatenate(sessions)).size <= 1


def _number(run: Evidence) -> int:
    """Runs are numbered as they are recorded, whatever they are of."""
    return int(run.id.lstrip("R") or 0)


def _one_session(one: Evidence, other: Evidence) -> bool:
    """Whether two runs were made in a row: near in time, or in one file where that names no hour."""
    a, b = (_moment(e.made_at) for e in (one, other))
    if a is None or b is None:
        return one.origin is not None and other.origin is not None and one.origin.sha256 == other.origin.sha256
    if len(one.made_at) <= len("2000-01-01") or len(other.made_at) <= len("2000-01-01"):
        return a.date() == b.date()
    return abs((b - a).total_seconds()) <= SESSION_BREAK_S


def _moment(time: str) -> datetime | None:
    try:
        return datetime.fromisoformat(time).replace(tzinfo=None)
    except ValueError:
        return None


def gain_between(
    working: Sequence[PullResult], reference: Sequence[PullResult], standard: str, band_rpm: tuple[float, float]
) -> tuple[Gain, str]:
    """Gain of pulls over others, and what was assumed of their order. Raises EvidenceError when they do not compare."""
    if len({p.evidence.origin is None for p in (*working, *reference)}) > 1:
        raise EvidenceError(
            "one is from a file, the other from the simulated bench", remedy="Compare each with its own baseline."
        )
    order, sessions = places([p.evidence for p in working], [p.evidence for p in reference])
    one, other = ([p.curves[standard] for p in each] for each in (working, reference))
    found = gain(one, other, band_rpm, order, sessions)
    return found, ASSUMED if _of_one_day(sessions) else OTHER_DAY


@dataclass(frozen=True)
class PeakGain:
    """Difference of peak power (W) with its interval, and what has to be said beside it; no interval where none can be."""

    interval: Interval | None
    note: str


def peaks_between(working: Sequence[PullResult], reference: Sequence[PullResult], standard: str) -> PeakGain:
    """Difference of peak power. Pulls of one day are compared as measured; those of several in one air, by a standard
    where all of them have it: the air of a day is no gain.
    """
    evidence = [p.evidence for p in working], [p.evidence for p in reference]
    if len({e.origin is None for each in evidence for e in each}) > 1:
        return PeakGain(None, "one was measured, the other simulated: they do not compare")
    order, sessions = places(*evidence)
    by, note = "none", ""
    if not _of_one_day(sessions):
        corrected = standard != "none" and all(standard in p.curves for p in (*working, *reference))
        by = standard if corrected else "none"
        air = f"by {title(standard)}" if corrected else "uncorrected, with the air of each day in it"
        note = f"{air}; {OTHER_DAY}"
    one, other = (np.array([p.curves[by].peak_power[0] for p in each]) for each in (working, reference))
    return PeakGain(difference(one, other, order, sessions), note)
