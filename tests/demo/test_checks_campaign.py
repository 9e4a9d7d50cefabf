"""The campaign of the checks: its cases take turns, a few of them end as they should, and its page says what was counted."""

from collections import Counter

import pytest

from yarvic.bench.faults import FAULTS
from yarvic.demo.checks_campaign import BELONGS, DIALECTS, SIZES, VEHICLES, Case, Outcome, Tally, case, tried
from yarvic.demo.checks_report import document, goals_met, page, reached, smallest_found


def test_cases_cover_every_engine_fault_size_and_dialect():
    cases = [case(seed) for seed in range(600)]
    assert sum(not c.fault for c in cases) == 300
    assert {c.engine for c in cases} == set(VEHICLES) and {c.dialect for c in cases} == set(DIALECTS)
    assert {c.fault for c in cases} - {""} == set(FAULTS) == set(BELONGS)
    assert {c.size for c in cases} == {0.0, *SIZES}
    assert max(Counter((c.fault, c.engine, c.size) for c in cases if c.fault).values()) <= 5
    assert case(17) == case(17) and case(17).air != case(19).air


@pytest.mark.parametrize(
    ("seed", "fault", "dialect"),
    [(0, "weak_injector", "imperial"), (2, "slipping_clutch", "two-line"), (4, "plugged_filter", "plain")],
)
def test_a_fault_of_half_size_is_found_and_named_in_a_loggers_dialect(seed, fault, dialect):
    from dataclasses import replace

    made = replace(case(seed), fault=fault, size=0.5, dialect=dialect)
    outcome = tried(made)
    assert outcome.found and outcome.place == 1, outcome


def test_a_sound_engine_shows_nothing_and_another_familys_image_is_told_before_it_runs():
    from dataclasses import replace

    sound = replace(case(3), engine="wether", dialect="")
    assert not sound.fault
    outcome = tried(sound)
    assert outcome.watches == outcome.stops == () and outcome.place == 0 and not outcome.found
    foreign = tried(replace(case(0), fault="wrong_image", size=0.25))
    assert foreign.found and foreign.stops == ("identification",)


def outcome(fault="", size=0.0, *, found=False, place=0, watches=(), stops=()):
    made = Case(0, "wether", fault, size, case(0).air, "")
    return Outcome(made, watches, stops, found, place)


def test_the_page_and_the_document_say_what_was_counted():
    tally = Tally(
        [
            outcome("boost_leak", 1.0, found=True, place=1),
            outcome("boost_leak", 0.5, found=True, place=2),
            outcome("boost_leak", 0.25),
            outcome(watches=("slip",)),
            outcome(),
        ]
    )
    counted = document(tally)
    leak = next(f for f in counted["faults"] if f["size"] == 0.5)
    assert leak == {
        "fault": "boost_leak", "engine": "wether", "size": 0.5, "runs": 1, "found": 1, "cause_first": 0, "cause_in_two": 1,
    }  # fmt: skip
    assert counted["clean"] == {"runs": 2, "stops": 0, "watches": 1} and counted["false_alarms"] == {"slip": 1}
    assert smallest_found(tally) == {"boost_leak": {"wether": 0.5}}
    assert reached(tally)["cause_first"] == 0.5 and not goals_met(tally)
    words = page(tally)
    assert "| Boost leak | wether | 0 and 0 of 1 | 1 and 0 of 1 | 1 and 1 of 1 | 0.5 |" in words
    assert "| slip | 1 of 2 |" in words


def test_goals_are_met_or_missed_and_nothing_tried_meets_none():
    good = [outcome("boost_leak", 1.0, found=True, place=1), outcome()]
    assert goals_met(Tally(good)) and not goals_met(Tally())
    assert not goals_met(Tally([*good, outcome(stops=("slip",))]))
    # A larger size that is missed makes a smaller one that was found no proof.
    missed = Tally([outcome("boost_leak", 1.0), outcome("boost_leak", 0.5, found=True, place=1)])
    assert smallest_found(missed) == {"boost_leak": {"wether": None}}
