"""Which run would visit the most cells that nobody knows yet: sweeps and holds, from what the engine did so far."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from yarvic.core.calibration.table import Axis, Table
from yarvic.core.evidence.cells import TOUCHES, Mask, axis_channels
from yarvic.core.evidence.log import Log
from yarvic.core.physics import FloatArray
from yarvic.core.units import from_canonical

# The runs that are weighed: throttles of sweeps and ends of holds, as shares. Our choice, after what the trade pulls.
THROTTLES = (0.25, 0.5, 0.75, 1.0)
HOLD_FROM, HOLD_TO = 0.15, 1.0
PLACES = 120  # along a run
SPEED_BINS, THROTTLE_BINS = 12, 8
LEAST_CELLS = 1


@dataclass(frozen=True)
class Suggested:
    """A run that would touch cells that are unknown: `cells` as (row, column).

    "sweep": at one throttle from one engine speed to another. "hold": at one engine speed from one throttle to another.
    """

    kind: Literal["sweep", "hold"]
    throttle: tuple[float, float]
    speed_rpm: tuple[float, float]
    cells: tuple[tuple[int, int], ...]

    def sentence(self, gear: str = "") -> str:
        """What to run, in words."""
        count = "1 cell that is" if len(self.cells) == 1 else f"{len(self.cells)} cells that are"
        in_gear = f" in {gear}" if gear else ""
        if self.kind == "sweep":
            run = (
                f"Sweep{in_gear} at {self.throttle[0] * 100:.0f} % throttle,"
                f" {self.speed_rpm[0]:,.0f} to {self.speed_rpm[1]:,.0f} rpm"
            )
        else:
            run = (
                f"Hold{in_gear} at {self.speed_rpm[0]:,.0f} rpm, throttle from {self.throttle[0] * 100:.0f}"
                f" to {self.throttle[1] * 100:.0f} %"
            )
        return f"{run}: {count} unknown"


class Operating:
    """Where on an axis the engine stands for an engine speed and a throttle, as logs showed it; between them straight."""

    def __init__(self, logs: Sequence[Log], channel: str, speed_rpm: tuple[float, float]) -> None:
        self.known = False
        self.channel = channel
        self.speeds = np.linspace(*speed_rpm, SPEED_BINS)
        self.throttles = np.linspace(0.0, 1.0, THROTTLE_BINS)
        if channel in ("engine_speed", "throttle"):
            self.known = True
            return
        total, count = np.zeros((THROTTLE_BINS, SPEED_BINS)), np.zeros((THROTTLE_BINS, SPEED_BINS))
        for log in logs:
            if not {"engine_speed", "throttle", channel} <= set(log.channels):
                continue
            t = log.channel("engine_speed").time_s
            v, n, a = (log.at(key, t) for key in (channel, "engine_speed", "throttle"))
            good = np.isfinite(v) & np.isfinite(n) & np.isfinite(a)
            i = np.clip(np.round(a[good] * (THROTTLE_BINS - 1)).astype(int), 0, THROTTLE_BINS - 1)
            j = np.clip(np.searchsorted(self.speeds, n[good]) - 1, 0, SPEED_BINS - 1)
            np.add.at(total, (i, j), v[good])
            np.add.at(count, (i, j), 1.0)
        if count.any():
            self.known = True
            with np.errstate(invalid="ignore", divide="ignore"):
                self.values = _filled(np.where(count > 0, total / count, np.nan), self.throttles)

    def at(self, speed_rpm: FloatArray, throttle: FloatArray) -> FloatArray:
        """Canonical values of the axis' channel."""
        if self.channel == "engine_speed":
            return np.broadcast_to(speed_rpm, np.broadcast_shapes(speed_rpm.shape, throttle.shape))
        if self.channel == "throttle":
            return np.broadcast_to(throttle, np.broadcast_shapes(speed_rpm.shape, throttle.shape))
        speed_rpm, throttle = np.broadcast_arrays(speed_rpm, throttle)
        by_speed = np.stack([np.interp(speed_rpm, self.speeds, line) for line in self.values])
        place = np.clip(throttle, 0.0, 1.0) * (THROTTLE_BINS - 1)
        low = np.clip(place.astype(int), 0, THROTTLE_BINS - 2)
        share = place - low
        n = np.arange(speed_rpm.size)
        return np.asarray(by_speed[low, n] * (1 - share) + by_speed[low + 1, n] * share)


def _filled(values: FloatArray, throttles: FloatArray) -> FloatArray:
    """Holes filled straight between what is known: along the speed, then along the throttle, from nothing at none."""
    filled = values.copy()
    speeds = np.arange(values.shape[1])
    for line in filled:
        known = np.isfinite(line)
        if known.any():
            line[:] = np.interp(speeds, speeds[known], line[known])
    known = np.asarray(np.isfinite(filled).all(axis=1), dtype=bool)
    for column in filled.T:
        share = np.concatenate([[0.0], throttles[known]]) if not known[0] else throttles[known]
        there = np.concatenate([[0.0], column[known]]) if not known[0] else column[known]
        column[:] = np.interp(throttles, share, there)
    return filled


def suggested(
    table: Table, wanted: Mask, logs: Sequence[Log], speed_rpm: tuple[float, float], most: int = 3
) -> list[Suggested]:
    """The runs that would touch the most of the wanted cells, one after the other: each counts what is left by those before.

    `speed_rpm` is between which the engine may be run. Empty where no log shows how an axis follows from speed and
    throttle.
    """
    keys = axis_channels(table)
    if keys is None or not wanted.any():
        return []
    across = [Operating(logs, key, speed_rpm) for key in keys]
    if not all(a.known for a in across):
        return []
    runs = _candidates(table, speed_rpm)
    touched = [_touched(table, across, run) & wanted for run in runs]
    found: list[Suggested] = []
    left = wanted.copy()
    for _ in range(most):
        counts = [int((t & left).sum()) for t in touched]
        best = int(np.argmax(counts)) if counts else 0
        if not counts or counts[best] < LEAST_CELLS:
            break
        kind, throttle, speeds = runs[best]
        cells = tuple((int(r), int(c)) for r, c in np.argwhere(touched[best] & left))
        found.append(Suggested(kind, throttle, speeds, cells))
        left &= ~touched[best]
    return found


Candidate = tuple[Literal["sweep", "hold"], tuple[float, float], tuple[float, float]]


def _candidates(table: Table, speed_rpm: tuple[float, float]) -> list[Candidate]:
    found: list[Candidate] = [("sweep", (a, a), speed_rpm) for a in THROTTLES]
    speeds = next((axis for axis in (table.x, table.y) if axis.input == "engine_speed"), None)
    places = _in_rpm(speeds) if speeds is not None else np.linspace(*speed_rpm, 6)
    for n in places:
        if speed_rpm[0] <= n <= speed_rpm[1]:
            found.append(("hold", (HOLD_FROM, HOLD_TO), (float(n), float(n))))
    return found


def _in_rpm(axis: Axis) -> FloatArray:
    return axis.values  # engine speed is kept in 1/min, in whatever words


def _touched(table: Table, across: Sequence[Operating], run: Candidate) -> Mask:
    """The cells that a run would touch by weight."""
    _, throttle, speeds = run
    n, a = np.linspace(*speeds, PLACES), np.linspace(*throttle, PLACES)
    axes = (table.x,) if table.is_curve else (table.x, table.y)
    places = [from_canonical(o.at(n, a), axis.unit) for o, axis in zip(across, axes, strict=True)]
    x = np.asarray(places[0])
    y = np.asarray(places[1]) if len(places) > 1 else np.zeros(PLACES)
    touched = np.zeros(table.values.shape, dtype=bool)
    for place_x, place_y in zip(x.tolist(), y.tolist(), strict=True):
        wx, wy = _near(table.x, place_x), _near(table.y, place_y)
        for r, share_y in wy:
            for c, share_x in wx:
                if share_x * share_y >= TOUCHES:
                    touched[r, c] = True
    return touched


def _near(axis: Axis, at: float) -> list[tuple[int, float]]:
    """The break points around a place, with their weights."""
    v = axis.values
    if v.size == 1:
        return [(0, 1.0)]
    n = int(np.clip(np.searchsorted(v, at, side="right") - 1, 0, v.size - 2))
    share = float(np.clip((at - v[n]) / (v[n + 1] - v[n]), 0.0, 1.0))
    return [(n, 1.0 - share), (n + 1, share)]
