"""A raw image seen as numbers of every type from every byte on, and where they rise: what the table finder looks at."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.storing import CODES, SIZES
from yarvic.core.physics import FloatArray

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


@dataclass(frozen=True)
class Seen:
    """All numbers of a type from a byte on: the numbers, how many rise up to each, and after which a run may end."""

    numbers: FloatArray
    rising: NDArray[np.int64]
    ends: Bools
    jumps: Bools


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

    def at(self, addresses: Ints, storage: str, count: int) -> FloatArray:
        """Numbers of a type from each address on, (addresses, count); NaN where the image has none."""
        size = SIZES[storage]
        found = np.full((addresses.size, count), np.nan)
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


def _looked_over(v: FloatArray) -> Seen:
    if v.size < 2:
        nothing = np.zeros(v.size, np.bool_)
        return Seen(v, np.ones(v.size, np.int64), nothing, nothing)
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
    return Seen(v, rising, ends, jumps)


def _sane(numbers: NDArray[np.generic], storage: str) -> FloatArray:
    """Numbers as floating point; what no table of an engine would hold is none."""
    if storage != "f32":
        return numbers.astype(np.float64)
    with np.errstate(invalid="ignore", over="ignore"):
        single = numbers.astype(np.float32)
        size = np.abs(single)
        good = np.isfinite(size) & (size < GREATEST_FLOAT) & ((size > LEAST_FLOAT) | (size == 0.0))
        return np.where(good, single, np.nan).astype(np.float64)
