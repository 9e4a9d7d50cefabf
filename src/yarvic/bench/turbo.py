"""The simulated turbocharger: compressor, turbine, wastegate, rotor."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi

from yarvic.bench.plant import Exhaust, Turbo
from yarvic.core.physics.constants import CP_AIR, R_DRY_AIR
from yarvic.core.physics.turbo import (
    KAPPA_AIR,
    compressor_outlet_temperature,
    compressor_power,
    inlet_pressure_by_ellipse,
    turbine_power,
)

# A compressor past its best flow still does some work on the gas; keeps the power finite. Our choice.
LEAST_EFFICIENCY = 0.30
IDLE_SPEED = 2500.0  # rad/s at which the rotor never quite stops while exhaust flows


@dataclass
class TurboState:
    """Rotor speed rad/s, wastegate lift 0 to 1, pressure behind the compressor Pa."""

    speed: float
    lift: float
    boost_pa: float


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


def step_turbo(
    p: Turbo,
    exhaust: Exhaust,
    state: TurboState,
    *,
    air_kg_s: float,
    exhaust_kg_s: float,
    exhaust_k: float,
    ambient_pa: float,
    inlet_k: float,
    duty: float,
    dt: float,
) -> TurboStep:
    """Advance rotor, wastegate and boost by `dt` seconds."""
    ratio, efficiency = compressor(p, state.speed, air_kg_s, ambient_pa, inlet_k)
    state.boost_pa += (ambient_pa * ratio - state.boost_pa) * min(dt / p.volume_lag_s, 1.0)

    on_diaphragm = (state.boost_pa - ambient_pa) * (1.0 - p.duty_authority * duty)
    wanted = min(max((on_diaphragm - p.spring_crack_pa) / p.spring_range_pa, 0.0), 1.0)
    state.lift += (wanted - state.lift) * min(dt / p.wastegate_lag_s, 1.0)

    behind = ambient_pa + exhaust.back_pressure_pa * (exhaust_kg_s / 0.10) ** 2 * (exhaust_k / 1000.0)
    capacity = p.turbine_capacity + p.wastegate_capacity * state.lift
    before = inlet_pressure_by_ellipse(exhaust_kg_s, exhaust_k, behind, capacity)
    through_turbine = exhaust_kg_s * p.turbine_capacity / capacity
    gives = turbine_power(through_turbine, exhaust_k, before / behind, p.turbine_efficiency)
    takes = max(compressor_power(air_kg_s, inlet_k, max(ratio, 1.0), efficiency), 0.0)
    lost = p.friction_w_per_rad2 * state.speed**2
    energy = 0.5 * p.inertia_kg_m2 * state.speed**2 + (gives - takes - lost) * dt
    state.speed = max((2.0 * max(energy, 0.0) / p.inertia_kg_m2) ** 0.5, IDLE_SPEED)
    outlet = compressor_outlet_temperature(inlet_k, max(state.boost_pa / ambient_pa, 1.0), efficiency)
    return TurboStep(outlet, before, behind, takes, gives)
