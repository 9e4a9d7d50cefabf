"""Finding pulls: stretches in which the throttle stays near its own median and engine speed sweeps upward.

Nothing here depends on the rate of the samples.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.stretches import in_windows, stretches
from yarvic.core.physics import FloatArray


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


# Our choice of what counts as a pull. The throttle stays within the band of the median of the stretch; a fall of speed
# by as much as a gear change makes ends a sweep.
MIN_LENGTH_S = 1.5
MIN_SWEEP_RPM = 1200.0
THROTTLE_BAND = 0.04
MIN_THROTTLE = 0.15
GEAR_CHANGE_RPM = 300.0
# Speed that stays within this share of the sweep from its lowest or highest, for longer than this and than this share
# of its time, is a hold before the sweep, or the rev limiter after it.
HOLD_BAND, HOLD_S, HOLD_SHARE = 0.01, 0.5, 0.03
# Within so many rpm of its highest, a fall by as much as this is a limiter that cuts.
LIMITER_SWING_RPM, LIMITER_FALL_RPM = 150.0, 40.0
# A glance at the throttle before it is looked at closely, and no more than so many of them.
GLANCES_HZ = 20.0
MOST_GLANCES = 4_000_000
# What a person may make a pull of.
LEAST_SPAN_S, LEAST_SAMPLES, LEAST_RISE_RPM = 0.5, 5, 300.0
# What a steady run is given to settle, s, before it is judged.
SETTLES_S = 6.0


def find_pulls(log: Log) -> list[Pull]:
    """All pulls of a log, in time order.

    A pull holds the throttle within a band of its median, lasts 1.5 s or more and climbs 1200 rpm or more. It begins
    behind a hold; the lift, a gear change and the rev limiter end it. A log without throttle or engine speed holds none.
    """
    if not {"throttle", "engine_speed"} <= set(log.channels):
        return []
    channel = log.channel("engine_speed")
    t, rpm = channel.time_s, channel.values
    if t.size < 10:
        return []
    throttle = log.at("throttle", t)
    found = []
    for first, last in _steady(t, throttle):
        for begin, end in _sweeps(t, rpm, first, last):
            mean = float(np.nanmean(throttle[begin : end + 1]))
            found.append(Pull(float(t[begin]), float(t[end]), mean, float(rpm[begin]), float(rpm[end])))
    return sorted(found, key=lambda p: p.start_s)


def pulls_of(log: Log, spans: Mapping[int, tuple[float, float]]) -> list[Pull]:
    """All pulls of a log, those with the ends that a person set, by their number in the order in which they are found.

    A span that no pull has, or between which nothing was logged, changes nothing.
    """
    found = find_pulls(log)
    for number, (start_s, end_s) in spans.items():
        if number < len(found):
            try:
                found[number] = pull_between(log, start_s, end_s)
            except EvidenceError:
                continue  # the pull stands as it was found
    return found


def pull_between(log: Log, start_s: float, end_s: float) -> Pull:
    """The pull between two times. Raises EvidenceError where engine speed does not rise there, or was not logged."""
    rpm, throttle = log.channel("engine_speed"), log.channel("throttle")
    inside = (rpm.time_s >= start_s) & (rpm.time_s <= end_s) & np.isfinite(rpm.values)
    if np.count_nonzero(inside) < LEAST_SAMPLES or end_s - start_s < LEAST_SPAN_S:
        raise EvidenceError(
            f"{end_s - start_s:.2f} s with {np.count_nonzero(inside)} samples are no pull",
            remedy=f"Put the cursors {LEAST_SPAN_S:g} s or more apart.",
        )
    t, values = rpm.time_s[inside], rpm.values[inside]
    if values[-1] - values[0] < LEAST_RISE_RPM:
        raise EvidenceError(
            f"engine speed rises by {max(values[-1] - values[0], 0.0):,.0f} rpm there, and a pull sweeps",
            remedy="Put the cursors around a rise of engine speed.",
        )
    opened = log.at("throttle", t)
    if not np.isfinite(opened).any():
        raise EvidenceError(f"{throttle.title} was not logged there", remedy="Put the cursors elsewhere.")
    return Pull(float(t[0]), float(t[-1]), float(np.nanmean(opened)), float(values[0]), float(values[-1]))


def _sweeps(t: FloatArray, rpm: FloatArray, first: int, last: int) -> list[tuple[int, int]]:
    """Rises of engine speed within a stretch, long and wide enough."""
    found = []
    low = high = -1
    for i in [*_turns(rpm, first, last), -1]:
        # It ends where speed has fallen by a gear change from its highest, and with the stretch.
        if i == -1 or (high >= 0 and rpm[high] - rpm[i] > GEAR_CHANGE_RPM):
            if high > low >= 0 and rpm[high] - rpm[low] >= MIN_SWEEP_RPM:
                low, high = _without_holds(t, rpm, low, high)
                if t[high] - t[low] >= MIN_LENGTH_S:
                    found.append((low, high))
            low = high = i
            continue
        if low < 0 or rpm[i] < rpm[low]:
            low = high = i
        elif rpm[i] > rpm[high]:
            high = i
    return found


def _turns(rpm: FloatArray, first: int, last: int) -> list[int]:
    """The samples at which a speed turns, and the ends: between them it goes one way, where no sweep begins or ends."""
    places = first + np.flatnonzero(np.isfinite(rpm[first:last]))
    values = rpm[places]
    changes = np.concatenate(([True], values[1:] != values[:-1])) if places.size else np.zeros(0, dtype=bool)
    places, values = places[changes], values[changes]
    if places.size < 3:
        return [int(i) for i in places]
    up = np.diff(values) > 0.0
    turns = np.concatenate(([True], up[1:] != up[:-1], [True]))
    return [int(i) for i in places[turns]]


def _without_holds(t: FloatArray, rpm: FloatArray, low: int, high: int) -> tuple[int, int]:
    """A rise without the speed that was held before it and the limiter that it ran into.

    Which sample of a hold is the lowest or the highest is chance: with it the span would be of any length.
    """
    near = low + int(np.argmax(rpm[low : high + 1] >= rpm[high] - LIMITER_SWING_RPM))
    top = np.fmax.accumulate(rpm[near : high + 1])
    falls = np.flatnonzero(top - rpm[near : high + 1] > LIMITER_FALL_RPM)
    if falls.size:
        high = near + int(np.nanargmax(rpm[near : near + falls[0]]))
    band = HOLD_BAND * (rpm[high] - rpm[low])
    long = max(HOLD_S, HOLD_SHARE * (t[high] - t[low]))
    arrives = low + int(np.argmax(rpm[low : high + 1] >= rpm[high] - band))
    leaves = low + int(np.flatnonzero(rpm[low : high + 1] <= rpm[low] + band)[-1])
    return (leaves if t[leaves] - t[low] > long else low), (arrives if t[high] - t[arrives] > long else high)


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


def _steady(t: FloatArray, throttle: FloatArray) -> list[tuple[int, int]]:
    """Stretches of samples with throttle open and within the band of their own median, as (first, one past last)."""
    if throttle.size > 3:
        # A single sample that reads wrong is no lift.
        middle = np.median(np.stack([throttle[:-2], throttle[1:-1], throttle[2:]]), axis=0)
        throttle = np.concatenate((throttle[:1], middle, throttle[-1:]))
    opened = np.isfinite(throttle) & (throttle > MIN_THROTTLE) & _may_be_steady(t, throttle)
    found, left = [], stretches(opened, 0)
    while left:
        first, last = left.pop()
        if t[last - 1] - t[first] < MIN_LENGTH_S:
            continue
        part = throttle[first:last]
        runs = stretches(np.abs(part - np.nanmedian(part)) <= THROTTLE_BAND, first)
        a, b = max(runs, key=lambda r: r[1] - r[0], default=(first, first))
        # The median of the whole need not be that of its longest run: the run is held to its own, until it is.
        while b > a:
            own = np.abs(throttle[a:b] - np.nanmedian(throttle[a:b])) <= THROTTLE_BAND
            if own.all():
                break
            c, d = max(stretches(own, a), key=lambda r: r[1] - r[0])
            a, b = c, d
        if b > a and t[b - 1] - t[a] >= MIN_LENGTH_S:
            found.append((a, b))
        cut = [(first, a), (b, last)] if b > a else _halves(first, last)
        left += [(x, y) for x, y in cut if y - x > 1]
    return found


def _may_be_steady(t: FloatArray, throttle: FloatArray) -> NDArray[np.bool_]:
    """Samples around which the throttle stays within twice the band for as long as a pull lasts: spares the search."""
    count, width = int((t[-1] - t[0]) * GLANCES_HZ) + 1, int(MIN_LENGTH_S * GLANCES_HZ)
    good = np.isfinite(throttle)
    if not width < count < MOST_GLANCES or not good.any():
        return np.ones(t.shape, dtype=bool)
    clock = t[0] + np.arange(count) / GLANCES_HZ
    seen = sliding_window_view(np.interp(clock, t[good], throttle[good]), width)
    near = in_windows(seen.max(axis=1) - seen.min(axis=1) <= 2.0 * THROTTLE_BAND, width, count)
    return np.asarray(near[np.clip(np.rint((t - t[0]) * GLANCES_HZ).astype(np.intp), 0, count - 1)])


def _halves(first: int, last: int) -> list[tuple[int, int]]:
    middle = (first + last) // 2
    return [(first, middle), (middle, last)]
