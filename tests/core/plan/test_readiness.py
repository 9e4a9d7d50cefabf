"""Readiness: lists by engine kind, states by number or by hand, and what needs a reason."""

import pytest
from pydantic import ValidationError

from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.core.errors import YarvicError
from yarvic.core.plan.readiness import Item, Measure, Readiness, default_items, fresh
from yarvic.core.plan.stations import stations
from yarvic.core.plan.vehicle import Vehicle
from yarvic.demo.jobs import DEMO_JOBS

PETROL = Vehicle(name="p", induction="turbo", injection="direct")
DIESEL = Vehicle(name="d", ignition="compression", induction="vane turbo", injection="common rail", driven="tracks")
TWIN = Vehicle(name="t")


def test_lists_follow_the_engine():
    petrol, diesel, twin = ({i.key for i in default_items(v)} for v in (PETROL, DIESEL, TWIN))
    assert {"plugs", "compression", "boost_leak", "turbo_play"} <= petrol
    assert {"glow", "compression_diesel", "lift_pump", "tracks"} <= diesel and not {"plugs", "tyres"} & diesel
    assert not {"boost_leak", "charge_pipe", "turbo_play"} & twin and "tyres" in twin
    for v in (PETROL, DIESEL, TWIN):
        assert {i.station for i in default_items(v)} <= {s.key for s in stations(v)}


@pytest.mark.parametrize(
    ("key", "value", "state"),
    [("battery", 12.6, "pass"), ("battery", 12.2, "watch"), ("battery", 11.8, "stop"), ("compression", 6, "pass"),
     ("compression", 15, "watch"), ("compression", 25, "stop"), ("boost_leak", 35, "stop"), ("fault_codes", 0, "pass"),
     ("fault_codes", 1, "watch"), ("fault_codes", 3, "stop")],
)  # fmt: skip
def test_the_number_decides(key, value, state):
    item = next(i for i in default_items(PETROL) if i.key == key)
    assert item.by_number(value) == state
    seen = item.seen(state, "", "R", "2024-01-01", value)
    assert seen.state == state and seen.who == "R" and f"{value:g}" in seen.in_words()


def test_a_watch_or_stop_needs_its_reason():
    oil = next(i for i in default_items(PETROL) if i.key == "oil")
    for state in ("watch", "stop"):
        with pytest.raises(YarvicError, match="needs its reason"):
            oil.seen(state, "  ", "R", "now")
    assert oil.seen("stop", "water in it", "R", "now").severity == STOP
    with pytest.raises(YarvicError, match="not judged by a number"):
        oil.by_number(1.0)


def test_a_better_state_than_the_number_says_needs_a_reason():
    battery = next(i for i in default_items(PETROL) if i.key == "battery")
    with pytest.raises(YarvicError, match="says stop, not pass"):
        battery.seen("pass", "", "R", "now", 11.0)
    assert battery.seen("pass", "on the maintainer now", "R", "now", 11.0).state == "pass"
    assert battery.seen("", "", "R", "now", None).who == ""


def test_all_together():
    items = default_items(PETROL)
    assert Readiness(items).severity == NO_DATA
    passed = tuple(i.seen("pass", "fine", "R", "now") for i in items)
    assert Readiness(passed).severity == PASS and Readiness(passed).stopping() == ""
    watched = (passed[0].seen("watch", "why", "R", "now"), *passed[1:])
    assert Readiness(watched).severity == WATCH
    stopped = (passed[0].seen("stop", "why not", "R", "now"), *passed[1:])
    assert Readiness(stopped).severity == STOP and "why not" in Readiness(stopped).stopping()
    assert all(
        i.state == "" and i.who == "" and i.measure == j.measure for i, j in zip(fresh(stopped), items, strict=True)
    )


def test_limits_of_a_measure_must_be_in_order():
    with pytest.raises(ValidationError):
        Measure(title="x", unit="V", side="below", watch=12.0, stop=12.4, source="s")
    with pytest.raises(ValidationError):
        Measure(title="x", unit="ells", side="below", watch=12.4, stop=12.0, source="s")
    with pytest.raises(ValidationError):
        Item(key="x", title="")


@pytest.mark.parametrize("job", DEMO_JOBS, ids=lambda j: j.name)
def test_the_demo_vehicles_are_fit(job):
    ready = Readiness(job.sheet().readiness)
    assert ready.of("stop") == [] and len(ready.of("pass")) >= 8
