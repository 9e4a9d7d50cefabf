"""How good a pull is: what ended it, and what is to be held against it, at any rate of samples."""

import numpy as np
import pytest

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.evidence.pulls import find_pulls
from yarvic.core.evidence.quality import quality


def log_of(t, **values):
    kinds = {k: CHANNELS[k] for k in values}
    return Log({k: Channel(k, c.title, c.quantity, "", t, np.asarray(values[k], float)) for k, c in kinds.items()})


def driven(rate, end="lift", throttle=1.0, length=10.0, top=6200.0):
    """A sweep from 2 s on, and what ends it."""
    t = np.arange(0.0, 2.0 + length + 4.0, 1.0 / rate)
    stop = 2.0 + length
    speed = np.interp(t, [0.0, 2.0, stop], [1800.0, 1800.0, top])
    pedal = np.where(t < 1.9, 0.2, throttle)
    if end == "lift":
        speed = np.where(t > stop, np.maximum(top - 900.0 * (t - stop), 1500.0), speed)
        pedal = np.where(t > stop, 0.05, pedal)
    if end == "gear change":
        speed = np.where(t > stop, np.minimum(top - 2000.0 + 300.0 * (t - stop), top), speed)
    return t, speed, pedal


def judged(t, speed, pedal, **more):
    log = log_of(t, engine_speed=speed, throttle=pedal, **more)
    return quality(log, find_pulls(log)[0])


@pytest.mark.parametrize("rate", [5.0, 25.0, 200.0])
@pytest.mark.parametrize(
    ("end", "words"), [("lift", "with a lift"), ("gear change", "with a gear change"), ("limiter", "at the limiter")]
)
def test_what_ended_a_sweep_is_told_at_any_rate(rate, end, words):
    found = judged(*driven(rate, end))
    assert found.ends == words and found.reasons == () and found.kind.startswith("Sweep at full throttle, 1,8")


def test_part_throttle_short_narrow_and_sparse_pulls_say_so():
    found = judged(*driven(50.0, throttle=0.5))
    assert "Sweep at 50 % throttle" in found.kind
    found = judged(*driven(50.0, length=2.0, top=3300.0))
    assert "short" in found.sentence and "narrow" in found.sentence
    assert any("told by" in r for r in judged(*driven(2.0)).reasons)


def test_slip_and_gaps_are_held_against_it():
    t, speed, pedal = driven(50.0)
    slipping = np.where(t > 7.0, speed / 5.0 / 1.2, speed / 5.0)
    assert any("slips by 20 %" in r for r in judged(t, speed, pedal, vehicle_speed=slipping).reasons)
    assert judged(t, speed, pedal, vehicle_speed=speed / 5.0).reasons == ()
    keep = (t < 6.0) | (t > 7.0)
    assert any("s of it are missing" in r for r in judged(t[keep], speed[keep], pedal[keep]).reasons)


def test_a_log_that_ends_with_the_pull_says_so():
    t, speed, pedal = driven(50.0)
    keep = t <= 12.0
    assert judged(t[keep], speed[keep], pedal[keep]).ends == "with the log"
