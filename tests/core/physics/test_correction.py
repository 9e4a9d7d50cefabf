"""Correction standards: the identities that define them, their ratios, and their warnings."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yarvic.core.errors import UnitError
from yarvic.core.physics.air import Air
from yarvic.core.physics.correction import STANDARDS, compression_ignition_factor, correction, title


def dry(mbar, celsius):
    return Air(mbar * 100.0, celsius + 273.15, 0.0)


# Each standard's own reference conditions make its factor 1: that is what a reference condition is.
@pytest.mark.parametrize(
    ("standard", "mbar", "celsius"),
    [
        ("sae-j1349", 990.0, 25.0),
        ("std", 1013.25, 15.55),
        ("din-70020", 1013.0, 20.0),
        ("iso-1585", 990.0, 25.0),
        ("jis-d1001", 990.0, 25.0),
    ],
)
def test_factor_is_one_at_the_reference(standard, mbar, celsius):
    assert correction(standard, dry(mbar, celsius)).factor == pytest.approx(1.0, abs=2e-4)


def test_std_reads_four_per_cent_above_sae():
    # The trade's "four per cent", from the two standards' reference conditions: at SAE's own reference.
    air = dry(990.0, 25.0)
    ratio = correction("std", air).factor / correction("sae-j1349", air).factor
    assert ratio == pytest.approx(1.040, abs=1e-3)


@pytest.mark.parametrize(("mbar", "celsius"), [(950.0, 30.0), (990.0, 10.0), (1020.0, 0.0), (900.0, 35.0)])
def test_sae_by_hand(mbar, celsius):
    # cf = 1.18 (990/p_d) sqrt((T+273)/298) - 0.18, written out a second time; the formula is from memory.
    expected = 1.18 * (990.0 / mbar) * ((celsius + 273.0) / 298.0) ** 0.5 - 0.18
    assert correction("sae-j1349", dry(mbar, celsius)).factor == pytest.approx(expected, rel=1e-9)


def test_iso_and_jis_are_one_formula():
    air = dry(960.0, 31.0)
    assert correction("iso-1585", air).factor == correction("jis-d1001", air).factor
    expected = (99.0 / 96.0) ** 1.2 * ((31.0 + 273.0) / 298.0) ** 0.6
    assert correction("iso-1585", air).factor == pytest.approx(expected, rel=1e-9)


def test_din_ignores_humidity_and_the_others_do_not():
    wet, arid = Air(990e2, 303.15, 0.9), Air(990e2, 303.15, 0.0)
    assert correction("din-70020", wet).factor == correction("din-70020", arid).factor
    for standard in ("std", "sae-j1349", "iso-1585"):
        assert correction(standard, wet).factor > correction(standard, arid).factor


def test_warnings_past_the_range():
    near = correction("sae-j1349", dry(985.0, 25.0))
    assert near.warnings == ()
    noted = correction("sae-j1349", dry(950.0, 25.0))
    assert abs(noted.factor - 1.0) > 0.03 and "note" in noted.warnings[0]
    far = correction("sae-j1349", dry(880.0, 35.0))
    assert abs(far.factor - 1.0) > 0.07 and "past" in far.warnings[0]
    assert "past" in correction("iso-1585", dry(900.0, 30.0)).warnings[0]
    # ISO 1585 is valid from 0.93 to 1.07.
    assert correction("iso-1585", dry(960.0, 25.0)).warnings == ()


def test_boosted_engines_are_told_to_read_the_uncorrected_number():
    air = dry(985.0, 25.0)
    assert any("boost" in w for w in correction("sae-j1349", air, boost_controlled=True).warnings)
    assert correction("none", air, boost_controlled=True).warnings == ()


def test_none_is_none():
    c = correction("none", Air(800e2, 310.0, 0.5))
    assert c.factor == 1.0 and c.warnings == () and c.title == "Uncorrected"


@given(st.sampled_from(STANDARDS[1:]), st.floats(850.0, 1040.0), st.floats(-10.0, 40.0))
@settings(max_examples=80, deadline=None)
def test_thin_and_hot_air_is_corrected_upward(standard, mbar, celsius):
    here = correction(standard, dry(mbar, celsius)).factor
    assert correction(standard, dry(mbar - 20.0, celsius)).factor > here
    assert correction(standard, dry(mbar, celsius + 5.0)).factor > here


def test_the_air_stands_beside_the_factor():
    air = Air(97_000.0, 300.0, 0.5)
    c = correction("std", air)
    assert c.air is air


def test_unknown_standard_names_the_known_ones():
    with pytest.raises(UnitError, match="abc") as caught:
        correction("abc", dry(990.0, 25.0))
    assert "sae-j1349" in caught.value.remedy
    with pytest.raises(UnitError):
        title("abc")


def test_compression_ignition():
    # f_a^f_m with f_m = 0.036 q/r - 1.14; 0.3 below 40, 1.2 above 65 (from memory). At the reference f_a is 1.
    reference = Air(99e3, 298.15, 0.0)
    for turbo in (True, False):
        assert compression_ignition_factor(
            reference, fuel_mg_per_litre_cycle=80.0, boost_ratio=1.6, turbo=turbo
        ) == pytest.approx(1.0, abs=1e-3)
    hot = Air(95e3, 308.15, 0.0)
    low = compression_ignition_factor(hot, fuel_mg_per_litre_cycle=30.0, boost_ratio=1.0, turbo=True)
    middle = compression_ignition_factor(hot, fuel_mg_per_litre_cycle=50.0, boost_ratio=1.0, turbo=True)
    high = compression_ignition_factor(hot, fuel_mg_per_litre_cycle=90.0, boost_ratio=1.0, turbo=True)
    f_a = (99.0 / 95.0) ** 0.7 * (308.0 / 298.0) ** 1.5
    assert low == pytest.approx(f_a**0.3, rel=1e-9)
    assert middle == pytest.approx(f_a ** (0.036 * 50.0 - 1.14), rel=1e-9)
    assert high == pytest.approx(f_a**1.2, rel=1e-9)
    aspirated = compression_ignition_factor(hot, fuel_mg_per_litre_cycle=90.0, boost_ratio=1.0, turbo=False)
    assert aspirated == pytest.approx(((99.0 / 95.0) * (308.0 / 298.0) ** 0.7) ** 1.2, rel=1e-9)
    with pytest.raises(UnitError):
        compression_ignition_factor(hot, fuel_mg_per_litre_cycle=0.0, boost_ratio=1.0, turbo=True)
