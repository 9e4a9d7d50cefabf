"""Table look-up against SciPy, and the rules of tables."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.interpolate import RegularGridInterpolator

from yarvic.core.calibration.storing import steps
from yarvic.core.calibration.table import Axis, Scalar, Table, look_up
from yarvic.core.errors import CalibrationError


def axis(size, rng):
    return np.cumsum(rng.uniform(0.5, 100.0, size))


@given(st.integers(2, 20), st.integers(2, 20), st.integers(0, 2**31))
@settings(max_examples=60, deadline=None)
def test_look_up_agrees_with_scipy(columns, rows, seed):
    # Reference library: scipy.interpolate.RegularGridInterpolator, linear, inside the grid.
    rng = np.random.default_rng(seed)
    xs, ys = axis(columns, rng), axis(rows, rng)
    values = rng.normal(0.0, 50.0, (rows, columns))
    x, y = rng.uniform(xs[0], xs[-1], 200), rng.uniform(ys[0], ys[-1], 200)
    expected = RegularGridInterpolator((ys, xs), values)(np.column_stack([y, x]))
    assert np.allclose(look_up(xs, ys, values, x, y), expected, atol=1e-9)


def test_look_up_on_a_very_uneven_axis_agrees_with_scipy():
    # One interval a hundred thousand times narrower than the others: such an axis is searched, not binned.
    rng = np.random.default_rng(5)
    xs, ys = np.array([0.0, 1e-3, 100.0, 101.0]), np.array([0.0, 50.0])
    values = rng.normal(size=(2, 4))
    x, y = rng.uniform(0, 101, 500), rng.uniform(0, 50, 500)
    x[:4] = xs
    expected = RegularGridInterpolator((ys, xs), values)(np.column_stack([y, x]))
    assert np.allclose(look_up(xs, ys, values, x, y), expected, atol=1e-9)


@pytest.mark.parametrize("step", [5e-324, 1.1e-308, 1e-300])
def test_break_points_may_be_as_close_as_doubles_are(step):
    xs, ys = np.array([0.0, step, 1.0, 2.0]), np.array([0.0, 50.0])
    values = np.array([[1.0, 3.0, 5.0, 9.0], [2.0, 4.0, 6.0, 8.0]])
    x, y = np.meshgrid(xs, ys)
    assert np.array_equal(look_up(xs, ys, values, x, y), values)
    assert np.allclose(look_up(xs, ys, values, np.array([-1.0, 0.5, 1.5, 9.0]), 0.0), [1.0, 4.0, 7.0, 9.0])


def test_look_up_is_clamped_at_the_ends(table):
    assert table.look_up(0.0, 0.0) == 30.0
    assert table.look_up(9000.0, 500.0) == 20.0
    assert table.look_up(9000.0, 60.0) == 32.0
    assert table.look_up(1000.0, -5.0) == 30.0


def test_look_up_on_the_break_points_is_the_table(table):
    x, y = np.meshgrid(table.x.values, table.y.values)
    assert np.array_equal(table.look_up(x, y), table.values)


def test_look_up_keeps_missing_numbers_missing(table):
    got = table.look_up(np.array([1500.0, np.nan, 1500.0]), np.array([20.0, 20.0, np.nan]))
    assert got[0] == 31.0 and np.isnan(got[1]) and np.isnan(got[2])


def test_look_up_of_a_single_row_or_column():
    one = np.array([5.0])
    xs = np.array([0.0, 10.0])
    assert look_up(xs, one, np.array([[1.0, 3.0]]), 5.0, 99.0) == 2.0
    assert look_up(one, xs, np.array([[1.0], [3.0]]), -99.0, 5.0) == 2.0
    assert look_up(one, one, np.array([[7.0]]), 0.0, 0.0) == 7.0


@pytest.mark.parametrize("values", [[], [1.0, 1.0], [2.0, 1.0], [1.0, np.nan], [[1.0, 2.0]]])
def test_axes_must_rise(values):
    with pytest.raises(CalibrationError):
        Axis("x", "rpm", np.array(values, dtype=float))


def test_values_must_fit_the_axes(table):
    with pytest.raises(CalibrationError, match="do not fit"):
        Table("k", "T", "deg", table.x, table.y, np.zeros((2, 2)), 0.0, 1.0, steps(0.1))


def test_a_value_out_of_bounds_names_its_cell(table):
    values = table.values.copy()
    values[1, 2] = 50.4
    with pytest.raises(CalibrationError) as caught:
        table.with_values(values)
    assert "4000 rpm, 60 %" in str(caught.value)
    assert "-10 to 50" in str(caught.value)


def test_not_a_number_is_out_of_bounds(table):
    values = table.values.copy()
    values[0, 0] = np.nan
    with pytest.raises(CalibrationError):
        table.with_values(values)


def test_values_are_rounded_to_the_storage_step(table):
    values = table.values + 0.04
    assert np.array_equal(table.with_values(values).values, table.values)
    assert table.with_values(table.values + 0.06).values[0, 0] == pytest.approx(30.1)


def test_scalars_are_bounded_and_rounded():
    limit = Scalar("rev", "Rev limit", "rpm", 6600.0, 2000.0, 7200.0, steps(1.0), 0)
    assert limit.with_value(6700.4).value == 6700.0
    with pytest.raises(CalibrationError, match="7200"):
        limit.with_value(7300.0)
    with pytest.raises(CalibrationError):
        limit.with_value(100.0)
