"""The simulated rig: one vehicle, on a dyno or on a road, in one day's weather, with its heat from run to run."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from yarvic.bench.cell import Dyno, Weather, dyno, station_reading
from yarvic.bench.coast import coast, turning_inertia
from yarvic.bench.faults import (
    cetane_loss,
    check_faults,
    faulty_fuel,
    faulty_plant,
    faulty_sensors,
    ignition,
    lambda_gain,
    supply_voltage,
)
from yarvic.bench.knock_sensor import knock_channels
from yarvic.bench.natural_petrol import NaturalPetrolRun
from yarvic.bench.plant import AnyPlant, NaturalPetrol, TurboDiesel, TurboPetrol
from yarvic.bench.powertrain import Heat, Powertrain, Surroundings, new_heat, stand_still
from yarvic.bench.run import Run
from yarvic.bench.sensors import SENSORS, Sensor
from yarvic.bench.settings import PullSettings
from yarvic.bench.turbo_diesel import TurboDieselRun
from yarvic.bench.turbo_petrol import TurboPetrolRun
from yarvic.bench.unit import SimulatedUnit
from yarvic.core.errors import Cancelled, LinkError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Log
from yarvic.core.physics.air import Air, dry_pressure
from yarvic.core.physics.fuel import fuel as fuel_by_key

# What stands in a run and no unit of a vehicle measures: it is of the cell, or an instrument beside.
BESIDE_UNIT = ("smoke", "ambient_temperature")
# A diesel's broad-band sensor reads far leaner than a petrol engine's. From memory.
DIESEL_SENSORS: dict[str, Sensor] = {"lambda_measured": replace(SENSORS["lambda_measured"], low=0.8, high=8.0)}
# The twin's reader ends at an air-fuel ratio of 10.0 of its petrol. Common practice, no published source.
RICH_END_AFR = 10.0
TWIN_SENSORS: dict[str, Sensor] = {
    "lambda_measured": replace(
        SENSORS["lambda_measured"], low=round(RICH_END_AFR / fuel_by_key("petrol-95").stoichiometric_afr, 3)
    )
}


def own_sensors(plant: AnyPlant) -> dict[str, Sensor]:
    """Sensors of this vehicle that differ from the usual ones."""
    if isinstance(plant, TurboDiesel):
        return DIESEL_SENSORS
    return TWIN_SENSORS if isinstance(plant, NaturalPetrol) else {}


def usual_settings(plant: AnyPlant) -> PullSettings:
    """How this vehicle is usually pulled: a diesel against a brake's ramp, a petrol engine freely on the roller."""
    h = plant.habit
    return PullSettings(
        kind="ramp" if isinstance(plant, TurboDiesel) else "inertia",
        gear=h.gear,
        start_rpm=h.start_rpm,
        end_rpm=h.end_rpm,
        lead_throttle=h.lead_throttle,
        ramp_rpm_s=h.ramp_rpm_s,
        climb_km_h=h.climb_km_h,
        hold_rpm=round((h.start_rpm + h.end_rpm) / 2.0, -2),
    )


@dataclass
class Rig:
    """Runs pulls. Deterministic: the same seed and the same order of runs give the same logs.

    `slot` is the maps the unit runs on, `fuel` what the tank's label says.
    """

    plant: AnyPlant
    unit: SimulatedUnit
    slot: str
    weather: Weather
    fuel: str = ""
    seed: int = 0
    dyno: Dyno = field(default_factory=lambda: dyno("north"))
    faults: Mapping[str, float] = field(default_factory=dict)
    rate_hz: float | None = None

    def __post_init__(self) -> None:
        self.fuel = self.fuel or self.plant.fuel
        self.runs = 0
        self.elapsed_s = 0.0
        self.heat: Heat = new_heat(self.plant.thermal, self.weather.air.temperature_k)

    def fork(self) -> Rig:
        """The vehicle as it is now, with a unit of its own: for runs that nothing done meanwhile may touch."""
        other = Rig(
            self.plant, self.unit.copy(), self.slot, self.weather, self.fuel, self.seed, self.dyno, dict(self.faults),
            self.rate_hz,
        )  # fmt: skip
        other.adopt(self)
        return other

    def adopt(self, other: Rig) -> None:
        """Go on from the heat, the hour and the count of another."""
        self.runs, self.elapsed_s, self.heat = other.runs, other.elapsed_s, replace(other.heat)

    @property
    def air(self) -> Air:
        """The air in the cell now."""
        return self.weather.at(self.elapsed_s)

    def engine_per_roller(self, gear: int) -> float:
        """Engine speed over roller speed in a gear. Raises LinkError for a gear that is not there."""
        return self.engine_per_wheel(gear) * self.dyno.roller_radius_m / self.plant.driveline.tyre_radius_m

    def engine_per_wheel(self, gear: int) -> float:
        """Engine speed over wheel speed in a gear. Raises LinkError for a gear that is not there."""
        d = self.plant.driveline
        if not 1 <= gear <= len(d.gear_ratios):
            raise LinkError(f"there is no gear {gear}", concerns=self.plant.name, remedy="Choose another gear.")
        return d.gear_ratios[gear - 1] * d.final_drive

    def cool(self, seconds: float, fan: float = 1.0) -> None:
        """Stand with the fan at a share of its air: heat goes towards ambient, the day goes on."""
        self.elapsed_s += seconds
        stand_still(self.plant.thermal, self.heat, *self._cooler(), self._around(fan), seconds)

    def _cooler(self) -> tuple[float, float]:
        plant = self.faulty_plant  # shutters that are stuck let it cool no faster while it stands
        if isinstance(plant, NaturalPetrol):
            return 1.0, 1.0  # no charge cooler: there is no heat to keep
        return plant.cooler.to_air_w_k, plant.cooler.heat_capacity_j_k

    def _around(self, fan: float) -> Surroundings:
        air = self.air
        # Water vapour takes the place of air: the engine breathes the dry share only.
        voltage = min(self.unit.voltage, supply_voltage(self.faults))
        return Surroundings(air, dry_pressure(air) / air.pressure_pa, fan, voltage)

    def pull(
        self,
        settings: PullSettings,
        progress: Callable[[float], None] = lambda share: None,
        cancelled: Callable[[], bool] = lambda: False,
    ) -> tuple[Log, Conditions]:
        """Cool down, then run. Raises Cancelled, LinkError; a cancelled run leaves no heat and takes no time."""
        self.engine_per_wheel(settings.gear)
        check_faults(self.faults, self.plant.kind)
        before = (replace(self.heat), self.elapsed_s, self.runs, dict(self.unit.learned))
        try:
            return self._run(settings, progress, cancelled)
        except Cancelled:
            self.heat, self.elapsed_s, self.runs, learned = before
            self.unit.learned.clear()
            self.unit.learned.update(learned)
            raise

    def _run(
        self, settings: PullSettings, progress: Callable[[float], None], cancelled: Callable[[], bool]
    ) -> tuple[Log, Conditions]:
        self.cool(settings.cool_down_s, settings.fan)
        self.runs += 1
        seed = (self.seed, self.runs)
        if settings.kind == "coast":
            return self._coast(settings, seed)
        around = self._around(settings.fan)
        rng = np.random.default_rng(seed)
        engine = self._engine(settings, around, rng)
        start_charge_k = engine.charge_k
        sensors = dict(own_sensors(self.plant))
        sensors.update({k: change(sensors.get(k, SENSORS[k])) for k, change in faulty_sensors(self.faults).items()})
        run = Run(self.faulty_plant, engine, around, self.dyno, settings, sensors, seed, self.rate_hz)
        while not run.finished:
            run.step()
            if run.count % 25 == 0:
                if cancelled():
                    raise Cancelled("the run was cancelled", remedy="Nothing was recorded.")
                progress(run.share)
        self.elapsed_s += run.time_s
        log = run.log()
        if settings.knock_signal and isinstance(engine, TurboPetrolRun | NaturalPetrolRun):
            channels = knock_channels(engine.p.engine, engine.burn.cycles, rng)
            log = Log({**log.channels, **channels})
        progress(1.0)
        return log, self._conditions(settings, around.air, start_charge_k, rng)

    @property
    def faulty_plant(self) -> AnyPlant:
        """The vehicle with its faults."""
        return faulty_plant(self.plant, self.faults)

    def heard_by_unit(self, settings: PullSettings) -> tuple[str, ...]:
        """The channels of a run that the unit itself measures, in their order: what it gives by identifier."""
        truths = self.engine(settings).truths
        return tuple(k for k in ("engine_speed", "vehicle_speed", *truths) if k in CHANNELS and k not in BESIDE_UNIT)

    def engine(self, settings: PullSettings) -> Powertrain:
        """The engine by itself, warm and ready to be stepped at any speed; it takes no time of the day."""
        heat, self.heat = self.heat, new_heat(self.plant.thermal, self.air.temperature_k)
        try:
            return self._engine(settings, self._around(settings.fan), np.random.default_rng((self.seed, 0)))
        finally:
            self.heat = heat

    def _engine(self, settings: PullSettings, around: Surroundings, rng: np.random.Generator) -> Powertrain:
        plant, faults = self.faulty_plant, self.faults
        tank = faulty_fuel(fuel_by_key(self.fuel), faults)
        if isinstance(plant, TurboDiesel):
            return TurboDieselRun(
                plant, self.unit, self.slot, tank, around, self.heat, settings.gear, cetane_loss=cetane_loss(faults)
            )
        coil = ignition(faults, plant.engine.cylinders)
        if isinstance(plant, TurboPetrol):
            return TurboPetrolRun(
                plant, self.unit, self.slot, tank, around, self.heat, settings.gear, rng,
                ignition=coil, lambda_gain=lambda_gain(faults), keep_cycles=settings.knock_signal,
            )  # fmt: skip
        return NaturalPetrolRun(
            plant, self.unit, self.slot, tank, around, self.heat, rng, ignition=coil,
            keep_cycles=settings.knock_signal,
        )  # fmt: skip

    def _coast(self, settings: PullSettings, seed: tuple[int, ...]) -> tuple[Log, Conditions]:
        """Let the roller run out with the clutch open, from the speed at which a pull ends."""
        driveline = self.faulty_plant.driveline
        log = coast(driveline, self.dyno, settings.end_rpm / self.engine_per_roller(settings.gear), seed)
        self.elapsed_s += float(log.channel("roller_speed").time_s[-1])
        conditions = self._conditions(settings, self.air, self.air.temperature_k, np.random.default_rng(seed))
        inertia = turning_inertia(driveline, self.dyno)
        return log, conditions.model_copy(update={"throttle": 0.0, "turning_inertia_kg_m2": inertia})

    def _conditions(
        self, settings: PullSettings, air: Air, start_charge_k: float, rng: np.random.Generator
    ) -> Conditions:
        read = station_reading(air, rng)
        on_road = settings.kind in ("road", "climb")
        return Conditions(
            pressure_pa=read.pressure_pa,
            temperature_k=read.temperature_k,
            relative_humidity=read.relative_humidity,
            fuel=self.fuel,
            slot=self.slot,
            dyno="simulated road" if on_road else self.dyno.title,
            run=settings.kind,
            gear=settings.gear,
            throttle=settings.throttle,
            engine_per_roller=None if on_road else self.engine_per_roller(settings.gear),
            roller_inertia_kg_m2=None if on_road else self.dyno.roller_inertia_kg_m2,
            cool_down_s=settings.cool_down_s,
            charge_start_k=start_charge_k,
            fan=settings.fan,
            grade=settings.grade if on_road else 0.0,
            mass_kg=self.plant.body.mass_kg + settings.tow_kg if on_road else None,
            faults={k: v for k, v in self.faults.items() if v > 0.0},
            simulated=True,
        )
