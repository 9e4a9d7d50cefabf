"""Intervals over several days hold what they claim, by simulation; one day is the analysis of covariance as before."""

import numpy as np
import pytest

from yarvic.core.evidence.days import DAY_SHARE, fit_days
from yarvic.core.evidence.repeatability import difference

DESIGNS = {  # day of each pull of the reference, and of the working map
    "each on its day": ([0, 0, 0], [1, 1, 1]),
    "reference on two days": ([0, 0, 0, 1, 1, 1], [2, 2, 2]),
    "working on the first day too": ([0, 0, 0], [0, 0, 0, 1, 1, 1]),
    "both on both": ([0, 0, 0, 1, 1, 1], [0, 0, 0, 1, 1, 1]),
    "four days": ([0, 0, 0, 2, 2, 2], [1, 1, 1, 3, 3, 3]),
}
NOISE = 0.4


def drawn(rng, design, gain, day_sd, drift):
    """Values, map, place and day of each pull: 100 units, days and noise in per cent."""
    reference, working = DESIGNS[design]
    session = np.array([*reference, *working], float)
    is_working = np.array([0.0] * len(reference) + [1.0] * len(working))
    place = np.array([float(np.sum(session[:i] == d)) for i, d in enumerate(session)])
    days = {d: rng.normal(0.0, day_sd) for d in np.unique(session)}
    value = 100.0 + gain * is_working + np.array([days[d] for d in session]) + drift * place
    return value + rng.normal(0.0, NOISE, value.size), is_working, place, session


@pytest.mark.parametrize("design", DESIGNS)
@pytest.mark.parametrize(("gain", "drift"), [(0.0, 0.0), (2.0, -0.3)])
def test_nineteen_of_twenty_intervals_hold_the_truth(design, gain, drift):
    """At the day-to-day spread that is assumed, 600 draws: 93 to 98.5 %, and no gain is rarely called one."""
    rng = np.random.default_rng(7)
    held = 0
    for _ in range(600):
        fit = fit_days(*drawn(rng, design, gain, DAY_SHARE * 100.0, drift), 0.95)
        held += abs(fit.difference - gain) <= fit.reach
    assert 0.93 <= held / 600 <= 0.985


def test_two_days_are_less_sure_than_one():
    rng = np.random.default_rng(3)
    value, _, _, _ = drawn(rng, "each on its day", 1.0, 0.0, 0.0)
    order = (np.arange(3.0), np.arange(3.0))
    days = (np.ones(3), np.zeros(3))
    one = difference(value[3:], value[:3], (np.arange(3.0, 6.0), np.arange(3.0)))
    two = difference(value[3:], value[:3], order, days)
    same = difference(value[3:], value[:3], (np.arange(3.0, 6.0), np.arange(3.0)), (np.zeros(3), np.zeros(3)))
    assert same == one
    # By hand: a day's 0.6 % on either side alone is a standard deviation of 0.85, and at least 1.66 in the interval.
    assert two.high - two.mean > 1.66


def test_what_both_saw_on_each_day_cancels():
    """A day that lifts both maps alike moves no gain: the interval is that of the noise."""
    rng = np.random.default_rng(5)
    value, working, place, session = drawn(rng, "both on both", 1.0, 0.0, 0.0)
    lifted = value + 5.0 * session
    plain, moved = (fit_days(v, working, place, session, 0.95) for v in (value, lifted))
    assert moved.difference == pytest.approx(plain.difference, abs=0.15)
    assert moved.reach < 1.3


def test_too_few_pulls_tell_nothing():
    assert fit_days(np.array([100.0, 101.0]), np.array([0.0, 1.0]), np.zeros(2), np.array([0.0, 1.0]), 0.95) is None
