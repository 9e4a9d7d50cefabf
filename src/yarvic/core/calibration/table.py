"""Tables, values and texts of a calibration, and the look-up a control unit does."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.storing import BOUND_SLACK, Storing
from yarvic.core.errors import CalibrationError
from yarvic.core.physics import FloatArray, Value


@dataclass(frozen=True)
class Axis:
    """Break points of a table, strictly rising, in `unit`. `input` is the channel that measures them, if it is known.

    `of` is the shared axis or the curve that they are those of; `fixed`: they lie in no memory.
    """

    title: str
    unit: str
    values: FloatArray
    input: str = ""
    of: str = ""
    fixed: bool = False

    def __post_init__(self) -> None:
        if self.values.ndim != 1 or self.values.size < 1:
            raise CalibrationError(
                "an axis needs at least one break point", concerns=self.title, remedy="Check layout and image."
            )
        if not np.all(np.isfinite(self.values)) or np.any(np.diff(self.values) <= 0):
            raise CalibrationError(
                "axis break points must be finite and rise", concerns=self.title, remedy="Check layout and image."
            )


# What stands for the rows of a curve.
NO_AXIS = Axis("", "", np.zeros(1), fixed=True)


@dataclass(frozen=True)
class Table:
    """Values of shape (len(y), len(x)) in `unit`, changed within hard bounds, to what `storing` can hold.

    x runs along the columns, y along the rows; a curve has one row. What came from memory may lie outside the bounds,
    what is entered may not.
    """

    key: str
    title: str
    unit: str
    x: Axis
    y: Axis
    values: FloatArray
    low: float
    high: float
    storing: Storing
    decimals: int = 1
    read_only: bool = False

    def __post_init__(self) -> None:
        shape = (self.y.values.size, self.x.values.size)
        if self.values.shape != shape:
            raise CalibrationError(
                f"values of shape {self.values.shape} do not fit axes of {shape}",
                concerns=self.key,
                remedy="Correct axes or values.",
            )

    @property
    def is_curve(self) -> bool:
        """Whether it has one axis only."""
        return not self.y.title and self.y.values.size == 1

    def outside(self) -> NDArray[np.bool_]:
        """The cells that lie outside the bounds, or hold no number."""
        return ~((self.values >= self.low - BOUND_SLACK) & (self.values <= self.high + BOUND_SLACK))

    def place(self, row: int, column: int) -> str:
        """A cell in words: its axis values with their units."""
        x = _of_axis(self.x, column)
        return x if self.is_curve else f"{x}, {_of_axis(self.y, row)}"

    def with_values(self, values: FloatArray) -> Table:
        """The same table with other values, each that changed at what the storage can hold.

        Raises CalibrationError out of bounds, and for a table that may not be changed.
        """
        values = np.asarray(values, dtype=np.float64)
        same = (values == self.values) | (np.isnan(values) & np.isnan(self.values))
        if self.read_only and not same.all():
            raise CalibrationError(
                "may not be changed: its description says so", concerns=self.title, remedy="Change another table."
            )
        stored = np.where(same, self.values, self.storing.nearest(values, self.low, self.high))
        made = replace(self, values=stored)
        bad = np.argwhere(made.outside() & ~same)
        if bad.size:
            row, column = (int(i) for i in bad[0])
            raise CalibrationError(
                f"{stored[row, column]:g} {self.unit} at {self.place(row, column)} is outside the bounds"
                f" {self.low:g} to {self.high:g} {self.unit}",
                concerns=self.title,
                remedy="Enter a value within the bounds.",
            )
        return made

    def look_up(self, x: Value, y: Value) -> Value:
        """Bilinear interpolation, clamped at the ends as a control unit does. Arrays or floats in table units."""
        return look_up(self.x.values, self.y.values, self.values, x, y)


def _of_axis(axis: Axis, at: int) -> str:
    # A number without a unit, such as a gear, is called by what it counts.
    if axis.unit == "fraction" and axis.title:
        return f"{axis.title.lower()} {axis.values[at]:g}"
    return f"{axis.values[at]:g} {axis.unit}".rstrip()


@dataclass(frozen=True)
class Scalar:
    """One number of the calibration in `unit`, changed within hard bounds; with `storing.words` it is one of those."""

    key: str
    title: str
    unit: str
    value: float
    low: float
    high: float
    storing: Storing
    decimals: int = 1
    read_only: bool = False

    def outside(self) -> bool:
        """Whether it lies outside its bounds, or is no number."""
        return not self.low - BOUND_SLACK <= self.value <= self.high + BOUND_SLACK

    def shown(self) -> str:
        """The value as it is written: a word where it stands for one, else its number."""
        words = self.storing.words
        return (words.word(self.value) if words is not None else "") or f"{self.value:.{self.decimals}f}"

    def with_value(self, value: float) -> Scalar:
        """The same scalar with another value, at what the storage can hold.

        Raises CalibrationError out of bounds, and for one that may not be changed.
        """
        if value == self.value:
            return self
        if self.read_only:
            raise CalibrationError(
                "may not be changed: its description says so", concerns=self.title, remedy="Change another value."
            )
        made = replace(self, value=float(self.storing.nearest(value, self.low, self.high)))
        if made.outside():
            raise CalibrationError(
                f"{made.value:g} {self.unit} is outside the bounds {self.low:g} to {self.high:g} {self.unit}",
                concerns=self.title,
                remedy="Enter a value within the bounds.",
            )
        return made


@dataclass(frozen=True)
class Text:
    """A text in memory, of at most `length` bytes; `raw` are all of them, those behind its end included."""

    key: str
    title: str
    text: str
    length: int
    raw: bytes = b""
    read_only: bool = False


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
    with np.errstate(invalid="ignore", over="ignore"):
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
        with np.errstate(over="ignore"):  # the inverse of an interval below 5.6e-309 is beyond a double
            self.inverse = np.minimum(1.0 / steps, np.finfo(np.float64).max) if steps.size else np.zeros(1)
        self.bins = 0
        if steps.size:
            span = float(breaks[-1] - breaks[0])
            with np.errstate(over="ignore"):
                least = span / steps.min()
            if least < _MOST_BINS:
                self.bins = bins = int(least) + 1
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
