"""Tables whose axes lie somewhere else: blocks that bend little, of a shape that two axes of the image have."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, fields

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
STARTS_AT_ONCE = 1 << 12  # bounds the memory that an image takes in which nearly all bends little
UNLIKE = 1.3  # so many times may four rows of a block be unlike the whole


@dataclass(frozen=True)
class Blocks:
    """Places with values of one type, one entry each."""

    storage: str
    rows: Ints
    columns: Ints
    values: Ints
    bends: FloatArray


@dataclass(frozen=True)
class _Starts:
    """Where blocks may begin in stretches, one entry each: the place, the row length, four rows' mean bend and span.

    `down` (n, most rows - 1): the mean bend of each triple of rows from there on.
    """

    places: Ints
    columns: Ints
    span: Numbers
    down: Numbers

    @classmethod
    def all(cls, parts: list[_Starts]) -> _Starts:
        """Several as one."""
        return cls(*(np.concatenate([getattr(p, f.name) for p in parts]) for f in fields(cls)))

    def parts(self) -> Iterator[_Starts]:
        """So many at a time that what is worked out of them fits into little memory."""
        for first in range(0, self.places.size, STARTS_AT_ONCE):
            part = slice(first, first + STARTS_AT_ONCE)
            yield _Starts(*(getattr(self, f.name)[part] for f in fields(self)))


def blocks_of(seen: NumbersSeen, free: Free) -> list[Blocks]:
    """Blocks in free bytes that bend little and end where they say; those over each other included."""
    found: list[Blocks] = []
    for storage in VALUE_TYPES:
        size = SIZES[storage]
        begun: list[tuple[Ints, Ints, Ints]] = []
        for phase in range(size):
            view = seen.seen(storage, phase)
            open_ = free.each(phase, size, view.numbers.size)
            for lengths, calm in calm_stretches(view, open_, storage):
                for starts in _some_starts(calm, lengths):
                    at, rows, columns = _begun(calm, starts)
                    places = calm.places[at]
                    counts = np.minimum(rows * columns, view.numbers.size - places)
                    fits = all_numbers(view, places, counts, storage)
                    begun.append((phase + size * places[fits], rows[fits], columns[fits]))
        if begun:
            found.append(
                _looked_at(seen, storage, *(np.concatenate(several) for several in zip(*begun, strict=True)))
            )
    return found


def _some_starts(calm: Calm, lengths: range) -> Iterator[_Starts]:
    """Where blocks of some row lengths may begin: those of several lengths at a time, as each has few."""
    found: list[_Starts] = []
    for columns in lengths:
        if calm.numbers.size > 4 * columns:
            found.append(_starts(calm, columns))
        if sum(f.places.size for f in found) > STARTS_AT_ONCE:
            yield from _Starts.all(found).parts()
            found = []
    if found:
        yield from _Starts.all(found).parts()


def _starts(calm: Calm, columns: int) -> _Starts:
    """Where four rows of a length bend little, and that before them more."""
    c, numbers = columns, calm.numbers
    bend = numbers[c:-c] * np.float32(-2.0)
    bend += numbers[: -2 * c]
    bend += numbers[2 * c :]
    np.minimum(np.abs(bend, out=bend), MOST_BEND, out=bend)
    sums = np.zeros(bend.size + 1)
    np.cumsum(bend, out=sums[1:])
    four = sums[2 * c :] - sums[: -2 * c]
    span = calm.span(4 * c)
    size = min(span.size, four.size)
    starts = np.flatnonzero(four[:size] < np.float32(2 * c * AT_FIRST) * span[:size])
    inside, span = four[starts] / (2 * c), span[starts]
    fits = (sums[starts] - sums[starts - c]) / c > np.maximum(AS_MUCH * inside, BREAK * span)
    starts, inside, span = starts[fits], inside[fits], span[fits]
    both = calm.across(starts[:, None] + c * np.arange(4), c) + inside
    fits = (both < 2.0 * AT_FIRST * span) & _least(starts, both)
    starts, span = starts[fits], span[fits]
    # Behind a stretch stands what is no number, which bends as much as a row can: none goes on to the end.
    rows = sums[np.minimum(starts[:, None] + c * np.arange(MOST_POINTS), bend.size)]
    return _Starts(starts, np.full(starts.size, c), span, (np.diff(rows, axis=1) / c).astype(np.float32))


def _least(starts: Ints, bends: FloatArray) -> Bools:
    """Whether no start right beside bends less."""
    found = np.ones(starts.size, np.bool_)
    beside = np.diff(starts) == 1
    found[1:] &= ~beside | (bends[1:] <= bends[:-1])
    found[:-1] &= ~beside | (bends[:-1] <= bends[1:])
    return found


def _begun(calm: Calm, starts: _Starts) -> tuple[Ints, Ints, Ints]:
    """Where blocks begin, how many rows and columns they have: up to where they bend on much more."""
    few, many = (_rows(starts.down, times, BREAK * starts.span) for times in TWICE)
    which = np.concatenate([np.arange(few.size), np.flatnonzero(many != few)])
    rows = np.concatenate([few, many[many != few]])
    places, columns = starts.places[which], starts.columns[which]
    fits = _as_whole(calm, places, rows, columns, starts.down[which])
    return places[fits], rows[fits], columns[fits]


def _rows(down: Numbers, times: float, least: Numbers) -> Ints:
    """How many rows there are up to one that bends more than the least and so many times more than those before it."""
    before = np.cumsum(down, axis=1)[:, 1:-2] / np.arange(2, down.shape[1] - 1)
    goes = down[:, 2:-1] <= np.maximum(times * before, least[:, None])
    return np.asarray(4 + np.logical_and.accumulate(goes, axis=1).sum(1))


def _as_whole(calm: Calm, starts: Ints, rows: Ints, columns: Ints, bends: Numbers) -> Bools:
    """Whether blocks bend little by four of their rows, and end where they say: a second look before a close one."""
    picked = starts[:, None] + columns[:, None] * (np.arange(4) * (rows[:, None] - 1) // 3)
    column = np.arange(MOST_POINTS)
    live = column < columns[:, None]
    numbers = np.where(live[:, None, :], calm.numbers[picked[:, :, None] + column * live[:, None, :]], 0.0)
    middle = numbers.sum((1, 2)) / (4 * columns)
    apart = np.abs(numbers - middle[:, None, None]).sum(1)
    span = np.where(live, apart, 0.0).sum(1) / columns
    sums = np.cumsum(bends, axis=1)
    every = np.arange(rows.size)
    down, below = sums[every, rows - 3] / (rows - 2), bends[every, rows - 2]
    little = calm.across(picked, columns) + down < 2.0 * UNLIKE * LOOSE * span
    return np.asarray(little & (below * UNLIKE >= AS_MUCH * down + GOES_ON * span))


def _looked_at(seen: NumbersSeen, storage: str, starts: Ints, rows: Ints, columns: Ints) -> Blocks:
    bent = bending_at(seen, storage, starts, rows, columns)
    with np.errstate(invalid="ignore"):
        good = (bent.bends < LOOSE) & ~bent.more_above & ~bent.more_below
    good &= ~seen.of_smaller(starts, storage, rows * columns)
    return Blocks(storage, rows[good], columns[good], starts[good], bent.bends[good])
