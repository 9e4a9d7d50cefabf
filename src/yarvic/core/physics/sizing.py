"""Sizing: what an engine of a given power needs of fuel and air, and what parts of a given size will pass.

Balances of mass and energy; each function says which.
"""

from __future__ import annotations

import numpy as np

from yarvic.core.physics import Value
from yarvic.core.physics.constants import R_DRY_AIR


def fuel_mass_flow(power_w: Value, specific_consumption_kg_j: Value) -> Value:
    """Fuel in kg/s for a power at the crank: m = P b. Heywood (1988), eq. 2.22, the definition of consumption."""
    return power_w * specific_consumption_kg_j


def consumption(efficiency: Value, lower_heating_value: Value) -> Value:
    """Specific consumption in kg/J of a fuel conversion efficiency: b = 1 / (eta Q). Heywood (1988), eq. 2.24."""
    return 1.0 / (efficiency * lower_heating_value)


def flow_at_pressure(flow: Value, pressure_pa: Value, rated_pressure_pa: Value) -> Value:
    """Flow of an orifice at another pressure difference: it goes with the square root. Bernoulli's equation."""
    return flow * np.sqrt(pressure_pa / rated_pressure_pa)


def injector_flow(power_w: Value, consumption_kg_j: Value, density: Value, count: Value, duty: Value) -> Value:
    """Static flow of each injector, m3/s, so that `count` of them open for `duty` of the time feed a crank power."""
    return fuel_mass_flow(power_w, consumption_kg_j) / (density * count * duty)


def power_of_injectors(flow_m3_s: Value, consumption_kg_j: Value, density: Value, count: Value, duty: Value) -> Value:
    """The crank power, W, that injectors of a static flow feed; the inverse of `injector_flow`."""
    return flow_m3_s * density * count * duty / consumption_kg_j


def air_mass_flow(power_w: Value, consumption_kg_j: Value, air_fuel_ratio: Value) -> Value:
    """Air in kg/s that the fuel of a power needs at an air-fuel ratio."""
    return fuel_mass_flow(power_w, consumption_kg_j) * air_fuel_ratio


def manifold_pressure(
    air_kg_s: Value, displacement_m3: Value, speed_rpm: Value, filling: Value, charge_k: Value
) -> Value:
    """Absolute manifold pressure, Pa, at which a four-stroke takes this air: p = m R T / (eta_v V_d N / 2).

    Heywood (1988), eq. 2.27, with the air's state in the manifold.
    """
    return air_kg_s * R_DRY_AIR * charge_k / (filling * displacement_m3 * speed_rpm / 120.0)


def effectiveness_needed(hot_k: Value, wanted_k: Value, cold_k: Value) -> Value:
    """Share of the possible cooling that a charge cooler must reach: (T_hot - T_wanted) / (T_hot - T_cold).

    Incropera, Fundamentals of Heat and Mass Transfer, eq. 11.19, for the stream of the smaller capacity.
    """
    return (hot_k - wanted_k) / (hot_k - cold_k)


def gas_velocity(flow_kg_s: Value, temperature_k: Value, pressure_pa: Value, diameter_m: Value) -> Value:
    """Mean velocity in a round pipe, m/s, by continuity for an ideal gas: v = m R T / (p A)."""
    return flow_kg_s * R_DRY_AIR * temperature_k / (pressure_pa * np.pi / 4.0 * diameter_m**2)


def volume_to_add(tank_m3: Value, tank_share: Value, source_share: Value, wanted_share: Value) -> Value:
    """Volume of a fuel with one share of ethanol that brings a tank with another to a wanted share.

    V_add = V (e_w - e_t) / (e_s - e_w): the ethanol in tank and addition together. Mixing is taken as ideal.
    """
    return tank_m3 * (wanted_share - tank_share) / (source_share - wanted_share)
