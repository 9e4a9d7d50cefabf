"""The simulated bench as the desk uses it: one unit, one rig, its panel, and requests that workers carry out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from psygnal import Signal

from yarvic.bench.cell import Weather, dyno
from yarvic.bench.faults import FAULTS, check_faults, faulty_memory, stored_codes, supply_voltage
from yarvic.bench.plant import AnyPlant, with_parts
from yarvic.bench.rig import Rig, usual_settings
from yarvic.bench.settings import PullSettings
from yarvic.bench.unit import SimulatedUnit
from yarvic.bench.vehicles import plant_for
from yarvic.core.calibration.image import image_id
from yarvic.core.errors import LinkError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Log
from yarvic.core.job.model import Revision
from yarvic.core.job.store import Job
from yarvic.core.physics.air import Air
from yarvic.core.physics.fuel import fuel as fuel_by_key
from yarvic.state.reach.door import BY
from yarvic.state.reach.simulated import UnitLink
from yarvic.state.work import Asked, Progress, Work

# A day in the demo's valley, for a job without evidence.
DEFAULT_AIR = Air(97_200.0, 293.15, 0.50)
# How long the simulated unit takes for a block: slow enough to watch and to cancel.
SECONDS_PER_BLOCK = 0.03
# Faults that lie in the unit's memory: a flash cures them.
IN_MEMORY = ("rich_map", "wrong_image")
BLOCKS_PER_WATCH = 128


@dataclass(frozen=True)
class Measured:
    """Runs that were made in a row, each log with its conditions, and the vehicle as they left it."""

    runs: tuple[tuple[Log, Conditions], ...]
    rig: Rig


class BenchState:
    """The link, the cell and the road. `changed` is emitted when the unit's memory or the panel changes."""

    changed = Signal()

    def __init__(self, job: Job) -> None:
        self.job = job
        memory = self._memory(job)
        # Larger memories write faster, so that watching one takes about as long as watching another.
        blocks = job.layout.blocks
        per_block = SECONDS_PER_BLOCK * BLOCKS_PER_WATCH / max(blocks, BLOCKS_PER_WATCH)
        self.unit = SimulatedUnit(job.layout, memory, seconds_per_block=per_block)
        self.link: UnitLink = UnitLink(job.path, self.unit)
        self.link.take_up()
        self.gearbox: SimulatedUnit | None = None  # its unit, where the job pairs one
        self.pair_up()
        self.plant: AnyPlant = plant_for(job.layout.family)
        self.settings: PullSettings = usual_settings(self.plant)
        self.weather = Weather(self._air(job), seed=len(job.revisions()))
        self.dyno = dyno("north")
        self.tank = ""  # the fuel in the tank; empty: the fuel of the slot
        self.faults: dict[str, float] = {}
        self._before_fault = memory
        self._rig: Rig | None = None
        self._rig_build = 0
        self.flashing = False  # the unit is being written: nobody else may touch it

    @staticmethod
    def _memory(job: Job) -> bytes:
        """The unit holds what was written last, else what it came with."""
        # What was written by another way lies in another unit.
        others = {p.image for p in job.pairings()}
        flashes = [f for f in job.flashes() if BY not in f.unit and f.image not in others]
        sha = flashes[-1].image if flashes else job.revisions()[0].image
        return job.image(sha)

    @staticmethod
    def _air(job: Job) -> Air:
        told = [e.conditions for e in job.evidence() if e.conditions is not None]
        with_air = [c for c in told if c.simulated and not c.unknown_air]
        return with_air[-1].air if with_air else DEFAULT_AIR

    def pair_up(self) -> None:
        """Give the gearbox its unit, once the job says what that came with."""
        said = self.job.pairings()
        if self.gearbox is not None or not said:
            return
        mine = {p.image for p in said}
        written = [f.image for f in self.job.flashes() if BY not in f.unit and f.image in mine]
        memory = self.job.image(written[-1] if written else said[0].image)
        self.gearbox = SimulatedUnit(said[0].layout, memory, seconds_per_block=self.unit.seconds_per_block)
        self.gearbox.name, self.gearbox.serial = "simulated gearbox unit", "YR-SIM-02"
        link = UnitLink(self.job.path, self.gearbox, "gearbox")
        link.place = self.link.place
        link.take_up()
        self.link.gearbox = link

    def half_a_pair(self) -> str:
        """Why the two units do not belong together, in words; empty where they do, or there is one only."""
        held, gearbox = self.holds(), self.gearbox
        wanted = self.job.pairing_of(held.id) if held is not None else None
        if gearbox is None or wanted is None:
            return ""
        there = image_id(gearbox.memory)
        if there == wanted.image:
            return ""
        name = next((p.title for p in reversed(self.job.pairings()) if p.image == there), "another image")
        assert held is not None
        return f"the engine's unit holds {held.name}, the gearbox's holds {name}, not {wanted.title}"

    # -- the panel

    def set_run(self, **values: Any) -> None:
        """How the next runs are made. Raises LinkError for what cannot be run; then nothing changes."""
        before = self.settings
        settings = replace(before, **values)
        if (settings.kind == "climb") != (before.kind == "climb") and "gear" not in values:
            # A climb has its own gear: in the usual one the engine would stall.
            habit = self.plant.habit
            settings = replace(settings, gear=habit.climb_gear if settings.kind == "climb" else habit.gear)
        if settings.end_rpm <= settings.start_rpm:
            raise LinkError("the end speed must be above the start speed", remedy="Raise the one or lower the other.")
        self.settings = settings
        self.changed.emit()

    def set_usual_run(self) -> None:
        """Runs as this vehicle is usually pulled."""
        self.settings = usual_settings(self.plant)
        self.changed.emit()

    def set_weather(self, air: Air, *, hour: float, drifts: bool) -> None:
        """The day begins anew with this air at this hour."""
        self.weather = Weather(air, hour, drifts, self.weather.seed)
        if self._rig is not None:
            self._rig.weather = self.weather
            self._rig.elapsed_s = 0.0
        self.changed.emit()

    def set_dyno(self, key: str) -> None:
        """Take the vehicle to another dyno. Raises LinkError for one that is not there."""
        self.dyno = dyno(key)
        self.changed.emit()

    def set_tank(self, fuel: str) -> None:
        """Fill the tank with a fuel, or with the fuel of the slot (empty). Raises UnitError for an unknown one."""
        if fuel:
            fuel_by_key(fuel)
        self.tank = fuel
        self.changed.emit()

    def set_fault(self, key: str, severity: float) -> None:
        """Switch a fault on (0 to 1) or off (0).

        Raises LinkError for one that this vehicle cannot have, and while the unit is being written.
        """
        if self.flashing:
            raise LinkError("the unit is being written", remedy="Wait until it is done, or cancel it.")
        faults = {k: v for k, v in {**self.faults, key: severity}.items() if v > 0.0}
        check_faults({**faults, key: severity}, self.plant.kind)
        self.faults = faults
        self.unit.voltage = supply_voltage(faults)
        self.unit.codes = stored_codes(faults)
        if key in IN_MEMORY:
            self.unit.load(faulty_memory(self._before_fault, self.job.layout, self.plant.kind, faults))
        self.changed.emit()

    def set_unit(self, **values: Any) -> None:
        """Put the unit on the bench or back, change its battery, start the engine: also while it is written."""
        self.unit.surround(**values)
        self.link.around_changed()
        self.changed.emit()

    def faults_text(self) -> str:
        """The faults that are on, in words; empty when the vehicle is healthy."""
        return ", ".join(f"{FAULTS[k].title.lower()} {v * 100:.0f} %" for k, v in self.faults.items())

    def air(self) -> Air:
        """The air in the cell now."""
        return self._rig.air if self._rig is not None else self.weather.air

    def hour(self) -> float:
        """What the clock in the cell says, hours."""
        elapsed = self._rig.elapsed_s if self._rig is not None else 0.0
        return (self.weather.hour + elapsed / 3600.0) % 24.0

    # -- the vehicle

    def holds(self) -> Revision | None:
        """The revision whose image the unit holds; None when it is none of this job's."""
        sha = image_id(self.unit.memory)
        return next((r for r in reversed(self.job.revisions()) if r.image == sha), None)

    def holds_in_words(self) -> str:
        """What the unit holds: a revision by its name, or what it is instead."""
        if self.link.half_written and not self.flashing and not self.unit.whole:
            return "a half written image"
        held = self.holds()
        return held.name if held else self.unit.identify().running

    def rig(self, slot: str) -> Rig:
        """The vehicle with what is fitted now, as the panel has it; it keeps its heat from run to run."""
        build = len(self.job.builds())
        fuel = self.tank or self.job.sheet.vehicle.fuel_of(slot) or self.plant.fuel
        if self._rig is None or self._rig_build != build:
            plant = with_parts(self.plant, self.job.fitted())
            seed = 1000 + len(self.job.evidence())
            self._rig = Rig(plant, self.unit, slot, self.weather, fuel=fuel, seed=seed)
            self._rig_build = build
        rig = self._rig
        rig.slot, rig.fuel, rig.dyno, rig.faults = slot, fuel, self.dyno, dict(self.faults)
        return rig

    def flash_begins(self) -> None:
        """The unit is taken for writing. Raises LinkError when it is being written already."""
        if self.flashing:
            raise LinkError("the unit is being written already", remedy="Wait until it is done, or cancel it.")
        self.flashing = True

    def flash_ended(self) -> None:
        """Nobody writes any more, however it ended."""
        self.flashing = False
        self.changed.emit()

    def flashed(self) -> None:
        """The unit was written and proven: what was wrong in its memory is gone."""
        self._before_fault = self.unit.memory
        self.faults = {k: v for k, v in self.faults.items() if k not in IN_MEMORY}
        self.unit.codes = stored_codes(self.faults)
        self.changed.emit()

    def pull_work(self, slot: str, runs: Sequence[PullSettings]) -> Work[Measured]:
        """The work of runs in a row, on the vehicle as it is now: what is changed meanwhile comes after them.

        Raises LinkError when the unit's memory is not whole.
        """
        rig, count = self.rig(slot).fork(), len(runs)
        rig.unit.calibration(slot)

        def work(progress: Progress, cancelled: Asked) -> Measured:
            measured = []
            for number, settings in enumerate(runs):

                def share(done: float, number: int = number) -> None:
                    progress((number + done) / count, f"Run {number + 1} of {count}")

                measured.append(rig.pull(settings, share, cancelled))
            return Measured(tuple(measured), rig)

        return work

    def pulled(self, measured: Measured) -> None:
        """The vehicle came back from its runs: warm, and with what its unit has learnt unless it was written since."""
        rig = measured.rig
        if self._rig is not None and self._rig.weather is rig.weather:
            self._rig.adopt(rig)
        if self.unit.memory == rig.unit.memory:
            self.unit.learned.clear()
            self.unit.learned.update(rig.unit.learned)
        self.changed.emit()

    def may_pull(self, working: Revision | None) -> None:
        """Raise LinkError, saying what to do, when a run would not measure the revision in hand."""
        if working is None:
            raise LinkError("a draft cannot be pulled", remedy="Commit it, flash it, then pull.")
        half = self.half_a_pair()
        if half:
            raise LinkError(f"half a pair: {half}", remedy="Write both units, or put both back; then pull.")
        believed = image_id(self._before_fault) if any(k in self.faults for k in IN_MEMORY) else None
        held = self.holds()
        if working.image in (believed, held.image if held else None):
            return
        name = held.name if held else "an image that is not of this job"
        raise LinkError(f"the unit holds {name}, not {working.name}", remedy=f"Flash {working.name} first.")


def fuels_for(plant: AnyPlant) -> Mapping[str, str]:
    """The fuels that this engine can be given, by key, with their titles."""
    if plant.kind == "turbo diesel":
        keys = ["diesel"]
    else:
        keys = ["petrol-91", "petrol-95", *(f"petrol-95+e{share}" for share in (10, 20, 30, 50, 85)), "ethanol"]
    return {key: fuel_by_key(key).title for key in keys}
