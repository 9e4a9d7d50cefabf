"""A long trace in fewer points, of which none hides a peak: the least and the most of each stretch, level by level."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from yarvic.core.physics import FloatArray

# So many samples are a stretch of the first level, and so many stretches one of the next. Our choice.
FACTOR = 8
# Fewer samples than this in sight for each point of the screen, and they are drawn as they are.
SAMPLES_A_POINT = 2


class Overview:
    """A trace over an axis that does not fall: `x` and `y` one-dimensional, of equal length; `y` may hold NaN."""

    def __init__(self, x: FloatArray, y: FloatArray) -> None:
        self.x, self.y = x, y

    @cached_property
    def rises(self) -> bool:
        """Whether the axis never falls; where it does nothing of this holds."""
        return bool(np.all(np.diff(self.x) >= 0.0))

    @cached_property
    def _levels(self) -> list[tuple[FloatArray, FloatArray]]:
        """Least and most of each stretch, the finest level first."""
        levels = []
        low = high = self.y
        while low.size > FACTOR * FACTOR:
            low, high = _by_stretch(low, np.fmin), _by_stretch(high, np.fmax)
            levels.append((low, high))
        return levels

    @property
    def ends(self) -> tuple[float, float]:
        """The least and the most of all of it; NaN where it holds no number."""
        low, high = self._levels[-1] if self._levels else (self.y, self.y)
        if not np.isfinite(low).any():
            return float("nan"), float("nan")
        return float(np.nanmin(low)), float(np.nanmax(high))

    def within(self, start: float, end: float, points: int) -> tuple[FloatArray, FloatArray]:
        """What is to be drawn between two places of the axis on so many points of a screen, and a sample beyond each end.

        Either the samples themselves, or the least and the most of each stretch: the line through them covers on every
        point of the screen what the line through all samples would.
        """
        first = max(int(np.searchsorted(self.x, start, side="left")) - 1, 0)
        last = min(int(np.searchsorted(self.x, end, side="right")) + 1, self.x.size)
        count, level, wide = last - first, -1, 1
        while count / wide > SAMPLES_A_POINT * points and level + 1 < len(self._levels):
            level, wide = level + 1, wide * FACTOR
        if level < 0:
            return self.x[first:last], self.y[first:last]
        low, high = self._levels[level]
        a, b = first // wide, min(-(-last // wide), low.size)
        places = np.minimum(np.arange(a, b) * wide, self.x.size - 1)
        return np.repeat(self.x[places], 2), np.stack((low[a:b], high[a:b]), axis=1).ravel()


@dataclass(frozen=True)
class Seen:
    """A trace seen from elsewhere: its axis counted from `zero`, its values as `shown` turns them, which never falls.

    What was worked out of the trace stays with it, wherever it is seen from.
    """

    of: Overview
    zero: float
    shown: Callable[[FloatArray], FloatArray]

    @property
    def ends(self) -> tuple[float, float]:
        """The least and the most of all of it, as they are shown."""
        low, high = self.shown(np.array(self.of.ends))
        return float(low), float(high)

    def within(self, start: float, end: float, points: int) -> tuple[FloatArray, FloatArray]:
        """What is to be drawn between two places of the axis."""
        x, y = self.of.within(start + self.zero, end + self.zero, points)
        return x - self.zero, self.shown(y)


def _by_stretch(values: FloatArray, pick: np.ufunc) -> FloatArray:
    """The extreme of each stretch; NaN only where it holds nothing else."""
    whole = values.size // FACTOR * FACTOR
    rows = values[:whole].reshape(-1, FACTOR)
    found = rows[:, 0].copy()
    for n in range(1, FACTOR):
        pick(found, rows[:, n], out=found)
    return found if whole == values.size else np.append(found, pick.reduce(values[whole:]))
