"""Units against NIST, header words, and what must be refused."""

import tomllib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarvic.core.errors import UnitError
from yarvic.core.typed_numbers import parse_measure
from yarvic.core.units import (
    CANONICAL,
    UNITS,
    afr_from_lambda,
    convert,
    from_canonical,
    is_afr,
    lambda_from_afr,
    parse_unit,
    read_unit,
    to_canonical,
    units_of,
)

PUBLISHED = tomllib.loads((Path(__file__).parents[1] / "data" / "published" / "units.toml").read_text())


@pytest.mark.parametrize("label", [k for k in PUBLISHED if k != "source"])
def test_factors_are_those_of_nist(label):
    value, si = PUBLISHED[label]
    assert to_canonical(value, label) == pytest.approx(si, rel=2e-7)


@given(st.sampled_from(sorted(UNITS)), st.floats(-1e4, 1e4))
def test_there_and_back(label, value):
    assert from_canonical(to_canonical(value, label), label) == pytest.approx(value, rel=1e-9, abs=1e-6)


@given(st.sampled_from(sorted(CANONICAL)), st.data())
def test_any_two_units_of_a_quantity_convert(quantity, data):
    a, b = (data.draw(st.sampled_from(units_of(quantity))) for _ in range(2))
    assert convert(convert(12.5, a, b), b, a) == pytest.approx(12.5, rel=1e-9)


def test_arrays_convert_whole():
    assert np.allclose(convert(np.array([0.0, 100.0]), "degC", "degF"), [32.0, 212.0])


@pytest.mark.parametrize(
    ("words", "label"),
    [
        ("°C", "degC"), ("deg C", "degC"), ("F", "degF"), ("kPa", "kPa"), ("KPA", "kPa"), ("psi", "psi"), ("PSIA", "psi"),
        ("inHg", "inHg"), ("in-Hg", "inHg"), ("hPa", "mbar"), ("Nm", "N m"), ("N.m", "N m"), ("lb-ft", "lb-ft"),
        ("ft-lbs", "lb-ft"), ("1/min", "rpm"), ("RPM", "rpm"), ("km/h", "km/h"), ("kph", "km/h"), ("%", "%"),
        ("lambda", "lambda"), ("λ", "lambda"), ("ms", "ms"), ("g/s", "g/s"), ("°", "deg"), ("whp", "hp"), ("PS", "PS"),
        (" kPa ", "kPa"), ("ft³/min", "cfm"), ("Grad KW", "deg"), ("deg CrA", "deg"), ("Grad C", "degC"), ("Upm", "rpm"),
        ("mg/stk", "mg"), ("mm³/Hub", "mm3"), ("mV", "mV"), ("l/h", "L/h"), ("m³/h", "m3/h"),
    ],
)  # fmt: skip
def test_words_of_log_headers(words, label):
    assert parse_unit(words).label == label


@pytest.mark.parametrize("words", ["furlong", "", "kpax", "N", "degrees F!", "hp abs"])
def test_unknown_words_are_refused(words):
    with pytest.raises(UnitError, match="unknown"):
        parse_unit(words)


@pytest.mark.parametrize(
    ("words", "label", "reference"),
    [
        ("kPa abs", "kPa", "absolute"), ("bar(g)", "bar", "gauge"), ("bar (a)", "bar", "absolute"),
        ("psia", "psi", "absolute"),
        ("PSIG", "psi", "gauge"), ("mbar rel.", "mbar", "gauge"), ("hPa", "mbar", ""), ("hPa abs", "mbar", "absolute"),
        ("Bar Ü", "bar", "gauge"), ("kPa_gauge", "kPa", "gauge"), ("psid", "psi", "difference"), ("kPa", "kPa", ""),
        ("°KW", "deg", ""), ("° KW", "deg", ""), ("°CA", "deg", ""), ("kW", "kW", ""), ("°K", "K", ""), ("°BTDC", "deg", ""),
    ],
)  # fmt: skip
def test_a_pressure_unit_carries_its_zero_and_a_degree_its_meaning(words, label, reference):
    found, counted_from = read_unit(words)
    assert (found.label, counted_from) == (label, reference)


@pytest.mark.parametrize("words", ["psig", "bar(g)", "kPa gauge", "psid"])
def test_a_gauge_pressure_is_never_taken_for_an_absolute_one(words):
    with pytest.raises(UnitError, match="absolute"):
        parse_unit(words)
    with pytest.raises(UnitError, match="absolute"):
        parse_measure(f"14 {words}", "pressure")


def test_a_wrong_quantity_is_refused_by_name():
    with pytest.raises(UnitError, match="measures temperature, not pressure") as caught:
        parse_unit("degC", quantity="pressure")
    assert "kPa" in caught.value.remedy
    with pytest.raises(UnitError, match="measures"):
        convert(1.0, "kPa", "N m")


def test_an_air_fuel_ratio_needs_its_fuel():
    with pytest.raises(UnitError, match="without its fuel"):
        parse_unit("AFR")
    assert is_afr("[AFR]") and not is_afr("lambda")
    assert lambda_from_afr(13.14, 14.6) == pytest.approx(0.9)
    assert afr_from_lambda(lambda_from_afr(12.5, 14.6), 14.6) == pytest.approx(12.5)
    for convert_ in (lambda_from_afr, afr_from_lambda):
        with pytest.raises(UnitError):
            convert_(13.0, 0.0)


@pytest.mark.parametrize(
    ("text", "quantity", "expected"),
    [("25C", "temperature", 298.15), ("990mbar", "pressure", 99000.0), ("40%", "ratio", 0.4),
     ("-4 °F", "temperature", 253.15),
     ("29.92 inHg", "pressure", 101320.8), ("1e3 hPa", "pressure", 1e5)],
)  # fmt: skip
def test_measures(text, quantity, expected):
    assert parse_measure(text, quantity) == pytest.approx(expected, rel=1e-5)


@pytest.mark.parametrize("text", ["25", "C", "", "25 25C", "abc C", "25 mbar"])
def test_measures_that_are_none(text):
    with pytest.raises(UnitError) as caught:
        parse_measure(text, "temperature")
    assert caught.value.remedy
