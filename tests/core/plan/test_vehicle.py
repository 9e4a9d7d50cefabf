"""The vehicle's entries: what cannot be is refused with a sentence; what follows is right."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from yarvic.core.plan.derived import derived, displacement_m3, mean_piston_speed, road_speed
from yarvic.core.plan.stations import station_keys, stations, usual_title
from yarvic.core.plan.vehicle import Vehicle, entries, faults
from yarvic.demo.jobs import DEMO_JOBS

SHEETS = {job.name: job.sheet() for job in DEMO_JOBS}


@pytest.mark.parametrize(
    ("values", "key", "words"),
    [
        ({"bore_mm": 8000.0}, "bore_mm", "give from 20 to 300 mm"),  # 8 m
        ({"cylinders": 0}, "cylinders", "whole number from 1 to 16"),
        ({"idle_rpm": 900.0, "redline_rpm": 800.0}, "redline_rpm", "not above idle"),
        ({"compression_ratio": 100.0}, "compression_ratio", "from 5 to 25"),
        ({"gears": (1.0, 2.0)}, "gears", "lowest gear first"),
        ({"gears": (0.0,)}, "gears", "ratios from"),
        ({"drivetrain_loss": 100.0}, "drivetrain_loss", "from 0 to 45 %"),
        ({"fuels": {"A": "water"}}, "fuels", "unknown"),
        ({"fuels": {" ": "diesel"}}, "fuels", "needs a name"),
        ({"ignition": "compression", "injection": "port"}, "injection", "diesel"),
        ({"ignition": "spark", "injection": "common rail"}, "injection", "port or direct"),
    ],
)
def test_what_cannot_be_is_refused(values, key, words):
    assert words in faults(values)[key]
    with pytest.raises(ValidationError):
        Vehicle(name="x", **values)


def test_an_unfinished_vehicle_is_possible():
    v = Vehicle(name="x")
    assert v.loss is None and displacement_m3(v) is None and derived(v) == []
    assert v.in_words() == "kind and engine not stated"
    with pytest.raises(ValidationError):
        Vehicle(name="")


@pytest.mark.parametrize(
    ("key", "text", "value"),
    [
        ("bore_mm", "80", 80.0), ("bore_mm", " 3.15 in ", 80.01), ("bore_mm", "80,5", 80.5), ("bore_mm", "8 m", None),
        ("bore_mm", "", ""), ("bore_mm", "eighty", None), ("bore_mm", "80 kg", None), ("redline_rpm", "6,600", 6600.0),
        ("cylinders", "3.5", None), ("gearbox_torque_nm", "100 lb-ft", 135.581795), ("compression_ratio", "10:1", None),
        ("drivetrain_loss", "15", 15.0), ("drivetrain_loss", "15 %", 15.0), ("mass_kg", "nan", None),
    ],
)  # fmt: skip
def test_entries_take_their_unit_and_refuse_another(key, text, value):
    from yarvic.core.errors import YarvicError

    if value is None:
        with pytest.raises((ValueError, YarvicError)) as said:
            entries()[key].read(text)
        assert str(said.value)
    else:
        assert entries()[key].read(text) == (None if value == "" else pytest.approx(value))


@given(st.sampled_from(sorted(entries())), st.floats(allow_nan=True, allow_infinity=True))
def test_every_number_is_taken_or_refused_with_words(key, value):
    fault = entries()[key].fault(value)
    assert (fault == "") == (
        entries()[key].low <= value <= entries()[key].high and not (entries()[key].whole and value != int(value))
    )


def test_displacement_and_piston_speed():
    """Heywood, Internal Combustion Engine Fundamentals (1988), eqs. 2.1 and 2.9, by hand for 80 x 92.8, three cylinders."""
    v = SHEETS["ptarmigan"].vehicle
    assert displacement_m3(v) * 1e6 == pytest.approx(3 * math.pi / 4 * 8.0**2 * 9.28)
    assert mean_piston_speed(0.0928, 6600) == pytest.approx(2 * 0.0928 * 110)
    found = {d.key: d for d in derived(v)}
    assert found["knock_tone"].value == pytest.approx(6950, abs=50)  # bore 80 mm: 6.9 to 7.0 kHz
    assert found["wheel_to_crank"].value == pytest.approx(1 / 0.868)
    assert found["stoichiometric RON 95"].value == pytest.approx(14.6, abs=0.02)
    assert found["stoichiometric E30"].value == pytest.approx(12.85, abs=0.1)


def test_road_speed_by_turns_of_the_wheel():
    # One turn of the wheel for i_g i_f turns of the engine.
    assert road_speed(60.0, 1.0, 1.0, 0.5) == pytest.approx(math.pi)
    assert road_speed(6000, 2.0, 4.0, 0.3) == pytest.approx(6000 / 8 / 60 * 2 * math.pi * 0.3)


def test_stations_adapt_to_the_engine():
    buggy, carrier, twin = (stations(SHEETS[n].vehicle) for n in ("ptarmigan", "wether", "fieldfare"))
    keys = {s.key for s in twin}
    assert not {"compressor", "turbine", "intercooler"} & keys and {"throttle", "clutch", "tyres"} <= keys
    assert {"compressor", "turbine", "intercooler"} <= {s.key for s in buggy}
    titles = {s.key: s.title for s in carrier}
    assert titles["aftertreatment"] == "Particulate filter" and titles["tyres"] == "Tracks"
    assert titles["clutch"] == "Converter" and {s.key: s.title for s in twin}["clutch"] == "Clutch"
    assert set(titles) <= set(station_keys()) and usual_title("clutch") == "Clutch" and usual_title("x") == "x"
    assert [s.line for s in buggy] == sorted(
        [s.line for s in buggy], key=["air", "fuel", "engine", "exhaust", "drive"].index
    )
