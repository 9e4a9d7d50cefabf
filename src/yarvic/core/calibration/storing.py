"""How a number lies in a memory: its type, its bits, its conversion; exact to the stored bit."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from math import ceil, log10
from types import MappingProxyType
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.conversion import PLAIN, Linear, Points, Rational, Words
from yarvic.core.physics import FloatArray, Value
from yarvic.core.units import to_places

Storage = Literal["u8", "i8", "u16", "i16", "u32", "i32", "f32", "f64"]
CODES: Mapping[str, str] = MappingProxyType(
    {"u8": "u1", "i8": "i1", "u16": "u2", "i16": "i2", "u32": "u4", "i32": "i4", "f32": "f4", "f64": "f8"}
)
SIZES: Mapping[str, int] = MappingProxyType({name: int(code[1]) for name, code in CODES.items()})
# What rounding may miss a bound by, and the most digits that are shown.
BOUND_SLACK = 1e-9
MOST_DECIMALS = 6
Raw = NDArray[np.float64]


def dtype_of(storage: str, byte_order: str) -> np.dtype:
    """The NumPy type of a stored number."""
    return np.dtype((">" if byte_order == "big" else "<") + CODES[storage])


@dataclass(frozen=True)
class Storing:
    """How one kind of number is stored. `mask` picks bits of a whole number; they count from its lowest bit on.

    `storage` is empty where only the steps are known: whole steps without end.
    """

    storage: Storage | Literal[""] = ""
    conversion: Linear | Rational | Points | Words = PLAIN
    mask: int = 0

    @property
    def whole(self) -> bool:
        """Whether it stores whole numbers."""
        return self.storage not in ("f32", "f64")

    @property
    def step(self) -> float:
        """What one count is worth; NaN where that differs from count to count."""
        linear = isinstance(self.conversion, Linear)
        return abs(self.conversion.factor) if linear and self.whole else float("nan")  # type: ignore[union-attr]

    @property
    def origin(self) -> float:
        """What a stored zero stands for."""
        return self.conversion.offset if isinstance(self.conversion, Linear) else 0.0

    @property
    def shift(self) -> int:
        """How far the bits lie from the lowest."""
        return (self.mask & -self.mask).bit_length() - 1 if self.mask else 0

    @cached_property
    def raw_limits(self) -> tuple[float, float]:
        """The least and the greatest raw number."""
        if self.mask:
            return 0.0, float(self.mask >> self.shift)
        if not self.storage:
            return -np.inf, np.inf
        code = np.dtype(CODES[self.storage])
        info = np.iinfo(code) if self.whole else np.finfo(code)
        return float(info.min), float(info.max)

    @cached_property
    def limits(self) -> tuple[float, float]:
        """The least and the greatest value that can be stored; without end where the conversion has a pole."""
        if isinstance(self.conversion, Points):
            return min(self.conversion.values), max(self.conversion.values)
        if isinstance(self.conversion, Rational):
            return -np.inf, np.inf
        if not self.storage and not self.mask:
            return -np.inf, np.inf
        ends = sorted(float(v) for v in np.asarray(self.value(np.array(self.raw_limits))))
        return ends[0], ends[1]

    def value(self, raw: Value) -> Value:
        """What raw numbers stand for: the same from memory and from an edit."""
        raw = np.asarray(raw, dtype=np.float64)
        found = self.conversion.value(raw)
        if isinstance(self.conversion, Linear) and self.whole:
            # Whole steps of a decimal factor are that decimal, not its neighbour in binary.
            return to_places(found, max(9, 6 + ceil(-log10(abs(self.conversion.factor)))))
        return found

    def raw(self, value: Value) -> Raw:
        """The raw numbers that are stored for values: the nearest that there are. NaN stays NaN."""
        found = np.asarray(self.conversion.raw(np.asarray(value, dtype=np.float64)), dtype=np.float64)
        if self.whole:
            rounded = np.round(found)
            return self._exact(rounded, value) if isinstance(self.conversion, Rational) else rounded
        if self.storage == "f32":
            with np.errstate(over="ignore"):
                return found.astype(np.float32).astype(np.float64)
        return found

    def _exact(self, raw: Raw, value: Value) -> Raw:
        """Of the counts around some, those whose values are the nearest: near its ends a function's inverse is coarse."""
        wanted = np.asarray(value, dtype=np.float64)
        with np.errstate(invalid="ignore"):  # at the pole
            best, off = raw, np.abs(np.asarray(self.value(raw)) - wanted)
            for step in (-1.0, 1.0, -2.0, 2.0):
                other = raw + step
                away = np.abs(np.asarray(self.value(other)) - wanted)
                better = away < off
                best, off = np.where(better, other, best), np.where(better, away, off)
        return np.asarray(best, dtype=np.float64)

    def nearest(self, value: Value, low: float, high: float) -> FloatArray:
        """The nearest values that can be stored; one within the bounds stays within them."""
        value = np.asarray(value, dtype=np.float64)
        raw = self.raw(value)
        inside = (value >= low - BOUND_SLACK) & (value <= high + BOUND_SLACK)
        if isinstance(self.conversion, Linear) and self.whole:
            ends = sorted((v - self.conversion.offset) / self.conversion.factor for v in (low, high))
            slack = 1e-6
            least, most = np.ceil(ends[0] - slack), np.floor(ends[1] + slack)
            if least <= most:
                raw = np.where(inside, np.clip(raw, least, most), raw)
            return np.asarray(self.value(raw), dtype=np.float64)
        found = np.asarray(self.value(raw), dtype=np.float64)
        # One count further in, where rounding led out.
        for step in (1.0, -1.0):
            other = np.asarray(self.value(self._beside(raw, step)), dtype=np.float64)
            out = inside & ~((found >= low - BOUND_SLACK) & (found <= high + BOUND_SLACK))
            found = np.where(out & (other >= low - BOUND_SLACK) & (other <= high + BOUND_SLACK), other, found)
        return found

    def _beside(self, raw: Raw, step: float) -> Raw:
        """The raw numbers next to some, up or down."""
        if self.whole:
            return raw + step
        if self.storage == "f32":
            with np.errstate(over="ignore"):
                return np.nextafter(raw.astype(np.float32), np.float32(step * np.inf)).astype(np.float64)
        return np.asarray(np.nextafter(raw, step * np.inf), dtype=np.float64)

    def decimals(self, wanted: int) -> int:
        """Digits behind the point, at least the wanted ones, that name every number that can be stored.

        Exactly, where two digits more than tell neighbours apart are enough for that; else so finely that a number
        that is typed as it is shown finds its own step again. Numbers without even steps have the wanted ones.
        """
        step = self.step
        if not step > 0.0:
            return wanted
        for places in range(wanted, MOST_DECIMALS):
            if self._on(10.0**-places):
                return places
            if 10.0**-places < step * (1.0 - 1e-9):
                return next((p for p in (places + 1, places + 2) if self._on(10.0**-p)), places)
        return max(wanted, MOST_DECIMALS)

    def _on(self, grid: float) -> bool:
        """Whether all numbers that can be stored are multiples of a power of ten."""
        return all(abs(v / grid - round(v / grid)) < 1e-6 for v in (self.step, self.origin))

    @property
    def words(self) -> Words | None:
        """The words that its numbers stand for, where they are words."""
        return self.conversion if isinstance(self.conversion, Words) else None


def steps(step: float, origin: float = 0.0) -> Storing:
    """Whole steps from an origin, of any number of them."""
    return Storing("", Linear(factor=step, offset=origin))
