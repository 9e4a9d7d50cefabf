"""Air against CoolProp and the standard atmosphere."""

import tomllib
from pathlib import Path

import CoolProp.CoolProp as CP
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yarvic.core.errors import UnitError
from yarvic.core.physics.air import Air, density, dry_pressure, isa_pressure, vapour_pressure

PUBLISHED = Path(__file__).parents[2] / "data" / "published"


@pytest.mark.parametrize("celsius", [-10.0, 5.0, 20.0, 35.0, 45.0])
@pytest.mark.parametrize("humidity", [0.1, 0.5, 0.95])
@pytest.mark.parametrize("pressure", [80e3, 101325.0])
def test_humid_air_agrees_with_coolprop(celsius, humidity, pressure):
    # Reference library: CoolProp's humid air (ASHRAE RP-1485). It holds the enhancement factor that the simple
    # partial-pressure law leaves out (half a per cent of the vapour), and real air's compressibility (a tenth per cent).
    kelvin = celsius + 273.15
    air = Air(pressure, kelvin, humidity)
    expected_vapour = CP.HAPropsSI("P_w", "T", kelvin, "P", pressure, "R", humidity)
    # CoolProp's volume is per kg of dry air.
    ratio = CP.HAPropsSI("W", "T", kelvin, "P", pressure, "R", humidity)
    expected_density = (1.0 + ratio) / CP.HAPropsSI("Vda", "T", kelvin, "P", pressure, "R", humidity)
    assert vapour_pressure(air) == pytest.approx(expected_vapour, rel=6e-3)
    assert density(air) == pytest.approx(expected_density, rel=1e-3)
    assert dry_pressure(air) == pytest.approx(pressure - expected_vapour, rel=6e-4)


def test_standard_atmosphere():
    data = tomllib.loads((PUBLISHED / "isa.toml").read_text())
    for altitude, pressure in zip(data["altitude_m"], data["pressure_pa"], strict=True):
        assert isa_pressure(altitude) == pytest.approx(pressure, rel=data["tolerance"])


@given(st.floats(0.0, 1.0), st.floats(255.0, 320.0), st.floats(60e3, 108e3))
@settings(max_examples=60, deadline=None)
def test_humid_air_is_lighter_than_dry(humidity, kelvin, pressure):
    wet, dry = Air(pressure, kelvin, humidity), Air(pressure, kelvin, 0.0)
    assert density(wet) <= density(dry) + 1e-12
    assert 0.0 <= vapour_pressure(wet) < pressure
    assert dry_pressure(wet) == pytest.approx(pressure - vapour_pressure(wet))


@pytest.mark.parametrize(
    ("pressure", "kelvin", "humidity", "word"),
    [
        (990.0, 298.0, 0.4, "mbar"),  # mbar given where Pa was meant
        (101325.0, 25.0, 0.4, "degC"),  # degC where K was meant
        (101325.0, 298.0, 40.0, "%"),  # per cent where a fraction was meant
        (float("nan"), 298.0, 0.4, "mbar"),
    ],
)
def test_impossible_air_is_refused(pressure, kelvin, humidity, word):
    with pytest.raises(UnitError, match=word) as caught:
        Air(pressure, kelvin, humidity)
    assert caught.value.remedy
