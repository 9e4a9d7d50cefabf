"""Laying one pull over another: by where each begins, its throttle opens, its engine passes a speed, or traces fit best."""

from __future__ import annotations

import numpy as np

from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.physics import FloatArray

# By what pulls are laid over each other.
WAYS = {
    "start": "the start of the pull",
    "throttle": "the throttle's opening",
    "speed": "an engine speed",
    "fit": "the best fit of engine speed",
}
OPENED = 0.5  # of the way from its lowest to its highest, the throttle counts as open. Our choice.
# How far the best fit looks to both sides, on which clock, and how much of the traces must lie over each other.
LOOKS_S, CLOCK_HZ, LEAST_SHARE = 5.0, 50.0, 0.4


def zero_of(log: Log, pull: Pull, way: str, speed_rpm: float = 0.0) -> float | None:
    """The time at which a pull is laid over others; None where it never comes to that, or nothing was logged of it.

    The best fit is between two: `offset_by_fit`.
    """
    if way == "throttle":
        return _opening(log, pull)
    if way == "speed":
        return _crossing(log, pull, speed_rpm)
    return pull.start_s


def _opening(log: Log, pull: Pull) -> float | None:
    """Where the throttle passes half of its way up, last before it is held."""
    if "throttle" not in log.channels:
        return None
    c = log.channels["throttle"]
    keep = (c.time_s <= pull.start_s + (pull.end_s - pull.start_s) / 2.0) & np.isfinite(c.values)
    t, v = c.time_s[keep], c.values[keep]
    if t.size < 2 or v.max() - v.min() < 0.05:
        return None
    level = v.min() + OPENED * (v.max() - v.min())
    rises = np.flatnonzero((v[:-1] < level) & (v[1:] >= level))
    return _between(t, v, int(rises[-1]), level) if rises.size else None


def _crossing(log: Log, pull: Pull, speed_rpm: float) -> float | None:
    """Where engine speed first rises past a speed in the pull."""
    c = log.channels.get("engine_speed")
    if c is None:
        return None
    keep = (c.time_s >= pull.start_s) & (c.time_s <= pull.end_s) & np.isfinite(c.values)
    t, v = c.time_s[keep], c.values[keep]
    rises = np.flatnonzero((v[:-1] < speed_rpm) & (v[1:] >= speed_rpm))
    return _between(t, v, int(rises[0]), speed_rpm) if rises.size else None


def _between(t: FloatArray, v: FloatArray, at: int, level: float) -> float:
    return float(t[at] + (level - v[at]) / (v[at + 1] - v[at]) * (t[at + 1] - t[at]))


def offset_by_fit(log: Log, pull: Pull, other: Log, other_pull: Pull, key: str = "engine_speed") -> float | None:
    """By how many s the other pull has to be moved, beyond its start upon the start of the first, to fit best.

    The least mean square of the difference over shifts of up to 5 s; None where the traces never lie over each other.
    """
    if key not in log.channels or key not in other.channels:
        return None
    step = 1.0 / CLOCK_HZ
    clock = np.arange(0.0, max(pull.length_s, other_pull.length_s), step)
    one = log.at(key, pull.start_s + clock)
    one = np.where(clock <= pull.length_s, one, np.nan)
    best: tuple[float, float] | None = None
    for shift in np.arange(-LOOKS_S, LOOKS_S + step, step):
        moved = clock - shift
        two = np.where(
            (moved >= 0.0) & (moved <= other_pull.length_s), other.at(key, other_pull.start_s + moved), np.nan
        )
        off = one - two
        known = np.isfinite(off)
        if np.count_nonzero(known) < LEAST_SHARE * min(pull.length_s, other_pull.length_s) * CLOCK_HZ:
            continue
        error = float(np.mean(off[known] ** 2))
        if best is None or error < best[0]:
            best = error, float(shift)
    return best[1] if best is not None else None


def distance_m(log: Log, clock: FloatArray) -> FloatArray | None:
    """The way that was covered at times, m, from the first on: the integral of the speed that was logged; None without."""
    key = next((k for k in ("gps_speed", "vehicle_speed") if k in log.channels), None)
    if key is None:
        return None
    c = log.channels[key]
    good = np.isfinite(c.values)
    if np.count_nonzero(good) < 2:
        return None
    t, v = c.time_s[good], c.values[good]
    way = np.concatenate(([0.0], np.cumsum(np.diff(t) * 0.5 * (v[1:] + v[:-1]))))
    return np.asarray(np.interp(clock, t, way, left=np.nan, right=np.nan))
