"""Spark-ignition combustion: cylinder geometry, burn, efficiency, friction."""

from __future__ import annotations

import numpy as np

from yarvic.core.physics import FloatArray, Value
from yarvic.core.physics.constants import (
    CA50_BEST_DEG,
    FRICTION_BAR,
    LAMBDA_BEST_TORQUE,
    LAMBDA_LOSS,
    RICH_RELEASE_SLOPE,
    SPARK_LOSS_PER_DEG2,
    WIEBE_A,
    WIEBE_M,
)


def otto_efficiency(compression_ratio: Value, gamma: float = 1.3) -> Value:
    """Ideal constant-volume efficiency 1 - r^(1-gamma). Heywood (1988), eq. 5.31."""
    return 1.0 - compression_ratio ** (1.0 - gamma)


def wiebe(angle_deg: Value, start_deg: Value, duration_deg: Value) -> Value:
    """Mass fraction burned. Heywood (1988), eq. 9.27, with a = 5 and m = 2."""
    x = np.clip((angle_deg - start_deg) / duration_deg, 0.0, None)
    return 1.0 - np.exp(-WIEBE_A * x ** (WIEBE_M + 1.0))


def wiebe_half_share() -> float:
    """Share of the Wiebe duration at which half is burned: (ln 2 / a)^(1/(m+1))."""
    return float((np.log(2.0) / WIEBE_A) ** (1.0 / (WIEBE_M + 1.0)))


def friction_mep(speed_rpm: Value) -> Value:
    """Total friction mean effective pressure in Pa. Barnes-Moss in Heywood (1988), eq. 13.6."""
    a, b, c = FRICTION_BAR
    n = speed_rpm / 1000.0
    return (a + b * n + c * n * n) * 1e5


def spark_efficiency(ca50_deg: Value) -> Value:
    """Share of the best torque, by the distance of 50 % burned from its best angle (degrees after top centre)."""
    return 1.0 - SPARK_LOSS_PER_DEG2 * (ca50_deg - CA50_BEST_DEG) ** 2


def mixture_efficiency(mixture_lambda: Value) -> Value:
    """Share of the best torque for a given mass of air, by lambda; holds from 0.70 to 1.15."""
    return 1.0 - LAMBDA_LOSS * (mixture_lambda - LAMBDA_BEST_TORQUE) ** 2


def released_share(mixture_lambda: Value) -> Value:
    """Share of the fuel's energy that is released: 1 when lean, less when the air runs out. Heywood fig. 3-9."""
    if isinstance(mixture_lambda, float):  # a bench steps through millions of single values: spare them the arrays
        return min(max(1.0 - RICH_RELEASE_SLOPE * (1.0 - mixture_lambda), 0.0), 1.0)
    return np.clip(1.0 - RICH_RELEASE_SLOPE * (1.0 - mixture_lambda), 0.0, 1.0)


def cylinder_volume(
    angle_deg: Value, bore_m: float, stroke_m: float, rod_m: float, compression_ratio: float
) -> Value:
    """Cylinder volume in m3 at a crank angle after top centre. Heywood (1988), eqs. 2.4 to 2.6."""
    swept = np.pi / 4.0 * bore_m**2 * stroke_m
    crank = stroke_m / 2.0
    theta = np.radians(angle_deg)
    piston = rod_m + crank - (crank * np.cos(theta) + np.sqrt(rod_m**2 - (crank * np.sin(theta)) ** 2))
    return swept / (compression_ratio - 1.0) + np.pi / 4.0 * bore_m**2 * piston


def cylinder_pressure(
    volume_m3: FloatArray, heat_j: FloatArray, pressure_start_pa: FloatArray, gamma: float
) -> FloatArray:
    """Pressure along the last axis for a closed cylinder, Pa.

    Exact solution of the single-zone energy equation dp/dθ = (γ-1)/V dQ/dθ - γ p/V dV/dθ (Heywood eq. 9.21 without
    heat loss and crevices): p V^γ = p0 V0^γ + ∫ (γ-1) V^(γ-1) dQ. `volume_m3` has shape (n,), `heat_j` the heat
    released so far, shape (..., n), `pressure_start_pa` shape (...).
    """
    growth = np.diff(heat_j, axis=-1) * (0.5 * (volume_m3[1:] + volume_m3[:-1])) ** (gamma - 1.0)
    added = np.concatenate([np.zeros((*heat_j.shape[:-1], 1)), np.cumsum(growth, axis=-1)], axis=-1)
    start = np.asarray(pressure_start_pa)[..., None] * volume_m3[0] ** gamma
    return np.asarray((start + (gamma - 1.0) * added) * volume_m3 ** (-gamma), dtype=np.float64)
