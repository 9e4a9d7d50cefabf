"""Compression ignition: delay, efficiency by mixture, smoke."""

from __future__ import annotations

import numpy as np

from yarvic.core.physics import Value
from yarvic.core.physics.constants import HARDENBERG, LEAN_ENOUGH_DIESEL, R_MOLAR


def ignition_delay_deg(piston_speed_m_s: Value, temperature_k: Value, pressure_pa: Value, cetane: Value) -> Value:
    """Ignition delay in degrees of crank angle. Hardenberg and Hase, Heywood (1988), eqs. 10.37 and 10.38.

    Temperature and pressure are those of the compressed charge at top centre; valid above 12.4 bar.
    """
    a, b, activation, offset, reference, span, base, exponent = HARDENBERG
    energy = activation / (cetane + offset)
    pressure_term = (span / (pressure_pa / 1e5 - base)) ** exponent
    return (a + b * piston_speed_m_s) * np.exp(
        energy * (1.0 / (R_MOLAR * temperature_k) - 1.0 / reference) * pressure_term
    )


def compressed_state(
    pressure_pa: Value, temperature_k: Value, compression_ratio: Value, exponent: float = 1.35
) -> tuple[Value, Value]:
    """Pressure and temperature at top centre by a polytropic compression. Heywood (1988), eq. 10.39."""
    ratio = compression_ratio**exponent
    return pressure_pa * ratio, temperature_k * ratio / compression_ratio


def mixture_share(mixture_lambda: Value, loss: float) -> Value:
    """Share of the best indicated efficiency by lambda: flat when lean, falling as the air runs out.

    A parabola below lambda 1.8 with `loss` per unit squared; from memory of full-load sweeps.
    """
    short = np.maximum(LEAN_ENOUGH_DIESEL - mixture_lambda, 0.0)
    return 1.0 - loss * short * short


def smoke_opacity(mixture_lambda: Value, at_limit: float, scale: float, limit_lambda: float = 1.30) -> Value:
    """Smoke opacity, 0 to 1: exponential in lambda about the visible limit. From memory: 1.30 visible, 1.15 heavy."""
    return np.clip(at_limit * np.exp((limit_lambda - mixture_lambda) / scale), 0.0, 1.0)
