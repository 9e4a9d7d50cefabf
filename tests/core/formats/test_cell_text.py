"""Cells on the clipboard: with and without axis values, as other countries write them, and what is refused."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from yarvic.core.calibration.conversion import Named, Words
from yarvic.core.errors import CalibrationError
from yarvic.core.formats.cell_text import read_cells, written_cells

SWITCH = Words(words=(Named(low=0.0, high=0.0, text="off"), Named(low=1.0, high=1.0, text="on")))


@pytest.mark.parametrize(
    ("text", "values"),
    [
        ("1\t2\n3\t4\n", [[1, 2], [3, 4]]),
        ("1,5\t2,25\r\n-3\t4\r\n", [[1.5, 2.25], [-3, 4]]),
        ("1.250,5\t2,0", [[1250.5, 2]]),
        ("1,250.5\t2.0", [[1250.5, 2]]),
        ("1,250\t2.5", [[1250, 2.5]]),
        ("0,250", [[0.25]]),
        ("1,250\t0,5", [[1.25, 0.5]]),
        ("1;2\n3;4", [[1, 2], [3, 4]]),
        ('"1"\t"2"', [[1, 2]]),
        ("1 250\t3", [[1250, 3]]),
        ("−4", [[-4]]),
        ("1\t\t3", [[1, np.nan, 3]]),
    ],
)  # fmt: skip
def test_cells_as_they_are_written(text, values):
    assert np.array_equal(read_cells(text).values, np.array(values, dtype=float), equal_nan=True)


def test_a_corner_that_is_no_number_says_that_axes_stand_around():
    for corner in ("", "\\", "Spark, deg"):
        found = read_cells(f"{corner}\t1000\t2000\n20\t1,5\t2,5\n40\t3\t4\n")
        assert found.x.tolist() == [1000.0, 2000.0] and found.y.tolist() == [20.0, 40.0]
        assert found.values.tolist() == [[1.5, 2.5], [3.0, 4.0]]
    curve = read_cells("\\\t1\t2\n\t5\t6\n")
    assert curve.y is None and curve.values.tolist() == [[5.0, 6.0]]


def test_words_of_the_table_are_numbers():
    assert read_cells("on\toff\noff\tOn", SWITCH).values.tolist() == [[1.0, 0.0], [0.0, 1.0]]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "holds no cells"),
        ("\n\n", "holds no cells"),
        ("1\t2\n3", "row 2 has 1 cells, the first 2"),
        ("1\tfast\n3\t4", "row 1, column 2 is 'fast'"),
        ("1\t=A1*2", "row 1, column 2 is '=A1\\*2', no number"),
        ("1\tnan", "no number"),
        ("1\tinf", "no number"),
        ("1\t#REF!", "no number"),
        ("1,250\t2,500", "1,250 may be a thousand or a fraction"),
        ("1\t" * 260_001, "too many cells"),
        ("9" * 4_000_001, "too long"),
    ],
)
def test_what_are_no_cells_is_named(text, message):
    with pytest.raises(CalibrationError, match=message) as caught:
        read_cells(text)
    assert caught.value.remedy and caught.value.concerns == "clipboard"


@given(arrays(np.float64, (3, 4), elements=st.floats(-1e4, 1e4)), st.booleans())
def test_what_is_written_is_read_again(values, axes):
    x, y = np.array([1000.0, 2000.5, 3000.0, 4000.0]), np.array([-1.0, 0.25, 7.0])
    text = written_cells(values, 3, x if axes else None, y if axes else None, "T, deg")
    found = read_cells(text)
    assert np.allclose(found.values, values, atol=0.00051)
    if axes:
        assert found.x.tolist() == x.tolist() and found.y.tolist() == y.tolist()


@given(st.text(alphabet="0123456789,.;\t\n -+eE%abn\"'", max_size=60))
def test_any_text_is_cells_or_refused(text):
    try:
        found = read_cells(text)
    except CalibrationError as error:
        assert error.remedy
    else:
        assert found.values.ndim == 2 and not np.isinf(found.values).any()
