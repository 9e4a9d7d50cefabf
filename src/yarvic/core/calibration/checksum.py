"""Checksums that a unit keeps over its own memory: computed, compared, and corrected after an edit.

CRC parameters are those of the library, which carries the names of the public catalogue of CRC algorithms.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import Annotated, Literal, get_args

import numpy as np
from fastcrc import crc16, crc32
from pydantic import Field, model_validator

from yarvic.core.calibration.described import Address, Described, Words_

Kind = Literal[
    "crc-32", "crc-32/bzip2", "crc-32/mpeg-2", "crc-32/jamcrc", "crc-32/iscsi", "crc-32/cksum",
    "crc-16/arc", "crc-16/modbus", "crc-16/usb", "crc-16/umts", "crc-16/ibm-3740", "crc-16/xmodem", "crc-16/kermit",
    "crc-16/ibm-sdlc", "crc-16/genibus", "crc-16/mcrf4xx", "crc-16/spi-fujitsu",
    "sum-8", "sum-16", "sum-32", "xor-8", "xor-16", "xor-32", "unknown",
]  # fmt: skip
KINDS: tuple[str, ...] = get_args(Kind)
_CRCS: Mapping[str, Callable[[bytes], int]] = MappingProxyType(
    {
        "crc-32": crc32.iso_hdlc, "crc-32/bzip2": crc32.bzip2, "crc-32/mpeg-2": crc32.mpeg_2,
        "crc-32/jamcrc": crc32.jamcrc, "crc-32/iscsi": crc32.iscsi, "crc-32/cksum": crc32.cksum,
        "crc-16/arc": crc16.arc, "crc-16/modbus": crc16.modbus, "crc-16/usb": crc16.usb, "crc-16/umts": crc16.umts,
        "crc-16/ibm-3740": crc16.ibm_3740, "crc-16/xmodem": crc16.xmodem, "crc-16/kermit": crc16.kermit,
        "crc-16/ibm-sdlc": crc16.ibm_sdlc, "crc-16/genibus": crc16.genibus, "crc-16/mcrf4xx": crc16.mcrf4xx,
        "crc-16/spi-fujitsu": crc16.spi_fujitsu,
    }
)  # fmt: skip
Complement = Literal["none", "ones", "twos"]
# From the first address on, up to and without the second.
Span = Annotated[tuple[Address, Address], Field(strict=False)]


class Checksum(Described):
    """A checksum: over which ranges, by which rule, and where it lies. `of` is how many bits are added at a time.

    `unknown` is one that nobody can compute here: said wherever it matters.
    """

    kind: Kind
    title: Words_ = ""
    ranges: Annotated[tuple[Span, ...], Field(max_length=64)] = ()
    address: Address | None = None
    byte_order: Literal["", "big", "little"] = ""
    of: Literal[0, 8, 16, 32] = 0
    complement: Complement = "none"

    @model_validator(mode="after")
    def _makes_sense(self) -> Checksum:
        if any(end <= start for start, end in self.ranges):
            raise ValueError("a range must end behind its start")
        if self.kind == "unknown":
            return self
        if self.address is None or not self.ranges:
            raise ValueError(f"checksum {self.kind} needs its ranges and its address")
        if self.of and not self.kind.startswith("sum"):
            raise ValueError("only sums are of words of another width")
        if self.of > self.bits:
            raise ValueError(f"a sum of {self.bits} bits cannot be of words of {self.of}")
        word = (self.of or self.bits) // 8
        if not self.kind.startswith("crc") and any((end - start) % word for start, end in self.ranges):
            raise ValueError(f"a range is not a whole number of words of {word * 8} bits")
        if any(start < self.address + self.bits // 8 and self.address < end for start, end in self.ranges):
            raise ValueError("the checksum lies in its own range: leave its place out of the ranges")
        return self

    @property
    def known(self) -> bool:
        """Whether it can be computed."""
        return self.kind != "unknown"

    @property
    def bits(self) -> int:
        """How long it is; 0 where that is not known."""
        return int(self.kind.partition("-")[2].partition("/")[0]) if self.known else 0

    @property
    def named(self) -> str:
        """What it is called in a sentence."""
        return self.title or (f"{self.kind} at 0x{self.address:X}" if self.address is not None else "a checksum")

    @property
    def place(self) -> tuple[int, int] | None:
        """Its own addresses: the first, and the one behind the last."""
        return (self.address, self.address + self.bits // 8) if self.known and self.address is not None else None

    def computed(self, data: bytes | bytearray, base: int, byte_order: str) -> int:
        """What it must be for a memory that starts at `base`. The ranges must lie in it."""
        memory = memoryview(data)
        parts = [memory[start - base : end - base] for start, end in self.ranges]
        part = bytes(parts[0]) if len(parts) == 1 else b"".join(parts)
        if self.kind in _CRCS:
            found = _CRCS[self.kind](part)
        else:
            order = ">" if (self.byte_order or byte_order) == "big" else "<"
            words = np.frombuffer(part, dtype=f"{order}u{(self.of or self.bits) // 8}")
            if self.kind.startswith("sum"):
                found = int(words.sum(dtype=np.uint64))
            else:
                found = int(np.bitwise_xor.reduce(words)) if words.size else 0
        most = (1 << self.bits) - 1
        if self.complement != "none":
            found = ~found + (self.complement == "twos")
        return found & most

    def stored(self, data: bytes | bytearray, base: int, byte_order: str) -> int:
        """What lies in its place."""
        assert self.place is not None
        start, end = self.place
        return int.from_bytes(data[start - base : end - base], self._order(byte_order))

    def correct(self, data: bytearray, base: int, byte_order: str) -> None:
        """Write what it must be into its place."""
        assert self.place is not None
        start, end = self.place
        must = self.computed(data, base, byte_order)
        data[start - base : end - base] = must.to_bytes(end - start, self._order(byte_order))

    def _order(self, byte_order: str) -> Literal["big", "little"]:
        return "big" if (self.byte_order or byte_order) == "big" else "little"
