"""Differences between sets of pulls, with what is known of the order in which they were pulled."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

import numpy as np

from yarvic.core.evidence.repeatability import Gain, Interval, Order, difference, gain
from yarvic.core.job.model import Evidence
from yarvic.state.results import PullResult

# Pulls further apart than this are of two sessions: what drifted in the one does not go on in the other. Our choice.
SESSION_BREAK_S = 3.0 * 3600.0
ASSUMED = "a steady drift from pull to pull is removed"
OTHER_DAY = "measured in two sessions: what changes from day to day is not in the interval"


def places(working: Sequence[Evidence], reference: Sequence[Evidence]) -> tuple[Order, bool]:
    """The place of each run among all runs of its session, and whether all are of one session."""
    runs = sorted({e.id: e for e in (*working, *reference)}.values(), key=lambda e: (e.time, e.id))
    place: dict[str, float] = {}
    first, breaks = 0, 0
    for i, run in enumerate(runs):
        if i == 0 or _seconds(runs[i - 1], run) > SESSION_BREAK_S:
            first, breaks = _number(run), breaks + (i > 0)
        place[run.id] = float(_number(run) - first)
    order = tuple(np.array([place[e.id] for e in each]) for each in (working, reference))
    return (order[0], order[1]), breaks == 0


def _number(run: Evidence) -> int:
    """Runs are numbered as they are recorded, whatever they are of."""
    return int(run.id.lstrip("R") or 0)


def _seconds(one: Evidence, other: Evidence) -> float:
    return abs((datetime.fromisoformat(other.time) - datetime.fromisoformat(one.time)).total_seconds())


def gain_between(
    working: Sequence[PullResult], reference: Sequence[PullResult], standard: str, band_rpm: tuple[float, float]
) -> tuple[Gain, str]:
    """Gain of pulls over others, and what was assumed of their order. Raises EvidenceError when they do not compare."""
    order, together = places([p.evidence for p in working], [p.evidence for p in reference])
    found = gain([p.curves[standard] for p in working], [p.curves[standard] for p in reference], band_rpm, order)
    return found, ASSUMED if together else OTHER_DAY


def peaks_between(working: Sequence[PullResult], reference: Sequence[PullResult]) -> Interval:
    """Difference of uncorrected peak power, W."""
    order, _ = places([p.evidence for p in working], [p.evidence for p in reference])
    one, other = (np.array([p.curves["none"].peak_power[0] for p in each]) for each in (working, reference))
    return difference(one, other, order)
