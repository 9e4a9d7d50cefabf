"""Layout: where tables and scalars lie in an image. A documented TOML file (docs/layout-file.md)."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from yarvic.core.document import Document, parse_toml, validated
from yarvic.core.errors import CalibrationError
from yarvic.core.reading import read_text, reader
from yarvic.core.units import UNITS

Storage = Literal["u8", "i8", "u16", "i16", "u32", "i32"]
_CODES: dict[str, str] = {"u8": "u1", "i8": "i1", "u16": "u2", "i16": "i2", "u32": "u4", "i32": "i4"}


# The largest memory, and the largest layout file, that are read.
MOST_MEMORY = 16 * 1024 * 1024
MOST_BYTES = 1_000_000
MOST_ENTRIES = 4000
Title = Annotated[str, Field(min_length=1, max_length=200)]
Address = Annotated[int, Field(ge=0, le=MOST_MEMORY)]
# No number of a table is larger, in any unit: what is, is a slip of the hand.
Bounded = Annotated[float, Field(ge=-1e100, le=1e100)]


class Stored(Document):
    """Numbers in memory: value = raw * factor + offset."""

    title: Title
    unit: str
    address: Address
    storage: Storage
    factor: Annotated[float, Field(ge=1e-12, le=1e12)]
    offset: Bounded = 0.0

    @model_validator(mode="after")
    def _known_unit(self) -> Stored:
        if self.unit not in UNITS:
            raise ValueError(f"unit {self.unit!r} is unknown")
        return self

    def span(self, count: int) -> tuple[int, int]:
        """First address and the one after the last, for `count` numbers."""
        return self.address, self.address + count * np.dtype(_CODES[self.storage]).itemsize


class AxisPlace(Stored):
    """An axis of `count` break points."""

    count: Annotated[int, Field(ge=1, le=64)]


class TablePlace(Stored):
    """A table, row by row, with its axes and hard bounds in table units."""

    key: Title
    low: Bounded
    high: Bounded
    decimals: Annotated[int, Field(ge=0, le=9)] = 1
    x: AxisPlace
    y: AxisPlace

    @model_validator(mode="after")
    def _in_order(self) -> TablePlace:
        _check_bounds(self.key, self.low, self.high)
        return self


class ScalarPlace(Stored):
    """A single number with hard bounds."""

    key: Title
    low: Bounded
    high: Bounded
    decimals: Annotated[int, Field(ge=0, le=9)] = 1

    @model_validator(mode="after")
    def _in_order(self) -> ScalarPlace:
        _check_bounds(self.key, self.low, self.high)
        return self


def _check_bounds(key: str, low: float, high: float) -> None:
    if low >= high:
        raise ValueError(f"{key}: low must be below high")


class Layout(Document):
    """Memory map of one family of control units. Addresses of tables are relative to the start of a slot."""

    family: Annotated[str, Field(pattern=r"^[ -~]{1,16}$")]
    version: Annotated[int, Field(ge=0, le=0xFFFF)]
    byte_order: Literal["big", "little"]
    size: Annotated[int, Field(gt=64, le=MOST_MEMORY)]
    block: Annotated[int, Field(ge=16, le=MOST_MEMORY)]
    slots: Annotated[tuple[Title, ...], Field(max_length=64)]
    slot_start: Address
    slot_size: Address
    tables: Annotated[tuple[TablePlace, ...], Field(max_length=MOST_ENTRIES)]
    scalars: Annotated[tuple[ScalarPlace, ...], Field(max_length=MOST_ENTRIES)]

    @model_validator(mode="after")
    def _fits(self) -> Layout:
        if not self.slots or self.slot_start < HEADER_SIZE:
            raise ValueError("slots must exist and lie behind the header")
        if self.slot_start + self.slot_size * len(self.slots) > self.size:
            raise ValueError("the slots do not fit into the memory")
        if self.size % self.block:
            raise ValueError("the memory is not a whole number of blocks")
        keys = [*(t.key for t in self.tables), *(s.key for s in self.scalars)]
        for names, what in ((keys, "table or value"), (list(self.slots), "slot")):
            if len(names) != len(set(names)):
                raise ValueError(f"a {what} is there twice")
        taken: list[tuple[int, int, str]] = [(*s.span(1), s.key) for s in self.scalars]
        for t in self.tables:
            taken.append((*t.x.span(t.x.count), f"{t.key} x"))
            taken.append((*t.y.span(t.y.count), f"{t.key} y"))
            taken.append((*t.span(t.x.count * t.y.count), t.key))
        taken.sort()
        for (_, end, a), (start, _, b) in pairwise(taken):
            if start < end:
                raise ValueError(f"{a} and {b} overlap")
        if taken and taken[-1][1] > self.slot_size:
            raise ValueError(f"{taken[-1][2]} reaches past the slot")
        return self

    def dtype(self, stored: Stored) -> np.dtype:
        """The NumPy type of a stored number, byte order included."""
        return np.dtype((">" if self.byte_order == "big" else "<") + _CODES[stored.storage])

    def slot_offset(self, slot: str) -> int:
        """Address at which a slot starts. Raises CalibrationError for an unknown slot."""
        if slot not in self.slots:
            raise CalibrationError(f"there is no slot {slot!r}", remedy=f"Slots: {', '.join(self.slots)}.")
        return self.slot_start + self.slots.index(slot) * self.slot_size


HEADER_SIZE = 64


def parse_layout(text: str, *, source: str = "layout") -> Layout:
    """A layout from TOML text. Raises CalibrationError naming the place of the first fault."""
    data = parse_toml(text, source=source, error_type=CalibrationError)
    return validated(Layout, data, source=source, error_type=CalibrationError)


@reader("layout", "Layout of a unit's memory, TOML", ".toml", MOST_BYTES)
def read_layout(path: Path) -> tuple[str, Layout]:
    """The text of a layout file and the layout it holds. Raises FormatError, CalibrationError."""
    text = read_text(path, MOST_BYTES)
    return text, parse_layout(text, source=path.name)
