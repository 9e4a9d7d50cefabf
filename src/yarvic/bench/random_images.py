"""Images with random layouts, to measure by how much of what lies in them can be found without a description.

Invented from end to end: tables of all widths and both byte orders with axes of their own or shared, between code-like
noise, erased memory, texts, lists of addresses and single values.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yarvic.bench.table_families import FAMILIES
from yarvic.core.calibration.storing import CODES
from yarvic.core.calibration.undescribed.discover import FoundTable
from yarvic.core.physics import FloatArray

WIDTHS = ("u8", "i8", "u16", "i16", "f32")
SHARE = (0.3, 0.1, 0.35, 0.15, 0.1)
ERASED = 0xFF
# What lies between tables, and how often.
BETWEEN = {"code": 0.4, "erased": 0.1, "zeros": 0.08, "text": 0.1, "pointers": 0.12, "values": 0.15, "ramp": 0.05}


@dataclass(frozen=True)
class Hidden:
    """A table that was put into an image: where its values begin, of which type and shape, and its axes' places."""

    address: int
    storage: str
    rows: int
    columns: int
    x_address: int
    y_address: int
    shared: bool


@dataclass(frozen=True)
class RandomImage:
    """The bytes, the byte order of all numbers in them, and what was hidden."""

    data: bytes
    byte_order: str
    tables: tuple[Hidden, ...]


def random_image(seed: int, tables: int = 40, apart: int = 1, family: str = "bent") -> RandomImage:
    """An image of its own for every seed; what lies between tables is `apart` times as long."""
    return _Maker(np.random.default_rng(seed), apart, family).image(tables)


class _Maker:
    def __init__(self, random: np.random.Generator, apart: int, family: str) -> None:
        self.r = random
        self.family = family
        self.apart = apart
        self.order = "big" if random.random() < 0.5 else "little"
        self.align = int(random.choice([1, 2, 4]))
        self.data = bytearray()
        self.found: list[Hidden] = []
        self.pool: list[tuple[int, int]] = []  # address and count of shared axes

    def image(self, tables: int) -> RandomImage:
        self._filler()
        if self.r.random() < 0.7:
            for _ in range(int(self.r.integers(3, 9))):
                count = int(self.r.integers(6, 21))
                self._aligned()
                self.pool.append((len(self.data), count))
                self.data += self._bytes(self._axis(count, "u16"), "u16")
            self._filler()
        for _ in range(tables):
            self._table()
            if self.r.random() < 0.5:
                self._filler()
        self._filler()
        return RandomImage(bytes(self.data), self.order, tuple(self.found))

    def _aligned(self) -> None:
        while len(self.data) % self.align:
            self.data.append(0)

    def _bytes(self, values: NDArray[Any], storage: str) -> bytes:
        code = (">" if self.order == "big" else "<") + CODES[storage]
        return np.asarray(values).astype(code).tobytes()

    def _axis(self, count: int, storage: str) -> FloatArray:
        """Break points that rise, even or wider to one end, as engine speeds, loads and temperatures are."""
        steps = np.ones(count - 1) * self.r.uniform(0.6, 1.4)
        steps *= 1.0 + self.r.uniform(0.0, 2.5) * np.linspace(0.0, 1.0, count - 1) ** self.r.uniform(0.5, 2.0)
        steps *= np.where(self.r.random(count - 1) < 0.15, 2.0, 1.0)
        share = np.concatenate([[0.0], np.cumsum(steps)])
        share /= share[-1]
        most = 250 if storage == "u8" else int(self.r.choice([400, 2000, 7000, 12000, 30000]))
        low = self.r.uniform(0.0, 0.2) * most
        values = np.round(low + share * (most - low))
        for n in range(1, count):
            values[n] = max(values[n], values[n - 1] + 1)
        return values

    def _values(self, rows: int, columns: int, storage: str) -> FloatArray:
        z = np.clip(FAMILIES[self.family](self.r, rows, columns), 0.0, 1.0)
        if storage == "f32":
            scale = 10.0 ** self.r.uniform(-1.0, 3.0)
            return np.asarray(z * scale + self.r.normal(0.0, 1.0) * scale)
        info = np.iinfo(np.dtype(CODES[storage]))
        most = float(info.max) * self.r.uniform(0.15, 0.95)
        low = -most * self.r.uniform(0.2, 0.8) if info.min < 0 else most * self.r.uniform(0.0, 0.4)
        return np.asarray(np.round(low + z * (most - low)))

    def _table(self) -> None:
        rows, columns = (int(v) for v in self.r.integers(6, 21, 2))
        storage = str(self.r.choice(WIDTHS, p=SHARE))
        shared = bool(self.pool) and self.r.random() < 0.4
        if shared:
            (x, columns), (y, rows) = (self.pool[int(n)] for n in self.r.integers(0, len(self.pool), 2))
        else:
            axis = "u8" if storage in ("u8", "i8") and self.r.random() < 0.6 else "f32" if storage == "f32" else "u16"
            if self.r.random() < 0.4:
                self._aligned()
                code = "u8" if self.r.random() < 0.5 else "u16"
                self.data += self._bytes(np.array([columns, rows]), code)
            self._aligned()
            x = len(self.data)
            self.data += self._bytes(self._axis(columns, axis), axis)
            self._aligned()
            y = len(self.data)
            self.data += self._bytes(self._axis(rows, axis), axis)
        self._aligned()
        self.found.append(Hidden(len(self.data), storage, rows, columns, x, y, shared))
        self.data += self._bytes(self._values(rows, columns, storage), storage)

    def _filler(self) -> None:
        """What lies between tables."""
        kind = self.r.choice(list(BETWEEN), p=list(BETWEEN.values()))
        count = int(self.r.integers(20, 1500)) * self.apart
        if kind == "code":
            common = self.r.integers(0, 256, 24)
            drawn = np.where(self.r.random(count) < 0.4, self.r.choice(common, count), self.r.integers(0, 256, count))
            self.data += drawn.astype(np.uint8).tobytes()
        elif kind in ("erased", "zeros"):
            self.data += bytes([ERASED if kind == "erased" else 0]) * count
        elif kind == "text":
            letters = np.array(list(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789 ._-"), np.uint8)
            self.data += self.r.choice(letters, count).tobytes() + b"\0"
        elif kind == "pointers":
            self._aligned()
            start = int(self.r.integers(0x80000, 0x8FFFFF))
            self.data += self._bytes(start + np.cumsum(self.r.integers(4, 400, count // 8)), "u32")
        elif kind == "values":
            self._aligned()
            self.data += self._bytes(self.r.integers(0, 60000, count // 4), "u16")
        else:
            self.data += (np.arange(count % 200) % 256).astype(np.uint8).tobytes()


@dataclass(frozen=True)
class Score:
    """How much of what was hidden was found to the cell, and how much of what was proposed had been hidden."""

    hidden: int
    proposed: int
    right: int

    @property
    def recall(self) -> float:
        """Right of hidden; NaN where nothing was hidden."""
        return self.right / self.hidden if self.hidden else float("nan")

    @property
    def precision(self) -> float:
        """Right of proposed; NaN where nothing was proposed."""
        return self.right / self.proposed if self.proposed else float("nan")

    def __add__(self, other: Score) -> Score:
        return Score(self.hidden + other.hidden, self.proposed + other.proposed, self.right + other.right)


def score(hidden: Sequence[Hidden], found: Sequence[FoundTable], least: int = 6, confidence: float = 0.0) -> Score:
    """Held against what was hidden: place, bytes of a number, rows and columns must all be right; the sign may differ."""
    there = {(t.address, t.storage[1:], t.rows, t.columns) for t in hidden if min(t.rows, t.columns) >= least}
    proposed = {
        (t.address, t.storage[1:], t.rows, t.columns)
        for t in found
        if min(t.rows, t.columns) >= least and t.confidence >= confidence
    }
    return Score(len(there), len(proposed), len(there & proposed))
