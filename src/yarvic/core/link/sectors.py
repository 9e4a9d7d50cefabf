"""The sectors of a unit's memory: which differ, written one by one and each proven, then the whole read back and summed.

The sector by which the unit is known is erased first and written last, so that it cannot start half written.
"""

from __future__ import annotations

import contextlib
import math
import time
import zlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.spans import merged
from yarvic.core.errors import Cancelled, LinkError
from yarvic.core.link.diagnostics import Diagnostics, NonsenseError, Refusal, SilenceError
from yarvic.core.link.identifiers import MemoryMap
from yarvic.core.link.journal import Journal
from yarvic.core.link.transport import TransportError

TRIES = 3  # of one sector
COMES_BACK_S = 5.0  # how long a unit may take to answer again after it went silent, or after a reset
SUPPLY_S = 0.5  # between two looks at the supply while it is written. Our choice.
BETWEEN_S = 0.2  # before a sector is tried again: a supply that dipped comes back
PASSING = (SilenceError, TransportError, NonsenseError)


class UntrueError(LinkError):
    """What a unit gives back is not what it holds."""


@dataclass(frozen=True)
class Step:
    """Where the sequence stands: what it does, at which sector, how much of it is done, the seconds that are left of it by
    its own rate, and the supply in V where it was asked for.
    """

    phase: str
    sector: int | None
    done: int
    total: int
    left_s: float | None = None
    supply_v: float | None = None  # as it is while the unit is written
    half: str = ""  # of a pair: which unit

    def sentence(self) -> str:
        """In words, with the time that is left where it is known and not short."""
        return f"Gearbox's unit: {self._words().lower()}" if self.half == "gearbox" else self._words()

    def _words(self) -> str:
        if self.phase == "Key off":
            return f"Key off, {math.ceil(self.left_s or 0.0)} s to wait"
        if self.sector is None:
            return self.phase
        left = f", {math.ceil(self.left_s)} s left" if self.left_s is not None and self.left_s >= 2.0 else ""
        what = "block" if self.phase in ("Writing", "Restoring") else "byte"
        return f"{self.phase}, {what} {self.done:,} of {self.total:,}{left}"


Report = Callable[[Step], None]
Asked = Callable[[], bool]


@dataclass(kw_only=True)
class SectorWriter:
    """A conversation that reads and writes. `sleep` and `clock` are those of the machine, or faster ones."""

    tester: Diagnostics
    layout: Layout
    report: Report = lambda step: None
    cancelled: Asked = lambda: False
    sleep: Callable[[float], None] = time.sleep
    clock: Callable[[], float] = time.monotonic
    comes_back_s: float = COMES_BACK_S
    map: MemoryMap = field(init=False)
    _asked_at: float = -SUPPLY_S  # when the supply was asked for last
    held: bytes | None = None  # what the unit was found to hold, as far as that is proven

    def __post_init__(self) -> None:
        self.tester.line.cancelled = lambda: self.cancelled()  # whoever is asked at the time

    def read(self, *, stoppable: bool = True, phase: str = "Reading") -> bytes:
        """The whole memory, by the unit's own sums what it holds. Raises Cancelled when asked to, LinkError otherwise."""
        for _ in range(TRIES):
            self.held = None
            data = self._patient(lambda: self._read_once(stoppable, phase))
            if self.sums_up_to(data):
                self.held = data
                return data
        raise UntrueError(
            "the unit gives back other bytes than it sums up",
            remedy="Check the cable and read again. If it stays so, the unit cannot be trusted: replace it.",
        )

    def _read_once(self, stoppable: bool, phase: str) -> bytes:
        found, begun = bytearray(), self.clock()
        for block in self.tester.upload(self.map.base, self.map.length):
            found += block
            self._stands(phase, len(found), self.map.length, begun, len(found) // self.map.sector - 1)
            if stoppable and self.cancelled():
                self.tester.default_session()
                raise Cancelled("reading was cancelled", remedy="The unit was not changed.")
        return bytes(found)

    def _patient(self, work: Callable[[], bytes]) -> bytes:
        """Read again where the line failed: reading harms nothing."""
        for last in range(TRIES):
            try:
                return work()
            except (*PASSING, Refusal):
                if last == TRIES - 1:
                    raise
                self.answers_again()
                self.tester.extended_session()
        raise AssertionError

    # -- sectors

    def _range(self, sector: int) -> tuple[int, int]:
        return self.map.sector_at(sector)

    def _part(self, image: bytes, sector: int) -> bytes:
        start, size = self._range(sector)
        return image[start - self.map.base : start - self.map.base + size]

    def _aside(self) -> list[tuple[int, int]]:
        """What the unit may change by itself, or no file held."""
        return merged((*self.layout.volatile, *self.layout.gaps))

    def differing(self, one: bytes, other: bytes) -> list[int]:
        """The sectors in which two images differ, but for what the unit changes itself."""
        one, other = (self._without(data) for data in (one, other))
        return [s for s in range(self.map.sectors) if self._part(one, s) != self._part(other, s)]

    def _without(self, data: bytes) -> bytes:
        kept = bytearray(data)
        for start, end in self._aside():
            a, b = max(start - self.map.base, 0), min(end - self.map.base, len(kept))
            if b > a:
                kept[a:b] = bytes(b - a)
        return bytes(kept)

    def kept_aside(self, image: bytes, held: bytes) -> bytes:
        """An image with what the unit holds where it changes that itself, or where no file held anything."""
        kept = bytearray(image)
        for start, end in self._aside():
            a, b = max(start - self.map.base, 0), max(end - self.map.base, 0)
            kept[a:b] = held[a:b]
        return bytes(kept)

    def guarded(self, sectors: Sequence[int]) -> list[int]:
        """The sectors to be written, that by which the unit is known in front: it is erased first and written last."""
        mark = next((m.address for m in self.layout.identification), None)
        if not sectors or mark is None:
            return list(sectors)
        guard = (mark - self.map.base) // self.map.sector
        return [guard, *(s for s in sectors if s != guard)]

    # -- writing

    def bring(
        self, journal: Journal, image: bytes, sectors: Sequence[int], *, stoppable: bool, phase: str = "Writing"
    ) -> None:
        """Write sectors, the first of them erased before all and written after all; then prove the whole memory."""
        if sectors:
            self.held = None
            journal.add("before", "unlock")
            self.enter_programming()
            journal.add("after", "unlock")

        def stop() -> bool:
            return stoppable and self.cancelled()

        begun, total = self.clock(), len(sectors)
        if total and not stop():
            journal.add("before", "erase", sectors[0])
            self._insist(lambda: self.tester.erase(*self._range(sectors[0])))
            journal.add("after", "erase", sectors[0])
        for done, sector in enumerate([*sectors[1:], *sectors[:1]], 1):
            if stop():
                raise Cancelled("writing was cancelled", remedy="The unit holds what it held before.")
            journal.add("before", "write", sector)
            self._insist(lambda sector=sector: self._sector(image, sector))  # type: ignore[misc]
            journal.add("after", "write", sector)
            self._stands(phase, done, total, begun, sector, self._supply())
        self._prove(journal, image)

    def _sector(self, image: bytes, sector: int) -> None:
        start, size = self._range(sector)
        data = self._part(image, sector)
        self.tester.erase(start, size)
        for _ in self.tester.download(start, data):
            pass
        if self.tester.checksum(start, size) != zlib.crc32(data):
            raise _NotKept(sector)

    def _insist(self, work: Callable[[], None]) -> None:
        """Do it, again where the line or the supply failed for a moment: what is written is erased before."""
        for last in range(TRIES):
            try:
                work()
                return
            except (*PASSING, Refusal, _NotKept) as error:
                if last == TRIES - 1:
                    if isinstance(error, _NotKept):
                        raise LinkError(
                            "the unit does not keep what is written into it",
                            remedy="Recover it on the bench, or replace it.",
                            details=f"sector {error.sector}: its sum is another after {TRIES} writes",
                        ) from error
                    raise
                self.sleep(BETWEEN_S)
                with contextlib.suppress(Refusal):
                    self.enter_programming()

    def enter_programming(self) -> None:
        """Into the programming session, unlocked, as soon as the unit answers."""
        self.answers_again()
        self.tester.programming_session()
        self.tester.unlock_programming()

    def answers_again(self) -> None:
        """Wait until the unit answers. Raises what it raised last when it does not come back in time."""
        end = self.clock() + self.comes_back_s
        while True:
            try:
                self.tester.state()
                return
            except PASSING:
                if self.clock() > end:
                    raise
                self.sleep(0.05)

    # -- proving

    def _prove(self, journal: Journal, image: bytes) -> None:
        """Read all back, then have the unit sum it up: one that gives back what was sent is seen by its sum."""
        journal.add("before", "verify")
        self._enter_reading()
        back = self.read(stoppable=False, phase="Comparing")
        wrong = self.differing(back, image)
        if wrong:
            raise LinkError(
                f"{len(wrong)} of {self.map.sectors} sectors do not hold what was written",
                remedy="Check supply and cable.",
                details=f"sectors {wrong[:20]}",
            )
        journal.add("after", "verify")

    def sums_up_to(self, image: bytes) -> bool:
        """Whether the unit's own sums are those of an image, wherever nobody but a writer changes it."""
        base = self.map.base
        return all(
            self.tester.checksum(start, end - start) == zlib.crc32(image[start - base : end - base])
            for start, end in self._held_still()
        )

    def _enter_reading(self) -> None:
        self.answers_again()
        self.tester.extended_session()

    def _held_still(self) -> list[tuple[int, int]]:
        """The ranges that nobody changes but who writes them."""
        found, at = [], self.map.base
        for start, end in [*self._aside(), (self.layout.end, self.layout.end)]:
            if start > at:
                found.append((at, min(start, self.layout.end)))
            at = max(at, end)
        return found

    def _supply(self) -> float | None:
        """The supply, now and then; a write does not stand or fall with that answer."""
        if self.clock() - self._asked_at < SUPPLY_S:
            return None
        self._asked_at = self.clock()
        with contextlib.suppress(LinkError):
            return self.tester.supply().voltage_v
        return None

    def _stands(
        self, phase: str, done: int, total: int, begun: float, sector: int | None = None, volts: float | None = None
    ) -> None:
        left_s = (self.clock() - begun) * (total - done) / done if done else None
        self.tell(Step(phase, sector, done, total, left_s, volts))

    def tell(self, step: Step) -> None:
        """Whatever a listener does wrong, a unit must not be left half written for it."""
        with contextlib.suppress(Exception):
            self.report(step)


class _NotKept(Exception):
    def __init__(self, sector: int) -> None:
        super().__init__(f"sector {sector}")
        self.sector = sector
