"""Identifiers that tester and unit share: the standard's own, and ours in the ranges that it leaves to suppliers.

ISO 14229-1:2020, annex C.1 (data identifiers) and F.1 (routines), annex A.1 (negative response codes); from memory.
"""

from __future__ import annotations

import hashlib
import hmac
import struct
from dataclasses import dataclass
from enum import IntEnum


class Did(IntEnum):
    """Data that a unit gives by identifier."""

    ACTIVE_SESSION = 0xF186  # activeDiagnosticSessionDataIdentifier
    SOFTWARE_VERSION = 0xF189  # vehicleManufacturerECUSoftwareVersionNumber: here the version of the layout
    SERIAL_NUMBER = 0xF18C  # ECUSerialNumber
    VEHICLE = 0xF190  # VIN
    SYSTEM_NAME = 0xF197  # systemNameOrEngineType
    # Of the system supplier (0xFD00 to 0xFEFF): ours.
    FAMILY = 0xFD00
    RUNNING = 0xFD01  # the name that the running image bears
    STATE = 0xFD02
    SUPPLY = 0xFD03
    MEMORY = 0xFD04
    CHANNELS = 0xFD05  # keys of the channels that it gives, a line each; their values follow from FIRST_VALUE on


class Routine(IntEnum):
    """Routines of a unit."""

    ERASE_MEMORY = 0xFF00
    CHECK_PROGRAMMING_DEPENDENCIES = 0xFF01
    CHECKSUM = 0x0202  # ours: CRC-32 of a range


# Of the vehicle maker (0x0100 to 0xA5FF): ours, one channel each, single precision, big-endian, in canonical units.
FIRST_VALUE = 0x0200
TEXTS = (Did.SOFTWARE_VERSION, Did.SERIAL_NUMBER, Did.VEHICLE, Did.SYSTEM_NAME, Did.FAMILY, Did.RUNNING, Did.CHANNELS)
# Levels of SecurityAccess: what opens programming for a session, and what opens a locked unit for good (0x61 to 0x7E are
# the system supplier's).
PROGRAM_LEVEL, OPEN_LEVEL = 0x01, 0x61
RANGE = struct.Struct(">II")  # address and size, four bytes each
_STATE = struct.Struct(">BBBBB")
_SUPPLY = struct.Struct(">HHB")
_MEMORY = struct.Struct(">IIII")
LOCKS = ("open", "once", "bench")


@dataclass(frozen=True)
class UnitState:
    """How a unit stands: `boot` while no whole image is there to run; `lock`, and whether it is `opened`: takes programming
    as it lies.
    """

    boot: bool
    whole: bool
    lock: str
    opened: bool
    engine_runs: bool

    def packed(self) -> bytes:
        """As bytes."""
        return _STATE.pack(self.boot, self.whole, LOCKS.index(self.lock), self.opened, self.engine_runs)

    @classmethod
    def unpacked(cls, data: bytes) -> UnitState:
        """From bytes. Raises ValueError for what are none."""
        if len(data) != _STATE.size:
            raise ValueError(f"{len(data)} bytes are no state")
        boot, whole, lock, opened, runs = _STATE.unpack(data)
        if lock >= len(LOCKS):
            raise ValueError(f"there is no lock {lock}")
        return cls(bool(boot), bool(whole), LOCKS[lock], bool(opened), bool(runs))


@dataclass(frozen=True)
class SupplyState:
    """Supply voltage at the unit, at rest and now, and whether a maintainer holds it."""

    voltage_v: float
    rest_v: float
    maintained: bool

    def packed(self) -> bytes:
        """As bytes, in millivolts."""
        return _SUPPLY.pack(round(self.voltage_v * 1000), round(self.rest_v * 1000), self.maintained)

    @classmethod
    def unpacked(cls, data: bytes) -> SupplyState:
        """From bytes. Raises ValueError for what are none."""
        if len(data) != _SUPPLY.size:
            raise ValueError(f"{len(data)} bytes are no supply")
        voltage, rest, maintained = _SUPPLY.unpack(data)
        return cls(voltage / 1000.0, rest / 1000.0, bool(maintained))


@dataclass(frozen=True)
class MemoryMap:
    """Where a unit's memory lies, how much of it there is, what is erased at once and what comes in one block."""

    base: int
    length: int
    sector: int
    block: int

    def packed(self) -> bytes:
        """As bytes."""
        return _MEMORY.pack(self.base, self.length, self.sector, self.block)

    @classmethod
    def unpacked(cls, data: bytes) -> MemoryMap:
        """From bytes. Raises ValueError for what are none."""
        if len(data) != _MEMORY.size:
            raise ValueError(f"{len(data)} bytes are no memory map")
        found = cls(*_MEMORY.unpack(data))
        if not found.length or not found.sector or not found.block:
            raise ValueError("a memory of nothing")
        return found

    @property
    def sectors(self) -> int:
        """How many sectors there are; the last may be shorter."""
        return -(-self.length // self.sector)

    def sector_at(self, index: int) -> tuple[int, int]:
        """Address and size of a sector."""
        start = index * self.sector
        return self.base + start, min(self.sector, self.length - start)


def toy_key(level: int, seed: bytes) -> bytes:
    """The key to a seed. A toy of the simulated unit: it keeps nobody out, and no real unit knows it."""
    return hmac.new(b"yarvic simulated unit", bytes([level]) + seed, hashlib.sha256).digest()[:4]
