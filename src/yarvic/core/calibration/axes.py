"""Break points moved, put in and taken out: the values are read anew, so that the function stays where it can."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from yarvic.core.calibration.table import Axis, Table, look_up
from yarvic.core.errors import CalibrationError
from yarvic.core.physics import FloatArray

Along = Literal["x", "y"]


@dataclass(frozen=True)
class Moved:
    """By how much at most the function of a table changed, and where: places on its axes; 0 where it stayed."""

    most: float
    x: float
    y: float


def axis_of(table: Table, along: Along) -> Axis:
    """The axis along the columns (x) or the rows (y)."""
    return table.x if along == "x" else table.y


def with_axis(table: Table, along: Along, values: FloatArray) -> Table:
    """The table over other break points, its values read from the one before, clamped at its ends.

    Values are rounded to what is stored; bounds hold by themselves, for nothing is read beyond what was there.
    """
    x, y = (values, table.y.values) if along == "x" else (table.x.values, values)
    read = look_up(table.x.values, table.y.values, table.values, *np.meshgrid(x, y))
    stored = np.asarray(table.storing.nearest(read, table.low, table.high), dtype=np.float64)
    # Where a break point was before, its values stay to the bit.
    for line, value in enumerate(values):
        kept = np.flatnonzero(axis_of(table, along).values == value)
        if kept.size and along == "x":
            stored[:, line] = table.values[:, kept[0]]
        elif kept.size:
            stored[line, :] = table.values[kept[0], :]
    moved = replace(axis_of(table, along), values=np.asarray(values, dtype=np.float64))
    return replace(table, x=moved, values=stored) if along == "x" else replace(table, y=moved, values=stored)


def moved_points(axis: Axis, place: int, to: float) -> FloatArray:
    """The break points with one moved. Raises CalibrationError where it would pass its neighbours."""
    values = axis.values.copy()
    values[_there(axis, place)] = to
    return _rising(axis, values)


def inserted_points(axis: Axis, at: float) -> FloatArray:
    """The break points with one more. Raises CalibrationError for one that is there already."""
    if np.any(axis.values == at):
        raise CalibrationError(f"there is a break point at {at:g} {axis.unit} already", concerns=axis.title,
                               remedy="Choose a place between two.")  # fmt: skip
    return _rising(axis, np.sort(np.append(axis.values, at)))


def deleted_points(axis: Axis, place: int) -> FloatArray:
    """The break points without one. Raises CalibrationError for the last."""
    if axis.values.size < 3:
        raise CalibrationError("an axis keeps two break points", concerns=axis.title, remedy="Move them instead.")
    return np.delete(axis.values, _there(axis, place))


def _there(axis: Axis, place: int) -> int:
    if not 0 <= place < axis.values.size:
        raise CalibrationError(
            "there is no such break point", concerns=axis.title, remedy="Choose one that is there."
        )
    return place


def _rising(axis: Axis, values: FloatArray) -> FloatArray:
    if not np.all(np.isfinite(values)):
        raise CalibrationError("a break point must be a number", concerns=axis.title, remedy="Enter a number.")
    falls = np.flatnonzero(np.diff(values) <= 0.0)
    if falls.size:
        low, high = values[falls[0]], values[falls[0] + 1]
        raise CalibrationError(
            f"{high:g} {axis.unit} would come behind {low:g} {axis.unit}: break points rise",
            concerns=axis.title,
            remedy="Stay between the two neighbours.",
        )
    return values


def least_missed(table: Table, along: Along, keep: float | None = None) -> int:
    """The inner break point whose loss changes the function least; one at `keep` is not given up.

    Raises CalibrationError for an axis without inner break points.
    """
    axis, values = axis_of(table, along), table.values if along == "x" else table.values.T
    if axis.values.size < 3:
        raise CalibrationError("there is no break point to give up", concerns=axis.title, remedy="Move one instead.")
    v = axis.values
    share = (v[1:-1] - v[:-2]) / (v[2:] - v[:-2])
    drawn = values[:, :-2] + share * (values[:, 2:] - values[:, :-2])
    missed = np.nan_to_num(np.abs(values[:, 1:-1] - drawn), nan=np.inf).max(axis=0)
    if keep is not None:
        missed = np.where(v[1:-1] == keep, np.inf, missed)
    return int(np.argmin(missed)) + 1


def widest_gap(axis: Axis, but_around: float | None = None) -> float:
    """The middle of the widest interval between two break points, but for the one around a place.

    Where there is only that one, its middle.
    """
    v = axis.values
    steps = np.diff(v)
    if but_around is not None and steps.size > 1:
        steps = np.where((v[:-1] <= but_around) & (but_around <= v[1:]), -np.inf, steps)
    at = int(np.argmax(steps))
    return float((v[at] + v[at + 1]) / 2.0)


def change_of_function(before: Table, after: Table) -> Moved:
    """By how much two tables of the same thing differ at most, between and beyond their break points.

    Both are bilinear between the break points of both, so that their difference is greatest on one of those.
    """
    x = np.union1d(before.x.values, after.x.values)
    y = np.union1d(before.y.values, after.y.values)
    grid = np.meshgrid(x, y)
    change = look_up(after.x.values, after.y.values, after.values, *grid) - look_up(
        before.x.values, before.y.values, before.values, *grid
    )
    away = np.nan_to_num(np.abs(change), nan=0.0)
    row, column = np.unravel_index(int(np.argmax(away)), away.shape)
    return Moved(float(change[row, column]) if away[row, column] > 0.0 else 0.0, float(x[column]), float(y[row]))
