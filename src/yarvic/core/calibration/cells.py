"""What is done to the cells of a table: a boolean mask of those selected, and new values for them.

Each gives a new table; bounds and storage are enforced by Table.
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.storing import BOUND_SLACK
from yarvic.core.calibration.table import Table
from yarvic.core.errors import CalibrationError
from yarvic.core.physics import FloatArray

Mask = NDArray[np.bool_]


Along = Literal["both", "rows", "columns"]
# The kernel that smooths, along each axis: a cell and its two neighbours, by the binomial weights.
KERNEL = np.array([0.25, 0.5, 0.25])


def set_cells(table: Table, mask: Mask, values: FloatArray | float) -> Table:
    """All cells selected get one value, or each its own. Raises CalibrationError for what is no number."""
    _some(table, mask)
    new = np.where(mask, values, table.values)
    if not np.all(np.isfinite(new[mask])):
        row, column = (int(i) for i in np.argwhere(mask & ~np.isfinite(new))[0])
        raise CalibrationError(
            f"at {table.place(row, column)} no number would come of it",
            concerns=table.title,
            remedy="Look at the cells it is worked out of.",
        )
    return table.with_values(new)


def add_to_cells(table: Table, mask: Mask, amount: float) -> Table:
    """An amount is added to the cells selected."""
    return set_cells(table, mask, table.values + amount)


def step_cells(table: Table, mask: Mask, steps: int) -> Table:
    """The cells selected move by so many steps of what the storage can tell apart; at their bounds they stay."""
    _some(table, mask)
    storing = table.storing
    raw = storing.raw(table.values)
    if not storing.whole:
        fine = 10.0**-table.decimals
        return set_cells(table, mask, np.clip(table.values + steps * fine, table.low, table.high))
    # A value rises with its raw number or falls with it.
    rises = float(np.diff(np.asarray(storing.value(np.array(storing.raw_limits))))[0]) >= 0.0
    low, high = storing.raw_limits
    moved = np.asarray(storing.value(np.clip(raw + (steps if rises else -steps), low, high)), dtype=np.float64)
    inside = (moved >= table.low - BOUND_SLACK) & (moved <= table.high + BOUND_SLACK)
    return set_cells(table, mask & inside, moved) if (mask & inside).any() else table


def fill_cells(table: Table, mask: Mask, along: Along) -> Table:
    """In each row ("rows") the first selected cell is copied to the others, or in each column. Raises CalibrationError."""
    _some(table, mask)
    new = table.values.copy()
    lines = [(r, slice(None)) for r in range(mask.shape[0])]
    if along == "columns":
        lines = [(slice(None), c) for c in range(mask.shape[1])]  # type: ignore[misc]
    if max(int(mask[line].sum()) for line in lines) < 2:
        raise CalibrationError(
            "there is nothing to fill", concerns=table.title, remedy=f"Select more than one cell along the {along}."
        )
    for line in lines:
        chosen = mask[line]
        if chosen.any():
            new[line] = np.where(chosen, new[line][int(chosen.argmax())], new[line])
    return table.with_values(new)


def interpolate_cells(table: Table, mask: Mask, along: Along = "both") -> Table:
    """The inside of the selection is drawn straight along the axis values.

    "both": of the rectangle around it between its corners, a single row or column between its ends. "rows": in each
    row between its first and its last selected cell; "columns" likewise. Raises CalibrationError when nothing lies
    between.
    """
    _some(table, mask)
    if along != "both":
        return _between_ends(table, mask, along)
    rows = np.flatnonzero(mask.any(axis=1))
    columns = np.flatnonzero(mask.any(axis=0))
    r0, r1, c0, c1 = rows[0], rows[-1], columns[0], columns[-1]
    if r1 - r0 < 2 and c1 - c0 < 2:
        raise _nothing_between(table)
    fx = _share(table.x.values, c0, c1)[None, :]
    fy = _share(table.y.values, r0, r1)[:, None]
    v = table.values
    corners = (1 - fy) * ((1 - fx) * v[r0, c0] + fx * v[r0, c1]) + fy * ((1 - fx) * v[r1, c0] + fx * v[r1, c1])
    values = v.copy()
    values[r0 : r1 + 1, c0 : c1 + 1] = corners
    return table.with_values(np.where(mask, values, v))


def _between_ends(table: Table, mask: Mask, along: Along) -> Table:
    flip = along == "columns"
    values, chosen = (table.values.T.copy(), mask.T) if flip else (table.values.copy(), mask)
    axis = table.y.values if flip else table.x.values
    found = False
    for line, each in zip(values, chosen, strict=True):
        at = np.flatnonzero(each)
        if at.size >= 2 and at[-1] - at[0] >= 2:
            found = True
            drawn = np.interp(axis, axis[[at[0], at[-1]]], line[[at[0], at[-1]]])
            line[:] = np.where(each, drawn, line)
    if not found:
        raise _nothing_between(table)
    return table.with_values(values.T if flip else values)


def _nothing_between(table: Table) -> CalibrationError:
    return CalibrationError(
        "there is nothing between the selected cells",
        concerns=table.title,
        remedy="Select three or more cells in a row or a column.",
    )


def _share(axis: FloatArray, first: int, last: int) -> FloatArray:
    if first == last:
        return np.zeros(1)
    part = axis[first : last + 1]
    return np.asarray((part - part[0]) / (part[-1] - part[0]), dtype=np.float64)


def smooth_cells(table: Table, mask: Mask, strength: float = 0.5, along: Along = "both") -> Table:
    """The cells selected move `strength` of the way to the mean of their surroundings.

    The mean is weighted by 1-2-1 along the rows, the columns, or both ways, over the cells that there are: at an edge
    and beside a cell without a number it is of the others alone.
    """
    _some(table, mask)
    if not 0.0 < strength <= 1.0:
        raise CalibrationError(
            f"a strength of {strength:g} is none", concerns=table.title, remedy="Choose more than 0 and at most 1."
        )
    present = np.isfinite(table.values)
    sums, weights = np.where(present, table.values, 0.0), present.astype(np.float64)
    for axis in (0, 1):
        if along in ("both", "columns" if axis == 0 else "rows"):
            sums, weights = _weighted(sums, axis), _weighted(weights, axis)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = sums / weights
    moved = table.values + strength * (mean - table.values)
    return table.with_values(np.where(mask & present, moved, table.values))


def _weighted(values: FloatArray, axis: int) -> FloatArray:
    wide = np.pad(values, [(1, 1) if a == axis else (0, 0) for a in (0, 1)])
    parts = [np.take(wide, np.arange(n, n + values.shape[axis]), axis=axis) for n in range(3)]
    return np.asarray(sum(k * p for k, p in zip(KERNEL, parts, strict=True)), dtype=np.float64)


def copy_cells(table: Table, mask: Mask, reference: Table) -> Table:
    """The cells selected take the reference's values. Raises CalibrationError when the axes differ."""
    if not (
        np.array_equal(table.x.values, reference.x.values) and np.array_equal(table.y.values, reference.y.values)
    ):
        raise CalibrationError(
            "the reference has other axes",
            concerns=table.title,
            remedy="Take its values on its own axes: From table.",
        )
    return table.with_values(np.where(_some(table, mask), reference.values, table.values))


def _some(table: Table, mask: Mask) -> Mask:
    if mask.shape != table.values.shape or not mask.any():
        raise CalibrationError("no cells are selected", concerns=table.title, remedy="Select cells first.")
    return mask
