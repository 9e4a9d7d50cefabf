"""What is wrong with recorded data, found and named, so that nobody reads past it and nothing is averaged over it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import GAP_STEPS, Channel, Log
from yarvic.core.physics import FloatArray

# Signals of sensors that no engine at work keeps alike to the last digit; temperatures and what a unit asks for may be.
_ALIVE = ("boost_pressure", "lambda_measured", "rail_pressure", "air_flow", "exhaust_temperature")
# Alike for so long, over so many samples, while engine speed went through so much: it is stuck. Our choices.
STUCK_S, STUCK_SAMPLES, STUCK_RPM = 1.5, 15, 800.0
# Lying on its own highest or lowest number for so long and often, reached from elsewhere: it is at its end.
END_S, END_SAMPLES = 0.8, 16
MOST_SPANS = 200  # of one kind that are marked
_ENDS = ("boost_pressure", "lambda_measured", "rail_pressure", "exhaust_temperature", "air_flow")


@dataclass(frozen=True)
class Problem:
    """Something wrong with recorded data. `spans` are where it is, start and end in s, for the trace."""

    channel: str
    sentence: str
    spans: tuple[tuple[float, float], ...] = ()


def problems(log: Log) -> list[Problem]:
    """Doubts and missing numbers channel by channel; gaps and stamps that repeat or run backward for each clock."""
    found = []
    clocks: dict[int, list[str]] = {}
    for key, c in log.channels.items():
        clocks.setdefault(id(c.time_s), []).append(key)
        if c.doubt is not None:
            found.append(Problem(key, f"{c.title}: {c.doubt.sentence}"))
        missing = ~np.isfinite(c.values)
        count = int(np.count_nonzero(missing))
        if count:
            said = f"{c.title}: {_counted(count, 'sample')} of {c.values.size} without a value"
            found.append(Problem(key, said, _spans(c.time_s, missing)))
        found += _of_sensor(log, key, c)
    for keys in clocks.values():
        found += _of_clock(log, keys)
    return found


def _of_clock(log: Log, keys: list[str]) -> list[Problem]:
    """What is wrong with the time stamps that these channels share."""
    first = log.channels[keys[0]]
    steps = np.diff(first.time_s)
    if not steps.size:
        return []
    who = first.title if len(keys) == 1 else f"{first.title} and {len(keys) - 1} more"
    if len(keys) == len(log.channels) > 1:
        who = "All channels"
    backward, repeated = int(np.count_nonzero(steps < 0)), int(np.count_nonzero(steps == 0))
    holes = np.flatnonzero(steps > GAP_STEPS * max(float(np.median(steps)), 1e-9))
    if all((kind := CHANNELS.get(k)) is not None and kind.waveform for k in keys):
        holes = holes[:0]  # it is recorded in bursts: between two there is nothing to miss
    gaps, holes = holes.size, holes[:MOST_SPANS]
    spans = tuple((float(first.time_s[i]), float(first.time_s[i + 1])) for i in holes)
    counts: tuple[tuple[int, str, tuple[tuple[float, float], ...]], ...] = (
        (backward, f"time runs backward at {_counted(backward, 'sample')}", ()),
        (repeated, f"{_counted(repeated, 'time stamp')} repeated", ()),
        (gaps, f"{_counted(gaps, 'gap')} of more than {GAP_STEPS:.0f} steps", spans),
    )
    return [Problem(keys[0], f"{who}: {sentence}", where) for count, sentence, where in counts if count]


def _of_sensor(log: Log, key: str, c: Channel) -> list[Problem]:
    """Whether a sensor stuck while the engine went on, or lies at an end of what it can show."""
    kind = CHANNELS.get(key)
    if kind is None or c.values.size < STUCK_SAMPLES or not np.isfinite(c.values).any():
        return []
    runs = _alike(c.time_s, c.values)
    found = []
    speed = log.channels.get("engine_speed")
    if kind.family in _ALIVE and speed is not None:
        stuck = tuple(s for s in runs if s[1] - s[0] >= STUCK_S and _swept(speed, *s))
        if stuck:
            long = max(b - a for a, b in stuck)
            found.append(
                Problem(key, f"{c.title}: shows one number for {long:.1f} s while the engine goes on", stuck)
            )
    if kind.family in _ENDS and not found:
        top, low = float(np.nanmax(c.values)), float(np.nanmin(c.values))
        for end, word in ((top, "highest"), (low, "lowest")):
            flat = tuple(s for s in _alike(c.time_s, c.values, end) if s[1] - s[0] >= END_S and _swept(speed, *s))
            if flat and top > low:
                long = max(b - a for a, b in flat)
                said = f"{c.title}: lies on its {word} number for {long:.1f} s, which may be the sensor's end"
                found.append(Problem(key, said, flat))
    return found


def _alike(time_s: FloatArray, values: FloatArray, number: float | None = None) -> list[tuple[float, float]]:
    """Stretches over which a signal shows one number (or this one), long enough to be told from chance."""
    same = np.diff(values) == 0.0
    if number is not None:
        same = same & (values[1:] == number)
    edges = np.flatnonzero(np.diff(np.concatenate(([False], same, [False])).astype(np.int8)))
    least = STUCK_SAMPLES if number is None else END_SAMPLES
    pairs = zip(edges[::2], edges[1::2], strict=True)
    return [(float(time_s[a]), float(time_s[b])) for a, b in pairs if b - a + 1 >= least][:MOST_SPANS]


def _swept(speed: Channel | None, start_s: float, end_s: float) -> bool:
    """Whether engine speed went through much between two times: then nothing stood still."""
    if speed is None:
        return False
    inside = speed.values[(speed.time_s >= start_s) & (speed.time_s <= end_s)]
    inside = inside[np.isfinite(inside)]
    return bool(inside.size > 1 and np.ptp(inside) >= STUCK_RPM)


def _spans(time_s: FloatArray, where: np.ndarray) -> tuple[tuple[float, float], ...]:
    """Stretches of samples, as times."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], where, [False])).astype(np.int8)))
    pairs = list(zip(edges[::2], edges[1::2], strict=True))[:MOST_SPANS]
    return tuple((float(time_s[a]), float(time_s[b - 1])) for a, b in pairs)


def _counted(count: int, noun: str) -> str:
    return f"{count} {noun}" if count == 1 else f"{count} {noun}s"
