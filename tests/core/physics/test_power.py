"""Power, torque and the inertia dyno."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarvic.core.errors import EvidenceError
from yarvic.core.physics.power import inertia_power, mean_over_band, power_from_torque, torque_from_power
from yarvic.core.units import from_canonical, to_canonical


def test_horsepower_identity():
    # hp = lb-ft rpm / 5252.11: follows from the definitions of the units (NIST SP 811).
    torque, rpm = 300.0, 4321.0
    hp = from_canonical(power_from_torque(to_canonical(torque, "lb-ft"), rpm), "hp")
    assert hp == pytest.approx(torque * rpm / 5252.113, rel=1e-6)


@given(st.floats(1.0, 2000.0), st.floats(200.0, 12000.0))
def test_power_and_torque_are_inverse(torque, rpm):
    assert torque_from_power(power_from_torque(torque, rpm), rpm) == pytest.approx(torque)


def test_inertia_dyno_against_the_closed_form():
    # Constant torque on a roller: w = w0 + (M/J) t, so P = M w exactly (Newton's second law for rotation).
    inertia, moment, start = 90.0, 450.0, 20.0
    t = np.arange(0.0, 10.0, 0.01)
    speed = start + moment / inertia * t
    power = inertia_power(t, speed, inertia, 0.4)
    assert np.allclose(power, moment * speed, rtol=1e-9)


def test_inertia_dyno_with_noise_stays_close():
    rng = np.random.default_rng(3)
    t = np.arange(0.0, 10.0, 0.01)
    speed = 20.0 + 5.0 * t + rng.normal(0.0, 0.005, t.size)
    power = inertia_power(t, speed, 90.0, 0.4)
    inner = slice(30, -30)
    assert np.abs(power[inner] / (450.0 * (20.0 + 5.0 * t[inner])) - 1.0).max() < 0.03


@pytest.mark.parametrize(
    ("time", "message"),
    [
        (np.arange(5) * 0.01, "fewer"),
        (np.array([0, 1, 2, 3, 5, 6, 7, 8, 9.0]) * 0.01, "uneven"),
        (np.zeros(20), "uneven"),
        (np.arange(12) * 0.01, "shorter"),
    ],
)
def test_unfit_roller_samples_are_refused(time, message):
    with pytest.raises(EvidenceError, match=message):
        inertia_power(time, np.linspace(10, 20, time.size), 90.0, 0.4)


def test_mean_over_band_of_a_line_is_its_middle():
    grid = np.arange(1000.0, 6001.0, 50.0)
    assert mean_over_band(grid, 2.0 * grid, 2000.0, 4000.0) == pytest.approx(6000.0)
    # A band that falls between grid points counts its ends.
    assert mean_over_band(grid, 2.0 * grid, 2013.0, 4027.0) == pytest.approx(2013.0 + 4027.0)


def test_mean_over_band_does_not_average_a_hole_away():
    grid = np.arange(1000.0, 6001.0, 50.0)
    values = grid.copy()
    values[40] = np.nan
    assert np.isnan(mean_over_band(grid, values, 2000.0, 4000.0))
    assert not np.isnan(mean_over_band(grid, values, 3500.0, 4500.0))


@pytest.mark.parametrize("band", [(500.0, 3000.0), (3000.0, 9000.0), (3000.0, 3000.0), (4000.0, 3000.0)])
def test_band_outside_the_curve_is_refused(band):
    grid = np.arange(1000.0, 6001.0, 50.0)
    with pytest.raises(EvidenceError, match="band"):
        mean_over_band(grid, grid, *band)
