"""Power, torque and the inertia dyno."""

from __future__ import annotations

import math

import numpy as np

from yarvic.core.errors import EvidenceError
from yarvic.core.physics import FloatArray, Value
from yarvic.core.physics.spin_up import even_clock

RAD_PER_S_PER_RPM = 2.0 * math.pi / 60.0


def power_from_torque(torque_nm: Value, speed_rpm: Value) -> Value:
    """P = T w, in W."""
    return torque_nm * speed_rpm * RAD_PER_S_PER_RPM


def torque_from_power(power_w: Value, speed_rpm: Value) -> Value:
    """T = P / w, in N m."""
    return power_w / (speed_rpm * RAD_PER_S_PER_RPM)


def inertia_power(time_s: FloatArray, roller_rad_s: FloatArray, inertia_kg_m2: float, window_s: float) -> FloatArray:
    """Power at the roller of an inertia dyno, W: P = J w dw/dt.

    The derivative is that of a Savitzky-Golay fit (second order) over `window_s`. Stamps may jitter about an even
    clock and single samples be lost; EvidenceError for other stamps, and for a run shorter than the window. Newton's
    second law for rotation.
    """
    from scipy.signal import savgol_filter

    if time_s.size < 8:
        raise EvidenceError("fewer than 8 roller samples: no power can be derived", remedy="Pull again.")
    clock = even_clock(time_s) if np.all(np.diff(time_s) > 0.0) else None
    if clock is None:
        raise EvidenceError("the roller's time stamps are uneven", remedy="Resample the channel first.")
    step, place = clock
    roller_rad_s = np.interp(np.arange(place[-1] + 1), place, roller_rad_s)
    count = max(5, round(window_s / step) | 1)
    if count > roller_rad_s.size:
        raise EvidenceError(f"the pull is shorter than the {window_s:.2f} s smoothing window", remedy="Pull again.")
    speed = savgol_filter(roller_rad_s, count, 2)
    rate = savgol_filter(roller_rad_s, count, 2, deriv=1, delta=step)
    return np.asarray((inertia_kg_m2 * speed * rate)[place], dtype=np.float64)


def mean_over_band(grid: FloatArray, values: FloatArray, low: float, high: float) -> float:
    """Area under a curve over a band (trapezoid) divided by the band's width.

    NaN inside the band gives NaN: a hole is not averaged away. Raises EvidenceError when the curve does not
    cover the band.
    """
    if not (low < high) or grid[0] > low or grid[-1] < high:
        raise EvidenceError(
            f"the curve covers {grid[0]:.0f} to {grid[-1]:.0f}, not the band {low:.0f} to {high:.0f}",
            remedy="Choose a band inside the pull.",
        )
    inside = (grid > low) & (grid < high)
    x = np.concatenate(([low], grid[inside], [high]))
    y = np.concatenate(([np.interp(low, grid, values)], values[inside], [np.interp(high, grid, values)]))
    return float(np.trapezoid(y, x) / (high - low))
