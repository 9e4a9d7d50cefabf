"""The axis under the traces: time, engine speed or distance, counted from where a pull is laid upon others."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.align import distance_m
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.physics import FloatArray

TIME, SPEED, DISTANCE = "time", "speed", "distance"
TITLES = {TIME: "Over time", SPEED: "Over rpm", DISTANCE: "Over distance"}
LABELS = {TIME: "Time from the start of the pull, s", SPEED: "Engine speed, rpm", DISTANCE: "Distance, m"}
LOOKUP_HZ = 50.0
LOOKED_AT = 500  # places at which the way is looked for that the axis shows


@dataclass(frozen=True)
class Laid:
    """A pull's log laid on an axis; `zero_s` is the time in its log at which the axis begins."""

    log: Log
    pull: Pull
    axis: str
    zero_s: float

    def at(self, time_s: FloatArray) -> FloatArray:
        """Where times stand on the axis; NaN where that is not known."""
        if self.axis == TIME:
            return time_s - self.zero_s
        if self.axis == SPEED:
            inside = (time_s >= self.pull.start_s) & (time_s <= self.pull.end_s)
            places = np.full(time_s.shape, np.nan)
            places[inside] = self.log.at("engine_speed", time_s[inside])
            return places
        way, begin = distance_m(self.log, time_s), distance_m(self.log, np.array([self.zero_s]))
        if way is None or begin is None:
            return np.full(time_s.shape, np.nan)
        return way - begin[0]

    def time(self, x: float) -> float:
        """The time at a place of the axis, the nearest there is."""
        if self.axis == TIME:
            return x + self.zero_s
        start, end = (self.pull.start_s, self.pull.end_s) if self.axis == SPEED else self.log.span()
        clock = np.arange(start, end, 1.0 / LOOKUP_HZ)
        places = self.at(clock)
        if not np.isfinite(places).any():
            return self.pull.start_s
        return float(clock[int(np.nanargmin(np.abs(places - x)))])

    def ends(self) -> tuple[float, float]:
        """From where to where the axis shows all that there is."""
        if self.axis == SPEED:
            return self.pull.from_rpm, self.pull.to_rpm
        start, end = self.log.span()
        if self.axis == TIME:
            return start - self.zero_s, end - self.zero_s
        places = self.at(np.linspace(start, end, LOOKED_AT))
        known = places[np.isfinite(places)]
        return (float(known[0]), float(known[-1])) if known.size > 1 else (0.0, 1.0)

    def pull_ends(self) -> tuple[float, float] | None:
        """Where the pull stands on it; None where it is all there is."""
        if self.axis == SPEED:
            return None
        places = self.at(np.array([self.pull.start_s, self.pull.end_s]))
        return (float(places[0]), float(places[1])) if np.isfinite(places).all() else None
