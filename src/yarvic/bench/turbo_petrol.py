"""The turbo petrol engine running: breathing, burning, boost, rail and heat in steps, under its unit's program."""

from __future__ import annotations

import numpy as np

from yarvic.bench.breathing import behind_throttle, throttle_capacity
from yarvic.bench.charging import Charging
from yarvic.bench.cylinders import EXHAUST_WALL_K, Charge
from yarvic.bench.lookup import Line
from yarvic.bench.petrol_program import Commands, PetrolProgram, Sensed
from yarvic.bench.plant import TurboPetrol
from yarvic.bench.powertrain import NO_LEDGER, Heat, Ledger, Surroundings, warm
from yarvic.bench.rail import injection_window, step_rail
from yarvic.bench.spark_burn import Ignition, SparkBurn
from yarvic.bench.turbo import TurboState, move_gate
from yarvic.bench.unit import SimulatedUnit
from yarvic.core.evidence.channels import SPARK_CORRECTIONS
from yarvic.core.physics.constants import R_DRY_AIR
from yarvic.core.physics.fuel import Fuel
from yarvic.core.physics.heat import behind_pipe, charge_heating
from yarvic.core.physics.power import RAD_PER_S_PER_RPM

LEAST_SCAVENGED = 0.3
SHUT = 0.01  # throttle below which the injectors rest
SEEN_LAG_S = 0.15  # lambda as the unit has it
THERMOCOUPLE_S = 1.1


class TurboPetrolRun:
    """One run of the engine. `gear` is what the unit is told."""

    _BEFORE = (
        "throttle", "boost_pressure", "boost_target", "rail_pressure", "rail_target", "lambda_measured",
        "lambda_target", "fuel_trim", "long_trim", "injector_window", "spark_advance",
    )  # fmt: skip
    _BEHIND = (
        "cam_phase", "wastegate_duty", "filling", "air_flow",
        "torque_estimate", "charge_temperature", "exhaust_temperature", "coolant_temperature", "oil_temperature",
        "gearbox_temperature", "shutter_position", "misfires", "supply_voltage", "exhaust_flow", "ambient_pressure",
        "ambient_temperature",
    )  # fmt: skip

    def __init__(
        self,
        plant: TurboPetrol,
        unit: SimulatedUnit,
        slot: str,
        fuel: Fuel,
        around: Surroundings,
        heat: Heat,
        gear: int,
        rng: np.random.Generator,
        *,
        ignition: Ignition | None = None,
        lambda_gain: float = 1.0,
        keep_cycles: bool = False,
    ) -> None:
        self.p, self.fuel, self.around, self.heat, self.gear = plant, fuel, around, heat, gear
        e = plant.engine
        # Each cylinder's correction stands between what comes before and behind it.
        self.truths = (*self._BEFORE, *SPARK_CORRECTIONS[: e.cylinders], *self._BEHIND)
        self.displacement_m3 = e.displacement_m3
        self.program = PetrolProgram(unit.calibration(slot), unit.learned, e.cylinders, self.displacement_m3)
        self.burn = SparkBurn(e, fuel, rng, ignition or Ignition(), keep_cycles)
        self.lambda_gain = lambda_gain
        self.ledger: Ledger = NO_LEDGER
        self.fuel_cut = False
        self._filling = Line(plant.filling.speed_rpm, plant.filling.efficiency)
        self._cam_best = Line(plant.cam.speed_rpm, plant.cam.best_deg)
        self.time_s = 0.0
        self.turbo = TurboState(4200.0, around.air.pressure_pa)
        self.charging = Charging(plant, around, heat, self.turbo, 8.0)
        self.rail_pa = plant.rail.rated_pa
        self.exhaust_k = self.thermocouple_k = 780.0
        self.air_flow, self.exhaust_flow = 0.01, 0.011
        self.window = 0.0
        self.seen = 1.0
        self.cam_deg = 0.0
        self.shutters = 0.0
        self.throttle = 0.0

    @property
    def charge_k(self) -> float:
        """Charge temperature behind the cooler."""
        return self.charging.charge_k

    @property
    def commands(self) -> Commands:
        """What the unit commands now."""
        return self.program.commands

    def step(self, pedal: float, speed_rpm: float, dt: float) -> float:
        """Advance by `dt`; torque at the crank, N m."""
        self.throttle = pedal
        ambient_pa = self.around.air.pressure_pa
        intake_pa, air_per_cycle = self._breathe(pedal, speed_rpm)
        sensed = Sensed(
            speed_rpm, pedal, self.turbo.boost_pa, intake_pa, self.charge_k, ambient_pa,
            self.thermocouple_k, self.seen * self.lambda_gain,
        )  # fmt: skip
        c = self.program.step(sensed, self.gear, dt)
        self.fuel_cut = c.fuel_cut
        torque = self._burn(c, pedal, speed_rpm, intake_pa, air_per_cycle, dt)
        self._exhaust_and_boost(c, dt)
        p = self.p
        self.cam_deg += (c.cam_deg - self.cam_deg) * min(dt / p.cam.lag_s, 1.0)
        self.shutters += (c.shutters - self.shutters) * min(dt / p.cooler.shutter_lag_s, 1.0)
        gearbox_w = abs(torque) * speed_rpm * RAD_PER_S_PER_RPM * (1.0 - p.driveline.efficiency)
        warm(p.thermal, self.heat, self.around, self.ledger.coolant_w, gearbox_w, dt)
        self.time_s += dt
        return torque

    def _breathe(self, throttle: float, speed_rpm: float) -> tuple[float, float]:
        """Manifold pressure behind the throttle, and dry air per cycle of the whole engine."""
        p, f = self.p, self.p.filling
        boost = self.turbo.boost_pa
        off = self.cam_deg - self._cam_best(speed_rpm)
        efficiency = self._filling(speed_rpm) * max(1.0 - p.cam.loss_per_deg2 * off * off, LEAST_SCAVENGED)
        efficiency *= charge_heating(self.charge_k, f.reference_k)
        per_pa = efficiency * self.displacement_m3 * speed_rpm / 120.0 / (R_DRY_AIR * self.charge_k)
        intake, self.air_flow = behind_throttle(
            boost, self.charging.exhaust_pa, per_pa, f.back_pressure_slope,
            throttle_capacity(p.throttle.capacity, throttle), self.charge_k,
        )  # fmt: skip
        return intake, self.air_flow * 120.0 / speed_rpm * self.around.dry_share

    def _burn(
        self, c: Commands, pedal: float, speed_rpm: float, intake_pa: float, air_per_cycle: float, dt: float
    ) -> float:
        p, e, fuel = self.p, self.p.engine, self.fuel
        cut = c.fuel_cut or c.overrun or pedal <= SHUT
        asked = c.air_per_cycle_kg / (self.program.scalars["stoichiometric_afr"] * c.lambda_target)
        fuel_per_cycle = 0.0 if cut else asked * (1.0 + c.trim) * (1.0 + c.long_trim)
        window = injection_window(p.rail, self.rail_pa, fuel_per_cycle / e.cylinders, speed_rpm)
        if window > 1.0:
            fuel_per_cycle /= window
        self.window = min(window, 1.0)
        fuel_flow = fuel_per_cycle * speed_rpm / 120.0
        self.rail_pa, _ = step_rail(p.rail, fuel, self.rail_pa, c.rail_target_pa, fuel_flow, speed_rpm, dt)
        charge = Charge(intake_pa, self.charge_k, air_per_cycle / e.cylinders, self.burn.mean_mixture, speed_rpm)
        energies: tuple[float, ...] = (0.0, 0.0, 0.0, 0.0)
        if fuel_per_cycle > 0.0:
            energies = self.burn.burn(charge, fuel_per_cycle, c.spark_deg, c.retard_deg)
            for cylinder in self.burn.cycle(self.time_s, charge, c.spark_deg, c.retard_deg):
                self.program.heard_knock(cylinder)
        else:
            self.burn.no_fuel(self.around.air.temperature_k, dt)
        torque = self.burn.torque(energies, charge, self.charging.exhaust_pa)
        self.ledger = self.burn.ledger(energies, torque, charge, self.charging.exhaust_pa)
        self.exhaust_flow = self.air_flow + fuel_flow
        return torque

    def _exhaust_and_boost(self, c: Commands, dt: float) -> None:
        p = self.p
        gas_k = behind_pipe(
            self.burn.exhaust_k, EXHAUST_WALL_K, p.exhaust_gas.manifold_ntu,
            self.exhaust_flow, p.engine.heat_reference_kg_s,
        )  # fmt: skip
        self.exhaust_k += (gas_k - self.exhaust_k) * 0.25
        self.thermocouple_k += (self.exhaust_k - self.thermocouple_k) * min(dt / THERMOCOUPLE_S, 1.0)
        self.seen += (self.burn.mixture - self.seen) * min(dt / SEEN_LAG_S, 1.0)
        capacity, share = move_gate(p.wastegate, self.turbo, self.around.air.pressure_pa, c.duty, dt)
        self.charging.advance(
            self.air_flow, self.exhaust_flow, self.exhaust_k,
            capacity=capacity, through=share, efficiency_factor=1.0, shutters=self.shutters, dt=dt,
        )  # fmt: skip

    def row(self) -> tuple[float, ...]:
        """The present values of `truths`."""
        c, h = self.commands, self.heat
        return (
            self.throttle, self.turbo.boost_pa, c.boost_target_pa, self.rail_pa, c.rail_target_pa,
            self.burn.mixture, c.lambda_target, c.trim, c.long_trim, self.window, c.spark_deg,
            *(-r for r in c.retard_deg), self.cam_deg, c.duty, c.filling, self.air_flow,
            c.torque_nm, self.charge_k, self.exhaust_k, h.coolant, h.oil, h.gearbox, self.shutters,
            float(self.burn.misfires), self.around.voltage, self.exhaust_flow,
            self.around.air.pressure_pa, self.around.air.temperature_k,
        )  # fmt: skip
