"""The simulated cylinders: burn, torque, exhaust heat, and knock cycle by cycle."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi

import numpy as np

from yarvic.bench.plant import Block, SparkEngine
from yarvic.core.physics import FloatArray
from yarvic.core.physics.combustion import (
    cylinder_pressure,
    cylinder_volume,
    friction_mep,
    mixture_efficiency,
    released_share,
    spark_efficiency,
    wiebe,
    wiebe_half_share,
)
from yarvic.core.physics.constants import (
    CA50_BEST_DEG,
    CP_AIR,
    CP_EXHAUST,
    GAMMA_UNBURNED,
    R_DRY_AIR,
    STANDARD_PRESSURE_PA,
)
from yarvic.core.physics.fuel import Fuel
from yarvic.core.physics.heat import coolant_share
from yarvic.core.physics.knock import ignition_delay, knock_integral

HALF_BURNED = wiebe_half_share()
LATEST_KNOCK = 0.97  # burned share past which the end gas is too little to be heard
LEAST_COOLANT, MOST_COOLANT = 0.10, 0.44  # shares of the released energy past which the law is not followed
LEAN_LIMIT, NO_FLAME = 1.25, 1.6  # lambda from which cycles miss, and where none burns; from memory
EXHAUST_WALL_K = 420.0  # of manifold and port, seen by the gas; our choice
KNOCK_GRID_DEG = np.arange(-40.0, 62.0, 2.0)


@dataclass(frozen=True, slots=True)
class Charge:
    """What is in the cylinders this cycle: manifold pressure and temperature, air per cylinder kg, lambda, speed."""

    pressure_pa: float
    temperature_k: float
    air_kg: float
    mixture_lambda: float
    speed_rpm: float


@dataclass(frozen=True, slots=True)
class Worked:
    """Energies of one cylinder and cycle in J, and the exhaust's temperature in K.

    What leaves with the exhaust is its heat over the charge's, and the fuel that found no air.
    """

    fuel_j: float
    indicated_j: float
    coolant_j: float
    exhaust_j: float
    exhaust_k: float


def friction_torque(p: Block, speed_rpm: float, intake_pa: float, exhaust_pa: float) -> float:
    """Torque lost to friction and to pumping between exhaust and intake pressure, N m."""
    lost_pa = p.friction_scale * friction_mep(speed_rpm) + (exhaust_pa - intake_pa)
    return float(lost_pa * p.displacement_m3 / (4.0 * pi))


class Cylinders:
    """The cylinders of one engine on one fuel. What does not change from cycle to cycle is computed once."""

    def __init__(self, p: SparkEngine, fuel: Fuel) -> None:
        self.p = p
        self.fuel = fuel
        grid = np.concatenate(([p.intake_valve_closes_deg], KNOCK_GRID_DEG))
        self._grid = grid[None, :]
        self._volume = cylinder_volume(grid, p.bore_m, p.stroke_m, p.rod_m, p.compression_ratio)
        # Air of one cylinder at the filling for which the burn duration is stated.
        self._reference_air = 1.5 * STANDARD_PRESSURE_PA / (R_DRY_AIR * 293.15) * p.displacement_m3 / p.cylinders
        self._filling = np.array(p.cylinder_filling)
        self._heat = np.array(p.cylinder_heat_k)

    def burn_angles(self, charge: Charge) -> tuple[float, float]:
        """Delay from spark to start of burn and Wiebe duration, in degrees of crank angle."""
        p = self.p
        delay = p.delay_deg + p.delay_deg_per_1000rpm * charge.speed_rpm / 1000.0
        filling = max(charge.air_kg / self._reference_air, 0.05)
        off = charge.mixture_lambda - 0.9
        speed = (charge.speed_rpm / 3000.0) ** p.burn_speed_exponent
        duration = p.burn_deg * speed * filling**p.burn_filling_exponent + p.burn_lambda_slope * 10.0 * off * off
        return delay, duration

    def work(self, charge: Charge, spark_deg: float, angles: tuple[float, float]) -> Worked:
        """What one cylinder makes of its charge; `angles` are `burn_angles` of the engine's mean charge.

        Indicated work is the best share of the stoichiometric energy of the air, reduced by distance from best spark
        and best lambda; coolant takes its share, less when the burn is late; the exhaust carries what remains of the
        energy released.
        """
        p, fuel = self.p, self.fuel
        late = -spark_deg + angles[0] + HALF_BURNED * angles[1]
        fuel_kg = charge.air_kg / (fuel.stoichiometric_afr * charge.mixture_lambda)
        fuel_j = fuel_kg * fuel.lower_heating_value
        # Past the lean limit flames go out: work and heat end, and the fuel leaves as it came.
        lit = min(max((NO_FLAME - charge.mixture_lambda) / (NO_FLAME - LEAN_LIMIT), 0.0), 1.0)
        released = lit * fuel_j * released_share(charge.mixture_lambda)
        of_air = charge.air_kg / fuel.stoichiometric_afr * fuel.lower_heating_value
        spark = max(spark_efficiency(late), 0.05)
        mixture = max(float(mixture_efficiency(charge.mixture_lambda)), 0.0)
        indicated = lit * of_air * p.indicated_share * spark * mixture
        flow = charge.air_kg * p.cylinders * charge.speed_rpm / 120.0
        share = coolant_share(p.coolant_share, flow, p.heat_reference_kg_s)
        share -= p.coolant_share_per_deg * (late - CA50_BEST_DEG)
        coolant = released * min(max(share, LEAST_COOLANT), MOST_COOLANT)
        gas_kg = charge.air_kg + fuel_kg
        exhaust_k = charge.temperature_k + (released - indicated - coolant) / (gas_kg * CP_EXHAUST)
        exhaust_j = gas_kg * CP_EXHAUST * (exhaust_k - charge.temperature_k) + fuel_j - released
        return Worked(fuel_j, indicated, coolant, exhaust_j, exhaust_k)

    def knock(
        self, charge: Charge, mixtures: FloatArray, spark_deg: FloatArray, jitter_deg: FloatArray
    ) -> tuple[FloatArray, FloatArray]:
        """Unburned share of each cylinder's charge when its end gas ignites by itself (zero where it does not), and
        the crank angle at which it does.

        `mixtures` (lambda), `spark_deg` and `jitter_deg` have shape (cylinders,). Pressure from the single-zone energy
        equation with a Wiebe burn; end gas compressed by it from the state at intake valve closing; auto-ignition by
        the knock integral.
        """
        p, fuel = self.p, self.fuel
        delay, duration = self.burn_angles(charge)
        start = (-spark_deg + delay + jitter_deg)[:, None]
        burned = wiebe(self._grid, start, duration)
        air = charge.air_kg * self._filling
        afr = fuel.stoichiometric_afr * mixtures
        released = air / afr * fuel.lower_heating_value * released_share(mixtures)
        share = coolant_share(
            p.coolant_share, charge.air_kg * p.cylinders * charge.speed_rpm / 120.0, p.heat_reference_kg_s
        )
        heat = released[:, None] * (1.0 - min(max(share, LEAST_COOLANT), MOST_COOLANT)) * burned
        begin_pa = charge.pressure_pa * self._filling
        pressure = cylinder_pressure(self._volume, heat, begin_pa, GAMMA_UNBURNED)
        cooled = p.evaporation_share * fuel.latent_heat / (afr * CP_AIR)
        begin_k = charge.temperature_k + p.start_temperature_rise_k - cooled + self._heat
        unburned_k = begin_k[:, None] * (pressure / begin_pa[:, None]) ** ((GAMMA_UNBURNED - 1.0) / GAMMA_UNBURNED)
        tau = ignition_delay(pressure[:, 1:], unburned_k[:, 1:], fuel.ron + p.octane_shift)
        step_s = (KNOCK_GRID_DEG[1] - KNOCK_GRID_DEG[0]) / (6.0 * charge.speed_rpm)
        hit = knock_integral(step_s, tau) >= 1.0
        first = 1 + np.argmax(hit, axis=1)
        at = burned[np.arange(air.size), first]
        knocks = hit.any(axis=1) & (at < LATEST_KNOCK)
        return np.where(knocks, 1.0 - at, 0.0), self._grid[0, first]
