"""How much blocks of numbers bend: what tells a table from noise."""

from __future__ import annotations

from collections.abc import Iterator
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
# Along a row; noise bends more than twice that. And the most that any block bends, all rows and columns alike: single
# numbers in nothing bend more. Our choices.
AT_SECOND, AT_MOST = 0.4, 0.45
# Numbers in whole steps bend by a step where they are smooth: so much of the finest one bends nothing, where that is more
# of the span than so much, and a share of the numbers between these is as the next. What stands behind its own axes may
# bend so much at its edges. Our choices.
STEPS, COARSE, REPEATED, EDGE_FREE = 0.75, 0.05, (0.2, 0.85), 0.35
# Where more than this share of numbers is as the next a block is in regions, and steps seldom; a row of so many steps
# upward rises as an axis does. Our choices.
SAME, RISING = 0.5, 0.6
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


def bending(numbers: Numbers, rows: Ints, columns: Ints, *, placed: bool = False) -> Bent:
    """How much blocks bend that stand one behind the other, each with the row before it and that behind.

    `numbers`: all in a row, (sum of (rows + 2) * columns,); `rows` and `columns` of each block, (n,), four at least.

    It is the mean second difference along rows and columns over the span: four times the mean distance from the mean,
    which for evenly spread values is their range, so that one number that does not belong to it cannot make it wide.
    Each row and column counts by itself too: what the worst of them bends beyond a few times the mean is added, so that
    two tables beside each other are not one. A block that is `placed` by what stands around it is one in any case, and may
    step from one region to another: of its rows and columns the mean root is taken, which a few of them hardly move, and
    where it is in regions of one number each, no more than it steps. NaN where a number is none or all are equal; a row
    beside that holds no numbers does not go on.
    """
    size = rows * columns
    first = np.cumsum(size) - size  # of each block among the values, without the rows beside
    at = np.arange(size.sum()) + np.repeat(2 * (np.cumsum(columns) - columns), size)
    wide = np.repeat(columns, size)
    values = numbers[at + wide]
    middle = np.add.reduceat(values, first) / size
    span = 4.0 * np.add.reduceat(np.abs(values - np.repeat(middle, size)), first) / size
    by_steps = np.repeat(_steps(values, first, span), size)
    bend = np.maximum(np.abs(numbers[at] - 2.0 * values + numbers[at + 2 * wide]) - by_steps, 0.0)
    wide_row = np.repeat(columns, rows)
    row = np.cumsum(wide_row) - wide_row
    down = np.add.reduceat(bend, row) / wide_row  # at each row, that above the block first, and at its last
    top = np.cumsum(rows) - rows
    left = np.cumsum(columns) - columns
    column = np.arange(values.size) + np.repeat(np.repeat(left, rows) - row, wide_row)
    along = np.maximum(np.abs(values[:-2] - 2.0 * values[1:-1] + values[2:]) - by_steps[1:-1], 0.0)
    across = np.bincount(column[1:-1], along, columns.sum()) / np.repeat(rows, columns)
    down_mean = _of_each(np.add, down, top + 1, top + rows - 1) / (rows - 2)
    across_mean = _of_each(np.add, across, left + 1, left + columns - 1) / (columns - 2)
    alike = (down_mean + across_mean) / 2.0  # all rows and columns
    if placed:
        down_mean = (_of_each(np.add, np.sqrt(down), top + 1, top + rows - 1) / (rows - 2)) ** 2
        across_mean = (_of_each(np.add, np.sqrt(across), left + 1, left + columns - 1) / (columns - 2)) ** 2
    mean = (down_mean + across_mean) / 2.0
    if placed:
        down_step = np.add.reduceat(np.abs(numbers[at + 2 * wide] - values), row) / wide_row
        down_step = _of_each(np.add, down_step, top, top + rows - 1) / (rows - 1)
        by_first = _stepping(values, first, down_step)
        alike = np.minimum(alike, by_first)
    edges = np.maximum.reduce([down[top + 1], down[top + rows - 2], across[left + 1], across[left + columns - 2]])
    inside = np.maximum(
        _of_each(np.maximum, down, top + 1, top + rows - 1),
        _of_each(np.maximum, across, left + 1, left + columns - 1),
    )
    # Numbers that rise without end from row to row are a list, such as one of addresses, and no table.
    listed = _of_each(np.logical_and, values[1:] > values[:-1], first, first + 3 * columns - 1)
    with np.errstate(invalid="ignore"):
        span = np.where(span > 0.0, span, np.nan)
        if placed:
            more = np.maximum(edges - np.maximum(AT_EDGE * mean, EDGE_FREE * span), 0.0)
        else:
            more = np.maximum(np.maximum(edges - AT_EDGE * mean, inside - INSIDE * mean), 0.0)
        room = AS_MUCH * down_mean + GOES_ON * span
        bends = (mean + more) / span
        if placed:
            bends = np.minimum(bends, by_first / span)
        bends = np.where(listed | (placed & (alike > AT_MOST * span)), np.nan, bends)
        return Bent(bends, down[top] < room, down[top + rows - 1] < room)


def _along(values: Numbers, first: Ints) -> Numbers:
    """The step from each number of blocks to the next; from the last of one to the first of the next is none."""
    step = np.abs(np.diff(values, append=values[-1:]))
    step[first[1:] - 1] = 0.0
    return step


def _stepping(values: Numbers, first: Ints, down: FloatArray) -> FloatArray:
    """How much blocks step on the mean, from row to row (`down`) and along, that are in regions of one number each; without
    end for others.
    """
    step, size = _along(values, first), np.diff(first, append=values.size)
    same = np.add.reduceat((step == 0.0).astype(np.float64), first) / size
    along = np.add.reduceat(step, first) / size
    return np.where(same > SAME, (down + along) / 2.0, np.inf)


def _steps(values: Numbers, first: Ints, span: FloatArray) -> FloatArray:
    """How much of each block's bending is its numbers' being in whole steps."""
    step = _along(values, first)
    finest = np.minimum.reduceat(np.where(step > 0.0, step, np.inf), first)
    same = np.add.reduceat((step == 0.0).astype(np.float64), first) / np.diff(first, append=values.size)
    coarse = np.isfinite(finest) & (finest > COARSE * span) & (same > REPEATED[0]) & (same < REPEATED[1])
    return np.where(coarse, STEPS * finest, 0.0)


def _of_each(how: np.ufunc, numbers: NDArray[Any], starts: Ints, ends: Ints) -> NDArray[Any]:
    """The sum, the greatest, ... of stretches of numbers; none may be empty or end with the last number."""
    return np.asarray(how.reduceat(numbers, np.stack([starts, ends], axis=1).ravel())[::2])


def _by_width(columns: Ints, rows: int) -> Iterator[tuple[int, Ints]]:
    """Places of one row length each, with it: so many that so many rows of each fit into little memory."""
    for wide in np.unique(columns).tolist():
        mine = np.flatnonzero(columns == wide)
        many = max(AT_ONCE // (rows * wide), 1)
        for first in range(0, mine.size, many):
            yield wide, mine[first : first + many]


def may_begin(seen: NumbersSeen, storage: str, starts: Ints, columns: Ints) -> Bools:
    """Whether three rows from each address on are no noise: a first look, by far cheaper than a close one."""
    found = np.zeros(starts.size, np.bool_)
    for wide, these in _by_width(columns, 3):
        rows = seen.at(starts[these], storage, 3 * wide).reshape(-1, 3, wide)
        down = np.abs(rows[:, 0] - 2.0 * rows[:, 1] + rows[:, 2]).mean(1)
        across = np.abs(rows[:, :, :-2] - 2.0 * rows[:, :, 1:-1] + rows[:, :, 2:]).mean((1, 2))
        span = rows.max((1, 2)) - rows.min((1, 2))
        found[these] = (down <= AT_FIRST * span) & (down + across <= 2.0 * AT_FIRST * span)
        # Regions of one number each bend at their edges; they step seldom.
        step = np.abs(np.diff(rows, axis=2))
        seldom = (step == 0.0).mean((1, 2)) > SAME
        found[these] |= seldom & (
            step.mean((1, 2)) + np.abs(np.diff(rows, axis=1)).mean((1, 2)) <= 2.0 * AT_FIRST * span
        )
    return found


def rows_bend_little(seen: NumbersSeen, storage: str, starts: Ints, rows: Ints, columns: Ints) -> Bools:
    """Whether three of four rows of each block, spread over it, bend little along: a second look, still a cheap one."""
    found = np.zeros(starts.size, np.bool_)
    for wide, these in _by_width(columns, 4):
        picked = starts[these, None] + wide * SIZES[storage] * ((rows[these, None] - 1) * np.arange(4) // 3)
        four = seen.at(picked.ravel(), storage, wide).reshape(-1, 4, wide)
        across = np.abs(four[:, :, :-2] - 2.0 * four[:, :, 1:-1] + four[:, :, 2:]).mean(2)
        span = 4.0 * np.abs(four - four.mean((1, 2))[:, None, None]).mean((1, 2))
        span = np.maximum(span, (four.max((1, 2)) - four.min((1, 2))) / 2.0)
        found[these] = np.sort(across, axis=1)[:, 2] <= AT_SECOND * span
    return found


def row_goes_on(seen: NumbersSeen, storage: str, starts: Ints, columns: Ints) -> Bools:
    """Whether the row before each address bends on as the first three from there on do, where these are not all alike."""
    found = np.zeros(starts.size, np.bool_)
    for wide, these in _by_width(columns, 4):
        four = seen.at(starts[these] - wide * SIZES[storage], storage, 4 * wide).reshape(-1, 4, wide)
        down = np.abs(four[:, :2] - 2.0 * four[:, 1:3] + four[:, 2:]).mean(2)
        span = four[:, 1:].max((1, 2)) - four[:, 1:].min((1, 2))
        found[these] = (span > 0.0) & (down[:, 0] < AS_MUCH * down[:, 1] + GOES_ON * span)
        found[these] &= (np.diff(four[:, 1], axis=1) > 0.0).mean(1) >= RISING
    return found


def bending_at(
    seen: NumbersSeen, storage: str, starts: Ints, rows: Ints, columns: Ints, *, placed: bool = False
) -> Bent:
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
        found = bending(seen.in_a_row(beside, counts[part], storage), rows[part], columns[part], placed=placed)
        bends[part] = found.bends
        flags[:, part] = found.more_above, found.more_below
        first = end
    return Bent(bends, *flags)
