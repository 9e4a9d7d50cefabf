"""On another day: the trend of the pulls with its interval, and the run that would tell where there is none."""

import numpy as np
import pytest
import scipy.stats

from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH, Finding, Where
from yarvic.core.checks.limits import default_limits
from yarvic.core.checks.weather import (
    DAY_OVER_NOISE,
    Days,
    Measured,
    _days_of,
    _predicted,
    _within,
    corners,
    on_the_days,
)
from yarvic.core.physics.air import isa_pressure

RULE = default_limits().rules["knock_retard"]


def pull(celsius, value, pressure=97e3, check="knock_retard", rule=RULE):
    finding = Finding(check, PASS, "", rule, value, Where("r", 0.0, 1.0))
    return Measured((finding,), None if celsius is None else celsius + 273.15, pressure)


def day(days, measured):
    (found,) = on_the_days(days, measured)
    return found


def test_a_trend_over_temperature_is_followed_with_the_interval_of_a_new_pull():
    """Against SciPy's linregress: value, and the half width t * s * sqrt(1 + 1/n + (x - mean)^2 / Sxx)."""
    celsius = np.array([10.0, 12.0, 15.0, 18.0, 22.0])
    values = np.array([0.1, 0.35, 0.5, 0.95, 1.2])
    found = day(Days(hottest_k=303.15), [pull(c, v) for c, v in zip(celsius, values, strict=True)])
    line = scipy.stats.linregress(celsius, values)
    wanted = line.intercept + line.slope * 30.0
    residual = values - (line.intercept + line.slope * celsius)
    s = np.sqrt(residual @ residual / 3)
    half = (
        scipy.stats.t.ppf(0.975, 3)
        * s
        * np.sqrt(1 + 1 / 5 + (30 - celsius.mean()) ** 2 / ((celsius - celsius.mean()) ** 2).sum())
    )
    assert found.value == pytest.approx(wanted) and found.high - found.value == pytest.approx(half)
    assert found.severity == WATCH and "30 degC" in found.sentence("deg") and "limit 3.0 deg" in found.sentence("deg")


@pytest.mark.parametrize(("slope", "severity"), [(0.0, PASS), (0.06, WATCH), (0.3, STOP)])
def test_what_it_comes_to_is_judged(slope, severity):
    noise = [0.01, -0.01, 0.01, -0.01, 0.0]
    runs = [pull(c, 0.5 + slope * (c - 10.0) + e) for c, e in zip((10, 13, 16, 19, 22), noise, strict=True)]
    assert day(Days(hottest_k=308.15), runs).severity == severity


def test_a_day_that_was_measured_needs_no_trend_and_takes_the_worst_pull():
    runs = [pull(29.0, 1.0), pull(30.5, 2.0), pull(10.0, 0.0)]
    found = day(Days(hottest_k=303.15), runs)
    assert found.value == 2.0 and found.severity == WATCH
    assert found.low < 1.0 and found.high > 2.0, "a new day brings more than the pulls of one"
    alone = day(Days(hottest_k=303.15), [pull(29.0, 1.0), pull(10.0, 0.0)])
    assert (alone.low, alone.high) == (1.0, 1.0), "one pull a day shows no scatter"


def test_what_has_not_begun_to_show_proves_nothing_for_a_hotter_day():
    """Knock that is not there at 10 to 22 degC may well be there at 35: no trend of noughts holds for it."""
    found = day(Days(hottest_k=308.15), [pull(c, 0.0) for c in (10.0, 13.0, 16.0, 19.0, 22.0)])
    assert found.severity == NO_DATA and "Pull at 35 degC and see" in found.run


def test_without_spread_the_run_that_would_tell_is_named():
    narrow = [pull(c, 0.5) for c in (16.0, 17.0, 17.5, 18.0)]
    found = day(Days(hottest_k=308.15), narrow)
    assert found.severity == NO_DATA and "Pull at 35 degC. The pulls cover 16 to 18 degC." in found.sentence("deg")
    far = [pull(c, 0.5) for c in (8.0, 10.0, 12.0, 15.0)]
    assert day(Days(hottest_k=313.15), far).severity == NO_DATA, "further away than twice of what was covered"
    few = [pull(8.0, 0.1), pull(15.0, 0.2), pull(20.0, 0.3)]
    assert "too few" in day(Days(hottest_k=303.15), few).run
    high = day(Days(highest_m=2500.0), [pull(15.0 + n, 0.1) for n in range(8)])
    assert high.severity == NO_DATA and f"Pull at {float(isa_pressure(2500.0)) / 100:.0f} mbar" in high.run


def test_temperature_and_pressure_are_told_apart_or_it_is_said_that_they_are_not():
    rng = np.random.default_rng(2)
    runs = []
    for _ in range(12):
        c, p = rng.uniform(5.0, 25.0), rng.uniform(93e3, 101e3)
        runs.append(pull(c, 0.2 + 0.02 * c + (101e3 - p) * 1e-5, p))
    found = day(Days(hottest_k=303.15, highest_m=900.0), runs)
    wanted = 0.2 + 0.02 * 30.0 + (101e3 - float(isa_pressure(900.0))) * 1e-5
    assert found.value == pytest.approx(wanted, abs=1e-6) and found.severity == PASS
    together = [pull(5.0 + 2.0 * n, 0.1, 95e3 + 500.0 * n) for n in range(8)]
    assert "do not move together" in day(Days(hottest_k=303.15, lowest_m=0.0), together).run


def test_days_are_the_ends_that_were_stated():
    runs = [pull(15.0, 0.1), pull(17.0, 0.1)]
    assert corners(Days(), runs) == [] and on_the_days(Days(), runs) == []
    both = corners(Days(hottest_k=308.15, coldest_k=263.15, lowest_m=0.0, highest_m=1500.0), runs)
    assert len(both) == 4 and both[0] == (263.15, pytest.approx(101325.0))
    assert corners(Days(hottest_k=308.15), runs) == [(308.15, pytest.approx(97e3))]
    assert corners(Days(hottest_k=308.15), [pull(None, 0.1)]) == []
    with pytest.raises(ValueError, match="colder than the coldest"):
        Days(hottest_k=260.0, coldest_k=280.0)
    with pytest.raises(ValueError, match="under the lowest"):
        Days(highest_m=10.0, lowest_m=200.0)


def test_what_does_not_hang_on_the_day_is_not_asked():
    slip = default_limits().rules["slip"]
    assert (
        on_the_days(Days(hottest_k=303.15), [pull(15.0 + n, 0.01, check="slip", rule=slip) for n in range(6)]) == []
    )


@pytest.mark.parametrize("temperatures", [(283.0, 300.0), (283.0, 290.0, 300.0), (283.0, 288.0, 294.0, 300.0)])
def test_the_interval_of_a_hotter_day_holds_what_a_new_day_brings(temperatures):
    """Days that lie off the trend by the spread that is assumed; 500 draws each, three pulls a day, asked at 308 K."""
    rng = np.random.default_rng(11)
    held = 0
    for _ in range(500):
        rows = []
        for t in temperatures:
            off = rng.normal(0.0, DAY_OVER_NOISE)
            rows += [
                (t + rng.normal(0, 0.2), 97e3 + rng.normal(0, 30), 0.2 * t + off + rng.normal()) for _ in range(3)
            ]
        points = np.array(rows)
        centre = points[:, 0].mean()
        design = np.column_stack([np.ones(len(points)), (points[:, 0] - centre) / 6.0])
        asked = np.array([1.0, (308.0 - centre) / 6.0])
        scatter = _within(points[:, 2], _days_of(points))
        _, low, high = _predicted(design, points[:, 2], asked, _days_of(points), scatter)
        held += low <= 0.2 * 308.0 + rng.normal(0.0, DAY_OVER_NOISE) + rng.normal() <= high
    assert 0.92 <= held / 500 <= 0.98


@pytest.mark.parametrize("days", [(283.0,), (283.0, 298.0), (283.0, 290.0, 298.0), (280.0, 283.0, 290.0, 298.0)])
def test_near_a_day_that_was_pulled_the_interval_holds_what_another_day_like_it_brings(days):
    """500 draws each, three pulls a day, asked at 283 K, where one of the days was."""
    rng = np.random.default_rng(5)
    held = 0
    for _ in range(500):
        runs = []
        for t in days:
            off = 1.5 + 0.02 * (t - 283.0) + 0.1 * rng.normal(0.0, DAY_OVER_NOISE)
            runs += [pull(t - 273.15, off + 0.1 * rng.normal()) for _ in range(3)]
        found = day(Days(coldest_k=283.0), runs)
        assert found.low is not None and found.high is not None
        held += found.low <= 1.5 + 0.1 * rng.normal(0.0, DAY_OVER_NOISE) + 0.1 * rng.normal() <= found.high
    assert 0.92 <= held / 500 <= 0.98
