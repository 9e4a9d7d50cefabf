"""Turbocharger and charge cooler."""

from __future__ import annotations

from yarvic.core.physics import Value
from yarvic.core.physics.constants import CP_AIR, CP_EXHAUST, GAMMA_AIR, GAMMA_EXHAUST

KAPPA_AIR = (GAMMA_AIR - 1.0) / GAMMA_AIR
KAPPA_EXHAUST = (GAMMA_EXHAUST - 1.0) / GAMMA_EXHAUST


def compressor_outlet_temperature(inlet_k: Value, pressure_ratio: Value, efficiency: Value) -> Value:
    """Outlet temperature in K of an adiabatic compressor with isentropic efficiency. Heywood (1988), eq. 6.42."""
    return inlet_k * (1.0 + (pressure_ratio**KAPPA_AIR - 1.0) / efficiency)


def compressor_power(flow_kg_s: Value, inlet_k: Value, pressure_ratio: Value, efficiency: Value) -> Value:
    """Power in W taken by the compressor. Heywood (1988), eq. 6.43."""
    return flow_kg_s * CP_AIR * inlet_k * (pressure_ratio**KAPPA_AIR - 1.0) / efficiency


def turbine_power(flow_kg_s: Value, inlet_k: Value, expansion_ratio: Value, efficiency: Value) -> Value:
    """Power in W given by the turbine, `expansion_ratio` inlet over outlet pressure. Heywood (1988), eq. 6.48."""
    return flow_kg_s * CP_EXHAUST * inlet_k * efficiency * (1.0 - expansion_ratio ** (-KAPPA_EXHAUST))


def inlet_pressure_by_ellipse(flow_kg_s: Value, inlet_k: Value, outlet_pa: Value, capacity: Value) -> Value:
    """Pressure in Pa before a turbine that swallows `flow_kg_s`.

    Stodola's ellipse m sqrt(T) / p3 = K sqrt(1 - (p4/p3)^2), solved for p3; `capacity` K in kg sqrt(K) / (s Pa).
    """
    return (outlet_pa**2 + flow_kg_s**2 * inlet_k / capacity**2) ** 0.5


def charge_temperature(inlet_k: Value, coolant_k: Value, effectiveness: Value) -> Value:
    """Outlet temperature in K of a heat exchanger of given effectiveness, the charge being the lesser stream."""
    return inlet_k - effectiveness * (inlet_k - coolant_k)
