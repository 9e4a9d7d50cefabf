"""The simulated high-pressure fuel side: feed, pump, rail, injectors."""

from __future__ import annotations

from yarvic.bench.plant import Rail
from yarvic.core.physics.fuel import Fuel

LEAST_PA = 5e5
METERING_S = 0.06  # the metering valve closes the loop within about this time
FEED_PA = 550e3  # absolute pressure of a healthy feed with nothing drawn
FEED_SAG_PA = 260e3  # what it loses when all is drawn


def pump_flow(p: Rail, speed_rpm: float) -> float:
    """Most that the pump delivers, m3/s: its own volume, less at speed, and no more than it is fed."""
    over = max(speed_rpm - p.pump_speed_from_rpm, 0.0) / 1000.0
    own = p.pump_m3_per_rev * speed_rpm / 60.0 * max(p.pump_efficiency - p.pump_speed_loss * over, 0.1)
    return min(own, p.feed_m3_s)


def step_rail(
    p: Rail, fuel: Fuel, rail_pa: float, target_pa: float, fuel_kg_s: float, speed_rpm: float, dt: float
) -> tuple[float, float]:
    """Rail pressure and pump flow after `dt`: metering gives what is asked, up to what the pump can."""
    out = fuel_kg_s / fuel.density + p.leak_m3_s_at_rated * (max(rail_pa, 0.0) / p.rated_pa) ** 0.5
    stiffness = p.bulk_modulus_pa / p.volume_m3
    asked = out + (target_pa - rail_pa) / (stiffness * METERING_S)
    flow = min(max(asked, 0.0), pump_flow(p, speed_rpm))
    return float(max(rail_pa + stiffness * (flow - out) * dt, LEAST_PA)), flow


def feed_pressure(p: Rail, flow_m3_s: float) -> float:
    """Absolute pressure before the high-pressure pump, Pa: falls as the feed gives all it has."""
    return FEED_PA - FEED_SAG_PA * min(flow_m3_s / p.feed_m3_s, 1.0) ** 2


def injection_window(p: Rail, rail_pa: float, fuel_kg_per_injection: float, speed_rpm: float) -> float:
    """Share of the crank angle window that one injector needs for its fuel; flow goes with the root of pressure."""
    flow = p.injector_static_kg_s * (max(rail_pa, 1e5) / p.rated_pa) ** 0.5
    return float(fuel_kg_per_injection / flow * 6.0 * speed_rpm / p.window_deg)
