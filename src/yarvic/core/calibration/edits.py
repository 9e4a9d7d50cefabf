"""Edits of a draft: what a person does to cells, and the record of it.

An edit stores the cells that changed with their values before and after, so that it can be undone, stored and
explained. Operations take a boolean mask of the cells selected and give new values; bounds are enforced by Table.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.table import Scalar, Table
from yarvic.core.errors import CalibrationError
from yarvic.core.physics import FloatArray

Mask = NDArray[np.bool_]

# What an edit was made for is not what is there.
MEANT_FOR = "The edit was made for other maps: look at the cell as it is now."


@dataclass(frozen=True)
class Edit:
    """A change of one table or scalar: `cells` as (row, column); a scalar has the one cell (0, 0)."""

    slot: str
    key: str
    what: str
    cells: tuple[tuple[int, int], ...]
    before: tuple[float, ...]
    after: tuple[float, ...]


def edited(now: Table | Scalar, edit: Edit) -> Table | Scalar:
    """A table or value after an edit of it. Raises CalibrationError when it does not hold what the edit expects."""
    if isinstance(now, Scalar):
        if not _alike(now.value, edit.before[0]):
            raise CalibrationError("the value is not what the edit expects", concerns=now.title, remedy=MEANT_FOR)
        return now.with_value(edit.after[0])
    values = now.values.copy()
    for (row, column), before, after in zip(edit.cells, edit.before, edit.after, strict=True):
        if not (0 <= row < values.shape[0] and 0 <= column < values.shape[1]):
            raise CalibrationError(f"there is no cell {row}, {column}", concerns=now.title, remedy=MEANT_FOR)
        if not _alike(values[row, column], before):
            raise CalibrationError("the cell is not what the edit expects", concerns=now.title, remedy=MEANT_FOR)
        values[row, column] = after
    return now.with_values(values)


def _alike(one: float, other: float) -> bool:
    """Whether two numbers are the same, whatever way they went through a file."""
    if one == other or (one != one and other != other):
        return True
    return abs(one - other) <= max(1e-6, 1e-9 * abs(one))


def edit_between(slot: str, before: Table, after: Table, what: str) -> Edit | None:
    """The edit that turns one table into the other; None when they are equal."""
    alike = (before.values == after.values) | (np.isnan(before.values) & np.isnan(after.values))
    changed = np.argwhere(~alike)
    if not changed.size:
        return None
    cells = tuple((int(r), int(c)) for r, c in changed)
    return Edit(
        slot,
        before.key,
        what,
        cells,
        tuple(float(before.values[c]) for c in cells),
        tuple(float(after.values[c]) for c in cells),
    )


def set_cells(table: Table, mask: Mask, value: float) -> Table:
    """All cells selected get one value."""
    return table.with_values(np.where(_some(table, mask), value, table.values))


def add_to_cells(table: Table, mask: Mask, amount: float) -> Table:
    """An amount is added to the cells selected."""
    return table.with_values(np.where(_some(table, mask), table.values + amount, table.values))


def scale_cells(table: Table, mask: Mask, factor: float) -> Table:
    """The cells selected are multiplied."""
    return table.with_values(np.where(_some(table, mask), table.values * factor, table.values))


def interpolate_cells(table: Table, mask: Mask) -> Table:
    """The inside of the selected rectangle is drawn straight between its corners, along the axis values.

    A single row or column is drawn between its ends. Raises CalibrationError when nothing lies between.
    """
    _some(table, mask)
    rows = np.flatnonzero(mask.any(axis=1))
    columns = np.flatnonzero(mask.any(axis=0))
    r0, r1, c0, c1 = rows[0], rows[-1], columns[0], columns[-1]
    if r1 - r0 < 2 and c1 - c0 < 2:
        raise CalibrationError(
            "there is nothing between the selected cells",
            concerns=table.title,
            remedy="Select three or more cells in a row or a column.",
        )
    fx = _share(table.x.values, c0, c1)[None, :]
    fy = _share(table.y.values, r0, r1)[:, None]
    v = table.values
    corners = (1 - fy) * ((1 - fx) * v[r0, c0] + fx * v[r0, c1]) + fy * ((1 - fx) * v[r1, c0] + fx * v[r1, c1])
    values = v.copy()
    values[r0 : r1 + 1, c0 : c1 + 1] = corners
    return table.with_values(np.where(mask, values, v))


def _share(axis: FloatArray, first: int, last: int) -> FloatArray:
    if first == last:
        return np.zeros(1)
    part = axis[first : last + 1]
    return np.asarray((part - part[0]) / (part[-1] - part[0]), dtype=np.float64)


def smooth_cells(table: Table, mask: Mask, weight: float = 0.5) -> Table:
    """The cells selected move `weight` of the way to the mean of their neighbours (four, fewer at an edge)."""
    _some(table, mask)
    padded = np.pad(table.values, 1, constant_values=np.nan)
    around = np.stack([padded[:-2, 1:-1], padded[2:, 1:-1], padded[1:-1, :-2], padded[1:-1, 2:]])
    present = ~np.isnan(around)
    mean = np.where(present, around, 0.0).sum(axis=0) / present.sum(axis=0)
    return table.with_values(np.where(mask, table.values + weight * (mean - table.values), table.values))


def copy_cells(table: Table, mask: Mask, reference: Table) -> Table:
    """The cells selected take the reference's values. Raises CalibrationError when the axes differ."""
    if not (
        np.array_equal(table.x.values, reference.x.values) and np.array_equal(table.y.values, reference.y.values)
    ):
        raise CalibrationError(
            "the reference has other axes", concerns=table.title, remedy="Choose another reference."
        )
    return table.with_values(np.where(_some(table, mask), reference.values, table.values))


def _some(table: Table, mask: Mask) -> Mask:
    if mask.shape != table.values.shape or not mask.any():
        raise CalibrationError("no cells are selected", concerns=table.title, remedy="Select cells first.")
    return mask
