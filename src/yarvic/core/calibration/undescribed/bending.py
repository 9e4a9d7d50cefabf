"""How much blocks of numbers bend: what tells a table from noise."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from yarvic.core.calibration.storing import SIZES
from yarvic.core.calibration.undescribed.numbers_seen import Bools, Ints, Numbers, NumbersSeen
from yarvic.core.physics import FloatArray

# A row beside belongs to a block while it bends at most so many times as much, and so much of its span more. Our choice.
AS_MUCH, GOES_ON = 2.0, 0.03
# So many times as much as all may a row or column at the edge bend, and any. Our choice.
AT_EDGE, INSIDE = 3.0, 4.0
# Three rows bend at most so much of their range; noise bends twice that. Our choice.
AT_FIRST = 0.22
ROWS_AT_ONCE, AT_ONCE = (2, 5, 8, 12, 18, 27, 40), 1 << 20  # blocks of like height, and numbers, looked at in one go


@dataclass(frozen=True)
class Bent:
    """How blocks bend, one entry each: over their span, from row to row in numbers as they are, and the span.

    `more_above` and `more_below`: whether the row right before and right behind bends on as the block's rows do, so that
    the block does not begin or end there.
    """

    bends: FloatArray
    more_above: Bools
    more_below: Bools


def bending(blocks: Numbers, rows: Ints) -> Bent:
    """How much blocks bend that stand in (n, 1 + most + 1, columns) with the row before each and that behind.

    Of each block `rows` count, (n,). It is the mean second difference along rows and columns over the span: four times
    the mean distance from the mean, which for evenly spread values is their range, so that one number that does not
    belong to it cannot make it wide. Each row and column counts by itself too: what the worst of them bends beyond a few
    times the mean is added, so that two tables beside each other are not one. NaN where a number is none or all are
    equal; a row beside that holds no numbers does not go on.
    """
    n, most, columns = blocks.shape[0], blocks.shape[1] - 2, blocks.shape[2]
    every, before, body = np.arange(n), blocks[:, 0], blocks[:, 1:]
    live = np.arange(most) < rows[:, None]
    values = np.where(live[:, :, None], body[:, :most], 0.0)
    across = np.abs(values[:, :, :-2] - 2.0 * values[:, :, 1:-1] + values[:, :, 2:]).sum(1) / rows[:, None]
    down = np.abs(values[:, :-2] - 2.0 * values[:, 1:-1] + values[:, 2:]).sum(2) / columns
    down[~live[:, 2:]] = 0.0
    down_mean = down.sum(1) / (rows - 2)
    mean = (across.mean(1) + down_mean) / 2.0
    edges = np.maximum.reduce([down[:, 0], down[every, rows - 3], across[:, 0], across[:, -1]])
    inside = np.maximum(down.max(1), across.max(1))
    more = np.maximum(np.maximum(edges - AT_EDGE * mean, inside - INSIDE * mean), 0.0)
    middle = values.sum((1, 2)) / (rows * columns)
    apart = np.abs(values - middle[:, None, None]).sum(2)
    apart[~live] = 0.0
    span = 4.0 * apart.sum(1) / (rows * columns)
    with np.errstate(invalid="ignore"):
        span = np.where(span > 0.0, span, np.nan)
        above = np.abs(before - 2.0 * body[:, 0] + body[:, 1]).sum(1) / columns
        below = np.abs(body[every, rows - 2] - 2.0 * body[every, rows - 1] + body[every, rows]).sum(1) / columns
        room = AS_MUCH * down_mean + GOES_ON * span
        bends = np.where(_listed(body[:, :3]), np.nan, (mean + more) / span)
        return Bent(bends, above < room, below < room)


def _listed(rows: Numbers) -> Bools:
    """Whether numbers rise without end from row to row: a list, such as one of addresses, and no table."""
    flat = rows.reshape(rows.shape[0], -1)
    return np.asarray((flat[:, 1:] > flat[:, :-1]).all(1))


def may_begin(seen: NumbersSeen, storage: str, starts: Ints, columns: int) -> Bools:
    """Whether three rows from each address on are no noise: a first look, by far cheaper than a close one."""
    found = np.zeros(starts.size, np.bool_)
    many = max(AT_ONCE // (3 * columns), 1)
    for a in range(0, starts.size, many):
        rows = seen.at(starts[a : a + many], storage, 3 * columns).reshape(-1, 3, columns)
        down = np.abs(rows[:, 0] - 2.0 * rows[:, 1] + rows[:, 2]).mean(1)
        across = np.abs(rows[:, :, :-2] - 2.0 * rows[:, :, 1:-1] + rows[:, :, 2:]).mean((1, 2))
        span = rows.max((1, 2)) - rows.min((1, 2))
        found[a : a + many] = (down < AT_FIRST * span) & (down + across < 2.0 * AT_FIRST * span)
    return found


def bending_at(seen: NumbersSeen, storage: str, starts: Ints, rows: Ints, columns: int) -> Bent:
    """How the blocks bend that begin at addresses, with as many rows each as it says."""
    bends = np.full(starts.size, np.nan)
    flags = np.zeros((2, starts.size), np.bool_)
    for least, most in itertools.pairwise(ROWS_AT_ONCE):
        mine = np.flatnonzero((rows > least) & (rows <= most))
        many = max(AT_ONCE // (most * columns), 1)
        for a in range(0, mine.size, many):
            these = mine[a : a + many]
            first = starts[these] - columns * SIZES[storage]
            blocks = seen.at(first, storage, (most + 2) * columns).reshape(these.size, most + 2, columns)
            found = bending(blocks, rows[these])
            bends[these] = found.bends
            flags[:, these] = found.more_above, found.more_below
    return Bent(bends, *flags)
