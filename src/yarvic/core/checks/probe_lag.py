"""How slowly a probe follows, told by how it cools once the throttle is shut."""

from __future__ import annotations

import numpy as np

from yarvic.core.evidence.log import Log

# A probe is looked at for so long behind a pull, at least and at most, while the throttle is under so much. Our choices.
LEAST_S, MOST_S, SHUT = 3.0, 15.0, 0.3
# It tells its lag where it fell by so many K, over so many lags, and lies off an exponential by so small a share of its
# fall. Our choices.
LEAST_FALL_K, LEAST_LAGS, MOST_OFF = 40.0, 1.0, 0.06
LEAST_SAMPLES, MOST_SAMPLES = 8, 300
LAGS_S = np.geomspace(0.2, 12.0, 60)


def probe_lag(log: Log, key: str, end_s: float) -> float | None:
    """The lag of a temperature probe (s), first order, by its fall behind a pull that ended at `end_s`; None where that
    cannot be told. Gas that cools slowly by itself makes it longer, never shorter.

    Least squares of an end and a fall for each of several lags, the best of them.
    """
    channel, throttle = log.channels.get(key), log.channels.get("throttle")
    if channel is None or throttle is None:
        return None
    opened = throttle.time_s[(throttle.time_s > end_s + 0.5) & (throttle.values >= SHUT)]
    until = min(float(opened[0]) if opened.size else np.inf, end_s + MOST_S)
    # The gas falls within half a second of the lift: what is fitted begins behind it.
    inside = (channel.time_s >= end_s + 0.5) & (channel.time_s < until) & np.isfinite(channel.values)
    t, values = channel.time_s[inside] - end_s, channel.values[inside]
    if t.size < LEAST_SAMPLES or t[-1] - t[0] < LEAST_S:
        return None
    few = slice(None, None, max(t.size // MOST_SAMPLES, 1))
    t, values = t[few], values[few]
    best: tuple[float, float, float] | None = None
    for lag in LAGS_S:
        design = np.column_stack((np.ones(t.size), np.exp(-(t - t[0]) / lag)))
        solved = np.linalg.lstsq(design, values, rcond=None)[0]
        off = float(np.sqrt(np.mean((values - design @ solved) ** 2)))
        if best is None or off < best[0]:
            best = off, float(lag), float(solved[1])
    assert best is not None
    off, lag, fall = best
    told = fall >= LEAST_FALL_K and off <= MOST_OFF * fall and t[-1] - t[0] >= LEAST_LAGS * lag
    return lag if told and LAGS_S[0] < lag < LAGS_S[-1] else None
