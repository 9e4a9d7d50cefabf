"""Writes that go wrong in every way that we could think of, each brought to its end as a person would: thousands of them.

A unit of 8 KiB, a tester and a vault in one process on a clock that jumps. A fault strikes at a moment drawn by the seed;
then the fault is gone, the journal is looked at, and what is offered first, or another of what is offered, is done.
"""

from __future__ import annotations

import contextlib
import shutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from random import Random

import can

from yarvic.bench.control_unit.facts import UnitFacts, read_facts, write_facts
from yarvic.bench.control_unit.loop import Clock, Loop
from yarvic.bench.control_unit.process import new_unit
from yarvic.bench.control_unit.server import Server
from yarvic.bench.control_unit.session import FAILED, PowerLost, Refused
from yarvic.core.calibration.checksum import Checksum
from yarvic.core.calibration.image import image_id, sealed
from yarvic.core.calibration.layout import Layout, Mark
from yarvic.core.errors import Cancelled, YarvicError
from yarvic.core.link.diagnostics import Diagnostics
from yarvic.core.link.journal import JOURNALS, Journal, unfinished
from yarvic.core.link.sectors import Step
from yarvic.core.link.sequence import Flashing
from yarvic.core.link.standing import standing
from yarvic.core.link.vault import Vault

SIZE, SECTOR, BLOCK = 1 << 13, 1 << 10, 1 << 9
LAYOUT = Layout(
    family="campaign", version="1", byte_order="big", base=0x8000, size=SIZE,
    identification=(Mark(address=0x8000, text="CAMPAIGN"),),
    checksums=(Checksum(kind="crc-32", ranges=((0x8010, 0x8000 + SIZE),), address=0x8008),),
)  # fmt: skip
KINDS = (
    "power lost", "frame lost", "frame repeated", "frames reordered", "frame late", "frame corrupted", "unit reboots",
    "adapter gone", "tester killed", "journal has no room", "wrong image", "locked", "supply dips", "does not write",
    "reads back falsely", "cancelled", "nothing",
)  # fmt: skip
ON_FRAMES = KINDS[1:9]


class Killed(BaseException):
    """The tester's process is no more: nothing of it runs on, not even what tidies up."""


@dataclass(frozen=True)
class Outcome:
    """What became of a case. `wrong` says in words what should not be; empty where all is right."""

    kind: str
    recovered: bool
    right_next_step: bool
    images_lost: int
    falsely_done: bool
    wrong: str = ""


@dataclass
class Tally:
    """All cases, and those of each kind."""

    cases: int = 0
    recovered: int = 0
    right_next_step: int = 0
    images_lost: int = 0
    falsely_done: int = 0
    kinds: dict[str, int] = field(default_factory=dict)
    wrong: list[str] = field(default_factory=list)

    def add(self, seed: int, outcome: Outcome) -> None:
        """One more."""
        self.cases += 1
        self.recovered += outcome.recovered
        self.right_next_step += outcome.right_next_step
        self.images_lost += outcome.images_lost
        self.falsely_done += outcome.falsely_done
        self.kinds[outcome.kind] = self.kinds.get(outcome.kind, 0) + 1
        if outcome.wrong:
            self.wrong.append(f"seed {seed}, {outcome.kind}: {outcome.wrong}")

    def join(self, other: Tally) -> None:
        """Those of another too."""
        for name in ("cases", "recovered", "right_next_step", "images_lost", "falsely_done"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        for kind, count in other.kinds.items():
            self.kinds[kind] = self.kinds.get(kind, 0) + count
        self.wrong += other.wrong

    @property
    def holds(self) -> bool:
        """Whether every case came to a right end."""
        return not self.wrong and self.recovered == self.right_next_step == self.cases > 0


class _Struck(Server):
    """A unit whose supply fails at a moment: `at` counts its pieces of work, below nought where nothing happens."""

    at, loses_power = -1, False

    def _spend(self, seconds: float) -> None:
        if self.at >= 0:
            type(self).at -= 1
            if self.at < 0:
                if self.loses_power:
                    raise PowerLost
                raise Refused(FAILED)
        super()._spend(seconds)


class _Case:
    def __init__(self, folder: Path, seed: int) -> None:
        self.random = Random(seed)
        self.kind = KINDS[seed % len(KINDS)]
        self.folder, self.clock = folder, Clock()
        self.before, self.image = (_image(self.random) for _ in range(2))
        if self.random.random() < 0.5:
            # As most revisions are: a few sectors differ.
            self.image = _few_differ(self.random, self.before)
        new_unit(folder / "unit", LAYOUT, self.before, UnitFacts(sector=SECTOR, block=BLOCK, speed=1000.0))
        self.unit_class: type[_Struck] = type("_StruckHere", (_Struck,), {})
        self.loop = Loop(folder / "unit", LAYOUT, self.clock, self.unit_class)
        self.cancel_at, self.steps = -1, 0

    def flashing(self) -> Flashing:
        return Flashing(
            tester=Diagnostics(self.loop.tester_end, **self.loop.settings),
            layout=LAYOUT, vault=Vault(self.folder / "vault"), report=self._report,
            cancelled=lambda: 0 <= self.cancel_at <= self.steps, sleep=self.clock.sleep, clock=self.clock,
        )  # fmt: skip

    def _report(self, step: Step) -> None:
        self.steps += 1

    # -- what strikes

    def strike(self) -> None:
        """Let the fault of this case happen at its moment."""
        r, kind = self.random, self.kind
        if kind in ON_FRAMES:
            self.loop.fault = self._on_frames(kind, r.randrange(350), r.choice((1, 1, 1, 2, 5)))
        elif kind in ("power lost", "supply dips"):
            self.unit_class.at, self.unit_class.loses_power = r.randrange(70), kind == "power lost"
        elif kind == "journal has no room":
            self.folder.joinpath("vault").mkdir()
            (self.folder / "vault" / JOURNALS).write_bytes(b"")  # nothing can be made in it
        elif kind == "wrong image":
            self.image = bytes(b ^ 0x20 for b in self.image[:8]) + self.image[8:]
        elif kind == "locked":
            self._set(lock="bench")
        elif kind == "does not write":
            self._set(misbehaves=["no_write"])
        elif kind == "reads back falsely":
            self._set(misbehaves=["no_write", "false_read"])
        elif kind == "cancelled":
            self.cancel_at = r.randrange(45)

    def _on_frames(self, kind: str, at: int, often: int) -> Callable[[can.Message, bool], list[can.Message]]:
        count, held = 0, list[can.Message]()

        def fault(frame: can.Message, to_unit: bool) -> list[can.Message]:
            nonlocal count
            count += 1
            late, held[:] = list(held), []
            if not at <= count < at + often:
                return [frame, *late]
            if kind == "frame lost":
                return late
            if kind == "frame repeated":
                return [frame, frame, *late]
            if kind in ("frames reordered", "frame late"):
                held.append(frame)  # behind the next one, whichever way that goes
                return late
            if kind == "frame corrupted":
                data = bytearray(frame.data)
                data[self.random.randrange(len(data))] ^= 1 << self.random.randrange(8)
                return [can.Message(arbitration_id=frame.arbitration_id, data=data, is_extended_id=False, is_fd=True)]
            if kind == "unit reboots":
                self.loop.power_on()
                return []
            if kind == "adapter gone":
                raise can.CanOperationError("the adapter is gone")
            raise Killed

        return fault

    def calm(self, *, repaired: bool) -> None:
        """The fault is over; a unit that went out has its supply again."""
        self.loop.fault = lambda frame, to_unit: [frame]
        self.unit_class.at = self.cancel_at = -1
        self.loop.tester_end.heard.clear()
        if repaired:
            self._set(misbehaves=[], lock="open")
        self.loop.power_on()

    def _set(self, **values: object) -> None:
        folder = self.folder / "unit"
        write_facts(folder, read_facts(folder).changed(**values))

    # -- what became of it

    def memory(self) -> bytes:
        return (self.folder / "unit" / "memory.bin").read_bytes()

    def run(self) -> Outcome:
        self.strike()
        done = told = None
        try:
            done = self.flashing().write(self.image, everything=self.random.random() < 0.2)
        except (YarvicError, Cancelled) as error:
            told = error
        except Killed:
            pass
        falsely = done is not None and self.memory() != self.image
        self.loop.fault = lambda frame, to_unit: [frame]
        right, wrong = self._goes_on(done is not None)
        runs = self._runs()
        lost = self._lost()
        if self.kind in ("wrong image", "locked", "journal has no room") and self.memory() != self.before:
            wrong = wrong or f"the unit was changed: {told}"
        if falsely:
            wrong = wrong or "it is called done and is not"
        if not runs:
            wrong = wrong or f"the unit does not run: {told}"
        if lost:
            wrong = wrong or "an image is lost"
        return Outcome(self.kind, runs, right, lost, falsely, wrong)

    def _goes_on(self, done: bool) -> tuple[bool, str]:
        """What a person does next, and whether what was offered was right."""
        journals = unfinished(self.folder / "vault" / JOURNALS)
        out = self.loop.server is None
        if journals and (out or self.random.random() < 0.1):
            # Before it has its supply again it can only be recovered on the bench.
            self.loop.power_off()
            if standing(self.flashing(), journals[-1]).next != ("bench",):
                return False, "a unit without supply is offered something else than the bench"
        bad = self.kind in ("does not write", "reads back falsely")
        self.calm(repaired=False)
        if done:
            return not journals, "done, and its journal is not ended" if journals else ""
        if not journals:
            same = self.memory() == self.before
            self.calm(repaired=True)
            return same, "" if same else "the unit was changed and no journal says so"
        right, chosen = self._offered(self.flashing(), journals[-1], bad)
        if bad:
            self.calm(repaired=True)
            chosen = "restore"
        if not right:
            return False, "what is offered is not right"
        flashing = self.flashing()
        try:
            flashing.go_on(journals[-1]) if chosen == "go on" else flashing.restore(journals[-1])
        except YarvicError as error:
            return False, f"{chosen} does not work: {error}"
        wanted = self.image if chosen == "go on" else self.before
        if self.memory() != wanted or unfinished(self.folder / "vault" / JOURNALS):
            return False, f"{chosen} did not bring it about"
        return True, ""

    def _offered(self, flashing: Flashing, journal: Journal, bad: bool) -> tuple[bool, str]:
        """Whether what is offered fits the memory as it truly is, and one of it."""
        found, held = standing(flashing, journal), self.memory()
        if held == self.before:
            right = found.next[0] == "restore" or (bad and found.next == ("bench",))
        elif held == self.image:
            right = found.next[0] == "go on"
        else:
            right = set(found.next) == {"go on", "restore"}
        return right, self.random.choice(found.next)

    def _runs(self) -> bool:
        server = self.loop.server
        return server is not None and server.whole and self.memory() in (self.before, self.image)

    def _lost(self) -> int:
        """How many images that the unit held, or was to hold, are not in the vault once it was touched."""
        vault = Vault(self.folder / "vault")
        lost = len(vault.damaged(thorough=True))
        if (self.folder / "vault" / JOURNALS).is_dir() and any((self.folder / "vault" / JOURNALS).iterdir()):
            for image in (self.before, self.image):
                try:
                    lost += vault.get(image_id(image)) != image
                except YarvicError:
                    lost += 1
        return lost


def _image(random: Random) -> bytes:
    return sealed(b"CAMPAIGN" + bytes(4) + b"\0\0\0\0" + random.randbytes(SIZE - 16), LAYOUT)


def _few_differ(random: Random, image: bytes) -> bytes:
    changed = bytearray(image)
    for _ in range(random.randrange(1, 4)):
        changed[random.randrange(16, SIZE)] ^= 0xFF
    return sealed(bytes(changed), LAYOUT)


def one_case(seed: int) -> Outcome:
    """A case by its number."""
    folder = Path(tempfile.mkdtemp(prefix="yarvic-campaign-", dir=_fast_folder()))
    case = None
    try:
        case = _Case(folder, seed)
        return case.run()
    finally:
        if case is not None:
            with contextlib.suppress(can.CanError):
                case.loop.close()
        shutil.rmtree(folder, ignore_errors=True)


def _fast_folder() -> str | None:
    """Memory instead of a disk: what a disk takes to be sure is not what is tried here."""
    return "/dev/shm" if Path("/dev/shm").is_dir() else None


def campaign(
    seeds: range,
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Tally:
    """All cases of some seeds; every kind in turn."""
    tally = Tally()
    for n, seed in enumerate(seeds):
        if cancelled():
            raise Cancelled("the campaign was cancelled", remedy="Nothing was kept.")
        tally.add(seed, one_case(seed))
        progress((n + 1) / len(seeds))
    return tally
