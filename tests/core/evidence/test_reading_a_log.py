"""Between two places of a trace, pulls laid over each other, the way that was covered, and what happens when."""

import numpy as np
import pytest

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.align import distance_m, offset_by_fit, zero_of
from yarvic.core.evidence.between import between
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.events import events
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.evidence.pulls import Pull, find_pulls


def log_of(t, **values):
    return Log(
        {
            k: Channel(k, CHANNELS[k].title, CHANNELS[k].quantity, "", t, np.asarray(v, float))
            for k, v in values.items()
        }
    )


T = np.arange(0.0, 20.0, 0.02)


def driven(begins=4.0, opens=3.0, t=T):
    """A pull that begins at a time, behind a pedal that opens."""
    speed = 1800.0 + 440.0 * np.clip(t - begins, 0.0, 10.0)
    return log_of(t, engine_speed=speed, throttle=np.where(t < opens, 0.2, np.where(t < begins + 10.0, 1.0, 0.1)))


def test_between_two_places_is_what_calculus_says():
    log = log_of(T, charge_temperature=300.0 + 2.0 * T)
    found = between(log, "charge_temperature", 15.0, 5.01)
    assert found.difference == pytest.approx(2.0 * 9.99) and found.first == pytest.approx(310.02)
    assert found.mean == pytest.approx(300.0 + 15.0 + 5.01) and found.area == pytest.approx(found.mean * 9.99)
    assert (found.least, found.most, found.missing) == (pytest.approx(310.02), pytest.approx(330.0), 0.0)
    wave = log_of(T, charge_temperature=np.sin(T))
    assert between(wave, "charge_temperature", 0.0, np.pi).area == pytest.approx(2.0, abs=1e-3)
    with pytest.raises(EvidenceError, match="not in this log"):
        between(log, "throttle", 0.0, 1.0)


def test_between_leaves_gaps_out_and_says_how_much_is_missing():
    keep = (T < 5.0) | (T > 9.0)
    log = log_of(T[keep], charge_temperature=np.where(T[keep] < 5.0, 10.0, 20.0))
    found = between(log, "charge_temperature", 0.0, 10.0)
    assert found.missing == pytest.approx(0.4, abs=0.01) and found.mean == pytest.approx(70.0 / 6.0, abs=0.1)
    nothing = between(log, "charge_temperature", 6.0, 8.0)
    assert np.isnan(nothing.mean) and nothing.missing == 1.0
    point = between(log, "charge_temperature", 2.0, 2.0)
    assert point.mean == 10.0 and point.area == 0.0


def test_pulls_are_laid_over_each_other_by_throttle_speed_and_fit():
    one, other = driven(4.0, 3.0), driven(7.0, 6.5)
    p, q = find_pulls(one)[0], find_pulls(other)[0]
    assert zero_of(one, p, "start") == p.start_s
    assert zero_of(one, p, "throttle") == pytest.approx(3.0, abs=0.03)
    assert zero_of(other, q, "throttle") == pytest.approx(6.5, abs=0.03)
    assert zero_of(one, p, "speed", 4000.0) == pytest.approx(4.0 + 5.0, abs=0.01)
    assert zero_of(one, p, "speed", 9000.0) is None and zero_of(log_of(T, lambda_measured=T), p, "throttle") is None
    # A sweep cut 0.7 s later fits where it was cut.
    late = Pull(q.start_s + 0.7, q.end_s, 1.0, q.from_rpm, q.to_rpm)
    assert offset_by_fit(one, p, other, late) == pytest.approx(0.7 + (q.start_s - 7.0) - (p.start_s - 4.0), abs=0.03)
    assert offset_by_fit(one, p, log_of(T, throttle=T), q) is None


@pytest.mark.parametrize("rate", [5.0, 25.0, 200.0])
def test_alignment_does_not_hang_on_the_rate(rate):
    log = driven(t=np.arange(0.0, 20.0, 1.0 / rate))
    pull = find_pulls(log)[0]
    assert zero_of(log, pull, "speed", 4000.0) == pytest.approx(9.0, abs=0.02)
    assert zero_of(log, pull, "throttle") == pytest.approx(3.0, abs=0.6 / rate + 0.01)


def test_the_way_is_the_integral_of_the_speed():
    log = log_of(T, vehicle_speed=3.0 * T)
    assert distance_m(log, np.array([0.0, 4.0, 10.0])) == pytest.approx([0.0, 24.0, 150.0])
    assert distance_m(driven(), T) is None


def test_events_come_in_the_order_of_time():
    speed = np.interp(T, [0, 3, 8, 8.3, 13, 13.5, 20], [1800, 1800, 6000, 4200, 6200, 6000, 1500])
    throttle = np.interp(T, [0, 2.9, 3, 7.95, 8.0, 8.25, 8.3, 13, 13.2, 20], [0.2, 0.2, 1, 1, 0.3, 0.3, 1, 1, 0, 0])
    log = log_of(T, engine_speed=speed, throttle=throttle)
    found = events(log, [Pull(3.0, 8.0, 1.0, 1800.0, 6000.0)])
    named = [(e.what, round(e.time_s, 1)) for e in found]
    assert named[0] == ("pull begins", 3.0)
    assert any(w == "gear change" and 7.2 <= t <= 8.2 for w, t in named)
    assert any(w == "throttle lifted" and 12.4 <= t <= 13.2 for w, t in named)
    assert [e.time_s for e in found] == sorted(e.time_s for e in found)
    assert events(log_of(T, lambda_measured=T), []) == []
