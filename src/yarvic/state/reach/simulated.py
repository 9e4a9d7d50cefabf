"""The simulated unit on its bus, for as long as somebody talks to it: what its memory holds goes out with it and comes back.

While it is written its memory is a folder on the disk, so that whatever ends this program leaves the unit as it stood. The
folder goes when the write has ended; until then the next start finds it, with the journal beside the vault.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from tempfile import TemporaryDirectory, gettempdir
from typing import TYPE_CHECKING

from yarvic.bench.control_unit.facts import UnitFacts, read_facts, write_facts
from yarvic.bench.unit import SimulatedUnit
from yarvic.core.errors import LinkError
from yarvic.core.link.journal import Journal
from yarvic.state.reach.door import Engine, Half, Hearing, Reach, Report, Way
from yarvic.state.settings import home
from yarvic.state.work import Asked

if TYPE_CHECKING:
    from yarvic.core.job.store import Job
    from yarvic.core.link.sequence import Flashing
    from yarvic.state.settings import Settings

# Of the time that a unit takes for a sector, what goes into erasing it.
ERASING = 0.4
# A simulated unit sleeps sooner than a real one (`sequence.KEY_OFF_S`).
SLEEPS_S = 5.0


class UnitLink(Reach):
    """One job's unit. A unit that takes no time is answered for in this process; any other is one of its own."""

    key = "simulated"
    simulated = True

    def __init__(self, job: Path, unit: SimulatedUnit, half: Half = "") -> None:
        super().__init__(job, half)
        self.unit = unit
        self.half_written = False  # a write was broken off and has not ended

    @property
    def folder(self) -> Path:
        """Where the unit's memory is while it is written."""
        return (self.place or home()) / "units" / hashlib.sha256(f"{self.job}{self.half}".encode()).hexdigest()[:24]

    def left_unfinished(self) -> Journal | None:
        """The journal of a write into this unit that has not ended; None where there is none."""
        return super().left_unfinished() if (self.folder / "memory.bin").exists() else None

    def memory(self) -> bytes:
        """What the unit holds."""
        return self.unit.memory

    def fingerprint(self) -> object:
        """What is around it, and what it holds."""
        return self.unit.around, self.unit.voltage, self.unit.codes, zlib.crc32(self.unit.memory)

    def take_up(self) -> None:
        """What the unit holds after a write that was broken off, however that was."""
        self.half_written = self.left_unfinished() is not None
        if not self.half_written:
            return  # a folder that is there may be that of another window, which is just beginning to write
        memory = (self.folder / "memory.bin").read_bytes()
        if len(memory) == self.unit.layout.length and memory != self.unit.memory:
            self.unit.load(memory)

    @contextmanager
    def looking(self) -> Iterator[Flashing]:
        """A unit like this one, in this process: it is only asked."""
        with self._like_it() as folder, self._in_this_process(folder) as flashing:
            yield flashing

    @contextmanager
    def live(self, engine: Engine | None) -> Iterator[Hearing]:
        """A unit like this one on its bus, to which the engine is played while somebody waits."""
        from yarvic.bench.control_unit.values import LiveValues

        channels = engine.channels if engine is not None else ()
        with self._like_it() as folder:
            try:
                write_facts(folder, read_facts(folder).changed(engine_runs=engine is not None))
                values = LiveValues.create(folder, channels)
            except OSError as error:
                raise _no_room(folder, error) from error
            joined = self._in_its_own_process if self.unit.seconds_per_block else self._in_this_process
            try:
                with joined(folder) as flashing:
                    begun = [flashing.clock()]

                    def sleep(seconds: float) -> None:
                        flashing.sleep(seconds)
                        if engine is not None:
                            values.put(engine.at(flashing.clock() - begun[0]))

                    def begin() -> None:
                        begun[0] = flashing.clock()
                        sleep(0.0)

                    yield Hearing(flashing.tester, flashing.clock, sleep, begin)
            finally:
                values.close()

    @contextmanager
    def talk(self, report: Report, cancelled: Asked) -> Iterator[Flashing]:
        """The unit on its bus. Whatever happened meanwhile, afterwards it holds what its memory says. Raises LinkError."""
        self._lay_out(self.folder)
        joined = self._in_its_own_process if self.unit.seconds_per_block else self._in_this_process
        try:
            with joined(self.folder) as flashing:
                flashing.report, flashing.cancelled = report, cancelled
                yield flashing
        finally:
            self.take_up_now()

    def around_changed(self) -> None:
        """Another battery, a maintainer put on, the engine started: a unit that runs is told."""
        if (self.folder / "unit.json").exists():
            write_facts(self.folder, read_facts(self.folder).changed(**self._around()))

    def take_up_now(self) -> None:
        """Take over what the write left in the unit; the folder goes unless there is a write to be gone on with."""
        memory = (self.folder / "memory.bin").read_bytes()
        if memory != self.unit.memory:
            self.unit.load(memory)
        facts = read_facts(self.folder)
        self.unit.surround(opened=facts.opened, charge=facts.charge)
        self.half_written = self.left_unfinished() is not None
        if not self.half_written:
            shutil.rmtree(self.folder, ignore_errors=True)

    def _lay_out(self, folder: Path) -> None:
        from yarvic.bench.control_unit.process import new_unit

        try:
            new_unit(folder, self.unit.layout, self.unit.memory, self._facts())
        except OSError as error:
            raise _no_room(folder, error) from error

    @contextmanager
    def _like_it(self) -> Iterator[Path]:
        """The folder of a unit like this one, for as long as it is asked. Raises LinkError where there is no room."""
        try:
            made = TemporaryDirectory(prefix="yarvic-unit-", ignore_cleanup_errors=True)
        except OSError as error:
            raise _no_room(Path(gettempdir()), error) from error
        with made as name:
            self._lay_out(Path(name))
            yield Path(name)

    def _around(self) -> dict[str, object]:
        return {**asdict(self.unit.around), "dip_v": self.unit.supply().dip_v}

    def _facts(self) -> UnitFacts:
        unit = self.unit
        size = min(unit.layout.block, unit.layout.length)
        return UnitFacts().changed(
            name=unit.name,
            serial=unit.serial,
            codes=tuple(c.code for c in unit.codes),
            sector=size,
            block=min(size, 4096),
            erase_s=unit.seconds_per_block * ERASING,
            write_s_kib=unit.seconds_per_block * (1.0 - ERASING) * 1024.0 / size,
            **self._around(),
        )

    @contextmanager
    def _in_this_process(self, folder: Path) -> Iterator[Flashing]:
        from yarvic.bench.control_unit.loop import Clock, Loop
        from yarvic.core.link.diagnostics import Diagnostics
        from yarvic.core.link.sequence import Flashing
        from yarvic.core.link.vault import Vault

        clock = Clock()
        loop = Loop(folder, self.unit.layout, clock)
        try:
            tester, vault = Diagnostics(loop.tester_end, **loop.settings), Vault(self.vault_folder)
            yield Flashing(tester=tester, layout=self.unit.layout, vault=vault, sleep=clock.sleep, clock=clock)
        finally:
            loop.close()

    @contextmanager
    def _in_its_own_process(self, folder: Path) -> Iterator[Flashing]:
        from yarvic.bench.control_unit.process import start_unit
        from yarvic.core.link.buses import BusChoice, open_bus
        from yarvic.core.link.diagnostics import Diagnostics
        from yarvic.core.link.sequence import Flashing
        from yarvic.core.link.vault import Vault
        from yarvic.core.link.virtual_bus import remove_channel

        channel = f"unit-{os.getpid()}-{os.urandom(3).hex()}"
        process = start_unit(folder, channel)
        try:
            with open_bus(BusChoice(channel=channel)) as bus:
                vault = Vault(self.vault_folder)
                yield Flashing(tester=Diagnostics(bus), layout=self.unit.layout, vault=vault, wait_s=SLEEPS_S)
        finally:
            process.kill()
            remove_channel(channel)


def _no_room(folder: Path, error: OSError) -> LinkError:
    return LinkError(
        f"the simulated unit has no room: {error.strerror}",
        concerns=str(folder),
        remedy="Make room on the disk, or let this user write there; then try again.",
    )


def _make(job: Job, simulated: Reach | None, settings: Settings) -> Reach | None:
    return simulated


WAY = Way("simulated", "Simulated", 0, _make)
