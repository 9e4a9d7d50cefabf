"""Tables as a control unit and a plant read them: plain lists, linear between breakpoints, clamped at the ends."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

from yarvic.core.calibration.table import Table
from yarvic.core.units import to_canonical


class Map:
    """A table as the program holds it: plain lists in canonical units, bilinear, clamped."""

    def __init__(self, table: Table) -> None:
        self.xs: list[float] = to_canonical(table.x.values, table.x.unit).tolist()
        self.ys: list[float] = to_canonical(table.y.values, table.y.unit).tolist()
        self.rows: list[list[float]] = to_canonical(table.values, table.unit).tolist()

    def __call__(self, x: float, y: float) -> float:
        i, fx = _locate(self.xs, x)
        j, fy = _locate(self.ys, y)
        low = self.rows[j]
        high = self.rows[min(j + 1, len(self.ys) - 1)]
        right = min(i + 1, len(self.xs) - 1)
        a = low[i] + fx * (low[right] - low[i])
        b = high[i] + fx * (high[right] - high[i])
        return a + fy * (b - a)


class Line:
    """A curve as plain lists: linear, clamped."""

    def __init__(self, xs: Sequence[float], values: Sequence[float]) -> None:
        self.xs = list(xs)
        self.values = list(values)

    def __call__(self, x: float) -> float:
        i, share = _locate(self.xs, x)
        return self.values[i] + share * (self.values[i + 1] - self.values[i])


def _locate(breaks: list[float], at: float) -> tuple[int, float]:
    if len(breaks) == 1 or at <= breaks[0]:
        return 0, 0.0
    if at >= breaks[-1]:
        return len(breaks) - 2, 1.0
    i = bisect_right(breaks, at) - 1
    return i, (at - breaks[i]) / (breaks[i + 1] - breaks[i])
