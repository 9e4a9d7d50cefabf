"""Arithmetic as it is typed: what each way of writing does, what is refused, and that nothing else can be reached."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarvic.core.calibration.arithmetic import formula, worked
from yarvic.core.errors import CalibrationError

CELLS = {
    "value": np.array([[10.0, 20.0]]),
    "reference": np.array([[12.0, 16.0]]),
    "x": np.array([[1000.0, 2000.0]]),
    "y": np.array([[0.5, 0.5]]),
}


@pytest.mark.parametrize(
    ("text", "wanted", "words"),
    [
        ("12.5", [12.5, 12.5], "set to 12.5 deg"),
        ("= 12,5", [12.5, 12.5], "set to 12,5 deg"),
        ("=-2", [-2.0, -2.0], "set to -2 deg"),
        ("set to 3", [3.0, 3.0], "set to 3 deg"),
        ("+2", [12.0, 22.0], "raised by 2 deg"),
        ("- 2", [8.0, 18.0], "lowered by 2 deg"),
        ("−2", [8.0, 18.0], "lowered by 2 deg"),
        ("plus 2", [12.0, 22.0], "raised by 2 deg"),
        ("2 less", [8.0, 18.0], "lowered by 2 deg"),
        ("+ -2", [8.0, 18.0], "lowered by 2 deg"),
        ("- -5 %", [10.5, 21.0], "raised by 5 %"),
        ("+5%", [10.5, 21.0], "raised by 5%"),
        ("5 % less", [9.5, 19.0], "lowered by 5 %"),
        ("times 1.1", [11.0, 22.0], "multiplied by 1.1"),
        ("* 110 %", [11.0, 22.0], "multiplied by 110 %"),
        ("/ 4", [2.5, 5.0], "divided by 4"),
        ("divided by 4", [2.5, 5.0], "divided by 4"),
        ("at least 15", [15.0, 20.0], "set to at least 15 deg"),
        ("at most 2 * 6", [10.0, 12.0], "set to at most 2 * 6 deg"),
        ("= (value + reference) / 2", [11.0, 18.0], "set to (value + reference) / 2 deg"),
        ("= 2 + 3 * 4 - 6 / 3", [12.0, 12.0], "set to 2 + 3 * 4 - 6 / 3 deg"),
        ("= x / 100 * y", [5.0, 10.0], "set to x / 100 * y deg"),
        ("+ reference * 10 %", [22.0, 52.0], None),
    ],
)  # fmt: skip
def test_what_is_written_is_what_is_done(text, wanted, words):
    made = formula(text, "deg")
    if words is None:  # a share of the value, of so many times the reference
        wanted = (CELLS["value"] * (1.0 + CELLS["reference"] * 0.1))[0].tolist()
    else:
        assert made.words == words
    assert worked(made, CELLS)[0].tolist() == pytest.approx(wanted)


@pytest.mark.parametrize(
    ("text", "unit", "message"),
    [
        ("", "deg", "nothing that could be worked out"),
        ("=", "deg", "lacks a number"),
        ("12 13", "deg", "cannot be read from '13' on"),
        ("1..2", "deg", "cannot be read"),
        ("(2", "deg", "closing bracket"),
        ("2 +", "deg", "lacks a number at its end"),
        ("abc", "deg", "no meaning for 'abc'"),
        ("__import__", "deg", "cannot be read"),
        ("(" * 60 + "1" + ")" * 60, "deg", "too many brackets"),
        ("1" * 300, "deg", "nothing that could be worked out"),
        ("5 %", "deg", "of what it is a share"),
        ("+ 5 %", "%", "a share of the value or points"),
        ("value ** 2", "deg", "lacks a number|no meaning|cannot be read"),
    ],
)
def test_what_cannot_be_read_is_said(text, unit, message):
    with pytest.raises(CalibrationError, match=message) as caught:
        formula(text, unit)
    assert caught.value.remedy


def test_per_cent_tables_are_set_in_per_cent():
    assert worked(formula("50 %", "%"), CELLS)[0].tolist() == [50.0, 50.0]


def test_a_name_that_is_not_there_is_said():
    with pytest.raises(CalibrationError, match="no reference") as caught:
        worked(formula("= reference"), {"value": CELLS["value"]})
    assert "ladder" in caught.value.remedy


@given(st.text(max_size=40))
def test_any_text_is_worked_out_or_refused(text):
    try:
        found = worked(formula(text, "deg"), CELLS)
    except CalibrationError as error:
        assert error.remedy
    else:
        assert found.shape == (1, 2)


@given(st.lists(st.tuples(st.sampled_from("+-*/"), st.floats(0.25, 100.0)), min_size=1, max_size=6))
def test_sums_and_products_are_those_of_python(parts):
    """Against the interpreter's own arithmetic."""
    text = "3" + "".join(f" {sign} {value!r}" for sign, value in parts)
    assert worked(formula(f"= {text}"), CELLS)[0, 0] == pytest.approx(eval(text))


def test_a_comma_that_may_be_either_changes_no_cell():
    """`6,600` set 6.6 before; a leading zero leaves one reading."""
    for text in ("6,600", "= 1,025", "+ 1,500", "(2 + 1,250) * value"):
        with pytest.raises(CalibrationError, match="may be") as caught:
            formula(text, "rpm")
        assert caught.value.remedy.startswith("Write ")
    cells = {"value": np.array([1.0, 2.0])}
    assert np.array_equal(formula("= 0,985", "lambda").of(cells), [0.985, 0.985])
    assert np.array_equal(formula("* 1,5", "lambda").of(cells), [1.5, 3.0])
