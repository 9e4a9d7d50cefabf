"""What was driven beside the pulls: speeds held under load, cruises, and cool-downs behind a pull."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.evidence.stretches import in_windows, stretches
from yarvic.core.physics import FloatArray

Kind = Literal["hold", "cruise", "cool-down"]
# Everything is looked at on this clock, so that the rate of the samples changes nothing. Our choice, as all below.
CLOCK_HZ, MOST_SAMPLES = 10.0, 4_000_000
# Engine speed and throttle stay within these bands for so long: then a speed is held.
STEADY_S, STEADY_SHARE, STEADY_RPM, STEADY_THROTTLE = 5.0, 0.03, 80.0, 0.06
# From this throttle on the engine is loaded; below it, and above idle, it cruises.
LOADED, LEAST_THROTTLE, IDLE_RPM = 0.40, 0.02, 1200.0
# So long with the throttle all but closed behind a pull is a cool-down.
COOLS_S, CLOSED, BEHIND_S = 15.0, 0.06, 30.0
TITLES: dict[str, str] = {"hold": "Held speed", "cruise": "Cruise", "cool-down": "Cool-down"}


@dataclass(frozen=True, slots=True)
class Driven:
    """A stretch of a log: what it is, from when to when (s), its mean engine speed (rpm) and throttle (0 to 1)."""

    kind: Kind
    start_s: float
    end_s: float
    speed_rpm: float
    throttle: float

    @property
    def title(self) -> str:
        """In words."""
        at = f"{self.speed_rpm:,.0f} rpm, {self.throttle * 100.0:.0f} % throttle"
        return f"{TITLES[self.kind]}, {at}, {self.end_s - self.start_s:.0f} s"


def driven(log: Log, pulls: Sequence[Pull]) -> list[Driven]:
    """Holds, cruises and cool-downs of a log in the order of time; none without throttle and engine speed."""
    told = [log.channels.get(k) for k in ("throttle", "engine_speed")]
    if any(c is None or c.doubt is not None for c in told):
        return []  # not logged, or not known what it means
    start, end = log.span()
    count = int((end - start) * CLOCK_HZ)
    if not STEADY_S * CLOCK_HZ < count < MOST_SAMPLES:
        return []
    clock = start + np.arange(count) / CLOCK_HZ
    speed, throttle = log.at("engine_speed", clock), log.at("throttle", clock)
    known = np.isfinite(speed) & np.isfinite(throttle)
    width = int(STEADY_S * CLOCK_HZ)
    bound = np.maximum(STEADY_SHARE * np.nan_to_num(speed), STEADY_RPM)[: count - width + 1]
    steady = _stays(speed, width, bound) & _stays(throttle, width, np.full(bound.shape, STEADY_THROTTLE))
    closed = known & (throttle <= CLOSED)
    found = [
        d
        for a, b in stretches(in_windows(steady, width, count) & known)
        if (d := _held(clock, speed, throttle, a, b))
    ]
    for a, b in stretches(closed):
        behind = any(0.0 <= clock[a] - p.end_s <= BEHIND_S for p in pulls)
        if behind and clock[b - 1] - clock[a] >= COOLS_S:
            found.append(_named("cool-down", clock, speed, throttle, a, b))
    return sorted((d for d in found if not _in_pull(d, pulls)), key=lambda d: d.start_s)


def _in_pull(d: Driven, pulls: Sequence[Pull]) -> bool:
    return any(d.start_s < p.end_s and p.start_s < d.end_s and d.kind != "cool-down" for p in pulls)


def _stays(values: FloatArray, width: int, bound: FloatArray) -> NDArray[np.bool_]:
    """Where a window that begins here stays within a bound; not where anything in it is unknown."""
    seen = sliding_window_view(values, width)
    return np.asarray(seen.max(axis=1) - seen.min(axis=1) <= bound)


def _held(clock: FloatArray, speed: FloatArray, throttle: FloatArray, a: int, b: int) -> Driven | None:
    """A held speed or a cruise; None for an engine that idles or is pushed."""
    rpm, opened = float(np.mean(speed[a:b])), float(np.mean(throttle[a:b]))
    if rpm < IDLE_RPM or opened < LEAST_THROTTLE:
        return None
    return _named("hold" if opened >= LOADED else "cruise", clock, speed, throttle, a, b)


def _named(kind: Kind, clock: FloatArray, speed: FloatArray, throttle: FloatArray, a: int, b: int) -> Driven:
    return Driven(
        kind, float(clock[a]), float(clock[b - 1]), float(np.mean(speed[a:b])), float(np.mean(throttle[a:b]))
    )
