"""Numbers as people type them: read, or refused with what to write; never another number in silence."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarvic.core.errors import UnitError
from yarvic.core.typed_numbers import parse_entry, parse_gearing, parse_measure, parse_number, parse_numbers

AS_WRITTEN = {
    "2.5": 2.5, "-3": -3.0, " 1,5 ": 1.5, "6600": 6600.0, ".5": 0.5, "5.": 5.0, "1e3": 1000.0, "12,5e2": 1250.0,
    "0,985": 0.985, "0.985": 0.985, "-0,125": -0.125, "1.500": 1.5, "1,234.5": 1234.5, "1.234,5": 1234.5,
    "1,234,567": 1234567.0, "1.234.567": 1234567.0, "6 600": 6600.0, "6\u202f600,5": 6600.5, "6'600": 6600.0,
    "\u22123": -3.0, "\u0662\u0665\u066b\u0665": 25.5, "\u06f1\u06f2": 12.0,
}  # fmt: skip


@pytest.mark.parametrize("text", AS_WRITTEN)
def test_a_number_is_read_as_it_was_meant(text):
    assert parse_number(text) == AS_WRITTEN[text]


@pytest.mark.parametrize(
    "text",
    [
        "",
        "abc",
        "inf",
        "nan",
        "Infinity",
        "1.2.3",
        "1_000",
        "1,2,3",
        "1,234,56",
        "0 985",
        "1 23",
        "0x10",
        "1e999",
        "--1",
    ],
)
def test_what_is_no_number_is_refused(text):
    with pytest.raises(UnitError, match="is not a number"):
        parse_number(text)


@pytest.mark.parametrize(
    ("text", "either"), [("1,025", "1025 or 1.025"), ("6,600", "6600 or 6.6"), ("-16,500", "-16500 or -16.5")]
)
def test_a_comma_that_may_be_either_is_asked(text, either):
    with pytest.raises(UnitError, match=f"may be {either}") as caught:
        parse_number(text)
    assert caught.value.remedy == f"Write {either}."


def test_what_can_be_tells_what_a_comma_is():
    """A field's bounds leave one of the two, or the person is asked."""

    def between(low, high):
        return lambda v: low <= v <= high

    assert parse_number("6,600", between(500.0, 20e3)) == 6600.0
    assert parse_number("1,025", between(0.5, 2.0)) == 1.025
    assert parse_number("-16,500", between(-20.0, 0.0)) == -16.5
    assert parse_entry("1,013 hPa", "kPa", between(20e3, 120e3)) == pytest.approx(101300.0)
    assert parse_entry("1,013", "bar", between(20e3, 120e3)) == pytest.approx(101300.0)
    for low, high in ((0.0, 1e6), (2.0, 500.0)):
        with pytest.raises(UnitError, match=r"may be 1025 or 1\.025"):
            parse_number("1,025", between(low, high))


@given(st.integers(-(10**9), 10**9), st.integers(0, 4), st.sampled_from(["en", "de", "fr", "ch", "plain"]))
def test_no_way_of_writing_gives_another_number(whole, places, way):
    """What a number is written as by the rules of five countries is that number again, or refused: never another one."""
    value = whole / 10**places
    marks = {"en": (",", "."), "de": (".", ","), "fr": ("\u202f", ","), "ch": ("'", "."), "plain": ("", ".")}[way]
    text = f"{value:,.{places}f}".translate({ord(","): marks[0], ord("."): marks[1]})
    try:
        found = parse_number(text)
    except UnitError:
        # One mark before three digits: a point there is the decimal point that stands everywhere in the window.
        assert "," in text
        return
    assert found == value or (way == "de" and places == 0 and text.count(".") == 1 and found == float(text))


LISTS = {
    "3.6 2.1 1.4": (3.6, 2.1, 1.4), "3,6 2,1 1,4": (3.6, 2.1, 1.4), "3,6; 2,1;1,4": (3.6, 2.1, 1.4),
    "3.6, 2.1, 1.4": (3.6, 2.1, 1.4), "3.6,2.1,1.4": (3.6, 2.1, 1.4), "4, 3, 2": (4.0, 3.0, 2.0), "3,6": (3.6,),
    "3,6, 2,1": (3.6, 2.1), "": (),
}  # fmt: skip


@pytest.mark.parametrize("text", LISTS)
def test_several_numbers(text):
    assert parse_numbers(text) == LISTS[text]


@pytest.mark.parametrize("text", ["3,6,2,1", "4,3,2", "3.6 x", "3.6/2.1"])
def test_several_numbers_that_may_be_others_are_refused(text):
    with pytest.raises(UnitError) as caught:
        parse_numbers(text)
    assert caught.value.remedy


def test_an_entry_has_its_unit_or_that_of_its_field():
    assert parse_entry("25", "degC") == parse_entry("25 C", "degF") == pytest.approx(298.15)
    assert parse_entry("1 013,25 hPa", "psi") == pytest.approx(101325.0)
    assert parse_entry("0,99 bar", "kPa") == parse_measure("0.99bar", "pressure") == pytest.approx(99e3)
    assert (
        parse_entry("6600 1/min", "rpm")
        == parse_entry("6 600/min", "rpm")
        == parse_entry("6600 rpm", "rpm")
        == 6600.0
    )
    assert parse_entry("6001/min", "rpm") == 6001.0
    for text in ("1,013 hPa", "1,013", "25 mbar", "abc", "25 25 C"):
        with pytest.raises(UnitError):
            parse_entry(text, "degC")


@pytest.mark.parametrize("text", ["0 rpm per km/h", "900000 rpm per km/h", "40 rpm per kg"])
def test_a_gearing_that_no_vehicle_has_is_refused(text):
    with pytest.raises(UnitError):
        parse_gearing(text)
