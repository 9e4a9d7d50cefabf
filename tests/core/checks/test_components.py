"""Limits of components: quantity, unit and basis belong together; parts move them; bases convert."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from yarvic.core.checks.components import LIMITED, ComponentLimit, Mover, as_fitted
from yarvic.core.checks.limits import default_limits
from yarvic.core.units import UNITS, units_of


def limit(**values):
    base = {
        "key": "power",
        "component": "c",
        "basis": "wheel",
        "unit": "kW",
        "safe": 90,
        "stretch": 98,
        "source": "s",
    }
    return ComponentLimit.model_validate({**base, **values})


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"unit": "N m"}, "measures torque"),
        ({"key": "torque"}, "measures power"),
        ({"basis": "gas"}, "wheel or crank"),
        ({"key": "boost", "unit": "kPa"}, "is at gas"),
        ({"safe": 99}, "safe is above stretch"),
        ({"unit": "horses"}, "unknown"),
        ({"key": "exhaust_temperature", "unit": "kPa", "basis": "gas"}, "measures pressure"),
        ({"speed_rpm": -1}, "greater than 0"),
        ({"safe": float("nan")}, "finite"),
        ({"moved_by": ({"part": "p", "how": "becomes", "safe": 9, "stretch": 8},)}, "above stretch"),
        ({"source": ""}, "at least 1"),
        ({"safe": 0, "stretch": 0}, "above zero"),
        ({"safe": -5}, "above zero"),
        ({"stretch": 1e308}, "less than or equal"),
    ],
)
def test_mix_ups_are_refused(values, words):
    with pytest.raises(ValidationError, match=words):
        limit(**values)


def test_every_quantity_has_units_and_a_basis():
    for key, limited in LIMITED.items():
        unit = units_of(limited.quantity)[0]
        made = limit(key=key, unit=unit, basis=limited.bases[0], safe=1, stretch=2)
        assert made.limited.title and UNITS[made.unit].quantity == limited.quantity


def test_parts_move_it():
    moved = limit(
        moved_by=(
            Mover(part="a", safe=10, stretch=12),
            Mover(part="b", how="becomes", safe=120, stretch=130),
            Mover(part="c", how="becomes", safe=110, stretch=140),
        )
    )
    assert moved.carried(()) == (90, 98)
    assert moved.carried({"a"}) == (100, 110)
    assert moved.carried({"a", "b"}) == (130, 142)
    assert moved.carried({"b", "c"}) == (110, 140)  # the better by its stretch counts
    assert moved.with_parts({"zzz"}).stretch == 98


def test_wheel_and_crank_by_the_loss():
    crank = limit(basis="crank", safe=100, stretch=110)
    assert crank.at("wheel", 0.15).stretch == pytest.approx(93.5)
    assert crank.at("wheel", 0.15).at("crank", 0.15).stretch == pytest.approx(110)
    assert crank.at("wheel", None) is crank
    boost = limit(key="boost", unit="kPa", basis="gas")
    assert boost.at("wheel", 0.2) is boost


@given(st.floats(0.0, 0.45), st.floats(1.0, 1e4))
def test_conversion_goes_there_and_back(loss, value):
    there = limit(safe=value, stretch=value).at("crank", loss)
    assert there.safe >= value * (1 - 1e-9) and there.at("wheel", loss).safe == pytest.approx(value)


def test_piston_speed_is_judged_as_engine_speed():
    """2 S N, Heywood (1988), eq. 2.9: 20 m/s at 100 mm is 6,000 rpm."""
    speed = limit(key="piston_speed", unit="m/s", basis="shaft", safe=20, stretch=25)
    judged = as_fitted((speed,), (), None, 100.0)[0]
    assert (
        judged.key == "engine_speed" and judged.safe == pytest.approx(6000) and judged.stretch == pytest.approx(7500)
    )
    assert as_fitted((speed,), (), None, None)[0].key == "piston_speed"


def test_the_tightest_torque_counts_what_the_gearbox_carries():
    a = limit(key="torque", unit="N m", safe=200, stretch=220)
    b = limit(key="gearbox_torque", unit="N m", component="g", basis="crank", safe=210, stretch=230)
    judged = default_limits(as_fitted((a, b), (), 0.15))
    assert judged.component("torque").component == "g"
    unknown = default_limits(as_fitted((a, b), (), None))
    assert (
        unknown.component("torque").component == "c" and unknown.at_crank("torque") and not unknown.at_crank("power")
    )


def test_a_piston_speed_without_its_stroke_is_said_and_not_passed_over(pulled):
    from yarvic.core.checks.run import check_log

    log, conditions = pulled
    speed = limit(key="piston_speed", unit="m/s", basis="shaft", safe=20, stretch=25)
    for stroke, check in ((None, "piston_speed"), (92.8, "engine_speed")):
        limits = default_limits(as_fitted((speed,), (), None, stroke))
        found = {f.check: f for f in check_log("R1", log, limits, conditions)[0].findings}
        assert (found[check].severity == "no_data") == (stroke is None)
