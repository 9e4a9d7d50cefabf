"""How much blocks of numbers bend: what tells a table from noise."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from yarvic.core.physics import FloatArray

# A row beside belongs to a block while it bends at most so many times as much, and so much of its span more. Our choice.
AS_MUCH, GOES_ON = 2.0, 0.03
# So many times as much as all may a row or column at the edge bend, and any. Our choice.
AT_EDGE, INSIDE = 3.0, 4.0
Bools = NDArray[np.bool_]


def bending(blocks: FloatArray) -> FloatArray:
    """How much each block (n, rows, columns) bends along rows and columns: mean second difference over its span, (n,).

    The span is four times the mean distance from the middle, which for evenly spread values is their range, so that one
    number that does not belong to it cannot make it wide. Each row and column counts by itself too: what the worst of
    them bends beyond a few times the mean is added, so that two tables beside each other are not one. NaN where a number
    is none or all are equal.
    """
    if min(blocks.shape[1:]) < 3:
        return np.full(blocks.shape[0], np.nan)
    across = np.abs(blocks[:, :, :-2] - 2.0 * blocks[:, :, 1:-1] + blocks[:, :, 2:])
    down = np.abs(blocks[:, :-2] - 2.0 * blocks[:, 1:-1] + blocks[:, 2:])
    mean = (across.mean((1, 2)) + down.mean((1, 2))) / 2.0
    rows, columns = down.mean(2), across.mean(1)
    edges = np.maximum.reduce([rows[:, 0], rows[:, -1], columns[:, 0], columns[:, -1]])
    inside = np.maximum(rows.max(1), columns.max(1))
    more = np.maximum(np.maximum(edges - AT_EDGE * mean, inside - INSIDE * mean), 0.0)
    return np.asarray((mean + more) / span(blocks))


def span(blocks: FloatArray) -> FloatArray:
    """Four times the mean distance from the mean of each block, (n,); NaN where that is nought."""
    wide = 4.0 * np.abs(blocks - blocks.mean((1, 2), keepdims=True)).mean((1, 2))
    return np.where(wide > 0.0, wide, np.nan)


def goes_on(blocks: FloatArray, beside: FloatArray, at_top: bool) -> Bools:
    """Whether a row right before (or after) each block bends on as its rows do, so that the block does not end there.

    `blocks` is (n, rows, columns), `beside` (n, columns). Where the row beside holds no numbers it does not go on.
    """
    near, next_ = (blocks[:, 0], blocks[:, 1]) if at_top else (blocks[:, -1], blocks[:, -2])
    down = np.abs(blocks[:, :-2] - 2.0 * blocks[:, 1:-1] + blocks[:, 2:]).mean((1, 2))
    with np.errstate(invalid="ignore"):
        on = np.abs(beside - 2.0 * near + next_).mean(1)
        return np.asarray(on < AS_MUCH * down + GOES_ON * span(blocks))
