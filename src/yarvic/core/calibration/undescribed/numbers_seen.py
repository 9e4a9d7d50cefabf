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
# Bytes of one number that differ by no more are nearly alike: one in eight low bytes of a wide number is by chance.
ALIKE_BYTES = 16
Bools = NDArray[np.bool_]
Ints = NDArray[np.int64]
Counts = NDArray[np.int32]  # half the memory, and a part of an image is far from its limit
Numbers = NDArray[np.floating[Any]]


@dataclass(frozen=True)
class Seen:
    """All numbers of a type from a byte on: the numbers, how many rise up to each, and after which a run may end.

    `none` and `negative` count what is no number, and what is below nought, before each place.
    """

    numbers: Numbers
    rising: Counts
    ends: Bools
    jumps: Bools
    none: Counts
    negative: Counts


class NumbersSeen:
    """A part of an image, its numbers seen as each type from each byte on; each view is worked out once."""

    def __init__(self, data: bytes, sign: str) -> None:
        self.data = data
        self.bytes = np.frombuffer(data, np.uint8)
        self.sign = sign
        self._seen: dict[tuple[str, int], Seen] = {}
        self._alike: dict[tuple[str, int], tuple[Counts, Counts]] = {}
        self._addressed: dict[tuple[str, str], NDArray[Any]] = {}

    def seen(self, storage: str, phase: int) -> Seen:
        """The view of a type from a byte on."""
        key = storage, phase
        if key not in self._seen:
            count = max((len(self.data) - phase) // SIZES[storage], 0)
            raw = np.frombuffer(self.data, self.sign + CODES[storage], count, phase) if count else np.zeros(0, "u1")
            self._seen[key] = _looked_over(_sane(raw, storage), storage)
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
            first = (addresses[mine] - phase) // size
            if first.min() >= 0 and first.max() + count <= numbers.size:
                found[mine] = rows_from(numbers, first, count)
            else:
                places = first[:, None] + np.arange(count)
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

    def of_smaller(self, starts: Ints, storage: str, counts: Ints) -> Bools:
        """Whether most of so many numbers from each address on are of bytes that are nearly alike.

        Then they are smaller numbers side by side, that step little: the low byte of a wide one may be any. A number that
        is the same as the next tells nothing.
        """
        size = SIZES[storage]
        found = np.zeros(starts.size, np.bool_)
        if size == 1:
            return found
        for phase in range(size):
            mine = np.flatnonzero(starts % size == phase)
            if mine.size:
                alike, some = self._alike_bytes(storage, phase)
                first = (starts[mine] - phase) // size
                last = np.minimum(first + counts[mine], alike.size - 1)
                found[mine] = 2 * (alike[last] - alike[first]) > some[last] - some[first]
        return found

    def _alike_bytes(self, storage: str, phase: int) -> tuple[Counts, Counts]:
        """How many numbers before each place are of bytes that are nearly alike, of how many that differ from the next."""
        key = storage, phase
        if key not in self._alike:
            size = SIZES[storage]
            count = max((len(self.data) - phase) // size, 0)
            each = self.bytes[phase : phase + size * count].reshape(count, size)
            apart = (each[:, 1:] - each[:, :1]).astype(np.int8)  # around the circle of bytes
            some = np.append((each[1:] != each[:-1]).any(1), False)[:count]
            self._alike[key] = counted((np.abs(apart.astype(np.int16)) <= ALIKE_BYTES).all(1) & some), counted(some)
        return self._alike[key]

    def rising_up_to(self, ends: Ints, storage: str) -> Ints:
        """How many numbers of a type rise up to each address (that behind the last of them)."""
        return self._of_last(ends, storage, "rising").astype(np.int64)

    def jumps_after(self, ends: Ints, storage: str) -> Bools:
        """Where a step much greater than that before follows on an address."""
        return self._of_last(ends, storage, "jumps")

    def in_a_row(self, starts: Ints, counts: Ints, storage: str) -> Numbers:
        """So many numbers from each address on, all one behind the other; NaN where the image has none."""
        numbers, size = self._by_address(storage, "numbers"), SIZES[storage]
        ends = np.cumsum(counts)
        places = size * np.arange(counts.sum()) + np.repeat(starts - size * (ends - counts), counts)
        if not places.size or (starts.min() >= 0 and (starts + size * (counts - 1)).max() < numbers.size):
            return np.asarray(numbers[places])
        inside = (places >= 0) & (places < numbers.size)
        found = np.full(places.size, np.nan, np.float32)
        found[inside] = numbers[places[inside]]
        return found

    def _of_last(self, ends: Ints, storage: str, what: str) -> NDArray[Any]:
        values = self._by_address(storage, what)
        last = ends - SIZES[storage]
        inside = (last >= 0) & (last < values.size)
        if inside.all():
            return values[last]
        found = np.zeros(ends.size, values.dtype)
        found[inside] = values[last[inside]]
        return found

    def _by_address(self, storage: str, what: str) -> NDArray[Any]:
        """What the views of a type say of each number, by the address that it begins at."""
        key = storage, what
        if key not in self._addressed:
            size = SIZES[storage]
            views: list[NDArray[Any]] = [getattr(self.seen(storage, phase), what) for phase in range(size)]
            found = np.empty(sum(v.size for v in views), views[0].dtype)
            for phase, view in enumerate(views):
                found[phase::size] = view
            self._addressed[key] = found
        return self._addressed[key]


def rows_from(numbers: Numbers, first: Ints, count: int) -> Numbers:
    """So many numbers from each place on, (places, count); all must be inside."""
    # As numpy.lib.stride_tricks.sliding_window_view, without its 15 microseconds a call.
    step, shape = numbers.itemsize, (max(numbers.size - count + 1, 0), count)
    windows: Numbers = np.ndarray(shape, numbers.dtype, numbers, 0, (step, step))
    return windows[first]


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
        self._before = counted(taken)

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


def _looked_over(v: Numbers, storage: str) -> Seen:
    # Whole numbers are always some, and unsigned ones never negative.
    none = counted(np.isnan(v)) if storage == "f32" else np.zeros(v.size + 1, np.int32)
    negative = counted(v < 0.0) if storage in SIGNED else np.zeros(v.size + 1, np.int32)
    if v.size < 2:
        nothing = np.zeros(v.size, np.bool_)
        return Seen(v, np.ones(v.size, np.int32), nothing, nothing, none, negative)
    with np.errstate(invalid="ignore"):
        steps = v[1:] - v[:-1]
        up = steps > 0
        place = np.arange(1, v.size + 1, dtype=np.int32)
        start = place.copy()
        start[1:] *= ~up
        rising = place - np.maximum.accumulate(start) + np.int32(1)
        jumps = np.zeros(v.size, np.bool_)
        jumps[1:-1] = up[:-1] & (steps[1:] > JUMP * steps[:-1])
        halts = up[:-1] & (HALT * steps[1:] < steps[:-1])
    ends = jumps.copy()
    ends[1:-1] |= halts
    ends[:-1] |= ~up
    ends[-1] = True
    return Seen(v, rising, ends, jumps, none, negative)


def counted(marks: Bools) -> Counts:
    """How many marks stand before each place, and in all."""
    found = np.zeros(marks.size + 1, np.int32)
    np.cumsum(marks, dtype=np.int32, out=found[1:])
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
