"""Tables and scalars of a calibration, and the look-up a control unit does."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import ceil, log10

import numpy as np
from numpy.typing import NDArray

from yarvic.core.errors import CalibrationError
from yarvic.core.physics import FloatArray, Value


@dataclass(frozen=True)
class Axis:
    """Break points of a table, strictly rising, in `unit`."""

    title: str
    unit: str
    values: FloatArray

    def __post_init__(self) -> None:
        if self.values.ndim != 1 or self.values.size < 1:
            raise CalibrationError(
                "an axis needs at least one break point", concerns=self.title, remedy="Check layout and image."
            )
        if not np.all(np.isfinite(self.values)) or np.any(np.diff(self.values) <= 0):
            raise CalibrationError(
                "axis break points must be finite and rise", concerns=self.title, remedy="Check layout and image."
            )


@dataclass(frozen=True)
class Steps:
    """What a storage can hold: whole steps from `origin`, as a unit's memory does with factor and offset."""

    step: float
    origin: float = 0.0

    def value(self, raw: Value) -> Value:
        """The number that a whole count of steps stands for; the same from memory and from an edit."""
        return np.round(np.asarray(raw, dtype=np.float64) * self.step + self.origin, self._places)

    def nearest(self, value: Value, low: float, high: float) -> Value:
        """The nearest number that can be stored; one within the bounds stays within them."""
        value = np.asarray(value, dtype=np.float64)
        raw = np.round((value - self.origin) / self.step)
        slack = 1e-6
        least = np.ceil((low - self.origin) / self.step - slack)
        most = np.floor((high - self.origin) / self.step + slack)
        inside = (value >= low - BOUND_SLACK) & (value <= high + BOUND_SLACK) & (least <= most)
        return self.value(np.where(inside, np.clip(raw, least, max(least, most)), raw))

    @property
    def _places(self) -> int:
        return max(9, 6 + ceil(-log10(self.step)))

    def decimals(self, wanted: int) -> int:
        """Digits behind the point, at least the wanted ones, that name every number that can be stored.

        Exactly, where two digits more than tell neighbours apart are enough for that; else so finely that a number
        that is typed as it is shown finds its own step again.
        """
        for places in range(wanted, MOST_DECIMALS):
            if self._on(10.0**-places):
                return places
            if 10.0**-places < self.step * (1.0 - 1e-9):
                return next((p for p in (places + 1, places + 2) if self._on(10.0**-p)), places)
        return max(wanted, MOST_DECIMALS)

    def _on(self, grid: float) -> bool:
        """Whether all numbers that can be stored are multiples of a power of ten."""
        return all(abs(v / grid - round(v / grid)) < 1e-6 for v in (self.step, self.origin))


# What rounding may miss a bound by, and the most digits that are shown.
BOUND_SLACK = 1e-9
MOST_DECIMALS = 6


@dataclass(frozen=True)
class Table:
    """Values of shape (len(y), len(x)) in `unit`, within hard bounds, in steps of `step` from `origin`.

    x runs along the columns, y along the rows. Step and origin are those of the storage in the image.
    """

    key: str
    title: str
    unit: str
    x: Axis
    y: Axis
    values: FloatArray
    low: float
    high: float
    step: float
    decimals: int = 1
    origin: float = 0.0

    def __post_init__(self) -> None:
        shape = (self.y.values.size, self.x.values.size)
        if self.values.shape != shape:
            raise CalibrationError(
                f"values of shape {self.values.shape} do not fit axes of {shape}",
                concerns=self.key,
                remedy="Correct axes or values.",
            )
        bad = np.argwhere(~((self.values >= self.low - 1e-9) & (self.values <= self.high + 1e-9)))
        if bad.size:
            row, column = (int(i) for i in bad[0])
            raise CalibrationError(
                f"{self.values[row, column]:g} {self.unit} at {self.place(row, column)} is outside the bounds"
                f" {self.low:g} to {self.high:g} {self.unit}",
                concerns=self.title,
                remedy="Enter a value within the bounds.",
            )

    def place(self, row: int, column: int) -> str:
        """A cell in words: its two axis values with their units."""
        return f"{self.x.values[column]:g} {self.x.unit}, {self.y.values[row]:g} {self.y.unit}"

    def with_values(self, values: FloatArray) -> Table:
        """The same table with other values, each that changed at what the storage can hold.

        Raises CalibrationError out of bounds.
        """
        values = np.asarray(values, dtype=np.float64)
        stored = Steps(self.step, self.origin).nearest(values, self.low, self.high)
        return replace(self, values=np.where(values == self.values, self.values, stored))

    def look_up(self, x: Value, y: Value) -> Value:
        """Bilinear interpolation, clamped at the ends as a control unit does. Arrays or floats in table units."""
        return look_up(self.x.values, self.y.values, self.values, x, y)


@dataclass(frozen=True)
class Scalar:
    """One number of the calibration in `unit`, within hard bounds."""

    key: str
    title: str
    unit: str
    value: float
    low: float
    high: float
    step: float
    decimals: int = 1
    origin: float = 0.0

    def __post_init__(self) -> None:
        if not self.low - 1e-9 <= self.value <= self.high + 1e-9:
            raise CalibrationError(
                f"{self.value:g} {self.unit} is outside the bounds {self.low:g} to {self.high:g} {self.unit}",
                concerns=self.title,
                remedy="Enter a value within the bounds.",
            )

    def with_value(self, value: float) -> Scalar:
        """The same scalar with another value, at what the storage can hold. Raises CalibrationError out of bounds."""
        stored = Steps(self.step, self.origin).nearest(value, self.low, self.high)
        return replace(self, value=self.value if value == self.value else float(stored))


# Points worked on at a time: what is in between stays in the processor's cache.
_CHUNK = 8_192
_MOST_BINS = 4096


def look_up(xs: FloatArray, ys: FloatArray, values: FloatArray, x: Value, y: Value) -> Value:
    """Bilinear look-up with clamped ends; `values` has shape (len(ys), len(xs)); NaN in gives NaN out."""
    x, y = np.broadcast_arrays(np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64))
    shape = x.shape
    x, y = x.ravel(), y.ravel()
    out = np.empty(x.size)
    flat = np.ascontiguousarray(values, dtype=np.float64).ravel()
    columns, rows = _Finder(xs), _Finder(ys)
    right = 1 if xs.size > 1 else 0
    down = xs.size if ys.size > 1 else 0
    # The four corners of a cell: the same places, seen from four starting points.
    corners = (flat, flat[right:], flat[down:], flat[down + right :])
    with np.errstate(invalid="ignore"):
        for start in range(0, x.size, _CHUNK):
            part = slice(start, start + _CHUNK)
            column, fx = columns.find(x[part])
            at, fy = rows.find(y[part])
            at *= xs.size
            at += column
            # Places are in range by construction; "clip" only spares the check.
            top, top_right, low, low_right = (corner.take(at, mode="clip") for corner in corners)
            top_right -= top
            top_right *= fx
            top += top_right
            low_right -= low
            low_right *= fx
            low += low_right
            low -= top
            low *= fy
            np.add(top, low, out=out[part])
    return out.reshape(shape) if shape else float(out[0])


class _Finder:
    """Finds interval and fraction on an axis, both clamped to it.

    The axis is cut into even bins no wider than its narrowest interval, so that a bin holds one break point at most:
    a division finds the bin, a comparison the side. Axes that would need too many bins are searched instead.
    """

    def __init__(self, breaks: FloatArray) -> None:
        self.breaks = breaks
        steps = np.diff(breaks)
        self.last = max(breaks.size - 2, 0)
        self.inverse = 1.0 / steps if steps.size else np.zeros(1)
        self.bins = 0
        if steps.size:
            span = float(breaks[-1] - breaks[0])
            bins = int(span / float(steps.min())) + 1
            if bins <= _MOST_BINS:
                self.bins = bins
                self.scale = bins / span
                edges = breaks[0] + np.arange(bins) / self.scale
                self.start = np.clip(np.searchsorted(breaks, edges, side="right") - 1, 0, self.last)
                # Past the last interval nothing follows.
                self.next = np.append(breaks[1:-1], np.inf)

    def find(self, at: FloatArray) -> tuple[NDArray[np.intp], FloatArray]:
        """Index of the interval and fraction in it; NaN stays NaN in the fraction."""
        if self.bins:
            place = at - self.breaks[0]
            place *= self.scale
            index = self.start.take(place.astype(np.intp), mode="clip")
            index += at >= self.next.take(index, mode="clip")
        else:
            index = np.clip(np.searchsorted(self.breaks, at, side="right") - 1, 0, self.last)
        fraction = at - self.breaks.take(index, mode="clip")
        fraction *= self.inverse.take(index, mode="clip")
        # minimum and maximum keep NaN.
        np.maximum(fraction, 0.0, out=fraction)
        np.minimum(fraction, 1.0, out=fraction)
        return index, fraction
