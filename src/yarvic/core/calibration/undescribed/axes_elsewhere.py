"""Tables whose axes lie somewhere else: blocks that bend little, of a shape that two axes of the image have."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.calibration.storing import SIZES
from yarvic.core.calibration.undescribed.behind_axes import LOOSE, MOST_POINTS
from yarvic.core.calibration.undescribed.bending import AS_MUCH, GOES_ON, bending_at
from yarvic.core.calibration.undescribed.calm import MOST_BEND, Calm, calm_stretches
from yarvic.core.calibration.undescribed.numbers_seen import (
    VALUE_TYPES,
    Bools,
    Free,
    Ints,
    Numbers,
    NumbersSeen,
    all_numbers,
)
from yarvic.core.physics import FloatArray

TWICE = (3.0, 6.0)  # a block ends before a row that bends so many times as much: both ends are looked at
BREAK = 0.06  # of the span, what a row beside a block bends at least
AT_FIRST = 0.18  # four rows' bending over the span around them
UNLIKE = 1.3  # so many times may four rows of a block be unlike the whole


@dataclass(frozen=True)
class Blocks:
    """Places with values of one type, one entry each."""

    storage: str
    rows: Ints
    columns: Ints
    values: Ints
    bends: FloatArray


def blocks_of(seen: NumbersSeen, free: Free) -> list[Blocks]:
    """Blocks in free bytes that bend little and end where they say; those over each other included."""
    found: list[Blocks] = []
    for storage in VALUE_TYPES:
        size = SIZES[storage]
        begun: dict[int, list[tuple[Ints, Ints]]] = {}
        for phase in range(size):
            view = seen.seen(storage, phase)
            open_ = free.each(phase, size, view.numbers.size)
            for lengths, calm in calm_stretches(view, open_, storage):
                for columns in lengths:
                    if calm.numbers.size > 4 * columns:
                        at, rows = _begun(calm, columns)
                        places = calm.places[at]
                        fits = all_numbers(
                            view, places, np.minimum(rows * columns, view.numbers.size - places), storage
                        )
                        begun.setdefault(columns, []).append((phase + size * places[fits], rows[fits]))
        for columns, parts in begun.items():
            starts, rows = (np.concatenate(several) for several in zip(*parts, strict=True))
            found.append(_of_width(seen, storage, starts, rows, columns))
    return found


class _Bends:
    """How much numbers bend from row to row, rows of one length, from each place on."""

    def __init__(self, numbers: Numbers, columns: int) -> None:
        bend = numbers[columns:-columns] * np.float32(-2.0)
        bend += numbers[: -2 * columns]
        bend += numbers[2 * columns :]
        np.minimum(np.abs(bend, out=bend), MOST_BEND, out=bend)
        self.sums = np.zeros(bend.size + 1)
        np.cumsum(bend, out=self.sums[1:])

    def mean(self, starts: Ints, count: int | Ints) -> FloatArray:
        """Of so many places from each on."""
        return np.asarray((self.sums[starts + count] - self.sums[starts]) / count)


def _begun(calm: Calm, columns: int) -> tuple[Ints, Ints]:
    """Where blocks of a row length begin, and how many rows they have: up to where they bend on much more."""
    c, bends = columns, _Bends(calm.numbers, columns)
    four = bends.sums[2 * c :] - bends.sums[: -2 * c]
    span = calm.span(4 * c)
    size = min(span.size, four.size)
    starts = np.flatnonzero(four[:size] < np.float32(2 * c * AT_FIRST) * span[:size])
    inside, span = four[starts] / (2 * c), span[starts]
    fits = bends.mean(starts - c, c) > np.maximum(AS_MUCH * inside, BREAK * span)
    starts, inside, span = starts[fits], inside[fits], span[fits]
    both = calm.across(starts[:, None] + c * np.arange(4), c) + inside
    fits = (both < 2.0 * AT_FIRST * span) & _least(starts, both)
    starts, inside, span = starts[fits], inside[fits], span[fits]
    few, many = _rows(bends, starts, inside, c, BREAK * span)
    other = many != few
    starts, rows = np.concatenate([starts, starts[other]]), np.concatenate([few, many[other]])
    fits = _as_whole(calm, bends, starts, rows, c)
    return starts[fits], rows[fits]


def _least(starts: Ints, bends: FloatArray) -> Bools:
    """Whether no start right beside bends less."""
    found = np.ones(starts.size, np.bool_)
    beside = np.diff(starts) == 1
    found[1:] &= ~beside | (bends[1:] <= bends[:-1])
    found[:-1] &= ~beside | (bends[:-1] <= bends[1:])
    return found


def _as_whole(calm: Calm, bends: _Bends, starts: Ints, rows: Ints, columns: int) -> Bools:
    """Whether blocks bend little by four of their rows, and end where they say: a second look before a close one."""
    picked = starts[:, None] + columns * (np.arange(4) * (rows[:, None] - 1) // 3)
    numbers = calm.numbers[picked[:, :, None] + np.arange(columns)].reshape(starts.size, 4 * columns)
    span = 4.0 * np.abs(numbers - numbers.mean(1)[:, None]).mean(1)
    down, below = bends.mean(starts, (rows - 2) * columns), bends.mean(starts + (rows - 2) * columns, columns)
    little = calm.across(picked, columns) + down < 2.0 * UNLIKE * LOOSE * span
    return np.asarray(little & (below * UNLIKE >= AS_MUCH * down + GOES_ON * span))


def _rows(bends: _Bends, starts: Ints, inside: FloatArray, columns: int, least: Numbers) -> tuple[Ints, Ints]:
    """How many rows there are up to one that bends more than the least and so many times more than those before it."""
    few, many = np.full(starts.size, 4), np.full(starts.size, 4)
    going, total, first = np.arange(starts.size), inside * 2, np.ones(starts.size, np.bool_)
    for row in range(4, MOST_POINTS):
        # The triple that ends with this row.
        on = bends.mean(starts[going] + (row - 2) * columns, columns)
        before = total / (row - 2)
        first &= on <= np.maximum(TWICE[0] * before, least)
        goes = on <= np.maximum(TWICE[1] * before, least)
        going, total, least, first = going[goes], (total + on)[goes], least[goes], first[goes]
        if not going.size:
            break
        many[going] += 1
        few[going[first]] += 1
    return few, many


def _of_width(seen: NumbersSeen, storage: str, starts: Ints, rows: Ints, columns: int) -> Blocks:
    bent = bending_at(seen, storage, starts, rows, columns)
    with np.errstate(invalid="ignore"):
        good = (bent.bends < LOOSE) & ~bent.more_above & ~bent.more_below
    return Blocks(storage, rows[good], np.full(int(good.sum()), columns), starts[good], bent.bends[good])
