"""What the turbo petrol's control unit does with its tables, step by step."""

from __future__ import annotations

from dataclasses import dataclass, field

from yarvic.bench.lookup import Map
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.physics.constants import R_DRY_AIR, STANDARD_PRESSURE_PA
from yarvic.core.units import to_canonical


@dataclass(slots=True)
class Sensed:
    """What the unit measures, canonical units; throttle 0 to 1."""

    speed_rpm: float
    throttle: float
    boost_pa: float
    manifold_pa: float
    charge_k: float
    ambient_pa: float
    exhaust_k: float
    mixture: float


@dataclass
class Commands:
    """What the unit commands and believes."""

    lambda_target: float = 1.0
    air_per_cycle_kg: float = 0.0
    filling: float = 0.0
    spark_deg: float = 0.0
    cam_deg: float = 0.0
    boost_target_pa: float = STANDARD_PRESSURE_PA
    duty: float = 0.0
    rail_target_pa: float = 0.0
    shutters: float = 0.0
    torque_nm: float = 0.0
    trim: float = 0.0
    long_trim: float = 0.0
    fuel_cut: bool = False
    overrun: bool = False
    retard_deg: list[float] = field(default_factory=list)


# The unit's own control law. Its gains are part of its program, not of the calibration.
BOOST_GAIN = 3.2e-6  # duty per Pa
BOOST_INTEGRAL = 7.0e-6  # duty per Pa and s
INTEGRAL_WINDOW_PA = 22e3  # the integral runs only near the target
CLOSED_LOOP_FROM = 0.97  # lambda target above which the trims work
TRIM_PER_S = 0.35
TRIM_MOST = 0.15
LONG_TRIM_S = 18.0  # the long trim takes over what the short one holds in about this time
LONG_TRIM_MOST = 0.20
RICHEST_TARGET = 0.70
# The engine is dragged, and so little air would not burn: no fuel is given. Our choice of where.
OVERRUN_PA, OVERRUN_RPM = 22e3, 1000.0
LONG_TRIM = "long_trim"
SHUTTER_BAND_K = 4.0
FULL_CHARGE_K = 293.15  # temperature of the air that counts as a full filling, as in the unit's own torque model


class PetrolProgram:
    """Reads its tables at every step and closes its loops. `learned` is the unit's memory of trims."""

    def __init__(self, calibration: Calibration, learned: dict[str, float], cylinders: int, displacement_m3: float):
        self.maps = {key: Map(table) for key, table in calibration.tables.items()}
        self.scalars = {key: float(to_canonical(s.value, s.unit)) for key, s in calibration.scalars.items()}
        self.learned = learned
        self.displacement_m3 = displacement_m3
        self.full_kg = STANDARD_PRESSURE_PA * displacement_m3 / (R_DRY_AIR * FULL_CHARGE_K)
        self.commands = Commands(retard_deg=[0.0] * cylinders, rail_target_pa=self.scalars["rail_target"])
        self._integral = 0.0
        self._held_s = [0.0] * cylinders

    def step(self, s: Sensed, gear: int, dt: float) -> Commands:
        """One control step."""
        c, m, k = self.commands, self.maps, self.scalars
        # Speed-density: the filling table is efficiency over manifold pressure and speed.
        efficiency = m["cylinder_filling"](s.speed_rpm, s.manifold_pa)
        c.air_per_cycle_kg = efficiency * s.manifold_pa * self.displacement_m3 / (R_DRY_AIR * s.charge_k)
        c.filling = c.air_per_cycle_kg / self.full_kg
        c.torque_nm = c.filling * k["torque_per_filling"] - k["torque_friction"]
        c.spark_deg = m["spark_advance"](s.speed_rpm, c.filling)
        c.cam_deg = m["cam_phase"](s.speed_rpm, c.filling)
        c.rail_target_pa = k["rail_target"]
        c.fuel_cut = s.speed_rpm > k["rev_limit"]
        c.overrun = s.manifold_pa < OVERRUN_PA and s.speed_rpm > OVERRUN_RPM
        over_k = s.charge_k - k["shutters_open_above"]
        c.shutters = min(max(0.5 + over_k / SHUTTER_BAND_K, 0.0), 1.0)
        self._mixture(s, dt)
        self._boost(s, efficiency, gear, dt)
        self._recover(dt)
        return c

    def _recover(self, dt: float) -> None:
        """What was taken off the spark is held for a while, then given back slowly."""
        recovery = self.scalars["knock_recovery"] * dt
        for i, retard in enumerate(self.commands.retard_deg):
            self._held_s[i] = max(self._held_s[i] - dt, 0.0)
            if retard > 0.0 and self._held_s[i] == 0.0:
                self.commands.retard_deg[i] = max(retard - recovery, 0.0)

    def _mixture(self, s: Sensed, dt: float) -> None:
        """Target with the protection of hot parts; trims while the target is near stoichiometric."""
        c, k = self.commands, self.scalars
        target = self.maps["lambda_target"](s.speed_rpm, c.filling)
        hot = max(s.exhaust_k - k["protection_from"], 0.0) / 100.0
        c.lambda_target = max(target - k["protection_lambda"] * hot, min(target, RICHEST_TARGET))
        long = self.learned.get(LONG_TRIM, 0.0)
        # Without fuel there is nothing to learn from.
        if c.lambda_target >= CLOSED_LOOP_FROM and not (c.overrun or c.fuel_cut):
            c.trim += (s.mixture - c.lambda_target) * TRIM_PER_S * dt
            c.trim = min(max(c.trim, -TRIM_MOST), TRIM_MOST)
            moved = c.trim * dt / LONG_TRIM_S
            long = min(max(long + moved, -LONG_TRIM_MOST), LONG_TRIM_MOST)
            c.trim -= moved
            self.learned[LONG_TRIM] = long
        c.long_trim = long

    def _boost(self, s: Sensed, efficiency: float, gear: int, dt: float) -> None:
        """Boost target, capped by what the torque request limit lets in; duty by feed-forward and feedback."""
        c, m, k = self.commands, self.maps, self.scalars
        limit = m["torque_limit"](s.speed_rpm, float(gear))
        filling = (limit + k["torque_friction"]) / k["torque_per_filling"]
        volume = max(efficiency, 0.2) * self.displacement_m3
        at_limit = filling * self.full_kg * R_DRY_AIR * s.charge_k / volume
        asked = m["boost_target"](s.speed_rpm, s.throttle)
        c.boost_target_pa = max(min(asked, at_limit), s.ambient_pa * 0.6)
        error = c.boost_target_pa - s.boost_pa
        feed = m["wastegate_duty"](s.speed_rpm, c.boost_target_pa)
        if abs(error) < INTEGRAL_WINDOW_PA:
            self._integral = min(max(self._integral + BOOST_INTEGRAL * error * dt, -0.35), 0.35)
        c.duty = min(max(feed + BOOST_GAIN * error + self._integral, 0.0), 0.95)

    def heard_knock(self, cylinder: int) -> None:
        """A knock was heard: that cylinder's spark goes back by a step, up to the most allowed."""
        step, most = self.scalars["knock_step"], self.scalars["knock_retard_most"]
        self.commands.retard_deg[cylinder] = min(self.commands.retard_deg[cylinder] + step, most)
        self._held_s[cylinder] = self.scalars["knock_hold"]
