"""The turbo diesel running: quantity by the least of its limits, rail, vanes, smoke and heat in steps."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi

from yarvic.bench.charging import Charging
from yarvic.bench.cylinders import EXHAUST_WALL_K, LEAST_COOLANT, MOST_COOLANT, friction_torque
from yarvic.bench.lookup import Line, Map
from yarvic.bench.plant import TurboDiesel
from yarvic.bench.powertrain import NO_LEDGER, Heat, Ledger, Surroundings, warm
from yarvic.bench.rail import feed_pressure, injection_window, step_rail
from yarvic.bench.turbo import TurboState, move_vanes
from yarvic.bench.unit import SimulatedUnit
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.physics.constants import CP_EXHAUST, R_DRY_AIR
from yarvic.core.physics.diesel import compressed_state, ignition_delay_deg, mixture_share, smoke_opacity
from yarvic.core.physics.fuel import Fuel
from yarvic.core.physics.heat import behind_pipe, charge_heating, coolant_share
from yarvic.core.physics.power import RAD_PER_S_PER_RPM
from yarvic.core.units import to_canonical

LEANEST = 8.0  # lambda past which the bench does not follow the mixture
LEAST_SHARE = 0.25  # of the best efficiency, however wrong the injection
REFERENCE_CETANE = 51.0  # of the fuel for which the best start of injection is stated, EN 590
START_RISE_K = 30.0  # charge at valve closing over manifold; from memory
THERMOCOUPLE_S = 1.1
# The unit's own control law.
VANE_GAIN = 4.0e-6  # share shut per Pa
VANE_INTEGRAL = 6.0e-6
INTEGRAL_WINDOW_PA = 25e3
GOVERNOR_RPM = 250.0  # the quantity runs out over this many rpm at the rev limit
SUPPLY_SAG = 0.88  # rail under this share of its target: the unit cuts quantity


@dataclass
class DieselCommands:
    """What the unit commands and believes; quantities in kg per stroke and cylinder."""

    quantity_kg: float = 0.0
    allowed_kg: float = 0.0
    limit: str = "demand"
    start_deg: float = 0.0
    rail_target_pa: float = 0.0
    boost_target_pa: float = 101325.0
    shut: float = 0.5
    torque_nm: float = 0.0


class DieselProgram:
    """Quantity as the least of demand, torque limit, smoke limit and supply; rail, start and vanes by tables."""

    def __init__(self, calibration: Calibration) -> None:
        self.maps = {key: Map(table) for key, table in calibration.tables.items()}
        self.scalars = {key: float(to_canonical(s.value, s.unit)) for key, s in calibration.scalars.items()}
        self.commands = DieselCommands()
        self._integral = 0.0

    def step(
        self,
        *,
        speed_rpm: float,
        pedal: float,
        gear: int,
        air_kg: float,
        boost_pa: float,
        rail_pa: float,
        exhaust_k: float,
        dt: float,
    ) -> DieselCommands:
        """One control step; `air_kg` is what the unit measures per stroke and cylinder."""
        c, m, k = self.commands, self.maps, self.scalars
        c.torque_nm = m["torque_limit"](speed_rpm, float(gear))
        limits = {
            "demand": m["driver_demand"](speed_rpm, pedal),
            "torque": m["quantity_for_torque"](speed_rpm, c.torque_nm),
            "smoke": m["smoke_limit"](speed_rpm, air_kg),
        }
        hot = max(exhaust_k - k["protection_from"], 0.0) / 100.0
        if hot > 0.0:
            limits["heat"] = limits["torque"] * max(1.0 - k["protection_share"] * hot, 0.3)
        if c.rail_target_pa > 0.0 and rail_pa < SUPPLY_SAG * c.rail_target_pa:
            limits["supply"] = c.quantity_kg * (rail_pa / (SUPPLY_SAG * c.rail_target_pa)) ** 0.5
        over = max(speed_rpm - k["rev_limit"], 0.0)
        if over > 0.0:
            limits["governor"] = limits["torque"] * max(1.0 - over / GOVERNOR_RPM, 0.0)
        c.limit = min(limits, key=lambda name: limits[name])
        c.quantity_kg = max(limits[c.limit], 0.0)
        c.allowed_kg = min(v for name, v in limits.items() if name != "demand")
        c.start_deg = m["start_of_injection"](speed_rpm, c.quantity_kg)
        c.rail_target_pa = m["rail_target"](speed_rpm, c.quantity_kg)
        c.boost_target_pa = m["boost_target"](speed_rpm, c.quantity_kg)
        error = c.boost_target_pa - boost_pa
        if abs(error) < INTEGRAL_WINDOW_PA:
            self._integral = min(max(self._integral + VANE_INTEGRAL * error * dt, -0.3), 0.3)
        feed = m["vane_duty"](speed_rpm, c.boost_target_pa)
        c.shut = min(max(feed + VANE_GAIN * error + self._integral, 0.0), 1.0)
        return c


class TurboDieselRun:
    """One run of the engine. `gear` is what the unit is told."""

    truths = (
        "throttle", "boost_pressure", "boost_target", "rail_pressure", "rail_target", "feed_pressure",
        "injected_quantity", "quantity_limit", "injection_start", "injector_window", "vane_position", "air_flow",
        "lambda_measured", "smoke", "torque_estimate", "charge_temperature", "exhaust_temperature",
        "coolant_temperature", "oil_temperature", "gearbox_temperature", "supply_voltage", "exhaust_flow",
        "ambient_pressure", "ambient_temperature",
    )  # fmt: skip

    def __init__(
        self,
        plant: TurboDiesel,
        unit: SimulatedUnit,
        slot: str,
        fuel: Fuel,
        around: Surroundings,
        heat: Heat,
        gear: int,
        *,
        cetane_loss: float = 0.0,
    ) -> None:
        self.p, self.fuel, self.around, self.heat, self.gear = plant, fuel, around, heat, gear
        self.program = DieselProgram(unit.calibration(slot))
        self.cetane = plant.engine.cetane - cetane_loss
        self.displacement_m3 = plant.engine.displacement_m3
        self.ledger: Ledger = NO_LEDGER
        self.fuel_cut = False
        self._filling = Line(plant.filling.speed_rpm, plant.filling.efficiency)
        self.turbo = TurboState(4500.0, around.air.pressure_pa, 0.4)
        self.charging = Charging(plant, around, heat, self.turbo, 10.0)
        self.rail_pa = 600e5
        self.feed_pa = feed_pressure(plant.rail, 0.0)
        self.exhaust_k = self.thermocouple_k = 600.0
        self.air_flow, self.exhaust_flow = 0.03, 0.031
        self.air_kg = 0.0
        self.mixture = 3.0
        self.smoke = 0.0
        self.window = 0.0
        self.pedal = 0.0

    @property
    def charge_k(self) -> float:
        """Charge temperature behind the cooler."""
        return self.charging.charge_k

    def step(self, pedal: float, speed_rpm: float, dt: float) -> float:
        """Advance by `dt`; torque at the crank, N m."""
        self.pedal = pedal
        p, e = self.p, self.p.engine
        boost = self.turbo.boost_pa
        efficiency = self._filling(speed_rpm) * charge_heating(self.charge_k, p.filling.reference_k)
        efficiency *= max(
            1.0 - p.filling.back_pressure_slope * max(self.charging.exhaust_pa / boost - 1.0, -0.3), 0.3
        )
        air = efficiency * boost * self.displacement_m3 / (R_DRY_AIR * self.charge_k)
        self.air_flow = air * speed_rpm / 120.0
        # The meter stands before the compressor: what leaks behind it was measured, too.
        leak = self.charging.leak_kg_s
        self.air_kg = air * self.around.dry_share / e.cylinders
        metered = self.air_kg * (1.0 + leak / max(self.air_flow, 1e-3))
        c = self.program.step(
            speed_rpm=speed_rpm, pedal=pedal, gear=self.gear, air_kg=metered, boost_pa=boost, rail_pa=self.rail_pa,
            exhaust_k=self.thermocouple_k, dt=dt,
        )  # fmt: skip
        self.fuel_cut = c.limit == "governor" and c.quantity_kg <= 0.0
        torque = self._burn(c, speed_rpm, dt)
        self._exhaust_and_boost(c, dt)
        gearbox_w = abs(torque) * speed_rpm * RAD_PER_S_PER_RPM * (1.0 - p.driveline.efficiency)
        warm(p.thermal, self.heat, self.around, self.ledger.coolant_w, gearbox_w, dt)
        return torque

    def _inject(self, c: DieselCommands, speed_rpm: float, dt: float) -> float:
        """Fuel of one stroke and mean cylinder, kg, as far as rail and window let it; moves the rail."""
        p, e = self.p, self.p.engine
        asked = c.quantity_kg
        window = injection_window(p.rail, self.rail_pa, asked, speed_rpm)
        self.window = min(window, 1.0)
        if window > 1.0:
            asked /= window
        mean = asked * sum(e.cylinder_fuel) / e.cylinders
        flow = mean * e.cylinders * speed_rpm / 120.0
        self.rail_pa, pumped = step_rail(p.rail, self.fuel, self.rail_pa, c.rail_target_pa, flow, speed_rpm, dt)
        self.feed_pa = feed_pressure(p.rail, pumped)
        return asked

    def _burn(self, c: DieselCommands, speed_rpm: float, dt: float) -> float:
        e, fuel = self.p.engine, self.fuel
        quantity = self._inject(c, speed_rpm, dt)
        boost = self.turbo.boost_pa
        rate = speed_rpm / 120.0
        lost_nm = friction_torque(e, speed_rpm, boost, self.charging.exhaust_pa)
        w = speed_rpm * RAD_PER_S_PER_RPM
        if quantity < 1e-7:
            self.mixture, self.smoke = LEANEST, 0.0
            self.exhaust_k += (self.around.air.temperature_k + 150.0 - self.exhaust_k) * 0.05
            self.ledger = Ledger(0.0, -lost_nm * w, lost_nm * w, 0.0, 0.0)
            self.exhaust_flow = self.air_flow
            return -lost_nm
        off_deg = self._start_error(c.start_deg, speed_rpm, boost)
        timing = max(1.0 - e.start_loss_per_deg2 * off_deg * off_deg, LEAST_SHARE)
        to_coolant = coolant_share(e.coolant_share, self.air_flow, e.heat_reference_kg_s)
        fuel_j = indicated = coolant = exhaust_j = exhaust_k = smoke = 0.0
        for i in range(e.cylinders):
            own = quantity * e.cylinder_fuel[i]
            air = self.air_kg * e.cylinder_filling[i]
            mixture = min(air / (own * fuel.stoichiometric_afr), LEANEST)
            energy = own * fuel.lower_heating_value
            released = energy * min(mixture, 1.0)
            share = max(float(mixture_share(mixture, e.rich_loss)), LEAST_SHARE)
            work = energy * e.indicated_share * share * timing
            late = max(-off_deg, 0.0)
            heat = released * min(max(to_coolant - e.coolant_share_per_deg * late, LEAST_COOLANT), MOST_COOLANT)
            gas = air + own
            rise = (released - work - heat) / (gas * CP_EXHAUST)
            fuel_j += energy
            indicated += work
            coolant += heat
            exhaust_j += gas * CP_EXHAUST * rise + energy - released
            exhaust_k += (self.charge_k + rise) / e.cylinders
            smoke += self._smoke(mixture, late) / e.cylinders
        total_fuel = quantity * sum(e.cylinder_fuel)
        self.mixture = min(self.air_kg * e.cylinders / (total_fuel * fuel.stoichiometric_afr), LEANEST)
        self.smoke = min(smoke, 1.0)
        self.exhaust_flow = self.air_flow + total_fuel * rate
        gas_k = behind_pipe(
            exhaust_k, EXHAUST_WALL_K, self.p.exhaust_gas.manifold_ntu, self.exhaust_flow, e.heat_reference_kg_s
        )
        self.exhaust_k += (gas_k - self.exhaust_k) * 0.25
        torque = indicated / (4.0 * pi) - lost_nm
        self.ledger = Ledger(fuel_j * rate, torque * w, lost_nm * w, coolant * rate, exhaust_j * rate)
        return torque

    def _start_error(self, start_deg: float, speed_rpm: float, boost_pa: float) -> float:
        """Degrees by which burning begins earlier than best (late is negative); a lazy fuel begins later."""
        e = self.p.engine
        best = e.start_best_deg + e.start_best_deg_per_1000rpm * speed_rpm / 1000.0
        if self.cetane == REFERENCE_CETANE:
            return start_deg - best
        p, t = compressed_state(boost_pa, self.charge_k + START_RISE_K, e.compression_ratio)
        piston = e.stroke_m * speed_rpm / 30.0
        own, usual = (float(ignition_delay_deg(piston, t, p, c)) for c in (self.cetane, REFERENCE_CETANE))
        return start_deg - best - (own - usual)

    def _smoke(self, mixture: float, late_deg: float) -> float:
        e = self.p.engine
        seen = float(smoke_opacity(mixture, e.smoke_at_limit, e.smoke_lambda_scale))
        atomised = (self.p.rail.rated_pa / max(self.rail_pa, 1e7)) ** e.smoke_rail_exponent
        return float(min(seen * (1.0 + e.smoke_per_deg_late * late_deg) * atomised, 1.0))

    def _exhaust_and_boost(self, c: DieselCommands, dt: float) -> None:
        self.thermocouple_k += (self.exhaust_k - self.thermocouple_k) * min(dt / THERMOCOUPLE_S, 1.0)
        capacity, factor = move_vanes(self.p.vanes, self.turbo, c.shut, dt)
        self.charging.advance(
            self.air_flow, self.exhaust_flow, self.exhaust_k,
            capacity=capacity, through=1.0, efficiency_factor=factor, shutters=1.0, dt=dt,
        )  # fmt: skip

    def row(self) -> tuple[float, ...]:
        """The present values of `truths`."""
        c, h = self.program.commands, self.heat
        return (
            self.pedal, self.turbo.boost_pa, c.boost_target_pa, self.rail_pa, c.rail_target_pa, self.feed_pa,
            c.quantity_kg, c.allowed_kg, c.start_deg, self.window, c.shut, self.air_flow, self.mixture, self.smoke,
            c.torque_nm, self.charge_k, self.exhaust_k, h.coolant, h.oil, h.gearbox, self.around.voltage,
            self.exhaust_flow,
            self.around.air.pressure_pa, self.around.air.temperature_k,
        )  # fmt: skip
