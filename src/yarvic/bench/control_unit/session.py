"""How the simulated unit stands between two resets: session, access, supply, data and codes; and its services for them."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from yarvic.bench.control_unit.facts import NAME, read_facts, write_facts
from yarvic.bench.control_unit.memory import FlashMemory
from yarvic.bench.control_unit.supply import BROWN_OUT_V, LEAST_TO_PROGRAM_V, Supply
from yarvic.bench.control_unit.values import NAMES, LiveValues
from yarvic.core.calibration.image import check_image, name_in
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import CalibrationError
from yarvic.core.link.identifiers import (
    FIRST_VALUE,
    OPEN_LEVEL,
    PROGRAM_LEVEL,
    Did,
    MemoryMap,
    SupplyState,
    UnitState,
    toy_key,
)

# Negative response codes, ISO 14229-1:2020 annex A.1; from memory.
NOT_SUPPORTED, NO_SUBFUNCTION, LENGTH, CONDITIONS, SEQUENCE, RANGE_, DENIED = 0x11, 0x12, 0x13, 0x22, 0x24, 0x31, 0x33
INVALID_KEY, ATTEMPTS, DELAY, NOT_ACCEPTED, SUSPENDED, FAILED, COUNTER = 0x35, 0x36, 0x37, 0x70, 0x71, 0x72, 0x73
PENDING, NOT_IN_SESSION, VOLTAGE_LOW = 0x78, 0x7F, 0x93
DEFAULT, PROGRAMMING, EXTENDED = 1, 2, 3
# P2 and P2* of the server, and the time after which a session ends by itself (S3), ISO 14229-2; from memory.
P2_MS, P2_STAR_MS, S3_S = 50, 5000, 5.0
PIECE = 256  # bytes written between two looks at the supply: what a cut in the middle of a block leaves
MOST_ATTEMPTS, DELAY_S = 3, 10.0
RAISED_BY_WRITING = "P0603"  # "keep alive memory": adaptations are lost with a write. SAE J2012; from memory.


class Refused(Exception):
    """A negative response."""

    def __init__(self, code: int) -> None:
        super().__init__(f"0x{code:02X}")
        self.code = code


class PowerLost(Exception):
    """The supply fell so far that the unit went out."""


@dataclass
class Transfer:
    """A transfer under way."""

    upload: bool
    address: int
    left: int
    counter: int = 0  # of the block that was taken last
    last: bytes = b""  # what was sent last, for a block that is asked for again
    begun: bool = False


class UnitSession:
    """A unit between two resets: its session, what is open to it, its supply, and what it tells of itself.

    Raises LinkError for a folder that is none of a unit.
    """

    def __init__(
        self,
        folder: Path,
        layout: Layout,
        clock: Callable[[], float] = time.monotonic,
        sleep: Callable[[float], None] = time.sleep,
    ) -> None:
        self.folder, self.layout, self.clock, self.sleep = folder, layout, clock, sleep
        self._facts_ns = -1
        self.facts = read_facts(folder)
        self.memory = FlashMemory(folder / "memory.bin", layout.base, self.facts.sector)
        self.supply = Supply(state=self.facts.charge)
        self.values = LiveValues(folder) if (folder / NAMES).exists() else None
        self._take_up()
        self._sent: dict[int, bytes] = {}  # what was sent to be written, by address
        self._owed_s = 0.0
        self._attempts, self._wait_until = 0, 0.0
        self._start()

    def _start(self) -> None:
        """Boot: run the image if it is whole and of this family, else stay in boot mode."""
        try:
            check_image(self.memory.all(), self.layout)
            self.whole = True
        except CalibrationError:
            self.whole = False
        self.session, self._unlocked = DEFAULT, False
        self._seed: bytes | None = None
        self._seed_level = 0
        self._transfer: Transfer | None = None
        self._last_asked = self.clock()

    def close(self) -> None:
        """Let go of its files."""
        self.memory.close()
        if self.values is not None:
            self.values.close()

    def _take_up(self) -> None:
        """What was done to the unit from outside: another battery, a maintainer, on the bench."""
        changed = os.stat(self.folder / NAME).st_mtime_ns
        if changed == self._facts_ns:
            return
        before, self.facts, self._facts_ns = self.facts, read_facts(self.folder), changed
        f = self.facts
        if f.charge != before.charge:
            self.supply.state = f.charge
        self.supply.maintained, self.supply.extra_a, self.supply.dip_v = f.maintained, f.extra_a, f.dip_v

    def _keep(self, **values: object) -> None:
        self._take_up()  # what was done to it meanwhile stays done
        self.facts = self.facts.changed(**values)
        write_facts(self.folder, self.facts)

    @property
    def boot(self) -> bool:
        """Whether the boot loader runs: nothing whole is there, or it is being programmed."""
        return not self.whole or self.session == PROGRAMMING

    def _spend(self, seconds: float) -> None:
        """Time that the unit needs, on its clock; the supply bears it. Raises PowerLost, Refused."""
        self.supply.passes(seconds, True)
        self._owed_s += seconds / self.facts.speed
        if self._owed_s > 0.002:
            self.sleep(self._owed_s)
            self._owed_s = 0.0
            self._take_up()
        volts = self.supply.voltage_v(True)
        if volts < BROWN_OUT_V:
            raise PowerLost
        if volts < LEAST_TO_PROGRAM_V:
            raise Refused(FAILED)

    # -- sessions, access

    def session_control(self, data: bytes) -> Iterator[bytes | None]:
        """DiagnosticSessionControl."""
        exactly(data, 1)
        wanted = data[0]
        if wanted not in (DEFAULT, PROGRAMMING, EXTENDED):
            raise Refused(NO_SUBFUNCTION)
        if wanted == PROGRAMMING and (self.facts.engine_runs or not self._may_program):
            raise Refused(CONDITIONS)
        self.session, self._unlocked, self._transfer = wanted, False, None
        yield bytes([wanted]) + P2_MS.to_bytes(2, "big") + (P2_STAR_MS // 10).to_bytes(2, "big")

    @property
    def _may_program(self) -> bool:
        """By its lock: some units are opened once, some take programming on the bench alone."""
        f = self.facts
        return f.lock == "open" or f.opened or (f.lock == "bench" and f.on_bench)

    def security_access(self, data: bytes) -> Iterator[bytes | None]:
        """SecurityAccess: seed at an odd level, key at the even one above."""
        if not data:
            raise Refused(LENGTH)
        level = data[0] - (data[0] % 2 == 0)
        if level not in (PROGRAM_LEVEL, OPEN_LEVEL):
            raise Refused(NO_SUBFUNCTION)
        if self.session == DEFAULT:
            raise Refused(NOT_IN_SESSION)
        if level == OPEN_LEVEL and self.facts.lock == "bench" and not self.facts.on_bench:
            raise Refused(CONDITIONS)
        if self.clock() < self._wait_until:
            raise Refused(DELAY)
        if data[0] % 2:
            exactly(data, 1)
            open_already = self._unlocked if level == PROGRAM_LEVEL else self.facts.opened
            seed = os.urandom(4)
            self._seed, self._seed_level = seed, level
            yield data[:1] + (bytes(4) if open_already else seed)
            return
        if self._seed is None or level != self._seed_level:
            raise Refused(SEQUENCE)
        right, self._seed = data[1:] == toy_key(level, self._seed), None
        if not right:
            self._attempts += 1
            if self._attempts >= MOST_ATTEMPTS:
                self._attempts, self._wait_until = 0, self.clock() + DELAY_S
                raise Refused(ATTEMPTS)
            raise Refused(INVALID_KEY)
        self._attempts = 0
        if level == OPEN_LEVEL:
            self._keep(opened=True)
        else:
            self._unlocked = True
        yield data[:1]

    def tester_present(self, data: bytes) -> Iterator[bytes | None]:
        """TesterPresent."""
        exactly(data, 1)
        if data[0]:
            raise Refused(NO_SUBFUNCTION)
        yield b"\x00"

    def reset(self, data: bytes) -> Iterator[bytes | None]:
        """ECUReset: hard, or key off and on."""
        exactly(data, 1)
        if data[0] not in (1, 2):
            raise Refused(NO_SUBFUNCTION)
        if self.facts.engine_runs:
            raise Refused(CONDITIONS)
        yield data[:1]
        self._keep(charge=min(max(self.supply.state, 0.0), 1.0))
        self._start()

    # -- data, codes

    def read_data(self, data: bytes) -> Iterator[bytes | None]:
        """ReadDataByIdentifier, several at once."""
        if not data or len(data) % 2:
            raise Refused(LENGTH)
        found = b""
        for n in range(0, len(data), 2):
            did = int.from_bytes(data[n : n + 2], "big")
            found += data[n : n + 2] + self._datum(did)
        yield found

    def _datum(self, did: int) -> bytes:
        f, layout = self.facts, self.layout
        if self.values is not None and FIRST_VALUE <= did < FIRST_VALUE + len(self.values.names):
            return self.values.raw(did - FIRST_VALUE)
        if did == Did.CHANNELS:
            return "\n".join(self.values.names if self.values is not None else ()).encode()
        if did == Did.RUNNING:
            return self._running().encode()
        if did == Did.STATE:
            return UnitState(self.boot, self.whole, f.lock, self._may_program, f.engine_runs).packed()
        if did == Did.SUPPLY:
            volts = self.supply.voltage_v(self.session == PROGRAMMING)
            return SupplyState(max(volts, 0.0), self.supply.rest_v(), self.supply.maintained).packed()
        if did == Did.MEMORY:
            return MemoryMap(layout.base, self.memory.length, self.memory.sector, self.facts.block).packed()
        texts = {
            Did.ACTIVE_SESSION: bytes([self.session]),
            Did.SOFTWARE_VERSION: layout.version.encode(),
            Did.SERIAL_NUMBER: f.serial.encode(),
            Did.VEHICLE: f.vehicle.encode(),
            Did.SYSTEM_NAME: f.name.encode(),
            Did.FAMILY: layout.family.encode(),
        }
        if did not in texts:
            raise Refused(RANGE_)
        return texts[Did(did)]

    def _running(self) -> str:
        return name_in(self.memory.all(), self.layout) if self.whole else ""

    def read_codes(self, data: bytes) -> Iterator[bytes | None]:
        """ReadDTCInformation, reportDTCByStatusMask."""
        if not data or data[0] != 0x02:
            raise Refused(NO_SUBFUNCTION)
        exactly(data, 2)
        confirmed = 0x08
        listed = b"".join(code_bytes(c) + bytes([confirmed]) for c in self.facts.codes if data[1] & confirmed)
        yield b"\x02" + b"\xff" + listed

    def clear_codes(self, data: bytes) -> Iterator[bytes | None]:
        """ClearDiagnosticInformation, of all groups or of one code."""
        exactly(data, 3)
        left = () if data == b"\xff\xff\xff" else tuple(c for c in self.facts.codes if code_bytes(c) != data)
        if left and len(left) == len(self.facts.codes):
            raise Refused(RANGE_)
        if self.facts.engine_runs:
            raise Refused(CONDITIONS)
        self._keep(codes=left)
        yield b""


def code_bytes(code: str) -> bytes:
    """A fault code as the three bytes of ISO 15031-6 with no failure type: P0301 is 03 01 00."""
    high = "PCBU".index(code[0]) << 14 | int(code[1:], 16)
    return high.to_bytes(2, "big") + b"\x00"


def exactly(data: bytes, size: int) -> None:
    if len(data) != size:
        raise Refused(LENGTH)
