"""The simulated high-pressure fuel side."""

from __future__ import annotations

from yarvic.bench.plant import Rail
from yarvic.core.physics.fuel import Fuel

RATED_PA = 350e5  # pressure at which the injectors' static flow is stated


def pump_flow(p: Rail, speed_rpm: float) -> float:
    """Most that the pump delivers, m3/s; its efficiency falls at speed."""
    efficiency = p.pump_efficiency - p.pump_speed_loss * max(speed_rpm - 4000.0, 0.0) / 1000.0
    return p.pump_m3_per_cam_rev * speed_rpm / 120.0 * efficiency


def step_rail(
    p: Rail, fuel: Fuel, rail_pa: float, target_pa: float, fuel_kg_s: float, speed_rpm: float, dt: float
) -> float:
    """Rail pressure after `dt`: the unit's metering gives what is asked, up to what the pump can."""
    out = fuel_kg_s / fuel.density + p.leak_m3_s_at_target * (max(rail_pa, 0.0) / RATED_PA) ** 0.5
    stiffness = p.bulk_modulus_pa / p.volume_m3
    # The metering valve closes the loop within about 60 ms.
    asked = out + (target_pa - rail_pa) / (stiffness * 0.06)
    flow = min(max(asked, 0.0), pump_flow(p, speed_rpm))
    return float(max(rail_pa + stiffness * (flow - out) * dt, 5e5))


def injection_window(p: Rail, rail_pa: float, fuel_kg_per_cycle: float, speed_rpm: float) -> float:
    """Share of the crank angle window that one injector needs for its fuel; flow goes with the root of pressure."""
    flow = p.injector_static_kg_s * (max(rail_pa, 1e5) / RATED_PA) ** 0.5
    return float(fuel_kg_per_cycle / flow * 6.0 * speed_rpm / p.window_deg)
