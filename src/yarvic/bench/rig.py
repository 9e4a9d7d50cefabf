"""The simulated rig: one vehicle on one inertia dyno in one weather, with its heat from pull to pull."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from math import exp, pi

import numpy as np

from yarvic.bench.cylinders import Charge, Cylinders, friction_torque
from yarvic.bench.plant import Plant
from yarvic.bench.rail import injection_window, step_rail
from yarvic.bench.sensors import SENSORS, delayed_lambda, measure
from yarvic.bench.turbo import TurboState, step_turbo
from yarvic.bench.unit import Commands, Line, Program, Sensed, SimulatedUnit
from yarvic.core.errors import Cancelled, LinkError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.physics import FloatArray
from yarvic.core.physics.air import Air, dry_pressure
from yarvic.core.physics.constants import CP_AIR, R_DRY_AIR
from yarvic.core.physics.fuel import fuel as fuel_by_key
from yarvic.core.physics.turbo import charge_temperature

DT = 0.010
LEAD_IN_S = 1.2
LEAD_OUT_S = 0.8
LEAD_THROTTLE = 0.22
LONGEST_S = 40.0
LEAST_SCAVENGED = 0.3


@dataclass(frozen=True)
class PullSettings:
    """How a pull is run: gear from 1, throttle 0 to 1, start and end speed, cool-down before it in s."""

    gear: int = 4
    throttle: float = 1.0
    start_rpm: float = 1700.0
    end_rpm: float = 6450.0
    cool_down_s: float = 60.0


@dataclass
class Heat:
    """Temperatures that outlast a pull, K."""

    cooler: float
    soak: float
    coolant: float
    oil: float


class Rig:
    """Runs pulls. Deterministic: the same seed and the same order of pulls give the same logs."""

    roller_inertia_kg_m2 = 90.0
    roller_radius_m = 0.38
    dyno = "simulated inertia dyno 1"

    def __init__(
        self, plant: Plant, unit: SimulatedUnit, slot: str, air: Air, *, fuel: str = "", seed: int = 0
    ) -> None:
        self.plant = plant
        self.unit = unit
        self.slot = slot
        self.air = air
        self.fuel_key = fuel or plant.fuel
        self.fuel = fuel_by_key(self.fuel_key)
        self.seed = seed
        self.pulls_run = 0
        t = air.temperature_k
        self.heat = Heat(t + 2.0, 0.0, plant.thermal.coolant_k, plant.thermal.oil_k)

    def engine_per_roller(self, gear: int) -> float:
        """Engine speed over roller speed in a gear."""
        d = self.plant.driveline
        if not 1 <= gear <= len(d.gear_ratios):
            raise LinkError(f"there is no gear {gear}", concerns=self.plant.name, remedy="Choose another gear.")
        return d.gear_ratios[gear - 1] * d.final_drive * self.roller_radius_m / d.tyre_radius_m

    def cool(self, seconds: float) -> None:
        """Stand with the fan on: heat goes towards ambient."""
        th, c, h = self.plant.thermal, self.plant.cooler, self.heat
        ambient = self.air.temperature_k
        still = ambient + 2.0
        h.cooler = still + (h.cooler - still) * exp(-seconds * c.to_air_w_k / c.heat_capacity_j_k)
        h.soak *= exp(-seconds / th.soak_s)
        h.coolant = th.coolant_k + (h.coolant - th.coolant_k) * exp(-seconds / 45.0)
        h.oil = th.oil_k + (h.oil - th.oil_k) * exp(-seconds / 120.0)

    def pull(
        self,
        settings: PullSettings,
        progress: Callable[[float], None] = lambda share: None,
        cancelled: Callable[[], bool] = lambda: False,
    ) -> tuple[Log, Conditions]:
        """Cool down, then hold the start speed, open the throttle and sweep. Raises Cancelled, LinkError."""
        self.engine_per_roller(settings.gear)
        program = self.unit.program(self.slot)
        self.cool(settings.cool_down_s)
        self.pulls_run += 1
        rng = np.random.default_rng([self.seed, self.pulls_run])
        heat_before = replace(self.heat)
        run = _Run(self, program, settings, rng)
        start_charge = run.charge_k
        try:
            while not run.finished:
                run.step()
                if run.count % 25 == 0:
                    if cancelled():
                        raise Cancelled("the pull was cancelled", remedy="Nothing was recorded.")
                    progress(run.share)
        except Cancelled:
            self.heat = heat_before
            self.pulls_run -= 1
            raise
        progress(1.0)
        conditions = Conditions(
            pressure_pa=self.air.pressure_pa,
            temperature_k=self.air.temperature_k,
            relative_humidity=self.air.relative_humidity,
            fuel=self.fuel_key,
            dyno=self.dyno,
            gear=settings.gear,
            throttle=settings.throttle,
            engine_per_roller=self.engine_per_roller(settings.gear),
            roller_inertia_kg_m2=self.roller_inertia_kg_m2,
            cool_down_s=settings.cool_down_s,
            charge_start_k=start_charge,
            simulated=True,
        )
        return run.log(rng), conditions


# The order of a row of the record below.
TRUTHS = (
    "engine_speed", "throttle", "boost_pressure", "boost_target", "rail_pressure", "rail_target", "roller_speed",
    "lambda_measured", "lambda_target", "fuel_trim", "injector_window", "spark_advance", "spark_correction_1",
    "spark_correction_2", "spark_correction_3", "wastegate_duty", "filling", "torque_estimate", "charge_temperature",
    "exhaust_temperature", "coolant_temperature", "oil_temperature", "vehicle_speed", "exhaust_flow",
)  # fmt: skip


class _Run:
    """One pull in progress."""

    def __init__(self, rig: Rig, program: Program, settings: PullSettings, rng: np.random.Generator) -> None:
        self.rig, self.program, self.settings, self.rng = rig, program, settings, rng
        p, air = rig.plant, rig.air
        self.p = p
        program.start(p.engine.cylinders)
        self.cylinders = Cylinders(p.engine, rig.fuel)
        self.displacement_m3 = p.engine.displacement_m3
        self.filling = Line(p.filling.speed_rpm, p.filling.efficiency)
        self.speed_rpm = settings.start_rpm
        self.time_s = 0.0
        self.count = 0
        self.finished = False
        self.lifted_at: float | None = None
        self.turbo = TurboState(4200.0, 0.0, air.pressure_pa)
        self.rail_pa = 350e5
        self.exhaust_k = 780.0
        self.exhaust_pa = air.pressure_pa * 1.05
        self.outlet_k = air.temperature_k + 8.0
        self.air_flow = 0.01
        self.exhaust_flow = 0.011
        self.mixture = 1.0
        self.next_cycle = 0.0
        self.inlet_k = air.temperature_k + p.cooler.intake_heat_k * (0.3 + 0.7 * rig.heat.soak)
        self.charge_k = charge_temperature(self.outlet_k, rig.heat.cooler, p.cooler.effectiveness)
        # Water vapour takes the place of air: the engine breathes the dry share only.
        self.dry_share = dry_pressure(air) / air.pressure_pa
        self.ratio = rig.engine_per_roller(settings.gear)
        d = p.driveline
        wheels = d.gear_ratios[settings.gear - 1] * d.final_drive
        self.inertia = (
            d.rotating_inertia_kg_m2
            + d.wheels_inertia_kg_m2 / wheels**2
            + rig.roller_inertia_kg_m2 / self.ratio**2 / d.efficiency
        )
        self.rows: list[tuple[float, ...]] = []

    @property
    def share(self) -> float:
        """How much of the sweep is done."""
        span = self.settings.end_rpm - self.settings.start_rpm
        return min(max((self.speed_rpm - self.settings.start_rpm) / span, 0.0), 0.99)

    def step(self) -> None:
        """Advance 10 ms."""
        throttle = self._throttle()
        intake_pa, air_per_cycle = self._breathe(throttle)
        commands = self.program.step(
            Sensed(self.speed_rpm, throttle, self.turbo.boost_pa, intake_pa, self.charge_k, self.rig.air.pressure_pa),
            self.displacement_m3,
            self.settings.gear,
            self.mixture,
            DT,
        )
        torque = self._burn(commands, intake_pa, air_per_cycle)
        self._move(torque)
        self._record(throttle, commands)
        self.time_s += DT
        self.count += 1
        done_s = self.time_s - self.lifted_at if self.lifted_at is not None else 0.0
        self.finished = done_s >= LEAD_OUT_S or self.time_s > LONGEST_S

    def _throttle(self) -> float:
        if self.time_s < LEAD_IN_S:
            return LEAD_THROTTLE
        reached = self.speed_rpm >= self.settings.end_rpm or self.program.commands.fuel_cut
        if self.lifted_at is None and reached:
            self.lifted_at = self.time_s
        if self.lifted_at is not None:
            return max(self.settings.throttle - (self.time_s - self.lifted_at) * 6.0, 0.0)
        return min(LEAD_THROTTLE + (self.time_s - LEAD_IN_S) * 6.0, self.settings.throttle)

    def _breathe(self, throttle: float) -> tuple[float, float]:
        """Manifold pressure behind the throttle, and dry air per cycle of the whole engine."""
        p, f = self.p, self.p.filling
        boost = self.turbo.boost_pa
        # Area follows the plate's angle: little at first, most of it by half.
        area = max(throttle, 0.02) ** 1.6
        capacity = p.throttle.capacity * min(area, 1.0)
        efficiency = self.filling(self.speed_rpm)
        per_pa = efficiency * self.displacement_m3 * self.speed_rpm / 120.0 / (R_DRY_AIR * self.charge_k)
        intake = boost / (1.0 + per_pa**2 * self.charge_k / capacity**2) ** 0.5
        # With the throttle shut the exhaust stands far over the intake: residual gas fills most of the cylinder, not all.
        efficiency *= max(1.0 - f.back_pressure_slope * max(self.exhaust_pa / intake - 1.0, -0.3), LEAST_SCAVENGED)
        air = efficiency * intake * self.displacement_m3 / (R_DRY_AIR * self.charge_k)
        self.air_flow = air * self.speed_rpm / 120.0
        return intake, air * self.dry_share

    def _burn(self, c: Commands, intake_pa: float, air_per_cycle: float) -> float:
        """Torque at the crank, N m; advances rail, exhaust, turbo, cooler and knock."""
        p, e, fuel = self.p, self.p.engine, self.rig.fuel
        cut = c.fuel_cut or (self.lifted_at is not None and self.time_s - self.lifted_at > 0.1)
        fuel_per_cycle = (
            0.0 if cut else c.air_per_cycle_kg / (fuel.stoichiometric_afr * c.lambda_target) * (1.0 + c.trim)
        )
        window = injection_window(p.rail, self.rail_pa, fuel_per_cycle / e.cylinders, self.speed_rpm)
        if window > 1.0:
            fuel_per_cycle /= window
        self.window = min(window, 1.0)
        fuel_flow = fuel_per_cycle * self.speed_rpm / 120.0
        self.rail_pa = step_rail(p.rail, fuel, self.rail_pa, c.rail_target_pa, fuel_flow, self.speed_rpm, DT)
        indicated = 0.0
        to_coolant = 0.0
        exhaust_k = self.rig.air.temperature_k + 250.0
        if fuel_per_cycle > 0.0:
            self.mixture = min(max(air_per_cycle / (fuel_per_cycle * fuel.stoichiometric_afr), 0.5), 1.6)
            each = air_per_cycle / e.cylinders
            exhaust_k = 0.0
            angles = self.cylinders.burn_angles(Charge(intake_pa, self.charge_k, each, self.mixture, self.speed_rpm))
            for i in range(e.cylinders):
                charge = Charge(intake_pa, self.charge_k, each * e.cylinder_filling[i], self.mixture, self.speed_rpm)
                done = self.cylinders.work(charge, c.spark_deg - c.retard_deg[i], angles)
                indicated += done.indicated_j
                to_coolant += done.coolant_j
                exhaust_k += done.exhaust_k / e.cylinders
            exhaust_k -= p.exhaust_gas.manifold_loss_k
            self._knock(c, intake_pa, each)
        else:
            self.mixture = min(self.mixture + DT * 2.0, 1.6)
        self.exhaust_k += (exhaust_k - self.exhaust_k) * 0.25
        self.exhaust_flow = self.air_flow + fuel_flow
        self._turbo_and_cooler(c.duty)
        self._warm(to_coolant * self.speed_rpm / 120.0)
        return indicated / (4.0 * pi) - friction_torque(e, self.speed_rpm, intake_pa, self.exhaust_pa)

    def _knock(self, c: Commands, intake_pa: float, air_kg: float) -> None:
        if self.time_s < self.next_cycle:
            return
        self.next_cycle = self.time_s + 120.0 / self.speed_rpm
        e = self.p.engine
        charge = Charge(intake_pa, self.charge_k, air_kg, self.mixture, self.speed_rpm)
        jitter = self.rng.normal(0.0, e.burn_spread_deg, e.cylinders)
        spark = c.spark_deg - np.array(c.retard_deg)
        intensity = self.cylinders.knock_intensity(charge, spark, jitter)
        for cylinder in np.flatnonzero(intensity > e.knock_threshold):
            self.program.heard_knock(int(cylinder))

    def _turbo_and_cooler(self, duty: float) -> None:
        p, heat = self.p, self.rig.heat
        ambient = self.rig.air
        done = step_turbo(
            p.turbo,
            p.exhaust,
            self.turbo,
            air_kg_s=self.air_flow,
            exhaust_kg_s=self.exhaust_flow,
            exhaust_k=self.exhaust_k,
            ambient_pa=ambient.pressure_pa,
            inlet_k=self.inlet_k,
            duty=duty,
            dt=DT,
        )
        self.exhaust_pa = done.before_turbine_pa
        self.outlet_k = done.outlet_k
        self.charge_k = charge_temperature(self.outlet_k, heat.cooler, p.cooler.effectiveness)
        given = self.air_flow * CP_AIR * (self.outlet_k - self.charge_k)
        taken = p.cooler.to_air_w_k * (heat.cooler - ambient.temperature_k)
        heat.cooler += (given - taken) * DT / p.cooler.heat_capacity_j_k

    def _warm(self, coolant_w: float) -> None:
        th, heat = self.p.thermal, self.rig.heat
        heat.soak += (1.0 - heat.soak) * DT / th.soak_s * 3.0
        self.inlet_k = self.rig.air.temperature_k + self.p.cooler.intake_heat_k * (0.3 + 0.7 * heat.soak)
        heat.coolant += (coolant_w - th.radiator_w_k * (heat.coolant - th.coolant_k + 12.0)) * DT / th.coolant_j_k
        heat.coolant = max(heat.coolant, th.coolant_k - 3.0)
        heat.oil += (0.09 * coolant_w - 320.0 * (heat.oil - th.oil_k + 8.0)) * DT / th.oil_j_k
        heat.oil = max(heat.oil, th.oil_k - 3.0)

    def _move(self, torque: float) -> None:
        # Until the throttle opens the dyno holds the start speed.
        if self.time_s < LEAD_IN_S:
            return
        acceleration = torque / self.inertia
        self.speed_rpm = max(self.speed_rpm + acceleration * DT * 60.0 / (2.0 * pi), 600.0)

    def _record(self, throttle: float, c: Commands) -> None:
        roller_rpm = self.speed_rpm / self.ratio
        road = roller_rpm * 2.0 * pi / 60.0 * self.rig.roller_radius_m
        self.rows.append(
            (
                self.speed_rpm,
                throttle,
                self.turbo.boost_pa,
                c.boost_target_pa,
                self.rail_pa,
                c.rail_target_pa,
                roller_rpm,
                self.mixture,
                c.lambda_target,
                c.trim,
                self.window,
                c.spark_deg,
                -c.retard_deg[0],
                -c.retard_deg[1],
                -c.retard_deg[2],
                c.duty,
                c.filling,
                c.torque_nm,
                self.charge_k,
                self.exhaust_k,
                self.rig.heat.coolant,
                self.rig.heat.oil,
                road,
                self.exhaust_flow,
            )
        )

    def log(self, rng: np.random.Generator) -> Log:
        """What the sensors made of the run."""
        table: FloatArray = np.array(self.rows, dtype=np.float64)
        time_s: FloatArray = np.arange(len(self.rows), dtype=np.float64) * DT
        truth: dict[str, FloatArray] = {key: table[:, i] for i, key in enumerate(TRUTHS)}
        truth["lambda_measured"] = delayed_lambda(time_s, truth["lambda_measured"], truth["exhaust_flow"])
        clocks: dict[float, FloatArray] = {}
        channels: dict[str, Channel] = {}
        for key, sensor in SENSORS.items():
            clock = clocks.setdefault(sensor.rate_hz, np.arange(0.0, float(time_s[-1]) + 1e-9, 1.0 / sensor.rate_hz))
            channels[key] = measure(key, time_s, truth[key], clock, rng)
        return Log(channels)
