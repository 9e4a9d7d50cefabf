"""Causes: ranked by what was seen and by what was not, and the one look that tells the first two apart."""

from dataclasses import replace

import pytest

from yarvic.core.checks.baseline import Deviation
from yarvic.core.checks.causes import Cause, Network, Sign, Source, causes, degrees, network
from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH, Finding, Where

KINDS = ("turbo spark", "natural spark", "compression")
WHERE = Where("run", 0.0, 1.0)


def off(**values):
    return {k: Deviation(k, v, 3000.0) for k, v in values.items()}


def said(**severities):
    return [Finding(check, severity, "", None, 1.0, WHERE) for check, severity in severities.items()]


def test_the_network_is_whole():
    """Each cause names signs that there are, and each sign something that can be had."""
    known = network()
    for key, cause in known.causes.items():
        assert set(cause.signs) <= set(known.signs) and cause.kinds, key
        assert any(p > 0.5 for p in cause.signs.values()), key
    for key, sign in known.signs.items():
        assert (sign.deviations or sign.checks) and sign.log, key
    used = {s for cause in known.causes.values() for s in cause.signs}
    assert used == set(known.signs)


@pytest.mark.parametrize(
    ("kind", "deviations", "checks", "cause"),
    [
        ("turbo spark", {"duty": 0.06, "torque": -0.03, "boost_delay": 200.0, "air": -0.016}, {}, "boost_leak"),
        ("turbo spark", {"duty": 0.03, "torque": -0.015, "boost_delay": 40.0, "charge": 1.5}, {}, "plugged_filter"),
        ("compression", {"torque": -0.04, "fuel": -0.04, "exhaust": -15.0}, {}, "weak_injector_diesel"),
        ("compression", {"torque": -0.04, "fuel": 0.0, "exhaust": -15.0}, {}, "bad_fuel_diesel"),
        ("natural spark", {"torque": -0.25, "restriction": 0.07, "mixture": -0.07}, {}, "plugged_filter_natural"),
        ("turbo spark", {"torque": -0.1, "mixture": 0.05}, {"misfires": STOP, "lambda_lean": STOP}, "failing_coil"),
        ("turbo spark", {"torque": 0.0, "mixture": 0.03, "exhaust": -25.0, "trim": 0.02}, {}, "drifting_wideband"),
        ("turbo spark", {"torque": -0.05, "mixture": 0.03, "exhaust": 25.0, "trim": 0.02}, {}, "weak_injector"),
        ("turbo spark", {}, {"rail_sag": STOP, "slip": PASS}, "tired_pump"),
        ("compression", {"torque": -0.1}, {"slip": STOP}, "slipping_clutch"),
    ],
)
def test_what_was_seen_together_points_at_its_cause(kind, deviations, checks, cause):
    """Common practice, no published source: a leak shows in boost, duty and air together, a tired pump in rail and feed."""
    found = causes(said(**checks), [off(**deviations)], kind)
    assert found.ranked[0].key == cause
    assert found.ranked[0].explains and found.next_look
    shares = [r.share for r in found.ranked]
    assert shares == sorted(shares, reverse=True) and all(0.0 < s <= 1.0 for s in shares)
    assert not found.together


def test_nothing_is_pointed_at_where_all_holds_or_nothing_is_known():
    healthy = off(torque=0.002, duty=-0.003, charge=0.1, exhaust=1.0)
    for kind in KINDS:
        assert causes(said(slip=PASS, misfires=PASS), [healthy], kind).ranked == ()
        assert causes([], [], kind) == causes(said(knock_retard=NO_DATA), [{}], kind)
        assert causes([], [], kind).next_look == ""


def test_shares_are_those_of_bayes():
    """Two causes and two signs, worked by hand: weights p1/u * (1-p2)/(1-u); Pearl 1988, 2.2. Both at once leave a sign
    where either does: 1 - (1-p1)(1-p2)/(1-u); Pearl 1988, 4.3.2."""
    signs = {"a": Sign(title="a", checks=("a",), log="log a"), "b": Sign(title="b", checks=("b",), log="log b")}
    one = Cause(title="One", look="l", signs={"a": 0.8, "b": 0.5})
    two = Cause(title="Two", look="m", signs={"a": 0.4})
    known = Network(unusual=0.1, together=0.02, signs=signs, causes={"one": one, "two": two})
    found = causes(said(a=STOP, b=PASS), [], "compression", known)
    weight_one, weight_two = 0.8 / 0.1 * (0.5 / 0.9), 0.4 / 0.1
    both = 0.02 * (1.0 - 0.2 * 0.6 / 0.9) / 0.1 * (0.5 / 0.9)
    total = weight_one + weight_two + both
    assert found.ranked[0].share == pytest.approx((weight_one + both) / total)
    assert found.ranked[1].share == pytest.approx((weight_two + both) / total)
    assert found.ranked[0].explains == ("a",) and found.ranked[1].lacks == ()
    # b was not logged: it would tell the two apart.
    found = causes(said(a=STOP), [], "compression", known)
    assert found.next_look == "Log b: b would point at this: one."


def test_a_sign_is_as_plain_as_its_plainest_source():
    source = Source.model_validate({"of": "duty", "from": 0.01, "to": 0.03})
    assert [source.degree(v) for v in (0.0, 0.01, 0.02, 0.03, 1.0)] == pytest.approx([0.0, 0.0, 0.5, 1.0, 1.0])
    falls = Source.model_validate({"of": "torque", "from": -0.01, "to": -0.03})
    assert [falls.degree(v) for v in (0.5, -0.02, -0.1)] == pytest.approx([0.0, 0.5, 1.0])
    seen = degrees(said(lambda_lean=WATCH), [off(mixture=0.0), off(mixture=0.011)])
    assert seen["lean"] == 0.8 and seen["rich"] == 0.0
    assert "slip" not in seen, "nobody looked"
    assert "knock" not in degrees([replace(said(knock_retard=PASS)[0], severity=NO_DATA)], [])


# -- two at once, what nothing explains, and what measures a cause itself


def test_two_faults_at_once_are_both_named_first():
    seen = off(torque=-0.03, mixture=0.03, fuel=-0.03, exhaust=20.0, trim=0.02)
    found = causes(said(slip=STOP, lambda_lean=WATCH), [seen], "turbo spark")
    assert found.together and {r.key for r in found.likeliest} == {"weak_injector", "slipping_clutch"}
    assert " And: " in found.next_look


def test_a_sign_that_nothing_named_leaves_is_said():
    signs = {k: Sign(title=k, checks=(k,), log=f"log {k}") for k in ("a", "b")}
    one = Cause(title="One", look="l", signs={"a": 0.8})
    known = Network(unusual=0.1, together=0.08, signs=signs, causes={"one": one})
    assert causes(said(a=STOP, b=STOP), [], "compression", known).unexplained == ("b",)
    assert causes(said(a=STOP, b=PASS), [], "compression", known).unexplained == ()
    both = causes(said(supply_voltage=STOP, slip=PASS, misfires=PASS), [off(mixture=-0.04)], "turbo spark")
    assert (
        both.together and {r.key for r in both.likeliest} == {"rich_map", "weak_battery"} and both.unexplained == ()
    )


@pytest.mark.parametrize("kind", ["turbo spark", "compression"])
def test_restriction_that_was_measured_outweighs_what_ratios_say_of_a_filter(kind):
    """Much heat for the duty points at a filter; where the airbox loses nothing it is none."""
    ratios = {"duty": 0.03, "torque": -0.015, "charge": 1.5, "heat_for_duty": 20.0, "air": -0.012}
    assert causes([], [off(**ratios)], kind).ranked[0].key == "plugged_filter"
    measured = causes([], [off(**ratios, restriction=0.0001)], kind)
    assert measured.ranked[0].key != "plugged_filter"
    assert next((r.share for r in measured.ranked if r.key == "plugged_filter"), 0.0) < 0.2


LESS_AIR = {"air": -0.05, "mixture": -0.05, "exhaust": 30.0}
NOTHING_ELSE = dict.fromkeys(("air", "mixture", "exhaust", "duty", "charge", "fuel", "trim"), 0.0)


@pytest.mark.parametrize(
    ("kind", "deviations", "checks", "cause"),
    [
        ("natural spark", {"charge": 4.0, "torque": -0.02, "air": -0.02, "mixture": 0.0}, {}, "hot_intake_air"),
        (
            "turbo spark",
            {"charge": 4.0, "torque": -0.03, "air": -0.03, "duty": 0.0, "mixture": 0.0},
            {},
            "hot_intake_air",
        ),
        ("compression", {**LESS_AIR, "duty": 0.0, "charge": 0.0}, {"smoke_opacity": STOP}, "too_little_air"),
        (
            "compression",
            {**LESS_AIR, "duty": 0.06, "boost_delay": 200.0, "torque": -0.03},
            {"smoke_opacity": STOP},
            "boost_leak_diesel",
        ),
        ("turbo spark", {**NOTHING_ELSE, "torque": -0.08}, {"knock_retard": PASS, "slip": PASS}, "other_inertia"),
    ],
)
def test_hot_air_too_little_air_and_another_inertia(kind, deviations, checks, cause):
    """Common practice, no published source: a diesel that loses air keeps its fuel; only power moves on another inertia."""
    assert causes(said(**checks), [off(**deviations)], kind).ranked[0].key == cause
