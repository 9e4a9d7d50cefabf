"""Tables and scalars of a calibration, and the look-up a control unit does."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

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
            raise CalibrationError("an axis needs at least one break point", concerns=self.title)
        if not np.all(np.isfinite(self.values)) or np.any(np.diff(self.values) <= 0):
            raise CalibrationError(
                "axis break points must be finite and rise", concerns=self.title, remedy="Check layout and image."
            )


@dataclass(frozen=True)
class Table:
    """Values of shape (len(y), len(x)) in `unit`, within hard bounds, in steps of `step`.

    x runs along the columns, y along the rows. `step` is the resolution of the storage in the image.
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

    def __post_init__(self) -> None:
        shape = (self.y.values.size, self.x.values.size)
        if self.values.shape != shape:
            raise CalibrationError(
                f"values of shape {self.values.shape} do not fit axes of {shape}", concerns=self.key
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
        """The same table with other values, rounded to the storage step. Raises CalibrationError out of bounds."""
        rounded = np.round(np.asarray(values, dtype=np.float64) / self.step) * self.step
        return replace(self, values=np.round(rounded, 9))

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

    def __post_init__(self) -> None:
        if not self.low - 1e-9 <= self.value <= self.high + 1e-9:
            raise CalibrationError(
                f"{self.value:g} {self.unit} is outside the bounds {self.low:g} to {self.high:g} {self.unit}",
                concerns=self.title,
                remedy="Enter a value within the bounds.",
            )

    def with_value(self, value: float) -> Scalar:
        """The same scalar with another value, rounded to the storage step. Raises CalibrationError out of bounds."""
        return replace(self, value=round(round(value / self.step) * self.step, 9))


def look_up(xs: FloatArray, ys: FloatArray, values: FloatArray, x: Value, y: Value) -> Value:
    """Bilinear look-up with clamped ends; `values` has shape (len(ys), len(xs)); NaN in gives NaN out."""
    x = np.asarray(x, dtype=np.float64)
    y = np.asarray(y, dtype=np.float64)
    i, fx = _locate(xs, x)
    j, fy = _locate(ys, y)
    width = xs.size
    flat = values.ravel()
    down = width if ys.size > 1 else 0
    right = 1 if width > 1 else 0
    base = j * width + i
    top = flat[base]
    top = top + fx * (flat[base + right] - top)
    if down:
        base = base + down
        low = flat[base]
        low = low + fx * (flat[base + right] - low)
        top = top + fy * (low - top)
    return top if np.ndim(top) else float(top)


def _locate(breaks: FloatArray, at: FloatArray) -> tuple[np.ndarray, FloatArray]:
    """Index of the interval and the fraction in it, both clamped to the axis; NaN stays NaN in the fraction."""
    if breaks.size == 1:
        return np.zeros(at.shape, dtype=np.intp), at * 0.0
    index = np.clip(np.searchsorted(breaks, at, side="right") - 1, 0, breaks.size - 2)
    left = breaks[index]
    fraction = (at - left) / (breaks[index + 1] - left)
    return index, np.minimum(np.maximum(fraction, 0.0), 1.0)
