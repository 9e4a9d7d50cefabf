"""Boost before it is there and about its target, duty on its end, trims, banks, heat by time, torque like a switch."""

from dataclasses import replace

import numpy as np
import pytest
from test_checks import HEALTHY, T, evidence, findings

from yarvic.core.checks.boost import boost
from yarvic.core.checks.curve import curve
from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.dyno import Curve
from yarvic.core.physics.correction import Correction

TARGET = HEALTHY["boost_target"]


@pytest.mark.parametrize(("seconds", "severity"), [(2.0, PASS), (6.5, WATCH), (9.0, STOP), (50.0, STOP)])
def test_boost_is_judged_before_it_first_reaches_its_target(seconds, severity):
    """It rises evenly and is there after so many of ten seconds of an even sweep."""
    found = findings(boost_pressure=np.minimum(100e3 + 100e3 * T / seconds, 200e3))["boost_reach"]
    assert found.severity == severity
    if seconds < 10.0:
        # 97 % of the target counts as reached.
        assert found.value == pytest.approx(0.94 * seconds / 9.98, abs=0.01)


@pytest.mark.parametrize(("kpa", "severity"), [(0.5, PASS), (8.0, WATCH), (20.0, STOP)])
def test_swings_about_the_target_are_told_by_their_deviation(kpa, severity):
    """A sine of an amplitude has a standard deviation of 0.707 of it."""
    swinging = np.where(
        T > 3.0, TARGET + kpa * 1e3 * np.sin(2.0 * np.pi * 2.5 * T), np.minimum(100e3 + 40e3 * T, 200e3)
    )
    found = findings(boost_pressure=swinging)["boost_swing"]
    assert found.severity == severity and found.value == pytest.approx(707.0 * kpa, rel=0.15)


def test_a_log_too_coarse_for_a_swing_is_not_asked_for_one():
    data = evidence()
    slow = {k: replace(c, time_s=c.time_s[::10], values=c.values[::10]) for k, c in data.log.channels.items()}
    checks = {f.check for f in boost(replace(data, log=replace(data.log, channels=slow)))}
    assert "boost_swing" not in checks and "boost_reach" in checks


@pytest.mark.parametrize(("seconds", "severity"), [(0.5, PASS), (2.5, WATCH), (4.5, STOP)])
@pytest.mark.parametrize("key", ["wastegate_duty", "vane_position"])
def test_duty_on_its_end_leaves_nothing_to_steer_by(key, seconds, severity):
    duty = np.where(9.98 - seconds < T, 1.0, 0.6)
    found = findings(**{key: duty})["duty_on_end"]
    assert found.severity == severity and found.value == pytest.approx(seconds, abs=0.06)
    assert "duty_on_end" not in findings()
    # Full duty while boost has yet to come is what brings it.
    assert findings(**{key: np.where(T < 3.0, 1.0, 0.6)})["duty_on_end"].severity == PASS


def test_both_trims_count_together_whichever_way_they_go():
    short, long = np.full(T.size, 0.06), np.full(T.size, 0.05)
    found = findings(fuel_trim=short, long_trim=long)["trim_sum"]
    assert found.severity == WATCH and found.value == pytest.approx(0.11) and "adds fuel" in found.statement
    found = findings(fuel_trim=-3.0 * short)["trim_sum"]
    assert found.severity == STOP and "takes away" in found.statement
    assert findings(fuel_trim=short, long_trim=-long)["trim_sum"].severity == PASS
    assert findings(fuel_trim=np.full(T.size, np.nan))["trim_sum"].severity == NO_DATA
    assert "trim_sum" not in findings()


def test_banks_that_differ_are_told_and_one_bank_is_not_asked():
    apart = {"lambda_measured_bank_1": np.full(T.size, 0.86), "lambda_measured_bank_2": np.full(T.size, 0.90)}
    found = findings(lambda_measured=None, **apart)["bank_difference"]
    assert found.severity == WATCH and found.value == pytest.approx(0.04)
    assert "bank_difference" not in findings()


@pytest.mark.parametrize(("seconds", "severity"), [(2.0, PASS), (7.0, WATCH)])
def test_a_moment_of_heat_is_no_climb(seconds, severity):
    hot = np.where(9.98 - seconds < T, 1213.15, 1123.15)  # over the 930 degC that the job's turbine bears safely
    found = findings(exhaust_temperature=hot)["exhaust_time"]
    assert found.severity == severity and found.value == pytest.approx(seconds, abs=0.06)


@pytest.mark.parametrize(("per_100", "severity"), [(5.0, PASS), (30.0, WATCH), (40.0, STOP)])
def test_torque_that_comes_like_a_switch_is_marked(per_100, severity):
    """Common practice, no published source: boost that rises like a switch is felt as a jolt, however strong it is."""
    speed = np.arange(1800.0, 6200.0, 50.0)
    torque = np.clip(40.0 + (speed - 2500.0) * per_100 / 100.0, 40.0, 200.0)
    made = Curve(
        speed, torque * speed * np.pi / 30.0, torque, Correction("none", "none", 1.0, None), 50.0,
        np.zeros(speed.size), np.zeros(speed.size),
    )  # fmt: skip
    data = replace(evidence(), curve=made, conditions=Conditions(simulated=False, engine_per_roller=3.0))
    found = next(f for f in curve(data) if f.check == "torque_step")
    assert found.severity == severity and found.value == pytest.approx(per_100 / 200.0, rel=0.05)
