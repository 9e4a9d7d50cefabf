"""Finding pulls: stretches at steady throttle in which engine speed sweeps upward."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.log import Log


@dataclass(frozen=True, slots=True)
class Pull:
    """One sweep: its time span, mean throttle (0 to 1) and the speeds between which it ran."""

    start_s: float
    end_s: float
    throttle: float
    from_rpm: float
    to_rpm: float

    @property
    def length_s(self) -> float:
        """Duration in s."""
        return self.end_s - self.start_s


# Our choice of what counts as a pull.
MIN_LENGTH_S = 1.5
MIN_SWEEP_RPM = 1200.0
THROTTLE_BAND = 0.04
MIN_THROTTLE = 0.15
# What a steady run is given to settle, s, before it is judged.
SETTLES_S = 6.0


def find_pulls(log: Log) -> list[Pull]:
    """All pulls of a log, in time order.

    A pull holds throttle within a band of its median, lasts 1.5 s or more and climbs 1200 rpm or more. The lift
    and the rev limiter end it. A log without throttle or engine speed holds no pulls.
    """
    if not {"throttle", "engine_speed"} <= set(log.channels):
        return []
    channel = log.channel("engine_speed")
    t, rpm = channel.time_s, channel.values
    if t.size < 10:
        return []
    throttle = log.at("throttle", t)
    found = []
    for first, last in _steady(throttle):
        span = slice(first, last)
        if not np.isfinite(rpm[span]).any():
            continue
        # The sweep ends at its highest speed: what follows is the limiter or the roll-out.
        end = first + int(np.nanargmax(rpm[span]))
        begin = first + int(np.nanargmin(rpm[first : end + 1]))
        climb = float(rpm[end] - rpm[begin])
        if t[end] - t[begin] >= MIN_LENGTH_S and climb >= MIN_SWEEP_RPM:
            mean = float(np.nanmean(throttle[begin : end + 1]))
            found.append(Pull(float(t[begin]), float(t[end]), mean, float(rpm[begin]), float(rpm[end])))
    return found


def steady_span(log: Log) -> list[Pull]:
    """The one span of a run at a held speed, without its first seconds; none when it is too short to tell."""
    if not {"throttle", "engine_speed"} <= set(log.channels):
        return []
    rpm = log.channel("engine_speed")
    start, end = float(rpm.time_s[0]) + SETTLES_S, float(rpm.time_s[-1])
    inside = (rpm.time_s >= start) & np.isfinite(rpm.values)
    if end - start < MIN_LENGTH_S or not inside.any():
        return []
    throttle = float(np.nanmean(log.at("throttle", rpm.time_s[inside])))
    return [Pull(start, end, throttle, float(rpm.values[inside].min()), float(rpm.values[inside].max()))]


def _steady(throttle: np.ndarray) -> list[tuple[int, int]]:
    """Runs of samples with throttle open and steady, as (first, one past last)."""
    open_enough = np.isfinite(throttle) & (throttle > MIN_THROTTLE)
    moves = np.abs(np.diff(throttle, prepend=throttle[:1])) > THROTTLE_BAND
    keep = open_enough & ~moves
    edges = np.flatnonzero(np.diff(np.concatenate(([False], keep, [False])).astype(np.int8)))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]
