"""Road load against closed solutions of the equation of motion, and against kinetic energy."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.integrate import solve_ivp

from yarvic.core.physics.constants import GRAVITY
from yarvic.core.physics.road import road_force, road_power, rotating_factor

CAR = {"mass_kg": 1200.0, "rolling": 0.013, "drag_area_m2": 0.65, "air_density": 1.2}


def test_level_road_by_hand():
    # 1200 kg x 9.80665 x 0.013 + 0.5 x 1.2 x 0.65 x 30^2 = 152.98 + 351.00 N: the terms of Gillespie (1992), eq. 4-15.
    assert road_force(30.0, 0.0, **CAR) == pytest.approx(503.98, abs=0.01)
    assert road_power(30.0, 503.98) == pytest.approx(15119.4)


def test_a_grade_adds_the_weights_share():
    uphill = road_force(0.0, 0.0, mass_kg=1000.0, grade=0.10)
    assert uphill == pytest.approx(1000.0 * GRAVITY * np.sin(np.arctan(0.1)))
    assert road_force(0.0, 0.0, mass_kg=1000.0, grade=-0.10) == pytest.approx(-uphill)


def test_wind_from_ahead_and_from_behind():
    still = road_force(20.0, 0.0, **CAR)
    assert road_force(20.0, 0.0, wind_m_s=5.0, **CAR) > still > road_force(20.0, 0.0, wind_m_s=-5.0, **CAR)
    # A wind faster than the vehicle pushes it.
    assert road_force(1.0, 0.0, mass_kg=1.0, drag_area_m2=1.0, wind_m_s=-5.0) < 0.0


def test_coast_down_is_its_closed_solution():
    """m dv/dt = -(a + b v^2) has v = sqrt(a/b) tan(atan(v0 sqrt(b/a)) - t sqrt(ab)/m): any text on separable equations."""
    a, b = 1200.0 * GRAVITY * 0.013, 0.5 * 1.2 * 0.65
    times = np.linspace(0.0, 60.0, 13)
    closed = np.sqrt(a / b) * np.tan(np.arctan(30.0 * np.sqrt(b / a)) - times * np.sqrt(a * b) / 1200.0)
    run = solve_ivp(
        lambda t, v: -road_force(v, 0.0, **CAR) / 1200.0, (0.0, 60.0), [30.0], t_eval=times, rtol=1e-9, atol=1e-9
    )
    assert run.y[0] == pytest.approx(closed, rel=1e-6)


@given(
    st.floats(100.0, 9000.0), st.floats(0.2, 0.6), st.floats(0.1, 20.0), st.floats(0.01, 0.6), st.floats(2.0, 40.0)
)
def test_what_turns_is_kinetic_energy(mass, radius, wheels, engine, ratio):
    """Half k m v^2 is the energy of all that moves."""
    speed = 12.0
    wheel = speed / radius
    energy = 0.5 * mass * speed**2 + 0.5 * wheels * wheel**2 + 0.5 * engine * (wheel * ratio) ** 2
    k = rotating_factor(mass, radius, wheels, engine, ratio)
    assert 0.5 * k * mass * speed**2 == pytest.approx(energy)
