"""A unit on a bus that is outside this program: an interface of python-can, or a virtual bus that another process made."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import LinkError
from yarvic.core.link.unit import KEY_OFF_S
from yarvic.state.reach.door import Engine, Half, Hearing, Reach, Report, Way
from yarvic.state.work import Asked

if TYPE_CHECKING:
    from yarvic.core.job.store import Job
    from yarvic.core.link.buses import BusChoice
    from yarvic.core.link.sequence import Flashing
    from yarvic.state.settings import Settings

KEY = "by interface"


class InterfaceReach(Reach):
    """The unit that answers on a bus. What it holds is not known until it was read, and forgotten with the bus."""

    polled = True
    key = KEY
    sleeps_s = KEY_OFF_S

    def __init__(self, job: Path, layout: Layout, choice: BusChoice, half: Half = "") -> None:
        super().__init__(job, half)
        self.layout, self.choice = layout, choice
        self.over, self.simulated = f"{choice.interface} {choice.channel}", choice.simulated
        self._held: bytes | None = None

    def memory(self) -> bytes | None:
        """What was read last, or proven after a write."""
        return self._held

    @contextmanager
    def looking(self) -> Iterator[Flashing]:
        """Ask the unit."""
        with self._joined() as flashing:
            yield flashing

    @contextmanager
    def live(self, engine: Engine | None) -> Iterator[Hearing]:
        """Log from it; its engine is whatever it is on."""
        with self._joined() as flashing:
            yield Hearing(flashing.tester)

    @contextmanager
    def talk(self, report: Report, cancelled: Asked) -> Iterator[Flashing]:
        """Read or write it; while that is under way nothing is known of what it holds."""
        self._held = None
        with self._joined() as flashing:
            flashing.report, flashing.cancelled = report, cancelled
            yield flashing
            self._held = flashing.held

    @contextmanager
    def _joined(self) -> Iterator[Flashing]:
        from yarvic.core.link.buses import open_bus
        from yarvic.core.link.diagnostics import Diagnostics
        from yarvic.core.link.sequence import Flashing
        from yarvic.core.link.turn import turn
        from yarvic.core.link.vault import Vault

        # A look must not be taken for another tester, and two windows must not write one unit.
        with turn(self.over), open_bus(self.choice) as bus:
            tester = Diagnostics(bus, fd=self.choice.fd, unit=1 if self.half == "gearbox" else 0)
            yield Flashing(tester=tester, layout=self.layout, vault=Vault(self.vault_folder), wait_s=self.sleeps_s)


def _make(job: Job, simulated: Reach | None, settings: Settings) -> Reach:
    if not settings.channel:
        raise LinkError("no channel is named", remedy="Give the channel of the interface, such as can0.")
    from yarvic.core.link.buses import BusChoice

    choice = BusChoice(settings.interface, settings.channel, settings.long_frames)
    made = InterfaceReach(job.path, job.layout, choice)
    pairings = job.pairings()
    if pairings:
        made.gearbox = InterfaceReach(job.path, pairings[0].layout, choice, "gearbox")
    return made


WAY = Way(
    KEY,
    "By interface",
    1,
    _make,
    "Untried on a real unit: nobody has written one this way yet. Try it on a spare unit on the bench first.",
)
