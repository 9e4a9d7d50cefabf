"""The simulated unit on its bus, for as long as somebody talks to it: what its memory holds goes out with it and comes back.

While it is written its memory is a folder on the disk, so that whatever ends this program leaves the unit as it stood. The
folder goes when the write has ended; until then the next start finds it, with the journal beside the vault.
"""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from yarvic.bench.unit import SimulatedUnit
from yarvic.core.errors import LinkError
from yarvic.core.link.journal import JOURNALS, Journal, unfinished
from yarvic.state.settings import home
from yarvic.state.work import Asked

if TYPE_CHECKING:
    from yarvic.bench.control_unit.facts import UnitFacts
    from yarvic.core.link.sectors import Step
    from yarvic.core.link.sequence import Flashing

MAINTAINED_V = 13.4
# Of the time that a unit takes for a sector, what goes into erasing it.
ERASING = 0.4
# A simulated unit sleeps sooner than a real one (`sequence.KEY_OFF_S`).
SLEEPS_S = 5.0


class UnitLink:
    """One job's unit. A unit that takes no time is answered for in this process; any other is one of its own."""

    def __init__(self, job: Path, unit: SimulatedUnit) -> None:
        self.unit = unit
        self.job = str(job.absolute())
        self.place: Path | None = None  # of units and vault, where it is not the shop's
        self.half_written = False  # a write was broken off and has not ended

    @property
    def folder(self) -> Path:
        """Where the unit's memory is while it is written."""
        return (self.place or home()) / "units" / hashlib.sha256(self.job.encode()).hexdigest()[:24]

    @property
    def vault_folder(self) -> Path:
        """The shop's vault."""
        return (self.place or home()) / "vault"

    def left_unfinished(self) -> Journal | None:
        """The journal of a write into this unit that has not ended; None where there is none."""
        if not (self.folder / "memory.bin").exists():
            return None
        mine = [j for j in unfinished(self.vault_folder / JOURNALS) if j.begun.job == self.job]
        return mine[-1] if mine else None

    def take_up(self) -> None:
        """What the unit holds after a write that was broken off, however that was."""
        self.half_written = self.left_unfinished() is not None
        if not self.half_written:
            return  # a folder that is there may be that of another window, which is just beginning to write
        memory = (self.folder / "memory.bin").read_bytes()
        if len(memory) == self.unit.layout.length and memory != self.unit.memory:
            self.unit.load(memory)

    @contextmanager
    def talk(self, report: Callable[[Step], None], cancelled: Asked) -> Iterator[Flashing]:
        """The unit on its bus. Whatever happened meanwhile, afterwards it holds what its memory says. Raises LinkError."""
        self._lay_out()
        try:
            with self._joined() as flashing:
                flashing.report, flashing.cancelled = report, cancelled
                yield flashing
        finally:
            self.take_up_now()

    def take_up_now(self) -> None:
        """Take over what the write left in the unit; the folder goes unless there is a write to be gone on with."""
        memory = (self.folder / "memory.bin").read_bytes()
        if memory != self.unit.memory:
            self.unit.load(memory)
        self.half_written = self.left_unfinished() is not None
        if not self.half_written:
            shutil.rmtree(self.folder, ignore_errors=True)

    def _lay_out(self) -> None:
        from yarvic.bench.control_unit.process import new_unit

        try:
            new_unit(self.folder, self.unit.layout, self.unit.memory, self._facts())
        except OSError as error:
            raise LinkError(
                f"the simulated unit has no room: {error.strerror}",
                concerns=str(self.folder),
                remedy="Make room on the disk, or let this user write there; then try again.",
            ) from error

    def _facts(self) -> UnitFacts:
        from yarvic.bench.control_unit.facts import UnitFacts

        unit = self.unit
        size = min(unit.layout.block, unit.layout.length)
        return UnitFacts(
            name=unit.name,
            serial=unit.serial,
            codes=tuple(c.code for c in unit.codes),
            dip_v=MAINTAINED_V - unit.voltage,
            sector=size,
            block=min(size, 4096),
            erase_s=unit.seconds_per_block * ERASING,
            write_s_kib=unit.seconds_per_block * (1.0 - ERASING) * 1024.0 / size,
        )

    @contextmanager
    def _joined(self) -> Iterator[Flashing]:
        from yarvic.core.link.diagnostics import Diagnostics
        from yarvic.core.link.sequence import Flashing
        from yarvic.core.link.vault import Vault

        layout, vault = self.unit.layout, Vault(self.vault_folder)
        if not self.unit.seconds_per_block:
            from yarvic.bench.control_unit.loop import Clock, Loop

            clock = Clock()
            loop = Loop(self.folder, layout, clock)
            try:
                tester = Diagnostics(loop.tester_end, **loop.settings)
                yield Flashing(tester=tester, layout=layout, vault=vault, sleep=clock.sleep, clock=clock)
            finally:
                loop.close()
            return
        from yarvic.bench.control_unit.process import start_unit
        from yarvic.core.link.buses import BusChoice, open_bus
        from yarvic.core.link.virtual_bus import remove_channel

        channel = f"unit-{os.getpid()}-{os.urandom(3).hex()}"
        process = start_unit(self.folder, channel)
        try:
            with open_bus(BusChoice(channel=channel)) as bus:
                yield Flashing(tester=Diagnostics(bus), layout=layout, vault=vault, wait_s=SLEEPS_S)
        finally:
            process.kill()
            remove_channel(channel)
