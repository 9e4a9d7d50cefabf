"""Compression ignition: the delay correlation term by term, efficiency and smoke by mixture."""

import numpy as np
import pytest

from yarvic.core.physics.diesel import compressed_state, ignition_delay_deg, mixture_share, smoke_opacity
from yarvic.core.physics.waves import tuned_speed_rpm, tuning_gain


def test_the_delay_is_the_published_correlation():
    """Hardenberg and Hase, Heywood (1988), eq. 10.37, evaluated here a second time by its own text."""
    piston, kelvin, bar, cetane = 8.0, 900.0, 50.0, 45.0
    energy = 618_840.0 / (cetane + 25.0)
    by_hand = (0.36 + 0.22 * piston) * np.exp(
        energy * (1.0 / (8.3143 * kelvin) - 1.0 / 17_190.0) * (21.2 / (bar - 12.4)) ** 0.63
    )
    assert ignition_delay_deg(piston, kelvin, bar * 1e5, cetane) == pytest.approx(by_hand)
    # Heywood, section 10.6.4: it gives a few degrees in direct-injection engines.
    assert 2.0 < by_hand < 8.0


def test_delay_shortens_with_heat_pressure_and_cetane():
    base = ignition_delay_deg(8.0, 900.0, 60e5, 50.0)
    assert ignition_delay_deg(8.0, 950.0, 60e5, 50.0) < base
    assert ignition_delay_deg(8.0, 900.0, 80e5, 50.0) < base
    assert ignition_delay_deg(8.0, 900.0, 60e5, 40.0) > base


def test_compression_is_the_ideal_gas_along_a_polytrope():
    p, t = compressed_state(1.8e5, 330.0, 16.5)
    # p V / T stays what it was.
    assert p / 16.5 / t == pytest.approx(1.8e5 / 330.0)


def test_efficiency_falls_and_smoke_rises_as_the_air_runs_out():
    mixtures = np.linspace(1.05, 2.4, 40)
    assert np.all(np.diff(mixture_share(mixtures, 0.36)) >= 0.0)
    assert mixture_share(2.0, 0.36) == 1.0
    smoke = smoke_opacity(mixtures, 0.10, 0.137)
    assert np.all(np.diff(smoke) < 0.0)
    # From memory: visible at lambda 1.3, heavy (about three times as dense) at 1.15.
    assert smoke_opacity(1.30, 0.10, 0.137) == pytest.approx(0.10)
    assert smoke_opacity(1.15, 0.10, 0.137) == pytest.approx(0.30, abs=0.01)


def test_a_wave_comes_back_in_time():
    """At the tuned speed the crank turns by the stated angle while sound runs the pipe twice."""
    rpm = tuned_speed_rpm(0.30, 345.0, 84.0)
    assert 6.0 * rpm * (2.0 * 0.30 / 345.0) == pytest.approx(84.0)
    assert tuned_speed_rpm(0.23, 345.0, 84.0) > rpm


def test_a_tuned_pipe_takes_beside_what_it_gives():
    speeds = np.linspace(4000.0, 14_000.0, 2001)
    gain = tuning_gain(speeds, 9000.0, 0.13)
    assert speeds[np.argmax(gain)] == pytest.approx(9000.0, abs=5.0)
    assert gain.max() == pytest.approx(1.0)
    # Common practice, no published source: velocity stacks move the curve, loss, gain, loss.
    assert gain[speeds < 9000.0].min() < -0.3 and gain[speeds > 9000.0].min() < -0.3
    assert np.trapezoid(gain, speeds) == pytest.approx(0.0, abs=5.0)
