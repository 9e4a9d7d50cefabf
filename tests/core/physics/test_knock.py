"""Knock: the correlation and the tones against values computed by hand from their sources."""

import numpy as np
import pytest
from scipy.special import jnp_zeros

from yarvic.core.physics.constants import DRAPER_ROOTS
from yarvic.core.physics.knock import ignition_delay, knock_integral, knock_tones


def test_delay_by_hand():
    # SAE 780080: tau = 17.68 (ON/100)^3.402 p^-1.7 exp(3800/T), ms and atm. At ON 100, 20 atm, 800 K:
    # 17.68 * 20^-1.7 * exp(4.75) = 17.68 * 0.0061376 * 115.584 = 12.543 ms.
    assert ignition_delay(20 * 101325.0, 800.0, 100.0) == pytest.approx(12.543e-3, rel=1e-3)
    # ON 90 shortens it by 0.9^3.402 = 0.6988.
    ratio = ignition_delay(20 * 101325.0, 800.0, 90.0) / ignition_delay(20 * 101325.0, 800.0, 100.0)
    assert ratio == pytest.approx(0.6988, rel=1e-3)


def test_heat_and_pressure_shorten_the_delay():
    base = ignition_delay(30e5, 800.0, 95.0)
    assert ignition_delay(40e5, 800.0, 95.0) < base
    assert ignition_delay(30e5, 850.0, 95.0) < base
    assert ignition_delay(30e5, 800.0, 100.0) > base


def test_integral_of_a_constant_delay():
    # With tau constant the integral reaches 1 after exactly tau (Livengood and Wu).
    delay = np.full((2, 101), 5e-3)
    integral = knock_integral(1e-4, delay)
    assert integral[:, 0] == pytest.approx(0.0)
    assert integral[:, 50] == pytest.approx(1.0)
    assert np.all(np.diff(integral, axis=1) > 0)


def test_integral_agrees_with_scipy():
    from scipy.integrate import cumulative_trapezoid

    delay = 4e-3 + 2e-3 * np.sin(np.linspace(0, 3, 80))[None, :]
    reference = cumulative_trapezoid(1.0 / delay, dx=2e-4, axis=1, initial=0.0)
    assert np.allclose(knock_integral(2e-4, delay), reference)


def test_draper_roots_are_those_of_the_bessel_functions():
    # First zeros of J1', J2', J0' (the last without the trivial one): 1.841, 3.054, 3.832.
    exact = (jnp_zeros(1, 1)[0], jnp_zeros(2, 1)[0], jnp_zeros(0, 1)[0])
    assert pytest.approx(exact, abs=1e-3) == DRAPER_ROOTS


def test_tone_of_an_80_mm_bore():
    # By hand: 1.841 * 950 / (pi * 0.080) = 6959 Hz; the usual figure for 80 mm is 6.9 to 7.0 kHz (from memory).
    first, second, third = knock_tones(0.080)
    assert first == pytest.approx(6959.0, abs=2.0)
    assert first < second < third
    assert knock_tones(0.100)[0] == pytest.approx(first * 0.8)
