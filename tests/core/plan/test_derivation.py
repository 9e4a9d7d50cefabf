"""Limits that follow from dimensions: each rule held against a calculation by hand from the formula's own page."""

import math

import pytest

from yarvic.core.plan.derivation import RULES, Derived, derived_ends
from yarvic.core.plan.parts import library
from yarvic.core.plan.sizing import SHEETS, Context
from yarvic.core.plan.vehicle import Vehicle

E10, DIESEL = "petrol-95+e10", "diesel"


def rule(key, fuel=E10, **values):
    return float(RULES[key].compute(values, fuel))


def test_a_dry_clutch_by_hand():
    """Shigley's uniform wear by hand: 2 faces x 0.28 x 7,200 N x 99 mm mean radius = 399 N m."""
    found = rule("dry_clutch", faces=2, friction=0.28, clamp_n=7200, outer_mm=240, inner_mm=156)
    assert found == pytest.approx(2 * 0.28 * 7200 * 0.099)


def test_a_gear_pair_by_hertz():
    """K by hand from 1,500 N/mm2, Z_E 189.8, Z_H 2.5 (as ISO 6336, from memory): 9.99; a 78, u 1.36: pinion 66.1 mm."""
    contact = (1500 / (189.8 * 2.5)) ** 2
    assert contact == pytest.approx(9.993, abs=2e-3)
    found = rule("gear_pair", centre_mm=78, ratio=1.36, width_mm=20, contact_n_mm2=contact)
    tangential = contact * 20 * 66.10 * 1.36 / 2.36
    assert found == pytest.approx(tangential * 66.10 / 2e3, rel=1e-3)


def test_a_choking_inlet_by_the_compressible_flow_table():
    """Flow function at Mach 1 for 1.4 is 0.6847 (Heywood C.9); 46/14 mm, Cd 0.80, 30 degC, filter 0.96: 0.2724 kg/s."""
    area = math.pi / 4 * (0.046**2 - 0.014**2)
    choke = 0.80 * area * 101325 * 0.96 / math.sqrt(287.042 * 303.15) * 0.6847
    assert choke == pytest.approx(0.2724, rel=2e-3)
    found = rule(
        "compressor",
        **{"inducer_mm": 46, "hub_mm": 14, "discharge": 0.80, "filter": 0.96, "ambient_degc": 30, "lambda": 0.88},
        efficiency=0.29,
    )
    # E10 by hand (mass share of ethanol 0.1053): 41.76 MJ/kg and an AFR of 14.01.
    assert found == pytest.approx(0.95 * choke / (0.88 * 14.01) * 41.76e6 * 0.29, rel=2e-3)


def test_injection_by_bernoulli():
    """6 holes of 0.18 mm, 200 bar, Cd 0.65, 745 kg/m3 flow 17.13 mg/ms (worked by hand)."""
    values = {"holes": 6, "hole_mm": 0.18, "pressure_bar": 200, "discharge": 0.65, "window_deg": 360, "dead_ms": 0.0}
    found = rule("injectors", "petrol-95", **values, speed_rpm=6000, cylinders=1, efficiency=1.0)
    # 360 degrees at 6,000 rpm are 10 ms, 50 times a second.
    assert found == pytest.approx(17.132e-3 * 10e-3 * 50 * 43.5e6, rel=1e-3)


def test_a_pump_by_counting_strokes():
    found = rule(
        "pump", DIESEL, pistons=3, piston_mm=7, stroke_mm=8.5, strokes_per_turn=2 / 3, speed_rpm=2600, filling=0.84,
        leak=0.2, efficiency=0.4,
    )  # fmt: skip
    cm3_s = 3 * math.pi / 4 * 0.7**2 * 0.85 * 2 / 3 * 2600 / 60 * 0.84 * 0.8
    assert found == pytest.approx(cm3_s * 0.84 * 42.5e3 * 0.4)


def test_torque_of_a_mean_pressure():
    """12.57 bar on a litre are 100 N m: the definition of mean effective pressure, Heywood eq. 2.20."""
    found = rule("peak_pressure", peak_bar=4 * math.pi + 1, peak_over_imep=1.0, friction_bar=1.0, displacement_l=1.0)
    assert found == pytest.approx(100.0)


def test_a_pack_is_the_mean_of_its_rings():
    """A narrow ring holds F mu r on each face; by integrating rings by hand."""
    values = {"faces": 1, "friction": 0.1, "pressure_bar": 10.5, "spring_bar": 0.5}
    piston = {"piston_outer_mm": 150, "piston_inner_mm": 100}
    force = 10e5 * math.pi / 4 * (0.15**2 - 0.1**2)
    assert rule("wet_pack", **values, **piston, outer_mm=140.1, inner_mm=139.9) == pytest.approx(
        0.07 * 0.1 * force, rel=1e-6
    )
    rings = [60 + (i + 0.5) / 50 for i in range(1000)]
    mean = sum(r**2 for r in rings) / sum(rings) / 1e3
    assert rule("wet_pack", **values, **piston, outer_mm=160, inner_mm=120) == pytest.approx(
        mean * 0.1 * force, rel=1e-6
    )


def test_rod_bolts_at_the_speed_that_loads_them_so():
    values = {"bolts": 2, "bolt_mm2": 30, "share_of_proof": 0.5, "proof_mpa": 800, "mass_kg": 0.6}
    speed = rule("rod_bolts", **values, stroke_mm=64, rod_mm=128)
    turning = (speed * math.pi / 30) ** 2
    assert 0.6 * 0.032 * turning * (1 + 0.032 / 0.128) == pytest.approx(2 * 30 * 0.5 * 800)


def test_the_ends_are_quantiles_of_what_is_drawn():
    """One range, uniform: its 5 % and 50 % points are known."""
    values = {"faces": 2, "friction": (0.2, 0.4), "clamp_n": 5000.0, "outer_mm": 200.0, "inner_mm": 100.0}
    safe, stretch = derived_ends(RULES["dry_clutch"], values, "")
    per_friction = 2 * 5000 * 0.075
    assert safe == pytest.approx(0.21 * per_friction, rel=0.01) and stretch == pytest.approx(
        0.3 * per_friction, rel=0.01
    )
    assert derived_ends(RULES["dry_clutch"], values, "") == (safe, stretch)


def test_a_stronger_dimension_raises_the_limit_that_it_belongs_to():
    for kind in library().values():
        for limit in kind.limits:
            assert 0 < limit.safe < limit.stretch
            assert all(m.safe > limit.safe and m.stretch > limit.stretch for m in limit.moved_by), limit.component


def test_the_pump_of_the_library_is_that_of_the_sizing_sheet():
    """The product's own sheet, asked the other way round: the power that a volume flow feeds."""
    sheet = SHEETS["pump"]
    pump = Derived.model_validate(
        {
            "component": "pump", "station": "fuel", "rule": "pump",
            "inputs": {
                "pistons": 1, "piston_mm": 10, "stroke_mm": 3.6, "strokes_per_turn": 2, "speed_rpm": 6200,
                "filling": 0.78, "leak": 0, "efficiency": 0.29,
            },
        }
    ).limit("petrol-95", "here")  # fmt: skip
    values, own = sheet.begin(Context(Vehicle(name="x", fuels={"main": "petrol-95"})))
    values, own = sheet.entered(values, own, "conversion", 0.29)
    values, own = sheet.entered(values, own, "power", pump.stretch * 1e3)
    values["reserve"] = 0.0
    litres_min = math.pi / 4 * 1.0**2 * 0.36 * 2 * 6200 * 0.78 / 1e3
    assert sheet.compute(values)[0].value * 6e4 == pytest.approx(litres_min, rel=5e-3)


def test_a_range_that_falls_is_refused_by_name():
    """Also where a part brings it."""
    inputs = {"faces": 2, "friction": (0.2, 0.4), "clamp_n": 5000.0, "outer_mm": 200.0, "inner_mm": 100.0}
    stated = {"component": "clutch", "rule": "dry_clutch", "inputs": inputs}
    Derived.model_validate(stated)
    part = {"part": "disc", "inputs": {"friction": (0.5, 0.4)}}
    for falling in ({"inputs": {**inputs, "friction": (0.4, 0.2)}}, {"changed_by": [part]}):
        with pytest.raises(ValueError, match="the range of friction begins above its end"):
            Derived.model_validate({**stated, **falling})
