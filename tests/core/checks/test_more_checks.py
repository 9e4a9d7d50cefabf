"""Boost before it is there and about its target, duty on its end, trims, banks, heat by time, torque like a switch."""

from dataclasses import replace

import numpy as np
import pytest
from test_checks import HEALTHY, T, evidence, findings

from yarvic.core.checks.boost import boost
from yarvic.core.checks.curve import curve
from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.core.checks.fuel_pressure import fuel_pressure
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


def test_the_raw_signal_is_judged_by_the_bores_tone_and_beside_what_the_unit_made_of_it():
    """The buggy on poor fuel and on good: by its own raw signal, and the bore that its sheet states."""
    from yarvic.bench.cell import Weather
    from yarvic.bench.rig import Rig, usual_settings
    from yarvic.bench.unit import SimulatedUnit
    from yarvic.bench.vehicles import layout_text, plant_for
    from yarvic.core.calibration.layout_file import parse_layout
    from yarvic.core.checks.limits import default_limits
    from yarvic.core.checks.run import check_log
    from yarvic.core.evidence.problems import problems
    from yarvic.demo.checks_campaign import engine_kind
    from yarvic.demo.mended import mended_image
    from yarvic.demo.ptarmigan import MILD

    layout = parse_layout(layout_text("ptarmigan"))
    plant = plant_for(layout.family)
    kind = engine_kind("ptarmigan")

    def judged(faults, engine):
        unit = SimulatedUnit(layout, mended_image("ptarmigan"))
        rig = Rig(plant, unit, layout.sets[0], Weather(MILD, 9.0, False, 1), fuel=plant.fuel, seed=5, faults=faults)
        log, conditions = rig.pull(replace(usual_settings(plant), knock_signal=True))
        assert not any("gap" in p.sentence for p in problems(log)), "bursts are no gaps"
        (pull,) = check_log("r", log, default_limits(), conditions, engine)
        return {f.check: f for f in pull.findings}

    known = replace(kind, bore_m=plant.engine.bore_m)
    quiet, loud = judged({}, known)["knock_heard"], judged({"bad_fuel": 1.0}, known)["knock_heard"]
    assert quiet.severity == PASS and quiet.value <= 2.0 and "by chance" in quiet.note
    assert loud.severity in (WATCH, STOP) and loud.value > 10.0 and loud.where.cylinder == 2
    assert "retarded behind" in loud.note
    # A cylinder whose signal is missing, or a number of cylinders that nobody stated: not known, and no pass.
    for engine, why in ((replace(known, cylinders=4), "of cylinder 4"), (replace(known, cylinders=0), "not stated")):
        short = judged({}, engine)["knock_heard"]
        assert short.severity == NO_DATA and why in short.note
    unknown = judged({}, kind)["knock_heard"]
    assert unknown.severity == NO_DATA and "bore is not stated" in unknown.note
    # Without knock control the sensor beside is what hears.
    deaf = judged({"bad_fuel": 1.0}, replace(known, knock_control=False))
    assert deaf["knock_heard"].severity in (WATCH, STOP) and "knock_retard" not in deaf


def shaped(speed, torque, resolution_rpm=50.0, **kind):
    """What is said of a curve."""
    none = np.full(speed.size, np.nan)
    made = Curve(
        speed,
        torque * speed * np.pi / 30.0,
        torque,
        Correction("none", "none", 1.0, None),
        resolution_rpm,
        none,
        none,
    )
    data = replace(evidence(), curve=made, conditions=Conditions(simulated=False), engine=EngineKind(**kind))
    return {f.check: f for f in curve(data)}


@pytest.mark.parametrize(("depth", "severity"), [(0.01, PASS), (0.06, WATCH), (0.15, STOP)])
def test_a_hole_is_as_deep_as_its_valley(depth, severity):
    speed = np.arange(2000.0, 6000.0, 50.0)
    found = shaped(speed, 200.0 * (1.0 - depth * np.exp(-(((speed - 4000.0) / 500.0) ** 2))))
    assert found["torque_hole"].severity == severity
    assert found["torque_hole"].value == pytest.approx(
        0.94 * depth, rel=0.03
    )  # less what a mean over 450 rpm takes of it
    assert found["torque_hole"].where.speed_rpm == pytest.approx(4000.0, abs=50.0)
    natural = shaped(speed, 200.0 * (1.0 - 0.06 * np.exp(-(((speed - 4000.0) / 500.0) ** 2))), boosted=False)
    assert natural["torque_hole"].severity == PASS


@pytest.mark.parametrize(("share", "severity"), [(0.0, PASS), (0.02, WATCH), (0.05, STOP)])
def test_torque_that_hunts_wobbles_and_torque_that_bends_does_not(share, severity):
    """A sine of 1,000 rpm about a parabola: its deviation is 0.707 of it, less what a mean over 450 rpm takes of it."""
    speed = np.arange(2000.0, 6000.0, 50.0)
    bend = 200.0 * (1.0 - ((speed - 4000.0) / 6000.0) ** 2)
    found = shaped(speed, bend * (1.0 + share * np.sin(2.0 * np.pi * speed / 1000.0)))["torque_wobble"]
    assert found.severity == severity and found.value == pytest.approx(
        0.707 * np.sinc(0.45) * share, rel=0.2, abs=1e-3
    )


def test_a_curve_too_coarse_for_a_wobble_says_so():
    speed = np.arange(2000.0, 6000.0, 50.0)
    found = shaped(speed, np.full(speed.size, 200.0), resolution_rpm=700.0)
    assert "torque_wobble" not in found and "too coarse" in found["torque_hole"].note


def test_a_curve_of_few_points_is_not_asked_for_its_shape():
    speed = np.arange(2000.0, 6000.0, 500.0)
    assert "torque_hole" not in shaped(speed, np.full(speed.size, 200.0))


def test_injector_duty_follows_from_injection_time_where_the_fuel_goes_into_a_port():
    """12 ms at 6,000 rpm, two turns of 10 ms each: 60 per cent (the definition)."""
    port = replace(
        evidence(injector_window=None, injection_time=np.full(T.size, 12e-3)), engine=EngineKind(rail=False)
    )
    found = {f.check: f for f in fuel_pressure(port)}["injector_window"]
    assert found.value == pytest.approx(12e-3 * found.where.speed_rpm / 120.0) and found.severity == PASS
    full = replace(
        evidence(injector_window=None, injection_time=np.full(T.size, 18e-3)), engine=EngineKind(rail=False)
    )
    assert {f.check: f for f in fuel_pressure(full)}["injector_window"].severity == WATCH
    direct = evidence(injector_window=None, injection_time=np.full(T.size, 3e-3))
    assert {f.check: f for f in fuel_pressure(direct)}["injector_window"].severity == NO_DATA


def test_knock_that_grows_is_told_from_knock_that_repeats():
    def dips(*depths):
        found = np.zeros(T.size)
        for n, depth in enumerate(depths):
            found[100 + 100 * n : 115 + 100 * n] = -depth
        return findings(spark_correction_2=found)["knock_retard"].note

    assert "Retarded 3 times in the pull, deeper each time: 1.2, 2.0, 3.2 deg." in dips(1.2, 2.0, 3.2)
    assert "Retarded 3 times in the pull." in dips(2.0, 1.2, 3.2) and "deeper" not in dips(1.2, 2.0)


def test_a_sheet_that_does_not_say_how_it_was_smoothed_is_not_said_to_run_smooth():
    speed = np.arange(2000.0, 6000.0, 50.0)
    found = shaped(speed, np.full(speed.size, 200.0), resolution_rpm=float("nan"))
    assert "torque_wobble" not in found and "how it was smoothed" in found["torque_hole"].note
