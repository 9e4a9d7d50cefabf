"""Stoichiometry against cantera, octane against a worked value."""

import cantera as ct
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarvic.core.errors import UnitError
from yarvic.core.physics.fuel import blend_ron, ethanol_blend, fuel, fuels, stoichiometric_afr


def by_cantera(hydrogen, oxygen):
    """Air-fuel ratio by mass of C H_y O_z, from an element balance in cantera with air of 79.05 % nitrogen.

    Heywood's 34.56 takes air as O2 + 3.773 N2 (N2 standing for all that is not oxygen, at 28.16 g/mol).
    """
    species = ct.Species("fuel", {"C": 1.0, "H": hydrogen, "O": oxygen})
    species.thermo = ct.ConstantCp(200.0, 3500.0, ct.one_atm, (298.15, 0.0, 0.0, 30e3))
    others = [s for s in ct.Species.list_from_file("gri30.yaml") if s.name in ("O2", "N2", "AR", "CO2", "H2O")]
    gas = ct.Solution(thermo="ideal-gas", species=[species, *others])
    gas.set_equivalence_ratio(1.0, "fuel", "O2:1.0, N2:3.728, AR:0.0445")
    share = gas["fuel"].Y[0]
    return (1.0 - share) / share


@pytest.mark.parametrize(("hydrogen", "oxygen"), [(2.25, 0.0), (3.0, 0.5), (4.0, 1.0), (1.87, 0.0), (1.8, 0.0)])
def test_stoichiometry_agrees_with_cantera(hydrogen, oxygen):
    assert stoichiometric_afr(hydrogen, oxygen) == pytest.approx(by_cantera(hydrogen, oxygen), rel=3e-3)


@pytest.mark.parametrize(
    ("key", "published"),
    # Heywood, Internal Combustion Engine Fundamentals (1988), table D.4 and section 3.4.
    [("isooctane", 15.13), ("ethanol", 9.00), ("methanol", 6.47), ("petrol-95", 14.6), ("diesel", 14.5)],
)
def test_published_ratios(key, published):
    assert fuel(key).stoichiometric_afr == pytest.approx(published, rel=4e-3)


@pytest.mark.parametrize(("volume", "expected"), [(0.10, 14.0), (0.85, 9.8)])
def test_blends_of_the_pump(volume, expected):
    # Common practice, no published source: E10 14.0, E85 9.8.
    assert ethanol_blend(fuel("petrol-95"), volume).stoichiometric_afr == pytest.approx(expected, rel=0.01)


def test_octane_of_e10():
    # Anderson et al., Energy & Fuels 24 (2010) 6576: linear in mole fraction. RON 91 with 10 % by volume, with
    # neat ethanol at 108.6 and petrol at 106 g/mol, gives about 94.8 (value from memory).
    assert blend_ron(91.0, 0.10, 740.0) == pytest.approx(94.8, abs=0.3)


@given(st.floats(0.0, 0.95), st.floats(0.001, 0.05))
def test_more_ethanol_more_octane_less_air(share, more):
    base = fuel("petrol-91")
    one, other = ethanol_blend(base, share), ethanol_blend(base, share + more)
    assert other.ron > one.ron
    assert other.stoichiometric_afr < one.stoichiometric_afr
    assert other.latent_heat > one.latent_heat
    assert other.lower_heating_value < one.lower_heating_value


def test_ends_of_the_blend_are_the_pure_fuels():
    base, ethanol = fuel("petrol-95"), fuels()["ethanol"]
    none, all_ = ethanol_blend(base, 0.0), ethanol_blend(base, 1.0)
    assert none.ron == pytest.approx(base.ron)
    assert all_.ron == pytest.approx(ethanol.ron)
    assert all_.stoichiometric_afr == pytest.approx(ethanol.stoichiometric_afr)


def test_blend_by_name():
    e30 = fuel("petrol-95+e30")
    assert e30.title == "Petrol RON 95 with E30"
    assert e30.ron > 100.0


@pytest.mark.parametrize("key", ["kerosene", "petrol-95+e", "petrol-95+eXX", "petrol-95+e130"])
def test_unknown_fuel_is_named(key):
    if key == "petrol-95+e":
        assert fuel(key) == fuel("petrol-95")
        return
    with pytest.raises(UnitError) as caught:
        fuel(key)
    assert caught.value.remedy
