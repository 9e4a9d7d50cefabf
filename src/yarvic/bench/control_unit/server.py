"""The services of the simulated unit, ISO 14229-1: what it answers to a request, byte for byte. Written from the standard
and not with the tester's library, so that the two prove each other.
"""

from __future__ import annotations

import os
import time
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from yarvic.bench.control_unit.facts import NAME, read_facts, write_facts
from yarvic.bench.control_unit.memory import FlashMemory
from yarvic.bench.control_unit.supply import BROWN_OUT_V, LEAST_TO_PROGRAM_V, Supply
from yarvic.bench.control_unit.values import NAMES, LiveValues
from yarvic.core.calibration.image import check_image, check_marks, memory_of, name_in
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import CalibrationError
from yarvic.core.link.identifiers import (
    FIRST_VALUE,
    OPEN_LEVEL,
    PROGRAM_LEVEL,
    RANGE,
    Did,
    MemoryMap,
    Routine,
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
class _Transfer:
    upload: bool
    address: int
    left: int
    counter: int = 0  # of the block that was taken last
    last: bytes = b""  # what was sent last, for a block that is asked for again
    begun: bool = False


class Server:
    """A unit between two resets. Raises LinkError for a folder that is none of a unit."""

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
        self._transfer: _Transfer | None = None
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
        self.facts = self.facts.changed(**values)
        write_facts(self.folder, self.facts)

    @property
    def boot(self) -> bool:
        """Whether the boot loader runs: nothing whole is there, or it is being programmed."""
        return not self.whole or self.session == PROGRAMMING

    def answer(self, request: bytes) -> Iterator[bytes]:
        """The responses to a request; the last one is final. Raises PowerLost where the supply gives out."""
        self._take_up()
        if self.clock() - self._last_asked > S3_S and self.session != DEFAULT:
            self.session, self._unlocked, self._transfer = DEFAULT, False, None
        if self.supply.voltage_v(False) < BROWN_OUT_V:
            raise PowerLost
        service = request[0] if request else 0
        quiet = service in SUBFUNCTIONS and len(request) > 1 and bool(request[1] & 0x80)
        if quiet:
            request = bytes([request[0], request[1] & 0x7F]) + request[2:]
        handler = HANDLERS.get(service)
        try:
            if handler is None:
                raise Refused(NOT_SUPPORTED)
            for part in handler(self, request[1:]):
                if part is None:
                    yield bytes([0x7F, service, PENDING])
                elif not quiet:
                    yield bytes([service + 0x40]) + part
        except Refused as refused:
            yield bytes([0x7F, service, refused.code])
        self._last_asked = self.clock()

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
        _exactly(data, 1)
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
            _exactly(data, 1)
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
        _exactly(data, 1)
        if data[0]:
            raise Refused(NO_SUBFUNCTION)
        yield b"\x00"

    def reset(self, data: bytes) -> Iterator[bytes | None]:
        """ECUReset: hard, or key off and on."""
        _exactly(data, 1)
        if data[0] not in (1, 2):
            raise Refused(NO_SUBFUNCTION)
        if self.facts.engine_runs:
            raise Refused(CONDITIONS)
        yield data[:1]
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
            return UnitState(self.boot, self.whole, f.lock, f.opened or f.lock == "open", f.engine_runs).packed()
        if did == Did.SUPPLY:
            volts = self.supply.voltage_v(self._transfer is not None)
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
        _exactly(data, 2)
        confirmed = 0x08
        listed = b"".join(code_bytes(c) + bytes([confirmed]) for c in self.facts.codes if data[1] & confirmed)
        yield b"\x02" + b"\xff" + listed

    def clear_codes(self, data: bytes) -> Iterator[bytes | None]:
        """ClearDiagnosticInformation, of all groups or of one code."""
        _exactly(data, 3)
        left = () if data == b"\xff\xff\xff" else tuple(c for c in self.facts.codes if code_bytes(c) != data)
        if left and len(left) == len(self.facts.codes):
            raise Refused(RANGE_)
        if self.facts.engine_runs:
            raise Refused(CONDITIONS)
        self._keep(codes=left)
        yield b""

    # -- memory

    def _programs(self) -> None:
        """Raises Refused where nothing may be written."""
        if self.session != PROGRAMMING:
            raise Refused(NOT_IN_SESSION)
        if not self._unlocked:
            raise Refused(DENIED)
        if self.supply.voltage_v(True) < LEAST_TO_PROGRAM_V:
            raise Refused(VOLTAGE_LOW)

    def routine(self, data: bytes) -> Iterator[bytes | None]:
        """RoutineControl, startRoutine: erase, checksum of a range, whether what is there fits together."""
        if len(data) < 3:
            raise Refused(LENGTH)
        if data[0] != 1:
            raise Refused(NO_SUBFUNCTION)
        routine, rest = int.from_bytes(data[1:3], "big"), data[3:]
        if routine == Routine.CHECK_PROGRAMMING_DEPENDENCIES:
            _exactly(rest, 0)
            yield data[:3] + bytes([self._dependencies()])
            return
        if routine not in (Routine.ERASE_MEMORY, Routine.CHECKSUM):
            raise Refused(RANGE_)
        _exactly(rest, RANGE.size)
        address, size = RANGE.unpack(rest)
        if not self.memory.holds(address, size):
            raise Refused(RANGE_)
        if routine == Routine.CHECKSUM:
            yield data[:3] + zlib.crc32(self.memory.read(address, size)).to_bytes(4, "big")
            return
        yield from self._erase(address, size)
        yield data[:3] + b"\x00"

    def _erase(self, address: int, size: int) -> Iterator[None]:
        self._programs()
        sectors = self.memory.sectors(address, size)
        if not sectors:
            raise Refused(RANGE_)
        if RAISED_BY_WRITING not in self.facts.codes:
            self._keep(codes=(*self.facts.codes, RAISED_BY_WRITING))
        for at, length in sectors:
            if self.facts.erase_s / self.facts.speed * len(sectors) * 1000.0 > P2_MS:
                yield None
            pieces = range(0, length, PIECE)
            for piece in pieces:
                if "no_write" not in self.facts.misbehaves:
                    self.memory.erase(at + piece, min(PIECE, length - piece))
                self._spend(self.facts.erase_s / len(pieces))

    def _dependencies(self) -> int:
        """0: fits; 1: another family; 2: a checksum is wrong."""
        data = self.memory.all()
        try:
            check_marks(memory_of(data, self.layout), self.layout, "memory")
        except CalibrationError:
            return 1
        try:
            check_image(data, self.layout)
        except CalibrationError:
            return 2
        return 0

    def _request_transfer(self, data: bytes, upload: bool) -> Iterator[bytes | None]:
        if len(data) < 2:
            raise Refused(LENGTH)
        if data[0]:
            raise Refused(RANGE_)  # neither compressed nor encrypted
        sizes = data[1] >> 4, data[1] & 0x0F
        if not 1 <= min(sizes) <= max(sizes) <= 4:
            raise Refused(RANGE_)
        _exactly(data, 2 + sum(sizes))
        address = int.from_bytes(data[2 : 2 + sizes[1]], "big")
        size = int.from_bytes(data[2 + sizes[1] :], "big")
        if not self.memory.holds(address, size):
            raise Refused(RANGE_)
        if self._transfer is not None:
            raise Refused(CONDITIONS)
        self._transfer = _Transfer(upload, address, size)
        yield b"\x20" + (self.facts.block + 2).to_bytes(2, "big")

    def request_download(self, data: bytes) -> Iterator[bytes | None]:
        """RequestDownload: from the tester into the unit."""
        self._programs()
        yield from self._request_transfer(data, False)

    def request_upload(self, data: bytes) -> Iterator[bytes | None]:
        """RequestUpload: from the unit to the tester; reading is open to every session but the default one."""
        if self.session == DEFAULT:
            raise Refused(NOT_IN_SESSION)
        yield from self._request_transfer(data, True)

    def transfer(self, data: bytes) -> Iterator[bytes | None]:
        """TransferData. A block that comes again is acknowledged again and not taken twice."""
        if not data:
            raise Refused(LENGTH)
        t = self._transfer
        if t is None:
            raise Refused(SEQUENCE)
        counter, block = data[0], data[1:]
        if t.begun and counter == t.counter:
            yield data[:1] + t.last
            return
        if counter != (t.counter + 1) % 256:
            raise Refused(COUNTER)
        if not t.left:
            raise Refused(SEQUENCE)
        if t.upload:
            _exactly(block, 0)
            size = min(self.facts.block, t.left)
            t.last = self._given(t.address, size)
        else:
            size = len(block)
            if not size or size > self.facts.block or size > t.left:
                raise Refused(SUSPENDED)
            self._write(t.address, block)
        t.address, t.left, t.counter, t.begun = t.address + size, t.left - size, counter, True
        yield data[:1] + t.last

    def _write(self, address: int, block: bytes) -> None:
        self._sent[address] = block
        for start in range(0, len(block), PIECE):
            piece = block[start : start + PIECE]
            if "no_write" not in self.facts.misbehaves:
                self.memory.write(address + start, piece)
            if self.facts.write_s_kib:
                self._spend(self.facts.write_s_kib * len(piece) / 1024.0)

    def _given(self, address: int, size: int) -> bytes:
        if "false_read" in self.facts.misbehaves and address in self._sent:
            return self._sent[address][:size].ljust(size, b"\xff")
        return self.memory.read(address, size)

    def transfer_exit(self, data: bytes) -> Iterator[bytes | None]:
        """RequestTransferExit, once all of it came."""
        _exactly(data, 0)
        if self._transfer is None or self._transfer.left:
            raise Refused(SEQUENCE)
        self._transfer = None
        yield b""


def code_bytes(code: str) -> bytes:
    """A fault code as the three bytes of ISO 15031-6 with no failure type: P0301 is 03 01 00."""
    high = "PCBU".index(code[0]) << 14 | int(code[1:], 16)
    return high.to_bytes(2, "big") + b"\x00"


def _exactly(data: bytes, size: int) -> None:
    if len(data) != size:
        raise Refused(LENGTH)


SUBFUNCTIONS = (0x10, 0x11, 0x19, 0x27, 0x31, 0x3E)
HANDLERS: dict[int, Callable[[Server, bytes], Iterator[bytes | None]]] = {
    0x10: Server.session_control,
    0x11: Server.reset,
    0x14: Server.clear_codes,
    0x19: Server.read_codes,
    0x22: Server.read_data,
    0x27: Server.security_access,
    0x31: Server.routine,
    0x34: Server.request_download,
    0x35: Server.request_upload,
    0x36: Server.transfer,
    0x37: Server.transfer_exit,
    0x3E: Server.tester_present,
}
