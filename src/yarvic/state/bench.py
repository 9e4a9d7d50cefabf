"""The simulated bench as the desk uses it: one unit, one rig, and requests that workers carry out."""

from __future__ import annotations

from dataclasses import dataclass, replace

from psygnal import Signal

from yarvic.bench.rig import PullSettings, Rig
from yarvic.bench.unit import SimulatedUnit
from yarvic.bench.vehicles import plant_for
from yarvic.core.calibration.image import image_id
from yarvic.core.errors import LinkError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Log
from yarvic.core.job.model import Revision
from yarvic.core.job.store import Job
from yarvic.core.link.flash import Flashed, Step, flash
from yarvic.core.physics.air import Air
from yarvic.state.work import Asked, Progress, Work

# A day in the demo's valley, for a job without evidence.
DEFAULT_AIR = Air(97_200.0, 293.15, 0.50)
# How long the simulated unit takes for a block: slow enough to watch and to cancel.
SECONDS_PER_BLOCK = 0.03


@dataclass(frozen=True)
class Measured:
    """A pull that was run: its log and conditions."""

    log: Log
    conditions: Conditions


class BenchState:
    """The link and the cell. `changed` is emitted when the unit's memory or a block's state changes."""

    changed = Signal()
    block_done = Signal(object)

    def __init__(self, job: Job) -> None:
        self.job = job
        self.unit = SimulatedUnit(job.layout, self._memory(job), seconds_per_block=SECONDS_PER_BLOCK)
        self.settings = PullSettings()
        self.air = self._air(job)
        self._rig: Rig | None = None
        self._rig_build = 0
        self.flashing = False

    @staticmethod
    def _memory(job: Job) -> bytes:
        """The unit holds what was written last, else what it came with."""
        flashes = job.flashes()
        sha = flashes[-1].image if flashes else job.revisions()[0].image
        return job.image(sha)

    @staticmethod
    def _air(job: Job) -> Air:
        with_air = [e.conditions for e in job.evidence() if e.conditions is not None]
        return with_air[-1].air if with_air else DEFAULT_AIR

    def holds(self) -> Revision | None:
        """The revision whose image the unit holds; None when it is none of this job's."""
        sha = image_id(self.unit.memory)
        return next((r for r in reversed(self.job.revisions()) if r.image == sha), None)

    def rig(self, slot: str) -> Rig:
        """The vehicle on the dyno, with what is fitted now; it keeps its heat from pull to pull."""
        build = len(self.job.builds())
        if self._rig is None or self._rig_build != build or self._rig.slot != slot:
            plant = plant_for(self.job.layout.family).with_parts(self.job.fitted())
            fuel = self.job.sheet.vehicle.fuels.get(slot, plant.fuel)
            seed = 1000 + len(self.job.evidence())
            self._rig = Rig(plant, self.unit, slot, self.air, fuel=fuel, seed=seed)
            self._rig_build = build
        return self._rig

    def flash_work(self, revision: Revision) -> Work[Flashed]:
        """The request that brings a revision's image into the unit."""
        image, layout, unit = self.job.image(revision.image), self.job.layout, self.unit
        report = self.block_done.emit

        def work(progress: Progress, cancelled: Asked) -> Flashed:
            def step(s: Step) -> None:
                report(s)
                # Reading, writing and comparing take about a third of the way each.
                start = {"Reading": 0.0, "Writing": 0.4, "Comparing": 0.8}.get(s.phase, 0.9)
                progress(start + 0.3 * s.done / max(s.total, 1), f"{s.phase}, block {s.done} of {s.total}")

            return flash(unit, layout, image, step, cancelled)

        return work

    def pull_work(self, slot: str, count: int) -> Work[list[Measured]]:
        """The request for pulls in a row. Raises LinkError when the unit's memory is not whole."""
        rig, settings = self.rig(slot), replace(self.settings)

        def work(progress: Progress, cancelled: Asked) -> list[Measured]:
            measured = []
            for number in range(count):

                def share(done: float, number: int = number) -> None:
                    progress((number + done) / count, f"Pull {number + 1} of {count}")

                measured.append(Measured(*rig.pull(settings, share, cancelled)))
            return measured

        return work

    def may_pull(self, working: Revision | None) -> None:
        """Raise LinkError, saying what to do, when a pull would not measure the revision in hand."""
        held = self.holds()
        if working is None:
            raise LinkError("a draft cannot be pulled", remedy="Commit it, flash it, then pull.")
        if held is None or held.image != working.image:
            name = held.name if held else "an image that is not of this job"
            raise LinkError(f"the unit holds {name}, not {working.name}", remedy=f"Flash {working.name} first.")
