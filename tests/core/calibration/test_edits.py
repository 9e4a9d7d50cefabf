"""Edits: what they do, that they can be taken back, and what they refuse."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yarvic.bench.vehicles import stock_calibrations
from yarvic.core.calibration.cells import (
    add_to_cells,
    copy_cells,
    interpolate_cells,
    set_cells,
    smooth_cells,
)
from yarvic.core.calibration.compare import compare
from yarvic.core.calibration.image import Image
from yarvic.core.errors import CalibrationError


def block(table, rows, columns):
    mask = np.zeros(table.values.shape, dtype=bool)
    mask[rows, columns] = True
    return mask


@pytest.fixture
def maps(layout):
    return stock_calibrations(layout)["RON 95"]


def test_set_and_add_touch_only_the_cells_in_hand(table):
    mask = block(table, slice(1, 3), slice(0, 2))
    for changed, expected in (
        (set_cells(table, mask, 12.0), np.full((2, 2), 12.0)),
        (add_to_cells(table, mask, -2.5), table.values[1:3, 0:2] - 2.5),
        (set_cells(table, mask, table.values * 1.1), np.round(table.values[1:3, 0:2] * 1.1, 1)),
    ):
        assert np.allclose(changed.values[1:3, 0:2], expected)
        assert np.array_equal(changed.values[~mask], table.values[~mask])


def test_between_draws_straight_along_the_axis(table):
    # Break points 1000, 2000, 4000, 6000 rpm: the inner ones stand at 1/5 and 3/5 of the way.
    changed = interpolate_cells(table, block(table, 0, slice(0, 4)))
    assert changed.values[0].tolist() == pytest.approx([30.0, 32.0, 36.0, 40.0])
    bent = set_cells(table, block(table, 0, slice(1, 3)), 0.0)
    assert interpolate_cells(bent, block(table, 0, slice(0, 4))).values[0].tolist() == pytest.approx(
        [30.0, 32.0, 36.0, 40.0]
    )


def test_between_over_a_rectangle_keeps_its_corners(table):
    changed = interpolate_cells(table, np.ones(table.values.shape, dtype=bool))
    for corner in ((0, 0), (0, -1), (-1, 0), (-1, -1)):
        assert changed.values[corner] == table.values[corner]
    # Halfway down the left column, between 30 and 8.
    assert changed.values[1, 0] == pytest.approx(19.0)


def test_between_needs_something_between(table):
    with pytest.raises(CalibrationError, match="nothing between"):
        interpolate_cells(table, block(table, slice(0, 2), slice(0, 2)))


def test_smooth_leaves_a_plane_and_flattens_a_spike(table):
    flat = set_cells(table, np.ones(table.values.shape, dtype=bool), 10.0)
    everything = np.ones(table.values.shape, dtype=bool)
    assert np.array_equal(smooth_cells(flat, everything).values, flat.values)
    spike = set_cells(flat, block(table, 1, 1), 20.0)
    # A quarter of the weight is its own: it goes half of the way to 12.5.
    assert smooth_cells(spike, block(table, 1, 1)).values[1, 1] == pytest.approx(16.2, abs=0.051)


def test_copy_takes_the_reference(table):
    other = add_to_cells(table, np.ones(table.values.shape, dtype=bool), 3.0)
    mask = block(table, 2, slice(1, 3))
    changed = copy_cells(table, mask, other)
    assert np.array_equal(changed.values[mask], other.values[mask])
    assert np.array_equal(changed.values[~mask], table.values[~mask])


@pytest.mark.parametrize("operation", [lambda t, m: set_cells(t, m, 1.0), smooth_cells, interpolate_cells])
def test_no_cells_is_said(table, operation):
    with pytest.raises(CalibrationError, match="no cells"):
        operation(table, np.zeros(table.values.shape, dtype=bool))


def test_bounds_hold_for_every_operation(table):
    mask = block(table, 0, slice(0, 4))
    for operation in (
        lambda: set_cells(table, mask, 51.0),
        lambda: add_to_cells(table, mask, 40.0),
        lambda: set_cells(table, mask, table.values * 10.0),
    ):
        with pytest.raises(CalibrationError, match="bounds"):
            operation()


@given(st.floats(-5.0, 5.0), st.integers(0, 9), st.integers(0, 12))
@settings(max_examples=40, deadline=None)
def test_an_edit_gives_the_table_that_it_was_made_for(layout, stock, amount, row, column):
    image = Image(layout, stock)
    before = image["RON 95"].table("spark_advance")
    mask = np.zeros(before.values.shape, dtype=bool)
    mask[row:, column:] = True
    after = add_to_cells(before, mask, amount)
    edits = image.edits_to("RON 95", after, "try")
    if not edits:
        assert abs(amount) < 0.06
        return
    [edit] = edits
    edited, back = image.edited(edits)
    assert np.array_equal(edited["RON 95"].table("spark_advance").values, after.values)
    assert set(edit.cells) == {(int(r), int(c)) for r, c in np.argwhere(after.values != before.values)}
    assert edited.with_patches(back).data == image.data


def test_an_edit_refuses_cells_that_moved_since(layout, stock):
    image = Image(layout, stock)
    before = image["RON 95"].table("spark_advance")
    mask = np.zeros(before.values.shape, dtype=bool)
    mask[0, 0] = True
    edits = image.edits_to("RON 95", add_to_cells(before, mask, 1.0), "try")
    with pytest.raises(CalibrationError, match="expects"):
        image.with_edits([*edits, *edits])


def test_differences_in_words(maps):
    before = maps.table("spark_advance")
    mask = np.zeros(before.values.shape, dtype=bool)
    mask[6:8, 2:5] = True
    changed = maps.with_table(add_to_cells(before, mask, -2.2)).with_scalar(maps.scalar("rev_limit").with_value(6700))
    said = [d.sentence() for d in compare(maps, changed)]
    assert said == ["Spark advance: 6 cells by -2.2 deg", "Rev limit: 1 cell by +100 rpm"]


def test_unknown_table_is_named(maps):
    with pytest.raises(CalibrationError, match="no table 'fuel'"):
        maps.table("fuel")
    with pytest.raises(CalibrationError, match="no scalar"):
        maps.scalar("fuel")
