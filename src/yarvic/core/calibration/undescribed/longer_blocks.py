"""Blocks with rows of one number before or behind them, and blocks that are of one number nearly all over.

A table may be of one number up to a load and rise from there on, or fall only in a corner: by how they bend such blocks
have neither a beginning nor a row length.
"""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from yarvic.core.calibration.storing import SIZES
from yarvic.core.calibration.undescribed.axes_elsewhere import Blocks
from yarvic.core.calibration.undescribed.behind_axes import LEAST_POINTS, LOOSE, MOST_POINTS
from yarvic.core.calibration.undescribed.bending import bending_at
from yarvic.core.calibration.undescribed.numbers_seen import VALUE_TYPES, Free, Ints, Numbers, NumbersSeen

# A row of one number has so many at least; a block takes at most so many times its own rows on.
LEAST_FLAT, MOST_FLAT = 6, 2
# What begins or ends with a row of one number bends so little, over its span. Our choices.
FLATTER = 0.05


def longer(seen: NumbersSeen, free: Free, blocks: list[Blocks]) -> list[Blocks]:
    """Blocks with the rows of one number before and behind them; of free bytes only."""
    found = []
    for part in blocks:
        rows, columns, values = _with_flat_rows(seen, part)
        _, first = np.unique(np.stack([values, rows, columns]), axis=1, return_index=True)
        rows, columns, values = rows[first], columns[first], values[first]
        fits = free.all(values, rows * columns * SIZES[part.storage])
        fits &= seen.may_hold(values, part.storage, rows * columns)
        found.append(_looked_at(seen, part.storage, rows[fits], columns[fits], values[fits]))
    return found


def _looked_at(
    seen: NumbersSeen, storage: str, rows: Ints, columns: Ints, values: Ints, *, ends: bool = False
) -> Blocks:
    bent = bending_at(seen, storage, values, rows, columns, placed=True)
    with np.errstate(invalid="ignore"):
        good = (bent.bends < LOOSE) & ~seen.of_smaller(values, storage, rows * columns)
        if ends:
            good &= ~bent.more_above & ~bent.more_below & (bent.bends < FLATTER)
    return Blocks(storage, rows[good], columns[good], values[good], bent.bends[good])


def _with_flat_rows(seen: NumbersSeen, part: Blocks) -> tuple[Ints, Ints, Ints]:
    """The blocks with the whole rows of one number before them, behind them, and both, where these end with a row."""
    size = SIZES[part.storage]
    before, behind = np.zeros(part.rows.size, np.int64), np.zeros(part.rows.size, np.int64)
    for phase in range(size):
        mine = np.flatnonzero(part.values % size == phase)
        if not mine.size:
            continue
        numbers = seen.seen(part.storage, phase).numbers
        first = (part.values[mine] - phase) // size
        ends = first + part.rows[mine] * part.columns[mine]
        up, down = _alike(numbers), _alike(numbers[::-1])[::-1]
        before[mine] = np.where(first > 0, up[np.maximum(first - 1, 0)], 0)
        behind[mine] = np.where(ends < numbers.size, down[np.minimum(ends, numbers.size - 1)], 0)
    above, below = (_rows(flat, part) for flat in (before, behind))
    made = []
    for more_above, more_below in ((above, 0), (0, below), (above, below)):
        rows = part.rows + more_above + more_below
        fits = (rows > part.rows) & (rows <= MOST_POINTS) & (more_above + more_below <= MOST_FLAT * part.rows)
        start = part.values - more_above * part.columns * size
        made.append((rows[fits], part.columns[fits], start[fits]))
    rows, columns, starts = (np.concatenate(p) for p in zip(*made, strict=True))
    return rows, columns, starts


def _rows(flat: Ints, part: Blocks) -> Ints:
    return np.where(flat % part.columns == 0, flat // part.columns, 0)


def _alike(numbers: Numbers) -> Ints:
    """How many numbers up to each are the same as it, it included."""
    place = np.arange(numbers.size)
    new = np.concatenate([[True], numbers[1:] != numbers[:-1]])[: numbers.size]
    return place - np.maximum.accumulate(np.where(new, place, 0)) + 1


def from_flat_rows(seen: NumbersSeen, free: Free, lengths: Collection[int]) -> list[Blocks]:
    """Blocks that begin or end with a row of one number, where a run of it begins or ends; of lengths that axes have.

    A table that falls only in a corner shows no row length by itself: the axes of the image say which there are.
    """
    pairs = [(r, c) for r in sorted(lengths) for c in sorted(lengths) if min(r, c) >= LEAST_POINTS]
    if not pairs:
        return []
    high, wide = (np.array(p, np.int64) for p in zip(*pairs, strict=True))
    found = []
    for storage in VALUE_TYPES:
        size = SIZES[storage]
        parts = [_at_runs(seen, storage, phase, high, wide) for phase in range(size)]
        values, pair = (np.concatenate(p) for p in zip(*parts, strict=True))
        rows, columns = high[pair], wide[pair]
        fits = free.all(values, rows * columns * size)
        rows, columns, values = rows[fits], columns[fits], values[fits]
        fits = seen.may_hold(values, storage, rows * columns)
        found.append(_looked_at(seen, storage, rows[fits], columns[fits], values[fits], ends=True))
    return found


def _at_runs(seen: NumbersSeen, storage: str, phase: int, high: Ints, wide: Ints) -> tuple[Ints, Ints]:
    """Where blocks of these shapes would begin with a run of one number, or end with one; and of which shape each is."""
    numbers = seen.seen(storage, phase).numbers
    run = _alike(numbers)
    last = np.flatnonzero(np.append(run[1:] == 1, True)[: run.size] & (run >= LEAST_FLAT))
    flat, ends, size = run[last][:, None], (last + 1)[:, None], high * wide
    starts = np.concatenate([ends - flat + 0 * wide, ends - size])
    fits = np.concatenate([(flat >= wide) & (flat < size)] * 2) & (starts >= 0) & (starts + size <= numbers.size)
    which, pair = np.nonzero(fits)
    return phase + SIZES[storage] * starts[which, pair], pair
