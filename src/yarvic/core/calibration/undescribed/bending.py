"""How much blocks of numbers bend: what tells a table from noise."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.storing import SIZES
from yarvic.core.calibration.undescribed.numbers_seen import Bools, Ints, Numbers, NumbersSeen
from yarvic.core.physics import FloatArray

# A row beside belongs to a block while it bends at most so many times as much, and so much of its span more. Our choice.
AS_MUCH, GOES_ON = 2.0, 0.03
# So many times as much as all may a row or column at the edge bend, and any. Our choice.
AT_EDGE, INSIDE = 3.0, 4.0
# Three rows bend at most so much of their range; noise bends twice that. Our choice.
AT_FIRST = 0.22
AT_ONCE = 1 << 17  # numbers looked at in one go


@dataclass(frozen=True)
class Bent:
    """How blocks bend, one entry each: over their span, from row to row in numbers as they are, and the span.

    `more_above` and `more_below`: whether the row right before and right behind bends on as the block's rows do, so that
    the block does not begin or end there.
    """

    bends: FloatArray
    more_above: Bools
    more_below: Bools


def bending(numbers: Numbers, rows: Ints, columns: Ints) -> Bent:
    """How much blocks bend that stand one behind the other, each with the row before it and that behind.

    `numbers`: all in a row, (sum of (rows + 2) * columns,); `rows` and `columns` of each block, (n,), four at least.

    It is the mean second difference along rows and columns over the span: four times the mean distance from the mean,
    which for evenly spread values is their range, so that one number that does not belong to it cannot make it wide.
    Each row and column counts by itself too: what the worst of them bends beyond a few times the mean is added, so that
    two tables beside each other are not one. NaN where a number is none or all are equal; a row beside that holds no
    numbers does not go on.
    """
    size = rows * columns
    first = np.cumsum(size) - size  # of each block among the values, without the rows beside
    at = np.arange(size.sum()) + np.repeat(2 * (np.cumsum(columns) - columns), size)
    wide = np.repeat(columns, size)
    values = numbers[at + wide]
    bend = np.abs(numbers[at] - 2.0 * values + numbers[at + 2 * wide])
    wide_row = np.repeat(columns, rows)
    row = np.cumsum(wide_row) - wide_row
    down = np.add.reduceat(bend, row) / wide_row  # at each row, that above the block first, and at its last
    top = np.cumsum(rows) - rows
    left = np.cumsum(columns) - columns
    column = np.arange(values.size) + np.repeat(np.repeat(left, rows) - row, wide_row)
    along = np.abs(values[:-2] - 2.0 * values[1:-1] + values[2:])
    across = np.bincount(column[1:-1], along, columns.sum()) / np.repeat(rows, columns)
    down_mean = _of_each(np.add, down, top + 1, top + rows - 1) / (rows - 2)
    mean = (_of_each(np.add, across, left + 1, left + columns - 1) / (columns - 2) + down_mean) / 2.0
    edges = np.maximum.reduce([down[top + 1], down[top + rows - 2], across[left + 1], across[left + columns - 2]])
    inside = np.maximum(
        _of_each(np.maximum, down, top + 1, top + rows - 1),
        _of_each(np.maximum, across, left + 1, left + columns - 1),
    )
    more = np.maximum(np.maximum(edges - AT_EDGE * mean, inside - INSIDE * mean), 0.0)
    middle = np.add.reduceat(values, first) / size
    span = 4.0 * np.add.reduceat(np.abs(values - np.repeat(middle, size)), first) / size
    # Numbers that rise without end from row to row are a list, such as one of addresses, and no table.
    listed = _of_each(np.logical_and, values[1:] > values[:-1], first, first + 3 * columns - 1)
    with np.errstate(invalid="ignore"):
        span = np.where(span > 0.0, span, np.nan)
        room = AS_MUCH * down_mean + GOES_ON * span
        bends = np.where(listed, np.nan, (mean + more) / span)
        return Bent(bends, down[top] < room, down[top + rows - 1] < room)


def _of_each(how: np.ufunc, numbers: NDArray[Any], starts: Ints, ends: Ints) -> NDArray[Any]:
    """The sum, the greatest, ... of stretches of numbers; none may be empty or end with the last number."""
    return np.asarray(how.reduceat(numbers, np.stack([starts, ends], axis=1).ravel())[::2])


def may_begin(seen: NumbersSeen, storage: str, starts: Ints, columns: Ints) -> Bools:
    """Whether three rows from each address on are no noise: a first look, by far cheaper than a close one."""
    found = np.zeros(starts.size, np.bool_)
    for wide in np.unique(columns).tolist():
        mine = np.flatnonzero(columns == wide)
        many = max(AT_ONCE // (3 * wide), 1)
        for a in range(0, mine.size, many):
            these = mine[a : a + many]
            rows = seen.at(starts[these], storage, 3 * wide).reshape(-1, 3, wide)
            down = np.abs(rows[:, 0] - 2.0 * rows[:, 1] + rows[:, 2]).mean(1)
            across = np.abs(rows[:, :, :-2] - 2.0 * rows[:, :, 1:-1] + rows[:, :, 2:]).mean((1, 2))
            span = rows.max((1, 2)) - rows.min((1, 2))
            found[these] = (down < AT_FIRST * span) & (down + across < 2.0 * AT_FIRST * span)
    return found


def bending_at(seen: NumbersSeen, storage: str, starts: Ints, rows: Ints, columns: Ints) -> Bent:
    """How the blocks bend that begin at addresses, with as many rows and columns each as it says."""
    bends = np.full(starts.size, np.nan)
    flags = np.zeros((2, starts.size), np.bool_)
    counts = (rows + 2) * columns
    before = np.cumsum(counts)
    first = 0
    while first < starts.size:
        sofar = before[first] - counts[first]
        end = max(int(np.searchsorted(before, sofar + AT_ONCE)), first + 1)
        part = slice(first, end)
        beside = starts[part] - columns[part] * SIZES[storage]
        found = bending(seen.in_a_row(beside, counts[part], storage), rows[part], columns[part])
        bends[part] = found.bends
        flags[:, part] = found.more_above, found.more_below
        first = end
    return Bent(bends, *flags)
