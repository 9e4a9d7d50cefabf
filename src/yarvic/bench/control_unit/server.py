"""The services of the simulated unit, ISO 14229-1: what it answers to a request, byte for byte. Written from the standard
and not with the tester's library, so that the two prove each other.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterator

from yarvic.bench.control_unit.session import (
    CONDITIONS,
    COUNTER,
    DEFAULT,
    DENIED,
    LENGTH,
    NO_SUBFUNCTION,
    NOT_IN_SESSION,
    NOT_SUPPORTED,
    P2_MS,
    PENDING,
    PIECE,
    PROGRAMMING,
    RAISED_BY_WRITING,
    RANGE_,
    S3_S,
    SEQUENCE,
    SUSPENDED,
    VOLTAGE_LOW,
    PowerLost,
    Refused,
    Transfer,
    UnitSession,
    exactly,
)
from yarvic.bench.control_unit.supply import BROWN_OUT_V, LEAST_TO_PROGRAM_V
from yarvic.core.calibration.image import check_image, check_marks, memory_of
from yarvic.core.errors import CalibrationError
from yarvic.core.link.identifiers import (
    RANGE,
    Routine,
)


class Server(UnitSession):
    """A unit that answers: how it stands, and its memory behind the services that erase, write and read it."""

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
            exactly(rest, 0)
            yield data[:3] + bytes([self._dependencies()])
            return
        if routine not in (Routine.ERASE_MEMORY, Routine.CHECKSUM):
            raise Refused(RANGE_)
        exactly(rest, RANGE.size)
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
        self.whole = False  # until it is looked at again, at the next start
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
        exactly(data, 2 + sum(sizes))
        address = int.from_bytes(data[2 : 2 + sizes[1]], "big")
        size = int.from_bytes(data[2 + sizes[1] :], "big")
        if not self.memory.holds(address, size):
            raise Refused(RANGE_)
        if self._transfer is not None:
            raise Refused(CONDITIONS)
        self._transfer = Transfer(upload, address, size)
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
            exactly(block, 0)
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
        exactly(data, 0)
        if self._transfer is None or self._transfer.left:
            raise Refused(SEQUENCE)
        self._transfer = None
        yield b""


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
