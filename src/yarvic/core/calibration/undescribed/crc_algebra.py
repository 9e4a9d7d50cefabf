"""CRCs as linear maps, by which the start and the end of a range are found from its CRC without trying every pair.

Feeding a byte b to a register x gives A(x ^ b), with A linear over bits. With V(i) the exclusive-or of A^-j(b_j) for all
bytes before i, the register behind the bytes from s up to e, begun with I, is A^e(V(e) ^ V(s) ^ A^-s(I)): what depends on
the start and what depends on the end stand apart.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.checksum import Kind

Words = NDArray[np.uint32]
Ints = NDArray[np.int64]
BLOCK = 1 << 14  # bytes whose powers are kept; all further ones are those moved on


@dataclass(frozen=True)
class CrcRule:
    """A CRC: bits, polynomial as written from the highest bit, register at first, direction of bits, what is added last."""

    bits: int
    polynomial: int
    initial: int
    reflected: bool
    final: int

    @property
    def linear(self) -> tuple[int, int, bool]:
        """What two rules have in common that differ in a constant alone."""
        return self.bits, self.polynomial, self.reflected


_ALL16, _ALL32 = 0xFFFF, 0xFFFFFFFF
# The parameters as the public catalogue of CRC algorithms has them; the tests hold them against the library.
RULES: Mapping[Kind, CrcRule] = MappingProxyType(
    {
        "crc-32": CrcRule(32, 0x04C11DB7, _ALL32, True, _ALL32),
        "crc-32/jamcrc": CrcRule(32, 0x04C11DB7, _ALL32, True, 0),
        "crc-32/bzip2": CrcRule(32, 0x04C11DB7, _ALL32, False, _ALL32),
        "crc-32/mpeg-2": CrcRule(32, 0x04C11DB7, _ALL32, False, 0),
        "crc-32/cksum": CrcRule(32, 0x04C11DB7, 0, False, _ALL32),
        "crc-32/iscsi": CrcRule(32, 0x1EDC6F41, _ALL32, True, _ALL32),
        "crc-16/arc": CrcRule(16, 0x8005, 0, True, 0),
        "crc-16/modbus": CrcRule(16, 0x8005, _ALL16, True, 0),
        "crc-16/usb": CrcRule(16, 0x8005, _ALL16, True, _ALL16),
        "crc-16/umts": CrcRule(16, 0x8005, 0, False, 0),
        "crc-16/xmodem": CrcRule(16, 0x1021, 0, False, 0),
        "crc-16/ibm-3740": CrcRule(16, 0x1021, _ALL16, False, 0),
        "crc-16/genibus": CrcRule(16, 0x1021, _ALL16, False, _ALL16),
        "crc-16/spi-fujitsu": CrcRule(16, 0x1021, 0x1D0F, False, 0),
        "crc-16/kermit": CrcRule(16, 0x1021, 0, True, 0),
        "crc-16/mcrf4xx": CrcRule(16, 0x1021, _ALL16, True, 0),
        "crc-16/ibm-sdlc": CrcRule(16, 0x1021, _ALL16, True, _ALL16),
    }
)


class Map:
    """A linear map of words of 16 or 32 bits."""

    def __init__(self, columns: Words) -> None:
        self.columns = columns
        tables = np.zeros((columns.size // 8, 256), np.uint32)
        for bit, column in enumerate(columns):
            low = 1 << (bit % 8)
            tables[bit // 8, low : 2 * low] = tables[bit // 8, :low] ^ column
        self._tables = tables

    def __call__(self, words: Words) -> Words:
        """The map of each word."""
        found: Words = self._tables[0][words & 255]
        for n in range(1, len(self._tables)):
            found ^= self._tables[n][(words >> np.uint32(8 * n)) & 255]
        return found

    def of(self, word: int) -> int:
        """The map of one word."""
        return int(self(np.array([word], np.uint32))[0])

    def after(self, other: Map) -> Map:
        """This map of what the other gives."""
        return Map(self(other.columns))

    def times(self, count: int) -> Map:
        """The map so many times, none included."""
        found, square = Map(np.uint32(1) << np.arange(self.columns.size, dtype=np.uint32)), self
        while count:
            if count & 1:
                found = square.after(found)
            square = square.after(square)
            count >>= 1
        return found

    def powers(self, word: int, count: int) -> Words:
        """A word, its map, the map of that, and so on: (count,)."""
        found, step = np.array([word], np.uint32), self
        while found.size < count:
            found = np.concatenate([found, step(found)])
            step = step.after(step)
        return found[:count]


class Linear:
    """What the CRCs of one polynomial and direction have in common."""

    def __init__(self, bits: int, polynomial: int, reflected: bool) -> None:
        self.bits, self.reflected = bits, reflected
        most = (1 << bits) - 1
        if reflected:
            polynomial = int(f"{polynomial:0{bits}b}"[::-1], 2)

        def back(x: int) -> int:
            """One bit back."""
            if reflected:
                return (((x ^ polynomial) << 1 | 1) if x >> (bits - 1) else x << 1) & most
            return ((x ^ polynomial) >> 1 | 1 << (bits - 1)) if x & 1 else x >> 1

        def on(x: int) -> int:
            """One bit on."""
            if reflected:
                return x >> 1 ^ polynomial * (x & 1)
            return (x << 1 ^ polynomial * (x >> (bits - 1))) & most

        self.back, self.on = _byte(back, bits), _byte(on, bits)  # by one byte
        self._powers = [self.back]

    def moved_back(self, word: int, offsets: Ints) -> Words:
        """A word by so many bytes back each, (offsets,)."""
        found = np.full(offsets.size, word, np.uint32)
        power = self.back
        for bit in range(int(offsets.max()).bit_length() if offsets.size else 0):
            mine = (offsets >> bit) & 1 == 1
            found[mine] = power(found[mine])
            power = self._power(bit + 1)
        return found

    def _power(self, bit: int) -> Map:
        while len(self._powers) <= bit:
            self._powers.append(self._powers[-1].after(self._powers[-1]))
        return self._powers[bit]

    def sums(self, data: bytes) -> Words:
        """V(i) for each place of some bytes, (bytes + 1,)."""
        octets = np.frombuffer(data, np.uint8)
        low = 0 if self.reflected else self.bits - 8
        powers = [self.back.powers(1 << (low + n), min(BLOCK, max(octets.size, 1))) for n in range(8)]
        found = np.zeros(octets.size + 1, np.uint32)
        on, block = self.back.times(0), self.back.times(BLOCK)
        for start in range(0, octets.size, BLOCK):
            part = octets[start : start + BLOCK]
            total = np.zeros(part.size, np.uint32)
            for n, power in enumerate(powers):
                total ^= power[: part.size] * ((part >> n) & 1)
            found[start + 1 : start + 1 + part.size] = on(total)
            on = block.after(on)
        return np.bitwise_xor.accumulate(found)


def _byte(bit: Callable[[int], int], bits: int) -> Map:
    """The map of a byte from that of a bit."""
    columns = [1 << n for n in range(bits)]
    for _ in range(8):
        columns = [bit(x) for x in columns]
    return Map(np.array(columns, np.uint32))
