"""In which pull of a log a curve was measured: by the shape of engine speed in time, or by where it begins and ends."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull, find_pulls
from yarvic.core.evidence.sheet.runs import legs
from yarvic.core.physics import FloatArray

# Shapes are alike where engine speed stays this near all along, as a share of what it sweeps; ends are where both are
# this near. Our choices: a drivetrain's slip stays under it, another pull of the same kind does not always.
ALIKE, ENDS_ALIKE = 0.012, 0.06
# The best of several is taken only where the next is so many times worse.
CLEARLY = 2.0
STEPS, COARSE_S = 400, 0.25


@dataclass(frozen=True)
class Candidate:
    """A pull that a curve may be of: its run, its number there, and how far its speed is from the curve's (share)."""

    run: str
    pull: int
    apart: float
    by_shape: bool

    @property
    def fits(self) -> bool:
        """Whether it may be the one at all."""
        return self.apart <= (ALIKE if self.by_shape else ENDS_ALIKE)


def candidates(
    speed_rpm: FloatArray, time_s: FloatArray | None, logs: Iterable[tuple[str, Log]]
) -> tuple[list[Candidate], Candidate | None]:
    """The pulls of logs that a curve may be of, the nearest first, and the one that it must be, if any is.

    `time_s` are the stamps of the curve's rows, None where it has none: then only the ends of its sweep can tell, and
    that never compels one.
    """
    climbs = legs(speed_rpm)
    if not climbs:
        return [], None
    first, last = max(climbs, key=lambda leg: speed_rpm[leg[1]] - speed_rpm[leg[0]])
    n = speed_rpm[first : last + 1]
    t = None if time_s is None else time_s[first : last + 1]
    found = []
    for run, log in logs:
        for number, pull in enumerate(find_pulls(log)):
            apart = _by_ends(n, pull) if t is None else _by_shape(n, t, log, pull)
            found.append(Candidate(run, number, apart, t is not None))
    found.sort(key=lambda c: c.apart)
    best = found[0] if found and found[0].by_shape and found[0].fits else None
    if best is not None and len(found) > 1 and found[1].apart < CLEARLY * best.apart:
        best = None
    return found, best


def _by_ends(n: FloatArray, pull: Pull) -> float:
    """How far the ends of a sweep are from those of a pull, as a share of the sweep."""
    span = max(pull.to_rpm - pull.from_rpm, 1.0)
    low, high = float(np.nanmin(n)), float(np.nanmax(n))
    # A curve is cut at both ends by whoever reduced it; one that goes past the pull is not of it.
    outside = max(pull.from_rpm - low, 0.0) + max(high - pull.to_rpm, 0.0)
    return (outside + 0.3 * (abs(low - pull.from_rpm) + abs(high - pull.to_rpm))) / span


def _by_shape(n: FloatArray, t: FloatArray, log: Log, pull: Pull) -> float:
    """How far engine speed of a curve is from that of a log, at the shift in time at which both are nearest."""
    speed = log.channel("engine_speed")
    good = np.isfinite(speed.values)
    keep = np.isfinite(n) & np.isfinite(t)
    if np.count_nonzero(good) < 5 or np.count_nonzero(keep) < 5:
        return float("inf")
    n, t = n[keep], t[keep] - t[keep][0]
    span = max(float(np.ptp(n)), 1.0)
    at = np.linspace(0.0, t[-1], STEPS)
    wanted = np.interp(at, t, n)
    # Where the log passes the curve's middle is where it would have to lie.
    inside = good & (speed.time_s >= pull.start_s - 2.0) & (speed.time_s <= pull.end_s + 2.0)
    ts, ns = speed.time_s[inside], speed.values[inside]
    if ts.size < 5:
        return float("inf")

    def apart(shift: float) -> float:
        over = (at + shift >= ts[0]) & (at + shift <= ts[-1])
        if np.count_nonzero(over) < 0.8 * STEPS:
            return float("inf")
        off = np.interp(at[over] + shift, ts, ns) - wanted[over]
        return float(np.sqrt(np.mean(off**2))) / span

    # Coarsely over all of it, then finely about the nearest: speed rises, so that there is one.
    coarse = max(COARSE_S, float(t[-1] + np.ptp(ts)) / STEPS)
    shifts = np.arange(ts[0] - t[-1], ts[-1] + coarse, coarse)
    nearest = min(shifts.tolist(), key=apart)
    return min(apart(s) for s in np.arange(nearest - coarse, nearest + coarse, coarse / 25.0).tolist())


def one_for_each(found: Sequence[Candidate | None]) -> list[Candidate | None]:
    """Of several curves that would be of one pull, the one that is clearly nearest; none where pulls look alike.

    Back-to-back pulls have one shape: that a curve fits a pull does not say that it is of it, where another fits too.
    """
    settled: list[Candidate | None] = list(found)
    for at, mine in enumerate(found):
        others = [c for n, c in enumerate(found) if n != at and c is not None and mine is not None]
        if mine is None:
            continue
        rivals = [c.apart for c in others if (c.run, c.pull) == (mine.run, mine.pull)]
        if rivals and min(rivals) < CLEARLY * mine.apart:
            settled[at] = None
    return settled
