"""What is wrong with recorded data is found, named, and said where it is."""

import numpy as np
import pytest

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.evidence.problems import problems

T = np.arange(0.0, 10.0, 0.05)
RNG = np.random.default_rng(4)
SPEED = 2000.0 + 400.0 * T
BOOST = 100e3 + 8e3 * T + RNG.normal(0.0, 300.0, T.size)


def log(**changed):
    values = {"engine_speed": SPEED, "boost_pressure": BOOST, **changed}
    kinds = {k: CHANNELS[k] for k in values}
    return Log({k: Channel(k, kinds[k].title, kinds[k].quantity, "", T, v) for k, v in values.items()})


def test_a_live_signal_has_none():
    assert problems(log()) == []


@pytest.mark.parametrize("begin", [2.0, 5.0])
def test_a_sensor_that_sticks_is_named_with_where(begin):
    inside = (begin <= T) & (begin + 3.0 > T)
    stuck = np.where(inside, BOOST[np.argmax(inside)], BOOST)
    found = problems(log(boost_pressure=stuck))
    assert len(found) == 1 and "shows one number for" in found[0].sentence and found[0].channel == "boost_pressure"
    (start, end), *_ = found[0].spans
    assert start == pytest.approx(begin, abs=0.1) and end == pytest.approx(begin + 3.0, abs=0.15)


def test_a_signal_that_lies_on_its_highest_number_is_named():
    steep = 4.0 * SPEED - 6000.0  # the engine runs through enough in little time
    flat = np.where((T > 6.4) & (T <= 7.6), BOOST.max() + 10e3, BOOST)
    (found,) = problems(log(engine_speed=steep, boost_pressure=flat))
    assert "lies on its highest number for" in found.sentence and found.spans[0] == pytest.approx(
        (6.45, 7.6), abs=0.06
    )


def test_an_engine_that_idles_sticks_nothing():
    assert problems(log(engine_speed=np.full(T.size, 900.0), boost_pressure=np.full(T.size, 35e3))) == []


def test_holes_and_missing_numbers_are_placed():
    holed = BOOST.copy()
    holed[60:64] = np.nan
    found = {p.channel: p for p in problems(log(boost_pressure=holed))}
    assert found["boost_pressure"].spans[0] == pytest.approx((3.0, 3.15))
    gap = np.delete(T, slice(100, 140))
    part = {k: np.delete(v, slice(100, 140)) for k, v in (("engine_speed", SPEED), ("boost_pressure", BOOST))}
    channels = {k: Channel(k, CHANNELS[k].title, CHANNELS[k].quantity, "", gap, v) for k, v in part.items()}
    found = problems(Log(channels))
    assert any("1 gap" in p.sentence and p.spans[0] == pytest.approx((4.95, 7.0)) for p in found)
