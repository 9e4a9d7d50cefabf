"""A tester's side of the diagnostic services, ISO 14229-1, by udsoncan over a line of ISO 15765-2.

A request whose answer does not come is asked again where that does no harm: the standard lets a unit acknowledge a block
of a transfer twice and take it once. Every refusal and every silence becomes a LinkError that says what to do.
"""

from __future__ import annotations

import logging
import time
import tomllib
from collections.abc import Callable, Iterator
from functools import cache
from importlib.resources import files
from typing import Any, TypeVar

import can
import udsoncan
from udsoncan.client import Client
from udsoncan.exceptions import (
    ConfigError,
    InvalidResponseException,
    NegativeResponseException,
    TimeoutException,
    UnexpectedResponseException,
)

from yarvic.core.errors import LinkError
from yarvic.core.link.identifiers import (
    OPEN_LEVEL,
    PROGRAM_LEVEL,
    RANGE,
    TEXTS,
    Did,
    MemoryMap,
    Routine,
    SupplyState,
    UnitState,
    toy_key,
)
from yarvic.core.link.transport import TESTER, UNIT, IsoTp, TransportError, asked_or_answered
from yarvic.core.link.unit import FaultCode, titled

T = TypeVar("T")
ATTEMPTS = 3
ANSWER_S, PENDING_S = 1.0, 5.0  # how long an answer is waited for, and after one that says it takes longer
# busyRepeatRequest of ISO 14229-1 (from memory): it is asked again, so often and so far apart. Our choice.
BUSY_REPEAT, MOST_BUSY, BUSY_S = 0x21, 20, 0.1
LISTEN_S = 0.25  # how long the bus is listened to. Our choice.
CONFIRMED = 0x08  # confirmedDTC among the status bits of ISO 14229-1, annex D.2; from memory
ALL_GROUPS = 0xFFFFFF
MOST_TEXT = 4096
# What the library raises of an answer that is none; the last of a length of more than eight bytes.
NO_ANSWERS = (InvalidResponseException, UnexpectedResponseException, ConfigError, ValueError, NotImplementedError)


class Refusal(LinkError):
    """The unit answered and said no. `code` is the negative response code."""

    def __init__(self, what: str, code: int, *, concerns: str, remedy: str, details: str) -> None:
        super().__init__(what, concerns=concerns, remedy=remedy, details=details)
        self.code = code


class SilenceError(LinkError):
    """The unit did not answer, however often it was asked."""


class NonsenseError(LinkError):
    """What came is no answer to what was asked."""


class _Raw(udsoncan.DidCodec):
    """Data as they come."""

    def encode(self, *values: Any) -> bytes:
        return bytes(values[0])

    def decode(self, string: bytes) -> bytes:
        return bytes(string)

    def __len__(self) -> int:
        raise udsoncan.DidCodec.ReadAllRemainingData


@cache
def refusals() -> dict[int, dict[str, str]]:
    """What negative response codes mean, and what is to be done: data/refusals.toml."""
    data = tomllib.loads(files("yarvic.core.link").joinpath("data/refusals.toml").read_text("utf-8"))
    return {int(code, 16): entry for code, entry in data.items()}


class Diagnostics:
    """A conversation with one unit, by its number on the bus: the engine's is the first.

    All methods raise LinkError: Refusal, SilenceError, NonsenseError, TransportError.
    """

    def __init__(
        self,
        bus: can.BusABC,
        *,
        fd: bool = True,
        unit: int = 0,
        answer_s: float = ANSWER_S,
        clock: Callable[[], float] = time.monotonic,
        **params: Any,
    ) -> None:
        self.line = IsoTp(bus, TESTER + unit, UNIT + unit, fd=fd, clock=clock, **params)
        config: Any = {
            "data_identifiers": {int(did): _Raw for did in Did},
            "request_timeout": None,
            "p2_timeout": answer_s,
            "p2_star_timeout": PENDING_S,
            # A unit in a hurry promises less than a bus of processes can hold.
            "use_server_timing": False,
            "server_address_format": 32,
            "server_memorysize_format": 32,
            "security_algo": lambda level, seed, params: toy_key(level, seed),
        }
        self.client = Client(self.line, config=config)
        # What it warns of is raised besides.
        self.client.logger.setLevel(logging.CRITICAL)

    def ask(self, what: str, ask: Callable[[], T], *, attempts: int = ATTEMPTS) -> T:
        """Ask, again where nothing came; `what` completes "the unit refused ..."."""
        last: Exception | None = None
        asked = busy = 0
        while asked < attempts:
            asked += 1
            try:
                return ask()
            except NegativeResponseException as error:
                if int(error.response.code or 0) == BUSY_REPEAT and busy < MOST_BUSY:
                    busy, asked = busy + 1, asked - 1
                    self.line.pause(BUSY_S)
                    continue
                raise self._refused(what, error) from error
            except NO_ANSWERS as error:
                last = error
            except (TimeoutException, TransportError) as error:
                last = error
        details = f"{type(last).__name__}: {last}"
        if isinstance(last, TransportError):
            raise last
        if isinstance(last, TimeoutException):
            raise SilenceError(
                "the unit does not answer",
                concerns=str(self.line.bus.channel_info),
                remedy="Check ignition, supply and cable, then connect again.",
                details=f"asked: {what}. {details}",
            ) from last
        raise NonsenseError(
            f"the unit answers nonsense, asked: {what}",
            concerns=str(self.line.bus.channel_info),
            remedy="Check that nothing else talks on the bus or answers in its place, and that this is the unit of the job.",
            details=details,
        ) from last

    def _refused(self, what: str, error: NegativeResponseException) -> Refusal:
        code = int(error.response.code or 0)
        known = refusals().get(code, refusals()[0x10])
        return Refusal(
            f"the unit refused {what}: {known['what']}",
            code,
            concerns=str(self.line.bus.channel_info),
            remedy=known["remedy"],
            details=f"negative response 0x{code:02X} ({error.response.code_name})",
        )

    def others(self, listen_s: float = LISTEN_S) -> tuple[int, ...]:
        """Identifiers of diagnostic frames that are heard while this end is silent: somebody else talks to a unit."""
        self.line.empty_rxqueue()
        end, found = self.line.clock() + listen_s, set[int]()
        while (left := end - self.line.clock()) > 0.0:
            identifier = self.line.overheard(left)
            if identifier is None:
                break
            if asked_or_answered(identifier):
                found.add(identifier)
        return tuple(sorted(found))

    # -- sessions and access

    def default_session(self) -> None:
        """DiagnosticSessionControl, defaultSession."""
        self.ask("the default session", lambda: self.client.change_session(1))

    def programming_session(self) -> None:
        """DiagnosticSessionControl, programmingSession."""
        self.ask("the programming session", lambda: self.client.change_session(2))

    def extended_session(self) -> None:
        """DiagnosticSessionControl, extendedDiagnosticSession."""
        self.ask("the extended session", lambda: self.client.change_session(3))

    def unlock_programming(self) -> None:
        """SecurityAccess for this session."""
        # Never twice by itself: wrong keys are counted.
        self.ask("access for programming", lambda: self.client.unlock_security_access(PROGRAM_LEVEL), attempts=1)

    def open_lock(self) -> None:
        """SecurityAccess that opens a locked unit for good."""
        self.ask("to be opened", lambda: self.client.unlock_security_access(OPEN_LEVEL), attempts=1)

    def tester_present(self) -> None:
        """TesterPresent: the session goes on."""
        self.ask("to stay in its session", self.client.tester_present)

    def reset(self) -> None:
        """ECUReset, hardReset. Not asked twice: the unit may be starting."""
        self.ask("to be reset", lambda: self.client.ecu_reset(1), attempts=1)

    # -- data and codes

    def read(self, did: Did) -> bytes:
        """ReadDataByIdentifier."""

        def ask() -> bytes:
            answer = self.client.read_data_by_identifier([int(did)])
            assert answer is not None
            return bytes(answer.service_data.values[int(did)])

        return self.ask(f"to give {did.name.lower().replace('_', ' ')}", ask)

    def text(self, did: Did) -> str:
        """A text by identifier; what is no ASCII is shown as such."""
        if did not in TEXTS:
            raise ValueError(f"{did.name} is no text")
        return self.read(did)[:MOST_TEXT].decode("ascii", "backslashreplace").rstrip("\x00 ")

    def state(self) -> UnitState:
        """How the unit stands."""
        return self._understood(Did.STATE, UnitState.unpacked)

    def supply(self) -> SupplyState:
        """Its supply."""
        return self._understood(Did.SUPPLY, SupplyState.unpacked)

    def memory_map(self) -> MemoryMap:
        """Where its memory lies."""
        return self._understood(Did.MEMORY, MemoryMap.unpacked)

    def _understood(self, did: Did, unpacked: Callable[[bytes], T]) -> T:
        data = self.read(did)
        try:
            return unpacked(data)
        except ValueError as error:
            raise NonsenseError(
                f"what the unit gives as {did.name.lower()} is none",
                concerns=str(self.line.bus.channel_info),
                remedy="Check that this is the unit of the job.",
                details=str(error),
            ) from error

    def fault_codes(self) -> list[FaultCode]:
        """ReadDTCInformation, reportDTCByStatusMask: those that are confirmed."""

        def ask() -> list[FaultCode]:
            answer = self.client.get_dtc_by_status_mask(CONFIRMED)
            assert answer is not None
            return [_code(d.id) for d in answer.service_data.dtcs]

        return self.ask("to give its fault codes", ask)

    def clear_fault_codes(self, *codes: str) -> None:
        """ClearDiagnosticInformation, of some codes or of all groups. Raises ValueError for what is no code."""
        for group in [_identifier(c) for c in codes] or [ALL_GROUPS]:
            self.ask("to clear its fault codes", lambda group=group: self.client.clear_dtc(group))  # type: ignore[misc]

    # -- memory

    def erase(self, address: int, size: int) -> None:
        """RoutineControl, eraseMemory, of whole sectors."""
        self._routine(Routine.ERASE_MEMORY, RANGE.pack(address, size), 1, "to erase")

    def checksum(self, address: int, size: int) -> int:
        """CRC-32 of a range, worked out by the unit."""
        return int.from_bytes(self._routine(Routine.CHECKSUM, RANGE.pack(address, size), 4, "a checksum"), "big")

    def programming_dependencies(self) -> int:
        """RoutineControl, checkProgrammingDependencies: 0 where all fits together."""
        return self._routine(Routine.CHECK_PROGRAMMING_DEPENDENCIES, b"", 1, "to check what it holds")[0]

    def _routine(self, routine: Routine, data: bytes, size: int, what: str) -> bytes:
        def ask() -> bytes:
            answer = self.client.start_routine(int(routine), data or None)
            assert answer is not None
            found = bytes(answer.service_data.routine_status_record)
            if len(found) != size:
                raise ValueError(f"{len(found)} bytes instead of {size}")
            return found

        return self.ask(what, ask)

    def upload(self, address: int, size: int) -> Iterator[bytes]:
        """RequestUpload, TransferData and RequestTransferExit: a range of the memory, block by block."""
        block = self._request(address, size, upload=True)
        left = size
        for number in range(-(-size // block)):
            data = self._transfer(number, None)
            if len(data) != min(block, left):
                raise NonsenseError(
                    f"a block came with {len(data)} bytes, not {min(block, left)}",
                    concerns=str(self.line.bus.channel_info),
                    remedy="Check the cable; read again.",
                )
            left -= len(data)
            yield data
        self._exit()

    def download(self, address: int, data: bytes) -> Iterator[int]:
        """RequestDownload, TransferData and RequestTransferExit: a range into the memory; gives bytes done so far."""
        block = self._request(address, len(data), upload=False)
        for number, start in enumerate(range(0, len(data), block)):
            self._transfer(number, data[start : start + block])
            yield min(start + block, len(data))
        self._exit()

    def _request(self, address: int, size: int, *, upload: bool) -> int:
        """How many bytes a block of the transfer may hold."""
        where = udsoncan.MemoryLocation(address, size, address_format=32, memorysize_format=32)
        ask = self.client.request_upload if upload else self.client.request_download

        def once() -> int:
            answer = ask(where)
            assert answer is not None
            return int(answer.service_data.max_length) - 2

        block = self.ask("to give its memory" if upload else "to take data", once, attempts=1)
        if block < 1:
            raise NonsenseError(
                "the unit takes blocks of no bytes",
                concerns=str(self.line.bus.channel_info),
                remedy="Check that this is the unit of the job.",
            )
        return block

    def _transfer(self, number: int, data: bytes | None) -> bytes:
        counter = (number + 1) % 256

        def ask() -> bytes:
            answer = self.client.transfer_data(counter, data)
            assert answer is not None
            return bytes(answer.service_data.parameter_records or b"")

        return self.ask("a block", ask)

    def _exit(self) -> None:
        self.ask("the end of a transfer", self.client.request_transfer_exit, attempts=1)


def _identifier(code: str) -> int:
    """A fault code as three bytes."""
    plain, _, kind = code.partition("-")
    return ("PCBU".index(plain[0]) << 14 | int(plain[1:], 16)) << 8 | int(kind or "0", 16)


def _code(identifier: int) -> FaultCode:
    """A fault code by its three bytes, ISO 15031-6 and SAE J2012: P0301 and, where it has one, its failure type."""
    high, kind = identifier >> 8, identifier & 0xFF
    code = f"{'PCBU'[high >> 14]}{high & 0x3FFF:04X}" + (f"-{kind:02X}" if kind else "")
    return titled(code)
