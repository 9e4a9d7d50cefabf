"""What is done to cells: filling, drawing, smoothing and stepping, against reference implementations."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy.interpolate import RegularGridInterpolator
from scipy.ndimage import correlate

from yarvic.core.calibration.cells import KERNEL, fill_cells, interpolate_cells, set_cells, smooth_cells, step_cells
from yarvic.core.calibration.conversion import Linear
from yarvic.core.calibration.other_tables import taken_from
from yarvic.core.calibration.storing import Storing
from yarvic.core.calibration.table import NO_AXIS, Axis, Table
from yarvic.core.errors import CalibrationError

FINE = Storing("f64")


def table_of(values, x=None, y=None, storing=FINE, unit="deg", **more):
    values = np.asarray(values, dtype=float)
    x = np.arange(values.shape[1]) * 1.0 if x is None else np.asarray(x, dtype=float)
    y = np.arange(values.shape[0]) * 1.0 if y is None else np.asarray(y, dtype=float)
    return Table("t", "T", unit, Axis("engine speed", "rpm", x, "engine_speed"), Axis("load", "%", y, "throttle"),
                 values, -1e6, 1e6, storing, **more)  # fmt: skip


def everything(table):
    return np.ones(table.values.shape, dtype=bool)


values_4x5 = arrays(np.float64, (4, 5), elements=st.floats(-100.0, 100.0))


@given(values_4x5, st.floats(0.05, 1.0), st.sampled_from(["both", "rows", "columns"]))
@settings(max_examples=60, deadline=None)
def test_smoothing_is_a_normalised_correlation(values, strength, along):
    """Against scipy.ndimage.correlate over the cells that there are, divided by that of ones."""
    table = table_of(values)
    kernel = {"both": np.outer(KERNEL, KERNEL), "rows": KERNEL[None, :], "columns": KERNEL[:, None]}[along]
    mean = correlate(values, kernel, mode="constant") / correlate(np.ones((4, 5)), kernel, mode="constant")
    wanted = values + strength * (mean - values)
    found = smooth_cells(table, everything(table), strength, along)
    assert np.allclose(found.values, wanted, atol=1e-9)
    one = np.zeros((4, 5), dtype=bool)
    one[1, 2] = True
    single = smooth_cells(table, one, strength, along).values
    assert single[1, 2] == pytest.approx(wanted[1, 2], abs=1e-9)
    assert np.array_equal(single[~one], values[~one])


def test_a_cell_without_a_number_is_in_no_mean():
    table = table_of([[1.0, np.nan, 3.0], [4.0, 4.0, 4.0]])
    found = smooth_cells(table, everything(table), 1.0, "rows").values
    assert found[0, 0] == 1.0 and np.isnan(found[0, 1]) and found[0, 2] == 3.0
    with pytest.raises(CalibrationError, match="strength"):
        smooth_cells(table, everything(table), 0.0)


def test_filling_copies_the_first_of_each_line():
    table = table_of([[1.0, 2.0, 3.0], [4.0, 5.0, 6.0]])
    mask = np.array([[False, True, True], [True, True, False]])
    assert fill_cells(table, mask, "rows").values.tolist() == [[1.0, 2.0, 2.0], [4.0, 4.0, 6.0]]
    assert fill_cells(table, mask, "columns").values.tolist() == [[1.0, 2.0, 3.0], [4.0, 2.0, 6.0]]
    with pytest.raises(CalibrationError, match="nothing to fill"):
        fill_cells(table, np.array([[True, False, False], [False] * 3]), "rows")


def test_lines_are_drawn_between_their_own_ends():
    table = table_of([[0.0, 9.0, 9.0, 30.0], [10.0, 9.0, 9.0, 40.0]], x=[0.0, 10.0, 20.0, 30.0])
    assert interpolate_cells(table, everything(table), "rows").values.tolist() == [[0, 10, 20, 30], [10, 20, 30, 40]]
    tall = table_of([[0.0], [9.0], [30.0]], y=[0.0, 10.0, 30.0])
    assert interpolate_cells(tall, everything(tall), "columns").values[:, 0].tolist() == [0.0, 10.0, 30.0]
    with pytest.raises(CalibrationError, match="nothing between"):
        interpolate_cells(table, everything(table), "columns")


@pytest.mark.parametrize("factor", [0.25, -0.25])
def test_a_step_is_what_the_storage_can_tell_apart(factor):
    storing = Storing("u8", Linear(factor=factor, offset=10.0))
    low, high = sorted((10.0, 10.0 + 255 * factor))
    table = replace(table_of([[10.0, 10.0 + 4 * factor]], storing=storing), low=low, high=high)
    up = step_cells(table, everything(table), 1).values[0]
    assert up[1] == 10.0 + 4 * factor + 0.25
    # At its bound it stays where it is.
    assert up[0] == (10.25 if factor > 0 else 10.0)


def test_no_number_is_no_value():
    table = table_of([[1.0, 2.0]])
    with pytest.raises(CalibrationError, match="no number would come of it"):
        set_cells(table, everything(table), np.array([[1.0, np.inf]]))


@given(st.data())
@settings(max_examples=40, deadline=None)
def test_another_table_is_read_on_its_own_axes(data):
    """Against scipy.interpolate.RegularGridInterpolator, the axes the other way round and in another unit."""
    other = table_of(
        data.draw(arrays(np.float64, (3, 4), elements=st.floats(0.0, 50.0))),
        x=[0.0, 20.0, 60.0, 100.0],
        y=[0.0, 40.0, 100.0],
    )
    turned = replace(other, x=Axis("load", "fraction", other.x.values / 100.0, "throttle"),
                     y=Axis("engine speed", "rpm", other.y.values * 60.0, "engine_speed"))  # fmt: skip
    table = table_of(np.zeros((4, 3)), x=[500.0, 1500.0, 6000.0], y=[10.0, 30.0, 90.0, 100.0])
    found = taken_from(table, everything(table), turned, "copy")
    reader = RegularGridInterpolator((turned.y.values, turned.x.values), turned.values)
    speed, load = np.meshgrid(table.x.values, table.y.values)
    assert np.allclose(found.table.values, reader((speed, load / 100.0)), atol=1e-9)
    assert found.beyond == 0


def test_scaling_copying_and_what_lies_beyond():
    speed = Axis("speed", "rpm", np.array([1000.0, 2000.0]), "engine_speed")
    factors = Table("f", "F", "%", speed, NO_AXIS, np.array([[100.0, 110.0]]), 0.0, 200.0, FINE)
    table = table_of(np.full((2, 3), 20.0), x=[500.0, 1500.0, 2000.0])
    found = taken_from(table, everything(table), factors, "scale")
    assert found.table.values[0].tolist() == pytest.approx([20.0, 21.0, 22.0]) and found.beyond == 2
    with pytest.raises(CalibrationError, match="not in deg"):
        taken_from(table, everything(table), factors, "copy")
    with pytest.raises(CalibrationError, match="no like"):
        taken_from(
            table, everything(table), replace(factors, x=Axis("t", "degC", np.array([0.0, 1.0]), "oil")), "scale"
        )
    with pytest.raises(CalibrationError, match="no factors"):
        taken_from(table, everything(table), replace(factors, unit="deg"), "scale")
