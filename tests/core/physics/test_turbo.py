"""Compressor and turbine against CoolProp's real air and closed forms."""

import CoolProp.CoolProp as CP
import pytest

from yarvic.core.physics.turbo import (
    charge_temperature,
    compressor_outlet_temperature,
    compressor_power,
    inlet_pressure_by_ellipse,
    turbine_power,
)


@pytest.mark.parametrize("ratio", [1.3, 1.8, 2.4])
@pytest.mark.parametrize("efficiency", [0.65, 0.78])
def test_compressor_against_real_air(ratio, efficiency):
    # Reference library: CoolProp. Constant cp and gamma are good to 1.5 % up to a pressure ratio of 2.4.
    t1, p1 = 298.15, 1e5
    h1 = CP.PropsSI("H", "T", t1, "P", p1, "Air")
    s1 = CP.PropsSI("S", "T", t1, "P", p1, "Air")
    ideal = CP.PropsSI("H", "S", s1, "P", ratio * p1, "Air")
    h2 = h1 + (ideal - h1) / efficiency
    t2 = CP.PropsSI("T", "H", h2, "P", ratio * p1, "Air")
    assert compressor_power(0.1, t1, ratio, efficiency) == pytest.approx(0.1 * (h2 - h1), rel=0.015)
    assert compressor_outlet_temperature(t1, ratio, efficiency) - t1 == pytest.approx(t2 - t1, rel=0.02)


def test_turbine_gives_nothing_without_expansion():
    assert turbine_power(0.1, 1150.0, 1.0, 0.7) == 0.0
    assert turbine_power(0.1, 1150.0, 2.0, 0.7) > turbine_power(0.1, 1000.0, 2.0, 0.7) > 0.0


def test_turbine_by_hand():
    # m cp T eta (1 - PR^-0.24812): 0.08 * 1180 * 1150 * 0.68 * (1 - 2^-0.24812) = 11,668 W.
    assert turbine_power(0.08, 1150.0, 2.0, 0.68) == pytest.approx(11_668.0, rel=2e-3)


def test_ellipse_is_the_inverse_of_stodola():
    # K sqrt(1 - (p4/p3)^2) = m sqrt(T) / p3
    flow, temperature, behind, capacity = 0.09, 1100.0, 1.1e5, 1.5e-5
    before = inlet_pressure_by_ellipse(flow, temperature, behind, capacity)
    assert flow * temperature**0.5 / before == pytest.approx(capacity * (1 - (behind / before) ** 2) ** 0.5)
    assert inlet_pressure_by_ellipse(0.0, temperature, behind, capacity) == pytest.approx(behind)


def test_cooler_between_its_ends():
    assert charge_temperature(400.0, 300.0, 0.0) == 400.0
    assert charge_temperature(400.0, 300.0, 1.0) == 300.0
    assert charge_temperature(400.0, 300.0, 0.8) == pytest.approx(320.0)
