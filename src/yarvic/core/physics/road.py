"""What a road takes: rolling, grade, drag and inertia."""

from __future__ import annotations

import numpy as np

from yarvic.core.physics import Value
from yarvic.core.physics.constants import GRAVITY


def road_force(
    speed_m_s: Value,
    acceleration_m_s2: Value,
    *,
    mass_kg: Value,
    rotating_factor: Value = 1.0,
    grade: Value = 0.0,
    rolling: Value = 0.0,
    drag_area_m2: Value = 0.0,
    air_density: Value = 1.2,
    wind_m_s: Value = 0.0,
) -> Value:
    """Force at the driven wheels' contact, N.

    F = m k a + m g c_rr cos(slope) + m g sin(slope) + 1/2 rho c_d A v^2; `grade` is rise over run (0.1 for 10 %),
    `wind_m_s` a wind from ahead. Gillespie, Fundamentals of Vehicle Dynamics (1992), eqs. 2-9 and 4-15 (from memory).
    """
    slope = np.arctan(grade)
    through_air = speed_m_s + wind_m_s
    return (
        mass_kg * rotating_factor * acceleration_m_s2
        + mass_kg * GRAVITY * (rolling * np.cos(slope) + np.sin(slope))
        + 0.5 * air_density * drag_area_m2 * through_air * abs(through_air)
    )


def road_power(speed_m_s: Value, force_n: Value) -> Value:
    """P = F v, W."""
    return force_n * speed_m_s


def rotating_factor(
    mass_kg: Value, tyre_radius_m: Value, wheels_inertia: Value, engine_inertia: Value, ratio: Value
) -> Value:
    """How much heavier a vehicle feels by what turns: 1 + (J_w + J_e i^2) / (m r^2), i = engine over wheel speed.

    Inertias in kg m2. Gillespie (1992), eq. 2-9 (from memory); equal to adding the kinetic energies.
    """
    return 1.0 + (wheels_inertia + engine_inertia * ratio**2) / (mass_kg * tyre_radius_m**2)
