"""What happens in a log, in the order of time: to be jumped to, one after the other."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import GEAR_CHANGE_RPM, Pull

# A throttle that falls by so much within so many s is a lift; a speed that falls by a gear change's rpm within so many s
# with the throttle held, or lifted for no longer, is a gear change. Our choice.
LIFT, LIFT_S, CHANGE_S = 0.4, 0.5, 0.8
CLOCK_HZ = 20.0


@dataclass(frozen=True)
class Event:
    """A place in a log, s, and what is there."""

    time_s: float
    what: str


def events(log: Log, pulls: Iterable[Pull]) -> list[Event]:
    """Where pulls begin and end, gears change and the throttle is lifted, in the order of time."""
    found = [Event(p.start_s, "pull begins") for p in pulls] + [Event(p.end_s, "pull ends") for p in pulls]
    if {"engine_speed", "throttle"} <= set(log.channels):
        start, end = log.span()
        clock = np.arange(start, end, 1.0 / CLOCK_HZ)
        if clock.size > 2:
            speed, throttle = log.at("engine_speed", clock), log.at("throttle", clock)
            changes = _falls(speed, GEAR_CHANGE_RPM, round(CHANGE_S * CLOCK_HZ), below=None)
            lifts = _falls(throttle, LIFT, round(LIFT_S * CLOCK_HZ), below=0.5)
            # What follows a lift is the lift, unless the throttle is open again right behind: then a gear was changed.
            after = CLOCK_HZ * CHANGE_S
            kept = [c for c in changes if _opens_again(throttle, c) or not any(0 <= c - x < after for x in lifts)]
            found += [Event(float(clock[i]), "gear change") for i in kept]
            found += [Event(float(clock[i]), "throttle lifted") for i in lifts if i not in kept]
    return sorted(found, key=lambda e: e.time_s)


def _falls(values: np.ndarray, by: float, within: int, below: float | None) -> list[int]:
    """Where a trace falls by so much within so many samples, the first of each fall."""
    if values.size <= within:
        return []
    later = values[within:]
    falls = np.flatnonzero(np.nan_to_num(values[:-within] - later) >= by)
    if below is not None:
        falls = falls[later[falls] < below]
    return [int(f) for n, f in enumerate(falls) if n == 0 or f - falls[n - 1] > within]


def _opens_again(throttle: np.ndarray, at: int) -> bool:
    """Whether the throttle is open again right behind."""
    behind = throttle[at + int(CHANGE_S * CLOCK_HZ) : at + int(2.5 * CHANGE_S * CLOCK_HZ)]
    return bool(behind.size and np.nanmax(np.nan_to_num(behind)) > 0.5)
