"""Layout: where tables and scalars lie in an image. A documented TOML file (docs/layout-file.md)."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from yarvic.core.document import first_fault, parse_toml
from yarvic.core.errors import CalibrationError
from yarvic.core.units import UNITS

Storage = Literal["u8", "i8", "u16", "i16", "u32", "i32"]
_CODES: dict[str, str] = {"u8": "u1", "i8": "i1", "u16": "u2", "i16": "i2", "u32": "u4", "i32": "i4"}


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Stored(_Part):
    """Numbers in memory: value = raw * factor + offset."""

    title: str
    unit: str
    address: Annotated[int, Field(ge=0)]
    storage: Storage
    factor: Annotated[float, Field(gt=0)]
    offset: float = 0.0

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

    key: str
    low: float
    high: float
    decimals: int = 1
    x: AxisPlace
    y: AxisPlace


class ScalarPlace(Stored):
    """A single number with hard bounds."""

    key: str
    low: float
    high: float
    decimals: int = 1


class Layout(_Part):
    """Memory map of one family of control units. Addresses of tables are relative to the start of a slot."""

    family: Annotated[str, Field(min_length=1, max_length=16)]
    version: int
    byte_order: Literal["big", "little"]
    size: Annotated[int, Field(gt=64, le=16 * 1024 * 1024)]
    block: Annotated[int, Field(gt=0)]
    slots: tuple[str, ...]
    slot_start: int
    slot_size: int
    tables: tuple[TablePlace, ...]
    scalars: tuple[ScalarPlace, ...]

    @model_validator(mode="after")
    def _fits(self) -> Layout:
        if not self.slots or self.slot_start < HEADER_SIZE:
            raise ValueError("slots must exist and lie behind the header")
        if self.slot_start + self.slot_size * len(self.slots) > self.size:
            raise ValueError("the slots do not fit into the memory")
        if self.size % self.block:
            raise ValueError("the memory is not a whole number of blocks")
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
    try:
        return Layout.model_validate(data)
    except ValidationError as error:
        raise CalibrationError(first_fault(error), concerns=source, remedy="Correct the entry named.") from None


def read_layout(path: Path) -> Layout:
    """A layout from a TOML file. Raises CalibrationError."""
    try:
        return parse_layout(path.read_text("utf-8"), source=path.name)
    except (OSError, UnicodeDecodeError) as error:
        raise CalibrationError(
            f"cannot be read: {error}", concerns=str(path), remedy="Choose another file."
        ) from None
