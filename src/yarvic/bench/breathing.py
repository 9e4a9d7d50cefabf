"""Breathing through a throttle: the pressure behind it at which throttle and cylinders pass the same air."""

from __future__ import annotations

LEAST_OPEN = 0.035  # what an idle valve lets past a shut throttle, as a share of its travel; our choice
AREA_EXPONENT = 1.6  # the area follows the plate's angle: little at first, most of it by half; from memory


def throttle_capacity(fully_open: float, opening: float) -> float:
    """Flow capacity of a throttle plate, kg sqrt(K) / (s Pa), at an opening from 0 to 1."""
    return float(fully_open * min(max(opening, LEAST_OPEN) ** AREA_EXPONENT, 1.0))


def behind_throttle(
    before_pa: float, exhaust_pa: float, per_pa: float, residual_slope: float, capacity: float, charge_k: float
) -> tuple[float, float]:
    """Pressure behind the throttle, Pa, and the air that passes it, kg/s.

    The cylinders draw k ((1 + s) p - s p_e): `per_pa` k, less by the residual gas that the exhaust's pressure leaves
    (`residual_slope` s). The throttle passes C sqrt((p_b^2 - p^2) / T). Where both are equal p solves a quadratic.
    """
    loaded = per_pa**2 * charge_k / capacity**2
    open_ = 1.0 + residual_slope
    left = residual_slope * exhaust_pa
    a = loaded * open_ * open_ + 1.0
    b = -2.0 * loaded * open_ * left
    c = loaded * left * left - before_pa**2
    pressure = (-b + (b * b - 4.0 * a * c) ** 0.5) / (2.0 * a)
    return pressure, per_pa * max(open_ * pressure - left, 0.0)
