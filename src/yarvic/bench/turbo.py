"""The simulated turbocharger: compressor, turbine with wastegate or vanes, rotor, and the charge cooler behind it."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi

from yarvic.bench.plant import Cooler, Exhaust, Turbo, Vanes, Wastegate
from yarvic.bench.powertrain import IDLE_COOLING, Heat, Surroundings
from yarvic.core.physics.constants import CP_AIR, R_DRY_AIR
from yarvic.core.physics.turbo import (
    KAPPA_AIR,
    charge_temperature,
    compressor_outlet_temperature,
    compressor_power,
    inlet_pressure_by_ellipse,
    turbine_power,
)

# A compressor past its best flow still does some work on the gas; keeps the power finite. Our choice.
LEAST_EFFICIENCY = 0.30
IDLE_SPEED = 2500.0  # rad/s at which the rotor never quite stops while exhaust flows
REFERENCE_FLOW_KG_S = 0.10  # flow at which pressure losses of pipes are stated


@dataclass
class TurboState:
    """Rotor speed rad/s, pressure behind the compressor Pa, lift of the gate or opening of the vanes 0 to 1."""

    speed: float
    boost_pa: float
    actuator: float = 0.0


@dataclass(slots=True)
class Gas:
    """Flows and states around the turbocharger: kg/s, K, Pa. `inlet_pa` is behind the filter."""

    air_kg_s: float
    exhaust_kg_s: float
    exhaust_k: float
    inlet_pa: float
    inlet_k: float
    ambient_pa: float


@dataclass(frozen=True, slots=True)
class TurboStep:
    """What a step gave: temperature behind the compressor, pressure before and behind the turbine, powers."""

    outlet_k: float
    before_turbine_pa: float
    behind_turbine_pa: float
    compressor_w: float
    turbine_w: float


def compressor(p: Turbo, speed: float, flow_kg_s: float, inlet_pa: float, inlet_k: float) -> tuple[float, float]:
    """Pressure ratio and efficiency. Isentropic head falls with flow, efficiency in islands about its best flow."""
    tip = speed * p.wheel_radius_m
    density = inlet_pa / (R_DRY_AIR * inlet_k)
    flow = flow_kg_s / (density * pi * p.wheel_radius_m**2 * max(tip, 1.0))
    head = p.head_coefficient * (1.0 - min(flow / p.flow_choke, 1.2) ** p.head_exponent) * tip**2
    ratio = max(1.0 + head / (CP_AIR * inlet_k), 0.8) ** (1.0 / KAPPA_AIR)
    efficiency = p.efficiency_best - p.efficiency_curvature * (flow / p.flow_best - 1.0) ** 2
    return ratio, max(efficiency, LEAST_EFFICIENCY)


def leak_flow(p: Turbo, boost_pa: float, ambient_pa: float, charge_k: float) -> float:
    """What escapes between compressor and engine, kg/s, by the ellipse of a small opening."""
    if p.leak_capacity == 0.0 or boost_pa <= ambient_pa:
        return 0.0
    return float(p.leak_capacity * ((boost_pa**2 - ambient_pa**2) / charge_k) ** 0.5)


def move_gate(p: Wastegate, state: TurboState, ambient_pa: float, duty: float, dt: float) -> tuple[float, float]:
    """Capacity of turbine and gate together, and the turbine's share of it, after the gate has moved.

    Boost opens the gate against its spring; `duty` keeps part of that pressure from the diaphragm.
    """
    on_diaphragm = (state.boost_pa - ambient_pa) * (1.0 - p.duty_authority * duty)
    wanted = min(max((on_diaphragm - p.spring_crack_pa) / p.spring_range_pa, 0.0), 1.0)
    state.actuator += (wanted - state.actuator) * min(dt / p.lag_s, 1.0)
    capacity = p.turbine_capacity + p.gate_capacity * state.actuator
    return capacity, p.turbine_capacity / capacity


def move_vanes(p: Vanes, state: TurboState, shut: float, dt: float) -> tuple[float, float]:
    """Capacity of the turbine, and the factor on its efficiency, after the vanes have moved; `shut` from 0 to 1."""
    state.actuator += ((1.0 - shut) - state.actuator) * min(dt / p.lag_s, 1.0)
    capacity = p.capacity_shut + (p.capacity_open - p.capacity_shut) * state.actuator
    return capacity, max(1.0 - p.efficiency_curvature * (state.actuator - p.best_open) ** 2, 0.4)


def step_turbo(
    p: Turbo,
    exhaust: Exhaust,
    state: TurboState,
    gas: Gas,
    *,
    capacity: float,
    through: float,
    efficiency_factor: float,
    dt: float,
) -> TurboStep:
    """Advance rotor and boost by `dt` seconds; `through` is the share of the exhaust that passes the wheel."""
    ratio, efficiency = compressor(p, state.speed, gas.air_kg_s, gas.inlet_pa, gas.inlet_k)
    state.boost_pa += (gas.inlet_pa * ratio - state.boost_pa) * min(dt / p.volume_lag_s, 1.0)
    load = (gas.exhaust_kg_s / REFERENCE_FLOW_KG_S) ** 2 * (gas.exhaust_k / 1000.0)
    behind = gas.ambient_pa + exhaust.back_pressure_pa * load
    before = inlet_pressure_by_ellipse(gas.exhaust_kg_s, gas.exhaust_k, behind, capacity)
    wheel = p.turbine_efficiency * efficiency_factor
    gives = turbine_power(gas.exhaust_kg_s * through, gas.exhaust_k, before / behind, wheel)
    takes = max(compressor_power(gas.air_kg_s, gas.inlet_k, max(ratio, 1.0), efficiency), 0.0)
    lost = p.friction_w_per_rad2 * state.speed**2
    energy = 0.5 * p.inertia_kg_m2 * state.speed**2 + (gives - takes - lost) * dt
    state.speed = max((2.0 * max(energy, 0.0) / p.inertia_kg_m2) ** 0.5, IDLE_SPEED)
    outlet = compressor_outlet_temperature(gas.inlet_k, max(state.boost_pa / gas.inlet_pa, 1.0), efficiency)
    return TurboStep(outlet, before, behind, takes, gives)


def cool_charge(
    p: Cooler, heat: Heat, around: Surroundings, air_kg_s: float, outlet_k: float, shutters: float, dt: float
) -> float:
    """Charge temperature behind the cooler, whose mass warms by it and cools by what the shutters let through."""
    charge_k = float(charge_temperature(outlet_k, heat.cooler, p.effectiveness))
    given = air_kg_s * CP_AIR * (outlet_k - charge_k)
    passing = p.shutter_leak + (1.0 - p.shutter_leak) * shutters
    moving = max(around.cooling, IDLE_COOLING) * passing
    taken = p.to_air_w_k * moving * (heat.cooler - around.air.temperature_k)
    heat.cooler += (given - taken) * dt / p.heat_capacity_j_k
    return charge_k


def behind_filter(drop_pa: float, ambient_pa: float, air_kg_s: float) -> float:
    """Pressure behind filter and intake pipe, which lose `drop_pa` at 0.10 kg/s."""
    return max(ambient_pa - drop_pa * (air_kg_s / REFERENCE_FLOW_KG_S) ** 2, 0.3 * ambient_pa)
