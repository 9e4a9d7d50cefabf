"""Logging from a unit while it runs: channels by identifier, so many times a second, each moment that was missed counted.

The beat is kept by the clock: a unit that is slow costs moments, it does not stretch time. What a unit does not give in time
is left out of the log, not filled in.
"""

from __future__ import annotations

import math
import struct
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from udsoncan import Request, services

from yarvic.core.errors import LinkError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.link.diagnostics import Diagnostics, NonsenseError, SilenceError
from yarvic.core.link.identifiers import FIRST_VALUE, Did
from yarvic.core.link.transport import PendingError, TransportError

VALUE = struct.Struct(">f")
AT_ONCE = 40  # identifiers in one request. Our choice.
# In a row, before it is said that the unit is gone. Our choice.
MOST_MISSED = 50
LEAST_HZ, MOST_HZ = 0.1, 1000.0


@dataclass(frozen=True)
class Logged:
    """What was logged. `due` moments there were, of which `missed` brought no whole answer; `fault`: why it ended early."""

    log: Log
    due: int
    missed: int
    fault: LinkError | None = None

    @property
    def share_missed(self) -> float:
        """From 0 to 1; 0 where none was due."""
        return self.missed / self.due if self.due else 0.0


def channels_of(tester: Diagnostics) -> list[str]:
    """The channels that a unit gives, by their keys, in the order of their identifiers. Raises LinkError."""
    return [name for name in tester.text(Did.CHANNELS).split("\n") if name]


@dataclass(kw_only=True)
class LiveLog:
    """Logs some channels of a unit. `seen` is told each moment as it comes: time from the start in s, and the values."""

    tester: Diagnostics
    channels: Sequence[str]
    rate_hz: float
    seen: Callable[[float, Mapping[str, float]], None] = lambda t, values: None
    clock: Callable[[], float] = time.monotonic
    sleep: Callable[[float], None] = time.sleep

    def run(self, stop: Callable[[], bool], *, longest_s: float = math.inf) -> Logged:
        """Log until asked to stop, or until the unit is gone; then the fault is in what was logged. Raises LinkError for a
        channel that the unit does not give, a rate that is none, and where nothing came at all.
        """
        if not LEAST_HZ <= self.rate_hz <= MOST_HZ:
            raise LinkError(
                f"{self.rate_hz:g} Hz is no rate", remedy=f"Choose between {LEAST_HZ:g} and {MOST_HZ:,.0f} Hz."
            )
        dids = self._identifiers()
        times: list[float] = []
        rows: list[list[float]] = []
        begun, due, missed_in_a_row = self.clock(), 0, 0
        fault: LinkError | None = None
        while not stop() and self.clock() - begun < longest_s:
            at = begun + due / self.rate_hz
            wait = at - self.clock()
            if wait > 0.0:
                self.sleep(min(wait, 0.05))
                continue
            due += 1
            if wait < -1.0 / self.rate_hz:
                continue  # its time is over: the moment was missed
            moment = self.clock() - begun
            row = self._ask(dids)
            missed_in_a_row = 0 if row else missed_in_a_row + 1
            if missed_in_a_row > MOST_MISSED:
                fault = SilenceError(
                    "the unit gives no values any more",
                    concerns=str(self.tester.line.bus.channel_info),
                    remedy="Check ignition and cable, then log again. What came until then is kept.",
                )
                break
            if row:
                times.append((moment + self.clock() - begun) / 2.0)
                rows.append(row)
                self.seen(times[-1], dict(zip(self.channels, row, strict=True)))
        if not times:
            raise fault or SilenceError(
                "nothing was logged", remedy="Log for longer, or at a higher rate.", details=f"{due} moments were due"
            )
        return Logged(self._log(times, rows), due, due - len(times), fault)

    def _identifiers(self) -> list[int]:
        given = channels_of(self.tester)
        lacks = [c for c in self.channels if c not in given]
        if lacks or not self.channels:
            raise LinkError(
                f"the unit does not give {', '.join(lacks)}" if lacks else "there is no channel to log",
                remedy=f"Choose of: {', '.join(given) or 'none'}.",
            )
        return [FIRST_VALUE + given.index(c) for c in self.channels]

    def _ask(self, dids: Sequence[int]) -> list[float]:
        """The values of one moment; empty where one of them did not come."""
        found: list[float] = []
        try:
            for start in range(0, len(dids), AT_ONCE):
                found += self._some(dids[start : start + AT_ONCE])
        except (SilenceError, TransportError, PendingError, NonsenseError):
            return []
        return found

    def _some(self, dids: Sequence[int]) -> list[float]:
        size = 2 + VALUE.size
        data = b"".join(d.to_bytes(2, "big") for d in dids)

        def ask() -> list[float]:
            answer = self.tester.client.send_request(Request(services.ReadDataByIdentifier, data=data))
            given = bytes(answer.data or b"") if answer is not None else b""
            parts = [given[n : n + size] for n in range(0, len(given), size)]
            if [p[:2] for p in parts] != [d.to_bytes(2, "big") for d in dids] or len(given) != size * len(dids):
                raise ValueError("other identifiers than were asked for")
            return [VALUE.unpack(p[2:])[0] for p in parts]

        # A moment that did not come is over: it is not asked for again.
        return self.tester.ask("to give values", ask, attempts=1)

    def _log(self, times: Sequence[float], rows: Sequence[Sequence[float]]) -> Log:
        t = np.asarray(times, dtype=np.float64)
        values = np.asarray(rows, dtype=np.float64).reshape(len(times), len(self.channels))
        made = {}
        for n, key in enumerate(self.channels):
            kind = CHANNELS.get(key)
            title, quantity, unit = (kind.title, kind.quantity, kind.unit) if kind else (key, "", "")
            made[key] = Channel(key, title, quantity, unit, t, values[:, n])
        return Log(made)
