"""Stages and what they require, cost, ratings, the library."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from pydantic import ValidationError

from yarvic.core.errors import FormatError
from yarvic.core.plan.cost import plan_bill, planned_gain_kw, rerating_bill, stage_bill
from yarvic.core.plan.parts import Part, library, names_fault, parse_kinds
from yarvic.core.plan.plan import Plan, Stage, not_fitted
from yarvic.core.plan.ratings import Family, Rating, moves, torque_of_tag
from yarvic.demo.wether import WETHER

PARTS = (
    Part(key="a", title="A", station="fuel", price=100, hours=2),
    Part(key="b", title="B", station="fuel", price=300, hours=1, excludes=("a",)),
    Part(key="c", title="C", station="gearbox", price=50, hours=0.5),
)


def test_a_stage_requires_the_parts_of_those_before_but_for_the_replaced():
    one, two, three = (Stage(title=t, parts=p) for t, p in (("1", ("a",)), ("2", ("c",)), ("3", ("b",))))
    plan = Plan(stages=(one, two, three))
    assert plan.required(one, PARTS) == ("a",)
    assert plan.required(two, PARTS) == ("a", "c")
    assert plan.required(three, PARTS) == ("c", "b")
    assert not_fitted(("c", "b", "zzz"), {"c"}, PARTS) == ["B", "zzz"]


@pytest.mark.parametrize(
    ("stages", "words"),
    [
        ((Stage(title="1"), Stage(title="1")), "one title"),
        ((Stage(title="1", revisions=("A1",)), Stage(title="2", revisions=("A1",))), "one stage"),
    ],
)
def test_plans_that_contradict_themselves(stages, words):
    with pytest.raises(ValidationError, match=words):
        Plan(stages=stages)


def test_a_gain_must_rise():
    with pytest.raises(ValidationError, match="must rise"):
        Stage(title="1", gain_low_kw=2, gain_high_kw=1)
    assert planned_gain_kw(Stage(title="1", gain_low_kw=2, gain_high_kw=4)) == 3
    assert planned_gain_kw(Stage(title="1", gain_low_kw=2)) is None


def test_a_stage_of_bolted_parts_costs_what_the_trade_asks():
    """Common practice, no published source: a second stage is some thousands, two thirds to three quarters of it parts."""
    parts = (
        Part(key="d", title="downpipe", station="exhaust_manifold", price=1380, hours=5),
        Part(key="i", title="charge cooler", station="intercooler", price=990, hours=3.5),
        Part(key="p", title="inlet pipe", station="intake", price=410, hours=1),
    )
    stage = Stage(title="second", parts=("d", "i", "p"), map_hours=1.5)
    bill = stage_bill(Plan(rate=110.0, stages=(stage,)), stage, parts)
    assert (bill.parts, bill.hours) == (2780, 11) and bill.total == 2780 + 11 * 110
    assert 0.6 <= bill.parts / bill.total <= 0.75 and 3_000 <= bill.total <= 6_000
    assert bill.per_kw(25.0) == pytest.approx(bill.total / 25.0)
    assert bill.per_kw(0.0) is None and bill.per_kw(None) is None


def test_another_rating_costs_its_fee_and_its_hours():
    assert rerating_bill(Plan(rate=90.0, rerate_fee=210.0, rerate_hours=1.5)).total == 345


def test_bills_add_up():
    one, two = Stage(title="1", parts=("a",), fees=30), Stage(title="2", parts=("c", "zzz"), map_hours=2)
    plan = Plan(rate=10, stages=(one, two))
    both = [stage_bill(plan, s, PARTS) for s in plan.stages]
    assert plan_bill(plan, PARTS).total == sum(b.total for b in both) == 100 + 20 + 30 + 50 + 5 + 20


# -- ratings


@pytest.mark.parametrize(("tag", "lb_ft"), [("16", 1600), ("K-18X07", 1800), ("tag 42", 4200)])
def test_the_tag_times_100(tag, lb_ft):
    """Common practice, no published source: first two digits of a heavy gearbox's tag times 100, in lb-ft."""
    assert torque_of_tag(tag) == lb_ft


def test_a_tag_without_digits():
    with pytest.raises(ValueError, match="two digits"):
        torque_of_tag("heavy")


def test_moves_between_ratings():
    sheet = WETHER.sheet()
    found = {
        m.rating.key: m for m in moves(sheet.families, "carrier-32", "B", gearbox_torque_nm=420, purpose="towing")
    }
    assert found["A"].allowed and found["B"].here and found["B"].allowed
    assert found["C"].allowed and "part of the time" in found["C"].notes[0]
    assert not found["D"].allowed and any("420" in r and "455" in r for r in found["D"].reasons)
    assert any("emergency" in r for r in found["D"].reasons)
    assert not found["E"].allowed and "another family" in found["E"].reasons[0]
    race = {m.rating.key: m for m in moves(sheet.families, "carrier-32", "B", gearbox_torque_nm=500, purpose="race")}
    assert race["D"].allowed
    unknown = moves(sheet.families, "carrier-32", "B", gearbox_torque_nm=None, purpose="towing")
    assert all("not stated" in " ".join(m.notes) for m in unknown)


def test_other_hardware_in_one_family_is_refused():
    plain = Rating(key="a", title="a", speed_rpm=(1000,), torque_nm=(100,))
    other = Rating(key="b", title="b", speed_rpm=(1000,), torque_nm=(100,), hardware="larger pump")
    family = Family(key="f", title="f", ratings=(plain, other))
    found = moves((family,), "f", "a", gearbox_torque_nm=200, purpose="race")
    assert found[1].reasons == ("other hardware: larger pump",)


@given(
    st.lists(st.tuples(st.floats(500, 5000), st.floats(1, 3000)), min_size=1, max_size=8, unique_by=lambda p: p[0])
)
@example([(500.0, 1.0), (500.5, 3.0), (501.0, 1.0), (539.0, 1.0)])
def test_peaks_are_on_the_curve(points):
    points.sort()
    r = Rating(key="a", title="a", speed_rpm=tuple(p[0] for p in points), torque_nm=tuple(p[1] for p in points))
    torque, _ = r.peak_torque
    power, n = r.peak_power
    assert torque == max(r.torque_nm)
    # Against a fine grid over each stretch of the same broken line.
    grid = np.concatenate([np.linspace(*ends, 2_001) for ends in pairwise(r.speed_rpm)] or [r.speed_rpm])
    dense = np.interp(grid, r.speed_rpm, r.torque_nm) * grid * np.pi / 30
    assert power >= dense.max() * (1 - 1e-9) and power == pytest.approx(dense.max(), rel=1e-3)
    assert power == pytest.approx(float(np.interp(n, r.speed_rpm, r.torque_nm)) * n * np.pi / 30)


def test_a_peak_between_two_points_is_found():
    r = Rating(key="a", title="a", speed_rpm=(1000, 5000), torque_nm=(400, 40))
    # n (490 - 0.09 n) turns at 490 / 0.18 = 2,722 rpm, with 245 N m.
    power, n = r.peak_power
    assert n == pytest.approx(490 / 0.18) and power == pytest.approx(245 * 490 / 0.18 * np.pi / 30)


@pytest.mark.parametrize(
    "values",
    [
        {"torque_nm": (1.0,)},
        {"speed_rpm": (2.0, 1.0)},
        {"torque_nm": (1.0, -1.0)},
        {"speed_rpm": (), "torque_nm": ()},
    ],
)
def test_ratings_that_cannot_be(values):
    with pytest.raises(ValidationError):
        Rating.model_validate({"key": "a", "title": "a", "speed_rpm": (1.0, 2.0), "torque_nm": (1.0, 2.0), **values})
    with pytest.raises(ValidationError):
        Family(key="f", title="f", ratings=(WETHER.sheet().families[0].ratings[0],) * 2)


# -- the library

DERIVED = '[a]\ntitle = "A"\nfuel = "E10"\n[[a.derived]]\ncomponent = "C"\n'
GEARS = "centre_mm = 78, ratio = 1.36, width_mm = 20, contact_n_mm2 = [10.5, 14.0]"
PUMP = (
    "rule = 'pump'\ninputs = { pistons = 1, piston_mm = 10, stroke_mm = 3.6, strokes_per_turn = 2, speed_rpm = 6200, "
    "filling = 0.78, leak = 0.0, efficiency = 0.29 }"
)


def test_the_library_is_whole_and_says_where_its_numbers_are_from():
    for kind in library().values():
        assert names_fault(kind.limits, kind.parts) == ""
        assert all(m.source.startswith("derived, ") and "our choice" in m.source for m in kind.limits)
        assert all(p.price > 0 for p in kind.parts)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[a\n", "line 1"),
        ("a = 1", "needs its title"),
        ('[a]\ntitle = "A"\nlimit = 3', "must be a list"),
        ('[a]\ntitle = "A"\n[[a.limit]]\nkey = "power"', "a.limit 1"),
        ('[a]\ntitle = "A"\n[[a.part]]\nkey = "p"\ntitle = "P"\nstation = "moon"', "no station"),
        (f"{DERIVED}rule = 'moon'\ninputs = {{}}", "no rule 'moon'"),
        (f"{DERIVED}rule = 'pump'\ninputs = {{ pistons = 1 }}", "pump needs piston_mm"),
        (f"{DERIVED}rule = 'gear_pair'\ninputs = {{ {GEARS}, colour = 1 }}", "colour is not an input"),
        (f"{DERIVED}rule = 'gear_pair'\ninputs = {{ {GEARS.replace('78', '0')} }}", "no limit above zero"),
        (
            f"{DERIVED}rule = 'gear_pair'\ninputs = {{ {GEARS} }}\nchanged_by = [{{ part = 'q' }}]",
            "changed_by.0.inputs",
        ),
        (f"{DERIVED.replace('E10', 'moon')}{PUMP}", "moon"),
        ('[a]\ntitle = "A"\n[[a.part]]\nkey = "p"\ntitle = "P"\nstation = "fuel"\nneeds = ["q"]', "names q"),
        ('[a]\ntitle = "A"\n[[a.part]]\nkey = "p"\ntitle = "P"\nstation = "fuel"\nneeds = ["p"]', "contradict"),
    ],
)
def test_libraries_that_cannot_be_read_name_line_or_entry(text, words):
    with pytest.raises(FormatError, match=words):
        parse_kinds(text, source="own.toml")


def test_names_must_meet():
    limit = library()["diesel-three-light"].limits[0]
    assert "two limits" in names_fault((limit, limit), library()["diesel-three-light"].parts)
    assert "moved by" in names_fault((limit,), ())
    assert "twice" in names_fault((), (PARTS[0], PARTS[0]))
