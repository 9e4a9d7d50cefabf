"""What lies between two places of a trace: difference, mean, area."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.log import GAP_STEPS, Log


@dataclass(frozen=True)
class Between:
    """Of a channel between two times, canonical units (area: unit times s). Mean and area are by the trapezoid over the
    time that was logged, `missing` the share that was not; NaN where there is nothing to tell.
    """

    first: float
    last: float
    mean: float
    area: float
    least: float
    most: float
    missing: float

    @property
    def difference(self) -> float:
        """What it is at the later place less what it was at the earlier one."""
        return self.last - self.first


def between(log: Log, key: str, start_s: float, end_s: float) -> Between:
    """A channel between two times, whichever comes first. Raises EvidenceError when it was not logged."""
    start_s, end_s = sorted((start_s, end_s))
    ends = log.at(key, np.array([start_s, end_s]))
    channel = log.channel(key)
    inside = (channel.time_s > start_s) & (channel.time_s < end_s)
    t = np.concatenate(([start_s], channel.time_s[inside], [end_s]))
    v = np.concatenate((ends[:1], channel.values[inside], ends[1:]))
    good = np.isfinite(v)
    length = end_s - start_s
    if not good.any() or length <= 0.0:
        value = float(ends[0])
        return Between(
            value, float(ends[1]), value, 0.0 if good.any() else np.nan, value, value, float(not good.any())
        )
    t, v = t[good], v[good]
    steps = np.diff(t)
    usual = float(np.median(np.diff(channel.time_s))) if channel.time_s.size > 1 else length
    known = steps <= GAP_STEPS * usual
    spent = float(steps[known].sum())
    area = float((0.5 * (v[1:] + v[:-1]) * steps)[known].sum())
    mean = area / spent if spent > 0.0 else float("nan")
    missing = min(max(1.0 - spent / length, 0.0), 1.0)
    return Between(
        float(ends[0]), float(ends[1]), mean, area, float(v.min()), float(v.max()), missing if missing > 1e-6 else 0.0
    )
