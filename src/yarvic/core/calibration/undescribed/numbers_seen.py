"""A raw image seen as numbers of every type from every byte on, and where they rise: what the table finder looks at."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.storing import CODES, SIZES

AXIS_TYPES = ("u8", "u16", "f32", "i16", "i8")
VALUE_TYPES = ("u8", "u16", "f32", "i16", "i8")
SIGNED = ("i8", "i16")
# What a table of an engine may hold as floating point. Our choice.
GREATEST_FLOAT, LEAST_FLOAT = 1e7, 1e-5
# A step this many times the one before it may be where one axis ends and something greater begins. Our choice.
JUMP = 2.5
# A step so many times smaller than the one before it may be where numbers of another kind begin. Our choice.
HALT = 4.0
Bools = NDArray[np.bool_]
Ints = NDArray[np.int64]
Numbers = NDArray[np.floating[Any]]


@dataclass(frozen=True)
class Seen:
    """All numbers of a type from a byte on: the numbers, how many rise up to each, and after which a run may end.

    `none` and `negative` count what is no number, and what is below nought, before each place.
    """

    numbers: Numbers
    rising: NDArray[np.int64]
    ends: Bools
    jumps: Bools
    none: NDArray[np.int64]
    negative: NDArray[np.int64]


class NumbersSeen:
    """A part of an image, its numbers seen as each type from each byte on; each view is worked out once."""

    def __init__(self, data: bytes, sign: str) -> None:
        self.data = data
        self.bytes = np.frombuffer(data, np.uint8)
        self.sign = sign
        self._seen: dict[tuple[str, int], Seen] = {}

    def seen(self, storage: str, phase: int) -> Seen:
        """The view of a type from a byte on."""
        key = storage, phase
        if key not in self._seen:
            count = max((len(self.data) - phase) // SIZES[storage], 0)
            raw = np.frombuffer(self.data, self.sign + CODES[storage], count, phase) if count else np.zeros(0, "u1")
            self._seen[key] = _looked_over(_sane(raw, storage))
        return self._seen[key]

    def at(self, addresses: Ints, storage: str, count: int) -> Numbers:
        """Numbers of a type from each address on, (addresses, count); NaN where the image has none."""
        size = SIZES[storage]
        found = np.full((addresses.size, count), np.nan, np.float32)
        for phase in range(min(size, len(self.data))):
            mine = np.flatnonzero(addresses % size == phase) if size > 1 else np.arange(addresses.size)
            numbers = self.seen(storage, phase).numbers
            if not mine.size or not numbers.size:
                continue
            places = ((addresses[mine] - phase) // size)[:, None] + np.arange(count)
            if places.min() >= 0 and places.max() < numbers.size:
                found[mine] = numbers[places]
            else:
                inside = (places >= 0) & (places < numbers.size)
                found[mine] = np.where(inside, numbers[np.where(inside, places, 0)], np.nan)
        return found

    def may_hold(self, starts: Ints, storage: str, counts: Ints) -> Bools:
        """Whether so many from each address on are all numbers and, of a type with signs, some of either.

        Where all are of one sign the same block is found without signs.
        """
        size = SIZES[storage]
        found = np.zeros(starts.size, np.bool_)
        for phase in range(size):
            mine = np.flatnonzero((starts % size == phase) & (starts + counts * size <= len(self.data)))
            if mine.size:
                found[mine] = all_numbers(
                    self.seen(storage, phase), (starts[mine] - phase) // size, counts[mine], storage
                )
        return found

    def rising_up_to(self, ends: Ints, storage: str) -> Ints:
        """How many numbers of a type rise up to each address (that behind the last of them)."""
        return self._of_last(ends, storage, "rising")

    def jumps_after(self, ends: Ints, storage: str) -> Ints:
        """1 where a step much greater than that before follows on an address."""
        return self._of_last(ends, storage, "jumps")

    def _of_last(self, ends: Ints, storage: str, what: str) -> Ints:
        size = SIZES[storage]
        found = np.zeros(ends.size, np.int64)
        for phase in range(size):
            mine = (ends % size == phase) & (ends >= phase + size) & (ends <= len(self.data))
            if mine.any():
                values: NDArray[np.int64] = getattr(self.seen(storage, phase), what)
                found[mine] = values[(ends[mine] - phase) // size - 1]
        return found


def all_numbers(seen: Seen, first: Ints, counts: Ints, storage: str) -> Bools:
    """Whether so many from each place on are all numbers and, of a type with signs, some of either."""
    found = seen.none[first + counts] == seen.none[first]
    if storage in SIGNED:
        below = seen.negative[first + counts] - seen.negative[first]
        found &= (below > 0) & (below < counts)
    return np.asarray(found)


class Free:
    """Which bytes no table has yet."""

    def __init__(self, taken: Bools) -> None:
        self._before = _counted(taken)

    def each(self, phase: int, size: int, count: int) -> Bools:
        """Whether all bytes of each of so many numbers are free, from a byte on."""
        before = self._before[phase : phase + size * count + 1 : size]
        return np.asarray(before[1:] == before[:-1])

    def all(self, starts: Ints, size: int | Ints) -> Bools:
        """Whether so many bytes from each address on are free; what lies beyond the end is not."""
        ends = starts + size
        inside = ends < self._before.size
        ends = np.where(inside, ends, 0)
        return np.asarray(inside & (self._before[ends] == self._before[np.where(inside, starts, 0)]))


def _looked_over(v: Numbers) -> Seen:
    none, negative = _counted(np.isnan(v)), _counted(v < 0.0)
    if v.size < 2:
        nothing = np.zeros(v.size, np.bool_)
        return Seen(v, np.ones(v.size, np.int64), nothing, nothing, none, negative)
    with np.errstate(invalid="ignore"):
        steps = v[1:] - v[:-1]
        up = steps > 0
        start = np.arange(v.size)
        start[1:][up] = 0
        rising = np.arange(v.size) - np.maximum.accumulate(start) + 1
        jumps = np.zeros(v.size, np.bool_)
        jumps[1:-1] = up[:-1] & (steps[1:] > JUMP * steps[:-1])
        halts = up[:-1] & (HALT * steps[1:] < steps[:-1])
    ends = jumps.copy()
    ends[1:-1] |= halts
    ends[:-1] |= ~up
    ends[-1] = True
    return Seen(v, rising, ends, jumps, none, negative)


def _counted(marks: Bools) -> Ints:
    """How many marks stand before each place, and in all."""
    found = np.zeros(marks.size + 1, np.int64)
    np.cumsum(marks, out=found[1:])
    return found


def _sane(numbers: NDArray[np.generic], storage: str) -> Numbers:
    """Numbers as floating point; what no table of an engine would hold is none."""
    if storage != "f32":
        return numbers.astype(np.float32)
    with np.errstate(invalid="ignore", over="ignore"):
        single = numbers.astype(np.float32)
        size = np.abs(single)
        good = np.isfinite(size) & (size < GREATEST_FLOAT) & ((size > LEAST_FLOAT) | (size == 0.0))
        return np.where(good, single, np.float32(np.nan))
