"""How sure a verdict is: the distribution against SciPy, the chance against counting, and the words."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats
from test_checks import findings

from yarvic.core.checks.confidence import chance_past, in_words, student
from yarvic.core.checks.limits import default_limits
from yarvic.core.checks.run import summarize

RULES = default_limits().rules


@given(st.floats(-30.0, 30.0), st.integers(1, 40))
def test_the_distribution_is_students(t, freedom):
    assert student(t, freedom) == pytest.approx(float(stats.t.cdf(t, freedom)), abs=1e-9)


def test_the_chance_is_how_often_a_further_pull_is_past_the_limit():
    """Four pulls and a fifth from one normal population, 20,000 times: the chance is right on average."""
    random = np.random.default_rng(5)
    rule = RULES["knock_retard"]
    drawn = random.normal(2.6, 0.4, (20_000, 5))
    told = np.mean([chance_past(tuple(row[:4]), rule) for row in drawn])
    assert told == pytest.approx(float(np.mean(drawn[:, 4] > rule.stop_canonical)), abs=0.05)


def test_few_pulls_tell_nothing_and_pulls_that_are_all_alike_tell_all():
    above, below = RULES["knock_retard"], RULES["rail_sag"]
    assert chance_past((1.0, 1.2), above) is None and in_words(None) == ""
    assert chance_past((1.0, 1.0, 1.0), above) == 0.0 and chance_past((4.0, 4.0, 4.0), above) == 1.0
    assert chance_past((-0.01, -0.02, -0.015), below) < 0.02 < 0.98 < chance_past((-0.2, -0.21, -0.205), below)
    assert (
        "fewer than 1 past" in in_words(0.001) and "more than 99" in in_words(0.999) and " 12 past" in in_words(0.12)
    )


def test_the_pulls_of_a_check_are_taken_together_where_one_limit_judged_them():
    coolant = [np.full(500, 273.15 + degc) for degc in (108.0, 111.0, 114.0)]
    pulls = [list(findings(coolant_temperature=c).values()) for c in coolant]
    summary = next(s for s in summarize(pulls) if s.check == "coolant_temperature")
    # Mean 111, s 3, limit 115: t = 4 / (3 sqrt(4/3)) with two degrees of freedom.
    assert summary.chance_past == pytest.approx(float(stats.t.sf(4.0 / (3.0 * (4.0 / 3.0) ** 0.5), 2)))
    assert next(s for s in summarize(pulls[:2]) if s.check == "coolant_temperature").chance_past is None


def test_pulls_that_are_not_alike_tell_nothing_of_one_more():
    pulls = [list(findings().values()) for _ in range(3)]
    assert any(s.chance_past is not None for s in summarize(pulls))
    assert all(s.chance_past is None for s in summarize(pulls, alike=False))
