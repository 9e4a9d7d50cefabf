"""Pulls of engines of any range: lorries, kick-downs, launches, wheels that spin, and one that a person makes."""

import numpy as np
import pytest

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.evidence.pulls import find_pulls, pulls_of
from yarvic.core.evidence.quality import quality

RATE = 25.0


def log_of(*parts, noise=4.0, seed=2, **more):
    """Parts of (seconds, from rpm, to rpm, throttle); with channels beside as functions of time and speed."""
    rng = np.random.default_rng(seed)
    rpm, opened = [], []
    for seconds, start, end, throttle in parts:
        n = int(seconds * RATE)
        rpm.append(np.linspace(start, end, n, endpoint=False))
        opened.append(np.full(n, throttle))
    speed, throttle = np.concatenate(rpm), np.concatenate(opened)
    t = np.arange(speed.size) / RATE
    found = {"engine_speed": speed + rng.normal(0, noise, t.size), "throttle": throttle}
    found |= {k: f(t, speed) for k, f in more.items()}
    return Log({k: Channel(k, CHANNELS[k].title, CHANNELS[k].quantity, "", t, v) for k, v in found.items()})


LORRY = [(8.0, 600.0, 620.0, 0.05), (12.0, 1000.0, 1900.0, 1.0), (4.0, 1500.0, 700.0, 0.0)]


def test_a_lorry_pulls_within_nine_hundred_revolutions():
    [pull] = find_pulls(log_of(*LORRY))
    assert pull.from_rpm == pytest.approx(1000.0, abs=40) and pull.to_rpm == pytest.approx(1900.0, abs=40)
    assert not any("narrow" in r for r in quality(log_of(*LORRY), pull).reasons)


def test_its_gears_are_nearer_together():
    """Splits of 300 rpm and less part one pull from the next."""
    parts = [LORRY[0], (9.0, 1000.0, 1850.0, 1.0), (0.3, 1850.0, 1580.0, 1.0), (8.0, 1150.0, 1900.0, 1.0), LORRY[2]]
    found = find_pulls(log_of(*parts))
    assert len(found) == 2 and found[0].to_rpm < 1900.0


def test_so_little_is_no_pull_of_an_engine_that_goes_through_more_nor_at_part_throttle():
    car = [
        (5.0, 850.0, 900.0, 0.05),
        (5.0, 2000.0, 2900.0, 1.0),
        (6.0, 2000.0, 6500.0, 0.4),
        (3.0, 6000.0, 900.0, 0.0),
    ]
    assert [p.throttle for p in find_pulls(log_of(*car))] == [pytest.approx(0.4)]
    gentle = [LORRY[0], (12.0, 1000.0, 1900.0, 0.4), LORRY[2]]
    assert find_pulls(log_of(*gentle)) == []


def test_a_kick_down_begins_a_pull_and_is_in_none():
    parts = [
        (4.0, 1500.0, 1600.0, 0.2),
        (1.2, 1600.0, 1800.0, 1.0),
        (0.3, 1800.0, 3900.0, 1.0),
        (6.0, 3900.0, 6400.0, 1.0),
    ]
    [pull] = find_pulls(log_of(*parts, (2.0, 6000.0, 2000.0, 0.0)))
    assert pull.from_rpm == pytest.approx(3900.0, abs=150) and pull.length_s == pytest.approx(6.0, abs=0.3)


def test_a_launch_that_cuts_in_and_out_is_left_out():
    t = np.arange(0, 3.0, 1 / RATE)
    held = 3500.0 + 150.0 * np.sign(np.sin(9.0 * t))
    base = log_of(
        (3.0, 900.0, 900.0, 0.05), (3.0, 3500.0, 3500.0, 1.0), (6.0, 3500.0, 6800.0, 1.0), (2.0, 6000.0, 2000.0, 0.0)
    )
    speed = base.channels["engine_speed"]
    values = speed.values.copy()
    first = int(3.0 * RATE)
    values[first : first + held.size] = held
    log = Log(
        {
            **base.channels,
            "engine_speed": Channel("engine_speed", "Engine speed", "engine speed", "", speed.time_s, values),
        }
    )
    [pull] = find_pulls(log)
    assert pull.start_s > 5.5 and pull.from_rpm < 3900.0 and pull.to_rpm == pytest.approx(6800.0, abs=60)


SPIN = [(3.0, 1500.0, 1500.0, 0.1), (3.0, 1500.0, 3600.0, 1.0), (0.4, 3600.0, 4700.0, 1.0), (0.4, 4700.0, 3900.0, 1.0),
        (4.0, 3900.0, 6500.0, 1.0), (2.0, 6000.0, 1500.0, 0.0)]  # fmt: skip


def road_speed(t, speed):
    """The undriven wheels: as if nothing had spun."""
    grip = np.interp(t, [0.0, 3.0, 6.0, 6.8, 10.8, 12.8], [1500.0, 1500.0, 3600.0, 3900.0, 6500.0, 1500.0])
    return grip / 40.0 / 3.6


def test_wheels_that_spin_are_bridged_and_named():
    log = log_of(*SPIN, vehicle_speed=road_speed)
    [pull] = find_pulls(log)
    assert pull.from_rpm == pytest.approx(1500.0, abs=60) and pull.to_rpm == pytest.approx(6500.0, abs=60)
    assert any("slips by" in r for r in quality(log, pull).reasons)
    # Nobody measured the road: the fall may be a change of gear.
    assert len(find_pulls(log_of(*SPIN))) == 2


def test_a_change_of_gear_is_not_bridged():
    def geared(t, speed):
        return speed / np.where(t < 6.0, 50.0, 40.0) / 3.6

    parts = [
        (2.0, 1500.0, 1500.0, 0.1),
        (4.0, 1500.0, 6000.0, 1.0),
        (5.0, 4800.0, 6400.0, 1.0),
        (2.0, 6000.0, 1500.0, 0.0),
    ]
    found = find_pulls(log_of(*parts, vehicle_speed=geared))
    assert [round(p.to_rpm, -2) for p in found] == [6000.0, 6400.0]


def test_a_pull_that_a_person_makes_where_none_is_found():
    log = log_of((4.0, 1500.0, 1600.0, 0.1), (5.0, 1600.0, 2500.0, 0.5), (3.0, 2400.0, 1500.0, 0.0))
    assert find_pulls(log) == []
    [made] = pulls_of(log, {0: (4.1, 8.9)})
    assert made.from_rpm == pytest.approx(1600.0, abs=60) and made.throttle == pytest.approx(0.5)
    assert pulls_of(log, {1: (4.1, 8.9)}) == []  # nothing before it
    assert pulls_of(log, {0: (0.0, 3.0)}) == []  # speed does not rise there
