"""A unit and its tester in one process, on a clock that jumps: what a campaign of thousands of writes runs on.

The bus hands each frame over at once. Who waits for one that does not come waits no time: the clock goes on instead.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any

import can

from yarvic.bench.control_unit.server import Server
from yarvic.bench.control_unit.session import PowerLost
from yarvic.core.calibration.layout import Layout
from yarvic.core.link.transport import TESTER, UNIT, IsoTp, TransportError


class Clock:
    """Goes on when somebody waits."""

    def __init__(self) -> None:
        self.now = 0.0

    def __call__(self) -> float:
        """The time, s."""
        return self.now

    def sleep(self, seconds: float) -> None:
        """Time goes by."""
        self.now += seconds


class _Node(can.BusABC):
    """One end. `on_empty` is what the other end does before a wait is in vain."""

    def __init__(self, clock: Clock, give: Callable[[can.Message], None], on_empty: Callable[[], None]) -> None:
        self.heard: deque[can.Message] = deque()
        self._clock, self._give, self._on_empty = clock, give, on_empty
        self.channel_info = "loop"
        super().__init__("loop")

    def send(self, msg: can.Message, timeout: float | None = None) -> None:
        """Hand it over."""
        self._give(msg)

    def recv(self, timeout: float | None = None) -> can.Message | None:
        """What was heard; None where the other end says nothing, and then the time has gone by."""
        if not self.heard:
            self._on_empty()
        if self.heard:
            return self.heard.popleft()
        self._clock.now += timeout or 0.0
        return None

    def _recv_internal(self, timeout: float | None) -> tuple[can.Message | None, bool]:
        return self.recv(timeout), False


class Loop:
    """A unit by its folder, joined to a tester. `fault` sees each frame to the unit (True) or from it, and gives what
    becomes of it: none, one or several frames.
    """

    def __init__(self, folder: Path, layout: Layout, clock: Clock, kind: type[Server] = Server) -> None:
        self.folder, self.layout, self.clock, self.kind = folder, layout, clock, kind
        self.fault: Callable[[can.Message, bool], list[can.Message]] = lambda frame, to_unit: [frame]
        self.server: Server | None = None
        self.tester_end = _Node(clock, self._to_unit, self._unit_turns)
        self._unit_end = _Node(clock, self._to_tester, lambda: None)
        self._line: IsoTp | None = None
        self._turning = False
        self.power_on()

    @property
    def settings(self) -> dict[str, Any]:
        """What a tester on this bus is made with."""
        return {"clock": self.clock, "sleep": self.clock.sleep}

    def power_on(self) -> None:
        """Give it its supply: it boots what lies in its memory."""
        self.power_off()
        self.server = self.kind(self.folder, self.layout, self.clock, self.clock.sleep)
        self._line = IsoTp(self._unit_end, UNIT, TESTER, fd=True, **self.settings)

    def power_off(self) -> None:
        """Take it away, in the middle of whatever it does."""
        if self.server is not None:
            self.server.close()
        self.server = self._line = None
        self._unit_end.heard.clear()

    def close(self) -> None:
        """All of it."""
        self.power_off()
        for node in (self.tester_end, self._unit_end):
            node.shutdown()

    def _to_unit(self, frame: can.Message) -> None:
        self._unit_end.heard.extend(self.fault(frame, True))

    def _to_tester(self, frame: can.Message) -> None:
        self.tester_end.heard.extend(self.fault(frame, False))

    def _unit_turns(self) -> None:
        """The unit takes what came and answers."""
        if self._turning or self.server is None or self._line is None:
            self._unit_end.heard.clear()
            return
        self._turning = True
        try:
            while self._unit_end.heard and self._line is not None:
                request = self._line.receive(0.0)
                if request is not None and self.server is not None:
                    self._answer(request)
        finally:
            self._turning = False

    def _answer(self, request: bytes) -> None:
        server, line = self.server, self._line
        if server is None or line is None:
            return
        try:
            for response in server.answer(request):
                # The tester, which waits further up, has yet to take it.
                line.begin(response)
                if self.server is not server:
                    return  # it went out while it answered
        except TransportError:
            return
        except PowerLost:
            self.power_off()
