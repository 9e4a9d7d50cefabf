"""A pull against its baseline: what deviates, what the weather explains, and what cannot be held against each other."""

from dataclasses import replace

import numpy as np
import pytest
from test_checks import HEALTHY, T, evidence, findings

from yarvic.core.checks.against_baseline import CHECKS, against_baseline, deviations_of, kind_of
from yarvic.core.checks.baseline import Baseline, deviations
from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.core.checks.signature import BAND_RPM, signature
from yarvic.core.evidence.conditions import Conditions

HOME = Conditions(simulated=False, pressure_pa=97e3, temperature_k=290.0, relative_humidity=0.5, dyno="own roller")
MORE = {"wastegate_duty": np.full(T.size, 0.4), "air_flow": np.full(T.size, 0.08), "fuel_trim": np.zeros(T.size)}


def pull(conditions=HOME, **changed):
    data = evidence(**{**MORE, **changed})
    speed = data.log.channel("engine_speed").values
    return replace(data, conditions=conditions, pull=replace(data.pull, to_rpm=float(speed[-1])))


def signed(data):
    return signature(data.log, data.pull, data.conditions, data.curve)


def against(data, *, title="the first pulls", **baseline):
    return replace(data, baseline=Baseline(title, (signed(pull()),), **baseline))


def found_in(data):
    return {f.check: f for f in against_baseline(data, deviations_of(data))}


def test_means_by_band_are_those_of_the_trace():
    """Engine speed rises evenly: the mean of a channel that follows it is the middle of its band."""
    made = signed(pull(air_flow=HEALTHY["engine_speed"] / 1e5))
    centres = np.array([made.centre_rpm(n) for n in range(made.count)])
    assert made.means["air_flow"] == pytest.approx(centres / 1e5, rel=2e-3)
    speeds, times = HEALTHY["engine_speed"], T
    slope = (speeds[-1] - speeds[0]) / (times[-1] - times[0])
    assert made.means["run_up"] == pytest.approx(slope, rel=1e-2)
    assert made.means["air_flow"].size == made.count and centres[1] - centres[0] == BAND_RPM


def test_what_repeats_holds_and_what_moved_is_said_with_by_how_much():
    same = found_in(against(pull(), same_maps=True))
    assert same and {f.severity for f in same.values()} == {PASS}
    moved = against(
        pull(wastegate_duty=np.full(T.size, 0.45), fuel_trim=np.full(T.size, -0.03), air_flow=np.full(T.size, 0.076)),
        same_maps=True,
    )
    found = found_in(moved)
    assert found["duty_rise"].severity == WATCH and found["duty_rise"].value == pytest.approx(0.05, abs=1e-3)
    assert found["trim_shift"].severity == WATCH and found["trim_shift"].note == "It takes fuel away."
    assert "against the first pulls" in found["duty_rise"].numbers({})
    assert deviations_of(moved)["air"].value == pytest.approx(-0.05, abs=1e-3)


@pytest.mark.parametrize(("loss", "severity"), [(0.0, PASS), (0.01, PASS), (0.03, WATCH), (0.10, STOP)])
def test_less_power_is_found_by_how_fast_the_engine_runs_up(loss, severity):
    """The roller was not logged: the same sweep took so much longer."""
    slower = HEALTHY["engine_speed"][0] + (HEALTHY["engine_speed"] - HEALTHY["engine_speed"][0]) * (1.0 - loss)
    found = found_in(against(pull(engine_speed=slower), same_maps=True))["power_loss"]
    assert found.severity == severity and found.value == pytest.approx(-loss, abs=3e-3)


def test_other_maps_may_mean_to_give_less():
    slower = HEALTHY["engine_speed"][0] + (HEALTHY["engine_speed"] - HEALTHY["engine_speed"][0]) * 0.85
    data = against(pull(engine_speed=slower, wastegate_duty=np.full(T.size, 0.7)), same_maps=False)
    found = found_in(data)
    assert found["power_loss"].severity == WATCH and "may be meant" in found["power_loss"].note
    assert "duty_rise" not in found and "trim_shift" not in found, "the maps ask for it"


def test_the_weather_has_its_share_before_anything_is_said():
    """Heywood 1988, 2.12 (from memory): torque at full throttle goes as (T0/T)^0.5; SAE J1349's 1.18 by pressure."""
    base = signed(pull())
    for kind, air, factor in (
        ("turbo spark", HOME.model_copy(update={"temperature_k": 310.0}), (290.0 / 310.0) ** 0.5),
        ("natural spark", HOME.model_copy(update={"pressure_pa": 90e3}), (90.0 / 97.0) ** 1.18),
    ):
        start = HEALTHY["engine_speed"][0]
        weaker = start + (HEALTHY["engine_speed"] - start) * factor
        off = deviations(Baseline("b", (base,), True), signed(pull(air, engine_speed=weaker)), kind)
        assert off["torque"].value == pytest.approx(0.0, abs=6e-3), kind
        bare = deviations(Baseline("b", (base,), True), signed(pull(engine_speed=weaker)), kind)
        assert bare["torque"].value == pytest.approx(factor - 1.0, abs=6e-3), kind


def test_charge_over_ambient_grows_with_the_heat_of_compression():
    """T2 - T1 = T1 (r^((gamma-1)/gamma) - 1) / eta: a day of 30 K more makes the same compressor's rise 10 % greater."""
    over = HEALTHY["charge_temperature"] - 290.0
    hot = HOME.model_copy(update={"temperature_k": 320.0})
    base = signed(pull())
    data = pull(hot, charge_temperature=320.0 + over * 320.0 / 290.0)
    off = deviations(Baseline("b", (base,), True), signed(data), "turbo spark")
    assert off["charge"].value == pytest.approx(0.0, abs=0.05)
    hotter = pull(hot, charge_temperature=325.0 + over * 320.0 / 290.0)
    assert deviations(Baseline("b", (base,), True), signed(hotter), "turbo spark")["charge"].value == pytest.approx(
        5, abs=0.1
    )


def test_each_pull_of_a_set_is_held_against_the_one_at_its_place():
    warm = signed(pull(charge_temperature=HEALTHY["charge_temperature"] + 8.0))
    baseline = Baseline("b", (signed(pull()), warm), True, place=1)
    data = pull(charge_temperature=HEALTHY["charge_temperature"] + 8.0)
    assert deviations(baseline, signed(data), "turbo spark")["charge"].value == pytest.approx(0.0, abs=0.05)
    first = replace(baseline, place=0)
    assert deviations(first, signed(data), "turbo spark")["charge"].value == pytest.approx(8.0, abs=0.05)
    later = replace(baseline, place=5)
    assert deviations(later, signed(data), "turbo spark")["charge"].value == pytest.approx(0.0, abs=0.05)


def test_what_does_not_compare_is_not_compared():
    speeds = {"roller_speed": HEALTHY["engine_speed"] / 4.0}
    base = Baseline("b", (signed(pull(**speeds)),))
    assert "another gear" in base.unlike(signed(pull(roller_speed=HEALTHY["engine_speed"] / 3.0)))
    assert base.unlike(signed(pull(roller_speed=HEALTHY["engine_speed"] / 4.4))) == "", "a clutch that slips"
    assert "throttle" in base.unlike(replace(signed(pull(**speeds)), throttle=0.5))
    assert "other maps" in base.unlike(signed(pull(**speeds, boost_target=HEALTHY["boost_target"] * 1.1)))
    assert base.unlike(signed(pull(**speeds))) == ""
    assert "engine speeds" in base.unlike(replace(signed(pull(**speeds)), first=500))
    silent = ("boost_target", "lambda_target", "rail_target", "spark_advance")
    mute = replace(signed(pull()), means={k: v for k, v in signed(pull()).means.items() if k not in silent})
    assert "which maps" in Baseline("b", (mute,)).unlike(mute)
    assert deviations_of(pull()) == {}, "without a baseline"
    assert not set(CHECKS) & findings().keys()


def test_a_channel_in_doubt_or_past_its_sensor_is_left_out():
    data = pull(exhaust_temperature=np.full(T.size, 100.0))  # K: an open sensor
    assert not np.isfinite(signed(data).means["exhaust_temperature"]).any()
    assert "exhaust" not in deviations(Baseline("b", (signed(pull()),), True), signed(data), "turbo spark")


def test_engines_are_of_three_kinds():
    assert kind_of(EngineKind()) == "turbo spark"
    assert kind_of(EngineKind(boosted=False)) == "natural spark"
    assert kind_of(EngineKind("compression")) == "compression"


def test_power_in_air_that_nobody_knows_is_not_judged():
    """An engine that breathes by itself loses ten per cent in thin air: without the air's pressure it cannot be told."""
    bare = Conditions(simulated=False, dyno="own roller")
    data = against(replace(pull(bare), engine=EngineKind(boosted=False)), same_maps=True)
    data = replace(
        data, log=replace(data.log, channels={k: c for k, c in data.log.channels.items() if k[:7] != "ambient"})
    )
    off = deviations_of(data)
    assert "torque" not in off and "duty" not in off and "mixture" in off
    found = found_in(data)["power_loss"]
    assert found.severity == "no_data" and "unknown" in found.note and found.family == "Power and torque"
    # A diesel's torque follows its fuel: the air does not matter to it.
    diesel = replace(data, engine=EngineKind("compression"))
    assert found_in(diesel)["power_loss"].severity == PASS
    # Against other maps it is no condition: then nothing is asked.
    other = replace(data, baseline=replace(data.baseline, same_maps=False))
    assert "power_loss" not in found_in(other)


# -- what drove the run


ROLLER = HOME.model_copy(update={"dyno": "", "roller_inertia_kg_m2": 30.0})
ROAD = HOME.model_copy(update={"dyno": "", "run": "road", "mass_kg": 1400.0})


def slowed(share):
    first = HEALTHY["engine_speed"][0]
    return first + (HEALTHY["engine_speed"] - first) * share


@pytest.mark.parametrize(
    ("before", "now", "why"),
    [
        (ROLLER, ROLLER.model_copy(update={"roller_inertia_kg_m2": 33.6}), "30 and 33.6 kg m2"),
        (ROLLER, ROLLER.model_copy(update={"roller_inertia_kg_m2": None}), "inertia that they drove is not stated"),
        (ROAD, ROAD.model_copy(update={"mass_kg": 1520.0}), "1,400 and 1,520 kg"),
        (ROAD, ROAD.model_copy(update={"mass_kg": None}), "mass that they moved is not stated"),
        (ROAD, ROAD.model_copy(update={"grade": 0.01}), "rose otherwise"),
        (ROLLER, ROAD, "free on the roller"),
        (HOME.model_copy(update={"run": "ramp"}), HOME.model_copy(update={"run": "ramp"}), "ramp says nothing"),
        (HOME.model_copy(update={"run": ""}), HOME.model_copy(update={"run": ""}), "nobody stated that both drove"),
    ],
)  # fmt: skip
@pytest.mark.parametrize("share", [1.0 / 1.12, 1.0, 1.08])
def test_how_fast_it_runs_up_is_no_power_where_it_drove_something_else(before, now, why, share):
    """A sound engine on 12 % more inertia does not stop, and one that lost 8 % does not pass on less of it."""
    data = pull(now, engine_speed=slowed(share))
    data = replace(data, baseline=Baseline("b", (signed(pull(before)),), True))
    found = found_in(data)["power_loss"]
    assert found.severity == NO_DATA and why in found.note, found


@pytest.mark.parametrize("conditions", [ROLLER, ROAD])
def test_on_the_same_inertia_or_mass_it_is(conditions):
    data = pull(conditions, engine_speed=slowed(0.9))
    data = replace(data, baseline=Baseline("b", (signed(pull(conditions)),), True))
    assert found_in(data)["power_loss"].severity == STOP


def test_the_torque_of_a_brake_counts_only_on_the_same_ramp():
    ramp = HOME.model_copy(update={"run": "ramp"})
    torque = np.full(T.size, 200.0)
    base = signed(pull(ramp, roller_torque=torque))
    same = replace(pull(ramp, roller_torque=torque * 0.9), baseline=Baseline("b", (base,), True))
    assert found_in(same)["power_loss"].value == pytest.approx(-0.1, abs=1e-3)
    faster = pull(ramp, roller_torque=torque * 0.9, engine_speed=slowed(0.7))
    found = found_in(replace(faster, baseline=Baseline("b", (base,), True)))["power_loss"]
    assert found.severity == NO_DATA
