"""Messages longer than a frame over a bus: ISO 15765-2 as can-isotp has it, driven by whoever waits; no thread.

Physical addressing with 11-bit identifiers. The usual pair of a first engine control unit is 0x7E0 and 0x7E8
(ISO 15765-4:2021, table 9 "legislated OBD/UDS 11-bit CAN identifiers"; from memory).
"""

from __future__ import annotations

import logging
import time
from collections import deque
from collections.abc import Callable
from typing import Any

import can
import isotp
from isotp.tools import Timer
from udsoncan import TimeoutException
from udsoncan.connections import BaseConnection

from yarvic.core.errors import LinkError

TESTER, UNIT = 0x7E0, 0x7E8
# Requests to one unit or to all, and their answers; as above, from memory.
DIAGNOSTIC, TO_ALL = range(0x7E0, 0x7F0), 0x7DF
MOST_MESSAGE = 1 << 16  # bytes of one message
# Timeouts of ISO 15765-2, table "network layer timing": N_Bs and N_Cr are 1,000 ms. From memory.
FLOW_CONTROL_MS, CONSECUTIVE_MS = 1000, 1000
MOST_WAIT_FRAMES = 10
# A unit that takes its time says so again and again (ISO 14229-1, response code 0x78; from memory). Nothing that it does
# takes so long or so many words; and so long it goes on before a person's cancel counts. Our choice.
LONGEST_PENDING_S, MOST_PENDING, UNTIL_CANCEL_S = 180.0, 4000, 10.0
_PENDING = 0x78
FD_FRAME, FRAME = 64, 8
NEGATIVE = 0x7F
PADDING = 0xCC  # what fills frames up. Common practice, no published source.
# What it warns of is raised besides.
QUIET = logging.getLogger("yarvic.isotp")
QUIET.setLevel(logging.CRITICAL)


def asked_or_answered(identifier: int) -> bool:
    """Whether a frame is of a tester or of a unit that answers one."""
    return identifier == TO_ALL or identifier in DIAGNOSTIC


class _Timer(Timer):
    """The library's timer, on a clock that is given: the library reads the machine's."""

    def __init__(self, timeout_s: float, clock: Callable[[], float]) -> None:
        super().__init__(timeout_s)
        self._clock = clock

    def start(self, timeout: float | None = None) -> None:
        """Begin to count."""
        super().start(timeout)
        self.start_time = int(self._clock() * 1e9)

    def elapsed_ns(self) -> int:
        """Nanoseconds since the start; 0 where it is stopped."""
        return 0 if self.start_time is None else int(self._clock() * 1e9) - self.start_time

    def elapsed(self) -> float:
        """The same in seconds."""
        return self.elapsed_ns() / 1e9

    def is_timed_out(self) -> bool:
        """Whether its time is over; at its very end too, for a clock that jumps stands there."""
        return not self.is_stopped() and self.elapsed_ns() >= self.timeout


def _keep_time_by(stack: isotp.TransportLayerLogic, clock: Callable[[], float]) -> None:
    """Let a line on simulated time wait in simulated time: else a busy machine breaks its messages off."""
    for name in ("timer_tx_stmin", "timer_rx_fc", "timer_rx_cf"):
        setattr(stack, name, _Timer(getattr(stack, name).timeout / 1e9, clock))


class TransportError(LinkError):
    """A message did not come through whole: the other end may have had it, or not."""


class PendingError(LinkError):
    """A unit asks for patience without end; it is not asked again."""


class IsoTp(BaseConnection):
    """One end of a line between a tester and a unit. `frames` counts what was received and what was not understood."""

    def __init__(
        self,
        bus: can.BusABC,
        send_id: int,
        receive_id: int,
        *,
        fd: bool,
        clock: Callable[[], float] = time.monotonic,
        sleep: Callable[[float], None] = time.sleep,
        **params: Any,
    ) -> None:
        super().__init__()
        self.bus, self.clock, self._sleep = bus, clock, sleep
        self._fd = fd
        self._waiting: deque[isotp.CanMessage] = deque()
        self._error: Exception | None = None
        self._open = True
        self._pending, self._asked_at = 0, clock()
        self.cancelled: Callable[[], bool] = lambda: (
            False
        )  # whether a person has given up on a unit that takes its time
        self._receive_id = receive_id
        address = isotp.Address(isotp.AddressingMode.Normal_11bits, rxid=receive_id, txid=send_id)
        settings = {
            "tx_data_length": FD_FRAME if fd else FRAME,
            "tx_padding": PADDING,
            "can_fd": fd,
            "bitrate_switch": fd,
            "stmin": 0,
            "blocksize": 0,
            "wftmax": MOST_WAIT_FRAMES,
            "logger_name": QUIET.name,
            "max_frame_size": MOST_MESSAGE,
            "rx_flowcontrol_timeout": FLOW_CONTROL_MS,
            "rx_consecutive_frame_timeout": CONSECUTIVE_MS,
            **params,
        }
        self._stack = isotp.TransportLayerLogic(
            rxfn=self._next, txfn=self._out, address=address, error_handler=self._failed, params=settings
        )
        if clock is not time.monotonic:
            _keep_time_by(self._stack, clock)

    def _failed(self, error: Exception) -> None:
        self._error = error

    def _gone(self, what: str, error: Exception) -> TransportError:
        return TransportError(
            what,
            concerns=str(self.bus.channel_info),
            remedy="Check the adapter and its cable.",
            details=f"{type(error).__name__}: {error}",
        )

    def _out(self, frame: isotp.CanMessage) -> None:
        message = can.Message(
            arbitration_id=frame.arbitration_id,
            data=frame.data,
            is_extended_id=False,
            is_fd=bool(frame.is_fd),
            bitrate_switch=bool(frame.bitrate_switch),
        )
        try:
            self.bus.send(message)
        except (can.CanError, OSError) as error:
            raise self._gone("the bus does not take frames any more", error) from error

    def _next(self, timeout: float) -> isotp.CanMessage | None:
        return self._waiting.popleft() if self._waiting else self._received(0.0)

    def _received(self, timeout: float) -> isotp.CanMessage | None:
        """The next frame for this end within a time."""
        end = self.clock() + timeout
        while True:
            try:
                message = self.bus.recv(max(end - self.clock(), 0.0) if timeout else 0.0)
            except (can.CanError, OSError) as error:
                raise self._gone("the bus gives no frames any more", error) from error
            if message is None:
                return None
            if message.arbitration_id == self._receive_id and not (message.is_error_frame or message.is_remote_frame):
                return isotp.CanMessage(
                    arbitration_id=message.arbitration_id,
                    data=bytes(message.data),
                    extended_id=message.is_extended_id,
                    is_fd=message.is_fd,
                    bitrate_switch=message.bitrate_switch,
                )

    def overheard(self, wait_s: float) -> int | None:
        """The identifier of the next frame that comes within a time, whomever it is for."""
        try:
            message = self.bus.recv(wait_s)
        except (can.CanError, OSError) as error:
            raise self._gone("the bus gives no frames any more", error) from error
        return None if message is None else int(message.arbitration_id)

    def turn(self, wait_s: float) -> None:
        """Handle what has come, or what comes within a time, and send what is due."""
        if not self._waiting and not self._stack.is_tx_transmitting_cf():
            frame = self._received(wait_s)
            if frame is not None:
                self._waiting.append(frame)
        elif self._stack.is_tx_transmitting_cf():
            # The receiver asked for time between frames.
            delay = self._stack.next_cf_delay()
            if delay:
                self._sleep(min(delay, wait_s))
        self._stack.process()

    def pause(self, seconds: float) -> None:
        """Let time go by on the line's own clock."""
        self._sleep(seconds)

    def begin(self, payload: bytes) -> None:
        """Hand a message over; it goes on with each `turn`."""
        self._error = None
        self._stack.send(payload)
        self._stack.process()

    def specific_send(self, payload: bytes, timeout: float | None = None) -> None:
        """Send a message. Raises TransportError when the other end does not take it."""
        self._pending, self._asked_at = 0, self.clock()
        self.begin(payload)
        while self._stack.transmitting():
            self.turn(FLOW_CONTROL_MS / 1000.0)
        if self._error is not None:
            error, self._error = self._error, None
            raise TransportError(
                f"the unit did not take a message of {len(payload)} bytes",
                concerns=str(self.bus.channel_info),
                remedy="Check the cable and that nothing else talks on the bus; then try again.",
                details=f"{type(error).__name__}: {error}",
            )

    def receive(self, timeout_s: float) -> bytes | None:
        """The next whole message within a time; None where none came. What is no message is passed over."""
        end, over = self.clock() + timeout_s, False
        while True:
            found = self._stack.recv()
            if found is not None:
                return bytes(found)
            if over:
                return None
            left = end - self.clock()
            over = left <= 0.0
            self.turn(min(max(left, 0.0), 1.0))

    def specific_wait_frame(self, timeout: float | None = None) -> bytes | None:
        """As udsoncan asks for it. Raises TimeoutException, PendingError."""
        found = self.receive(timeout if timeout is not None else 1.0)
        if found is None:
            raise TimeoutException(f"nothing came within {timeout} s")  # type: ignore[no-untyped-call]
        if len(found) == 3 and found[0] == NEGATIVE and found[2] == _PENDING:
            self._still_pending()
        return found

    def _still_pending(self) -> None:
        """Count how long a unit has asked for patience. Raises PendingError past all bounds, and where a person cancels."""
        self._pending += 1
        waited = self.clock() - self._asked_at
        over = waited > LONGEST_PENDING_S or self._pending > MOST_PENDING
        if over or (waited > UNTIL_CANCEL_S and self.cancelled()):
            raise PendingError(
                f"the unit has said for {waited:.0f} s that it needs more time",
                concerns=str(self.bus.channel_info),
                remedy="Switch the ignition off and on, then recover the unit under Flash.",
                details=f"response pending, {self._pending} times",
            )

    def open(self) -> IsoTp:
        """Already is."""
        return self

    def close(self) -> None:
        """The bus is closed by whom it belongs to."""
        self._open = False

    def empty_rxqueue(self) -> None:
        """Forget what came before: an answer to an older question."""
        while self._received(0.0) is not None:
            pass
        self._waiting.clear()
        self._stack.stop_receiving()
        while self._stack.recv() is not None:
            pass

    def is_open(self) -> bool:
        """Whether it may be used."""
        return self._open
