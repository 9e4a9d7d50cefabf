"""The naturally aspirated twin running: throttle and speed decide fuel, waves in its pipes decide filling."""

from __future__ import annotations

import numpy as np

from yarvic.bench.breathing import behind_throttle, throttle_capacity
from yarvic.bench.cylinders import EXHAUST_WALL_K, Charge
from yarvic.bench.lookup import Line, Map
from yarvic.bench.plant import NaturalPetrol
from yarvic.bench.powertrain import NO_LEDGER, Heat, Ledger, Surroundings, warm
from yarvic.bench.spark_burn import Ignition, SparkBurn
from yarvic.bench.turbo import behind_filter
from yarvic.bench.turbo_petrol import SHUT
from yarvic.bench.unit import SimulatedUnit
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.physics.constants import R_DRY_AIR, STANDARD_PRESSURE_PA
from yarvic.core.physics.fuel import Fuel
from yarvic.core.physics.heat import behind_pipe, charge_heating
from yarvic.core.physics.power import RAD_PER_S_PER_RPM
from yarvic.core.physics.waves import tuned_speed_rpm, tuning_gain
from yarvic.core.units import to_canonical

EXHAUST_OVER_PA = 9e3  # mean pressure of the exhaust over ambient at 0.03 kg/s, open silencer; our choice
EXHAUST_FLOW_KG_S = 0.03
RATED_VOLTAGE = 13.8  # at which an injector's dead time is stated
REFERENCE_AIR_K = 293.15  # air for which the injection table is written
SWITCH_LAG_S = 0.08
# The engine is dragged: no fuel is given. Our choice of where.
OVERRUN_THROTTLE, OVERRUN_RPM = 0.07, 3000.0
FEED_LAG_S = 0.05  # pressure in the feed line follows pump and injectors; our choice


class TwinProgram:
    """Fuel by throttle and speed, corrected for air; spark by throttle and speed; a switch of intake length."""

    def __init__(self, calibration: Calibration) -> None:
        self.maps = {key: Map(table) for key, table in calibration.tables.items()}
        self.scalars = {key: float(to_canonical(s.value, s.unit)) for key, s in calibration.scalars.items()}
        self.lambda_target = 1.0
        self.spark_deg = 0.0
        self.open_s = 0.0
        self.short = 0.0
        self.fuel_cut = False
        self.overrun = False

    def step(self, speed_rpm: float, throttle: float, ambient_pa: float, air_k: float) -> None:
        """One control step; `open_s` is how long each injector is driven, dead time included."""
        m, k = self.maps, self.scalars
        self.lambda_target = m["lambda_target"](speed_rpm, throttle)
        air = (ambient_pa / STANDARD_PRESSURE_PA) ** k["barometer_exponent"]
        air *= (REFERENCE_AIR_K / air_k) ** k["air_temperature_exponent"]
        self.open_s = m["injection_time"](speed_rpm, throttle) * air / self.lambda_target + k["dead_time"]
        self.spark_deg = m["spark_advance"](speed_rpm, throttle)
        self.fuel_cut = speed_rpm > k["rev_limit"]
        self.overrun = throttle < OVERRUN_THROTTLE and speed_rpm > OVERRUN_RPM
        self.short = 1.0 if speed_rpm > k["intake_switch"] else 0.0


class NaturalPetrolRun:
    """One run of the engine."""

    truths = (
        "throttle", "airbox_pressure", "lambda_measured", "lambda_target", "injection_time", "injector_window",
        "spark_advance", "intake_length", "charge_temperature", "exhaust_temperature", "coolant_temperature",
        "oil_temperature", "gearbox_temperature", "feed_pressure", "misfires", "supply_voltage", "exhaust_flow",
        "ambient_pressure", "ambient_temperature",
    )  # fmt: skip

    def __init__(
        self,
        plant: NaturalPetrol,
        unit: SimulatedUnit,
        slot: str,
        fuel: Fuel,
        around: Surroundings,
        heat: Heat,
        rng: np.random.Generator,
        *,
        ignition: Ignition | None = None,
        keep_cycles: bool = False,
    ) -> None:
        self.p, self.fuel, self.around, self.heat = plant, fuel, around, heat
        e = plant.engine
        self.program = TwinProgram(unit.calibration(slot))
        self.burn = SparkBurn(e, fuel, rng, ignition or Ignition(), keep_cycles)
        self.displacement_m3 = e.displacement_m3
        self.ledger: Ledger = NO_LEDGER
        self.fuel_cut = False
        self._filling = Line(plant.filling.speed_rpm, plant.filling.efficiency)
        w = plant.tuning
        self._long = float(tuned_speed_rpm(w.intake_long_m, w.sound_intake_m_s, w.intake_angle_deg))
        self._short = float(tuned_speed_rpm(w.intake_short_m, w.sound_intake_m_s, w.intake_angle_deg))
        self._pipe = float(tuned_speed_rpm(w.exhaust_m, w.sound_exhaust_m_s, w.exhaust_angle_deg))
        self.time_s = 0.0
        self.throttle = 0.0
        self.airbox_pa = around.air.pressure_pa
        self.air_flow, self.exhaust_flow = 0.004, 0.0045
        self.exhaust_k = 780.0
        self.feed_pa = plant.injection.rated_pa
        self.window = 0.0
        self.short = 0.0

    @property
    def charge_k(self) -> float:
        """Temperature of the air in the airbox."""
        return self.around.air.temperature_k + self.p.intake.heat_k * (0.3 + 0.7 * self.heat.soak)

    def efficiency(self, speed_rpm: float, short: float) -> float:
        """True filling at a speed, with the intake's length between long (0) and short (1)."""
        w = self.p.tuning
        intake = (1.0 - short) * tuning_gain(speed_rpm, self._long, w.width)
        intake += short * tuning_gain(speed_rpm, self._short, w.width)
        pipe = tuning_gain(speed_rpm, self._pipe, w.width)
        return float(self._filling(speed_rpm) * (1.0 + w.intake_gain * intake + w.exhaust_gain * pipe))

    def step(self, pedal: float, speed_rpm: float, dt: float) -> float:
        """Advance by `dt`; torque at the crank, N m."""
        self.throttle = pedal
        ambient_pa, charge_k = self.around.air.pressure_pa, self.charge_k
        self.program.step(speed_rpm, pedal, ambient_pa, charge_k)
        self.fuel_cut = self.program.fuel_cut
        self.short += (self.program.short - self.short) * min(dt / SWITCH_LAG_S, 1.0)
        self.airbox_pa = behind_filter(self.p.intake.filter_drop_pa, ambient_pa, self.air_flow)
        efficiency = self.efficiency(speed_rpm, self.short) * charge_heating(charge_k, self.p.filling.reference_k)
        per_pa = efficiency * self.displacement_m3 * speed_rpm / 120.0 / (R_DRY_AIR * charge_k)
        exhaust_pa = ambient_pa + EXHAUST_OVER_PA * (self.exhaust_flow / EXHAUST_FLOW_KG_S) ** 2
        intake_pa, self.air_flow = behind_throttle(
            self.airbox_pa, exhaust_pa, per_pa, self.p.filling.back_pressure_slope,
            throttle_capacity(self.p.throttle.capacity, pedal), charge_k,
        )  # fmt: skip
        air = self.air_flow * 120.0 / speed_rpm
        charge = Charge(
            intake_pa,
            charge_k,
            air * self.around.dry_share / self.p.engine.cylinders,
            self.burn.mean_mixture,
            speed_rpm,
        )
        fuel_kg = 0.0 if self.fuel_cut or self.program.overrun or pedal <= SHUT else self._inject(speed_rpm, dt)
        energies: tuple[float, ...] = (0.0, 0.0, 0.0, 0.0)
        if fuel_kg > 0.0:
            retard = [0.0] * self.p.engine.cylinders  # this unit does not listen for knock
            energies = self.burn.burn(charge, fuel_kg, self.program.spark_deg, retard)
            self.burn.cycle(self.time_s, charge, self.program.spark_deg, retard)
        else:
            self.burn.no_fuel(self.around.air.temperature_k, dt)
        torque = self.burn.torque(energies, charge, exhaust_pa)
        self.ledger = self.burn.ledger(energies, torque, charge, exhaust_pa)
        self.exhaust_flow = self.air_flow + fuel_kg * speed_rpm / 120.0
        gas_k = behind_pipe(
            self.burn.exhaust_k, EXHAUST_WALL_K, self.p.exhaust_gas.manifold_ntu,
            self.exhaust_flow, self.p.engine.heat_reference_kg_s,
        )  # fmt: skip
        self.exhaust_k += (gas_k - self.exhaust_k) * 0.25
        gearbox_w = abs(torque) * speed_rpm * RAD_PER_S_PER_RPM * (1.0 - self.p.driveline.efficiency)
        warm(self.p.thermal, self.heat, self.around, self.ledger.coolant_w, gearbox_w, dt)
        self.time_s += dt
        return torque

    def _inject(self, speed_rpm: float, dt: float) -> float:
        """Fuel of all injectors in a cycle, kg: what is driven less the true dead time, at the pressure there is."""
        i = self.p.injection
        cycle_s = 120.0 / speed_rpm
        dead = max(i.dead_time_s + i.dead_time_s_per_v * (RATED_VOLTAGE - self.around.voltage), 0.0)
        open_s = min(max(self.program.open_s - dead, 0.0), cycle_s)
        self.window = min(self.program.open_s / cycle_s, 1.0)
        # Injectors pass by the root of the pressure; the pump gives less of it the more is drawn, the regulator no more.
        given = i.injector_static_kg_s * open_s * self.p.engine.cylinders * (self.feed_pa / i.rated_pa) ** 0.5
        drawn = given / cycle_s
        line = i.rated_pa * i.pump_stall * max(1.0 - drawn / i.pump_kg_s, 0.05)
        self.feed_pa += (min(line, i.rated_pa) - self.feed_pa) * min(dt / FEED_LAG_S, 1.0)
        return float(given)

    def row(self) -> tuple[float, ...]:
        """The present values of `truths`."""
        h, g = self.heat, self.program
        return (
            self.throttle, self.airbox_pa, self.burn.mixture, g.lambda_target, g.open_s, self.window,
            g.spark_deg, self.short, self.charge_k, self.exhaust_k, h.coolant, h.oil, h.gearbox, self.feed_pa,
            float(self.burn.misfires), self.around.voltage, self.exhaust_flow,
            self.around.air.pressure_pa, self.around.air.temperature_k,
        )  # fmt: skip
