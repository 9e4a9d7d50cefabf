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
# A lorry's engine goes through far less: with an open throttle half of what it goes through in the log is a sweep, and a
# gear is a share of that. Below the first speed it stands.
OPEN_THROTTLE, SWEEP_SHARE, LEAST_SWEEP_RPM, SWEEP_TIMES = 0.8, 0.55, 500.0, 1.5
GEAR_SHARE, LEAST_GEAR_RPM, STANDS_RPM = 0.15, 120.0, 300.0
# A kick-down lifts speed by a gear within this time, and so many times faster than the engine climbs.
KICK_S, KICK_TIMES, LONGEST_KICK_S = 0.5, 3.0, 1.2
# Within so much the ratio of engine to wheels is that of one gear; a launch is held within so many rpm.
GEARING_ALIKE, LAUNCH_RPM = 0.04, 500.0
SPIN_S = 1.5  # wheels that spun have taken hold again within this time. Our choice.
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

    A pull holds the throttle within a band of its median, lasts 1.5 s or more and climbs 1200 rpm or more; with the
    throttle open, half of what the engine goes through in its log where that is less. It begins behind a hold, a launch
    or a kick-down; the lift, a gear change and the rev limiter end it. A log without throttle or engine speed holds none.
    """
    if not {"throttle", "engine_speed"} <= set(log.channels):
        return []
    channel = log.channel("engine_speed")
    t, rpm = channel.time_s, channel.values
    if t.size < 10:
        return []
    throttle, own, ratio = log.at("throttle", t), _range_of(rpm), _ratio(log, t, rpm)
    found = []
    for first, last in _steady(t, throttle):
        open_ = float(np.nanmedian(throttle[first:last]))
        for begin, end in _between_kicks(t, rpm, ratio, first, last, own):
            for a, b in _sweeps(t, rpm, ratio, begin, end, own, open_):
                mean = float(np.nanmean(throttle[a : b + 1]))
                found.append(Pull(float(t[a]), float(t[b]), mean, float(rpm[a]), float(rpm[b])))
    return sorted(found, key=lambda p: p.start_s)


def pulls_of(log: Log, spans: Mapping[int, tuple[float, float]]) -> list[Pull]:
    """All pulls of a log, those with the ends that a person set, by their number in the order in which they are found.

    A span behind the last pull is one that a person made where none was found. One between which nothing was logged
    changes nothing.
    """
    found = find_pulls(log)
    for number, (start_s, end_s) in sorted(spans.items()):
        try:
            made = pull_between(log, start_s, end_s)
        except EvidenceError:
            continue  # the pull stands as it was found
        if number < len(found):
            found[number] = made
        elif number == len(found):
            found.append(made)
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


@dataclass(frozen=True)
class _Range:
    """What counts as a sweep of this engine, and as a change of gear: by the speeds that it goes through in its log."""

    sweep_rpm: float
    narrow_rpm: float  # with the throttle open
    gear_rpm: float

    def is_sweep(self, from_rpm: float, to_rpm: float, throttle: float) -> bool:
        """Whether a rise is far enough."""
        if to_rpm - from_rpm >= self.sweep_rpm:
            return True
        far = to_rpm - from_rpm >= self.narrow_rpm and to_rpm >= SWEEP_TIMES * from_rpm
        return far and throttle >= OPEN_THROTTLE


def _range_of(rpm: FloatArray) -> _Range:
    runs = rpm[np.isfinite(rpm) & (rpm > STANDS_RPM)]
    if runs.size < LEAST_SAMPLES:
        return _Range(MIN_SWEEP_RPM, MIN_SWEEP_RPM, GEAR_CHANGE_RPM)
    low, high = np.quantile(runs, [0.001, 0.999])
    wide = float(high - low)
    narrow = min(MIN_SWEEP_RPM, max(SWEEP_SHARE * wide, LEAST_SWEEP_RPM))
    return _Range(MIN_SWEEP_RPM, narrow, min(GEAR_CHANGE_RPM, max(GEAR_SHARE * wide, LEAST_GEAR_RPM)))


def _sweeps(
    t: FloatArray, rpm: FloatArray, ratio: FloatArray, first: int, last: int, own: _Range, throttle: float
) -> list[tuple[int, int]]:
    """Rises of engine speed within a stretch, long and wide enough."""
    found = []
    low = high = -1
    for i in [*_turns(rpm, first, last), -1]:
        # It ends where speed has fallen by a gear change from its highest, and with the stretch. Wheels that spun and took
        # hold again are of the same gear.
        fell = high >= 0 and rpm[high] - rpm[i] > own.gear_rpm
        spun = fell and rpm[i] > rpm[low] and t[i] - t[high] <= SPIN_S and _same_gear(ratio, low, high, i)
        if i == -1 or (fell and not spun):
            if high > low >= 0 and own.is_sweep(float(rpm[low]), float(rpm[high]), throttle):
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


def _between_kicks(
    t: FloatArray, rpm: FloatArray, ratio: FloatArray, first: int, last: int, own: _Range
) -> list[tuple[int, int]]:
    """The parts of a stretch between kick-downs: where speed jumps up by a gear's step, far faster than it climbs."""
    known = first + np.flatnonzero(np.isfinite(rpm[first:last]))
    if known.size < LEAST_SAMPLES:
        return [(first, last)]
    rate, rise = _climb(t[known], rpm[known], KICK_S)
    if not (rate > 0.0).any():
        return [(first, last)]
    fast = KICK_TIMES * float(np.median(rate[rate > 0.0]))
    kicks = (rise > own.gear_rpm) & (rate > fast)
    near, _ = _climb(t[known], rpm[known], KICK_S / 4.0)
    edges = np.flatnonzero(np.diff(np.concatenate(([False], kicks, [False])).astype(np.int8)))
    parts, begin = [], first
    for a, b in zip(edges[::2], edges[1::2], strict=True):
        # A jump in sight from half a second before it: it ends where speed climbs as usual again.
        over = b + int(np.argmin(np.append(near[b:], 0.0) > fast))
        start, end = int(known[a]), int(known[min(over, known.size - 1)])
        if t[end] - t[start] <= LONGEST_KICK_S and not _spun(t, ratio, start, end):
            parts.append((begin, start + 1))
            begin = end
    return [(a, b) for a, b in (*parts, (begin, last)) if b - a > 1]


def _climb(t: FloatArray, rpm: FloatArray, seconds: float) -> tuple[FloatArray, FloatArray]:
    """How fast speed climbs over the next so many seconds (rpm/s), and by how much."""
    at = np.maximum(np.searchsorted(t, t + seconds, side="right") - 1, 0)
    rise, took = rpm[at] - rpm, t[at] - t
    return np.where(took > 0.0, rise / np.maximum(took, 1e-9), 0.0), rise


def _spun(t: FloatArray, ratio: FloatArray, start: int, end: int) -> bool:
    """Whether engine and wheels turn in the ratio of before a jump again, a while after it."""
    before, after = ratio[: start + 1][t[: start + 1] >= t[start] - SPIN_S], ratio[t >= t[end] + 0.5 * SPIN_S]
    before, after = before[np.isfinite(before)], after[np.isfinite(after)][:LEAST_SAMPLES]
    return bool(before.size and after.size and abs(np.median(after) / np.median(before) - 1.0) <= GEARING_ALIKE)


def _same_gear(ratio: FloatArray, low: int, high: int, now: int) -> bool:
    """Whether engine and wheels turn in the ratio in which they turned before the highest speed of a sweep."""
    before = ratio[low : low + max((high - low) // 2, 1)]
    before = before[np.isfinite(before)]
    after = ratio[now]
    return bool(before.size and np.isfinite(after) and abs(after / np.median(before) - 1.0) <= GEARING_ALIKE)


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
    low = _behind_launch(rpm, low, high)
    band = HOLD_BAND * (rpm[high] - rpm[low])
    long = max(HOLD_S, HOLD_SHARE * (t[high] - t[low]))
    arrives = low + int(np.argmax(rpm[low : high + 1] >= rpm[high] - band))
    leaves = low + int(np.flatnonzero(rpm[low : high + 1] <= rpm[low] + band)[-1])
    return (leaves if t[leaves] - t[low] > long else low), (arrives if t[high] - t[arrives] > long else high)


def _behind_launch(rpm: FloatArray, low: int, high: int) -> int:
    """The sample from which on a rise only rises, where it begins with a launch that cuts in and out."""
    held = low + int(np.flatnonzero(rpm[low : high + 1] <= rpm[low] + LAUNCH_RPM)[-1])
    part = rpm[low : held + 1]
    falls = np.flatnonzero(np.fmax.accumulate(part) - part > LIMITER_FALL_RPM)
    return low + int(falls[-1]) if falls.size else low


def _ratio(log: Log, t: FloatArray, rpm: FloatArray) -> FloatArray:
    """Engine speed over the speed behind the gearbox that is not of the driven wheels where there is one; NaN without."""
    key = next((k for k in ("gps_speed", "vehicle_speed") if k in log.channels), None)
    if key is None:
        return np.full(t.shape, np.nan)
    behind = log.at(key, t)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(behind > 0.0, rpm / behind, np.nan)


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
