"""What the page of the checks proves beside single faults: pairs, broken sensors, days."""

import numpy as np
import pytest

from yarvic.demo.checks_proof import (
    BROKEN,
    Pair,
    Sensor,
    _broken,
    count_of_pairs,
    coverage,
    lines,
    pairs,
    weather_coverage,
)

PAIRS = [
    Pair("wether", ("boost_leak", "slipping_clutch"), (True, True), True, True),
    Pair("wether", ("weak_injector", "rich_map"), (False, True), True, True),
    Pair("ptarmigan", ("weak_injector", "rich_map"), (False, True), False, False),
]


def test_the_page_counts_pairs_names_what_was_missed_and_says_what_passes_in_silence():
    broken = [
        Sensor("wether", "smoke", BROKEN[0], 2, ()),
        Sensor("wether", "supply_voltage", BROKEN[0], 1, ("supply_voltage",)),
    ]
    words = "\n".join(lines(PAIRS, broken, {"one day": (0.95, 0.05)}, {"near": 0.9501}))
    assert "| the first cause is one of the two | 2 of 3 |" in words
    assert "| both among the first 4 | 1 of 3 |" in words and "nothing named explains | 2 of 3 |" in words
    assert words.count("| Weak injector |") == 2 or words.count("wether |") >= 1
    assert "| smoke | stands still | 2 | none |" in words
    assert "| supply_voltage | stands still | 1 | supply_voltage (wether) |" in words
    assert "| one day | 95.0 % | 5.0 % |" in words


def test_one_pair_is_pulled_and_judged():
    [found] = pairs([0])
    assert found.engine and len(set(found.faults)) == 2 and count_of_pairs() > 50


@pytest.mark.parametrize("kind", BROKEN)
def test_a_sensor_is_broken_in_the_pull(kind):
    values, inside = np.arange(100.0), np.zeros(100, dtype=bool)
    inside[20:80] = True
    made = _broken(values, inside, kind, falls=False)
    assert not np.array_equal(made, values, equal_nan=True) and made.size == values.size
    if kind == "lies on its end":
        assert made.max() < 40.0 and _broken(values, inside, kind, falls=True).min() > 60.0


def test_intervals_over_days_hold_what_they_claim():
    for design, (held, called) in coverage(3).items():
        assert 0.93 <= held <= 0.985 and held + called == pytest.approx(1.0), design


def test_intervals_of_other_weather_hold_a_pull_on_such_a_day():
    for days, held in weather_coverage(4).items():
        assert 0.93 <= held <= 0.97, days
