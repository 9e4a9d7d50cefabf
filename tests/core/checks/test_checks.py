"""Checks: each rule on made evidence with a known answer, and what it says when it cannot know."""

from dataclasses import replace

import numpy as np
import pytest

from yarvic.core.checks.boost import boost
from yarvic.core.checks.components import ComponentLimit
from yarvic.core.checks.evidence_of_pull import EngineKind, PullEvidence
from yarvic.core.checks.finding import NO_DATA, ORDER, PASS, STOP, WATCH, amount, judge, verdict
from yarvic.core.checks.knock import Retard, knock
from yarvic.core.checks.limits import default_limits, parse_limits, read_limits
from yarvic.core.checks.rule import Rule
from yarvic.core.checks.run import FAMILIES, check_log, summarize
from yarvic.core.checks.sensors import sensor_ranges
from yarvic.core.errors import FormatError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import NO_BAROMETER, Channel, Doubt, Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.units import UNITS

T = np.arange(0.0, 10.0, 0.02)
COMPONENTS = (
    ComponentLimit(key="power", component="clutch", basis="wheel", unit="kW", safe=90, stretch=98, source="test"),
    ComponentLimit(
        key="torque", component="gearbox", basis="wheel", unit="N m", safe=192, stretch=205, source="test"
    ),
    ComponentLimit(key="boost", component="pipe", basis="gas", unit="kPa", safe=222, stretch=235, source="test"),
    ComponentLimit(
        key="exhaust_temperature", component="turbine", basis="gas", unit="degC", safe=930, stretch=965, source="test"
    ),
)
# A healthy pull, canonical units.
HEALTHY = {
    "engine_speed": 1800.0 + 440.0 * T,
    "throttle": np.ones(T.size),
    "boost_pressure": np.minimum(100e3 + 50e3 * T, 200e3),
    "boost_target": np.full(T.size, 200e3),
    "charge_temperature": 303.15 + 0.8 * T,
    "ambient_temperature": np.full(T.size, 293.15),
    "rail_pressure": 349e5 + 1e4 * (np.arange(T.size) % 3),
    "rail_target": np.full(T.size, 350e5),
    "injector_window": np.full(T.size, 0.7),
    "lambda_measured": np.full(T.size, 0.86),
    "lambda_target": np.full(T.size, 0.86),
    "spark_correction_1": np.zeros(T.size),
    "spark_correction_2": np.zeros(T.size),
    "spark_correction_3": np.zeros(T.size),
    "exhaust_temperature": np.full(T.size, 1123.15),
    "coolant_temperature": np.full(T.size, 363.15),
    "oil_temperature": np.full(T.size, 373.15),
}


def evidence(**changes):
    values = {**HEALTHY, **changes}
    channels = {
        key: Channel(key, CHANNELS[key].title, CHANNELS[key].quantity, "", T, np.asarray(v, float))
        for key, v in values.items()
        if v is not None
    }
    return PullEvidence("R1", Log(channels), Pull(0.0, 9.98, 1.0, 1800.0, 6190.0), default_limits(COMPONENTS))


def findings(**changes):
    data = evidence(**changes)
    return {f.check: f for _, family in FAMILIES for f in family(data)}


def steps(*levels):
    """A correction that steps down through levels and stays."""
    v = np.zeros(T.size)
    for i, level in enumerate(levels):
        v[150 + 40 * i :] = level
    return v


def test_a_healthy_pull_holds():
    found = findings()
    bad = {c: f.severity for c, f in found.items() if f.severity not in (PASS,) and c not in ("power", "torque")}
    assert bad == {}


def test_the_families_come_in_the_order_of_reading():
    assert [title for title, _ in FAMILIES] == [
        "Boost", "Charge air", "Fuel pressure", "Mixture", "Knock", "Temperatures", "Power and torque",
        "Filling", "Drivetrain", "Ignition and supply", "Sensors",
    ]  # fmt: skip


def test_boost_overshoot_after_it_was_reached():
    pressure = HEALTHY["boost_pressure"].copy()
    pressure[150:170] = 218e3
    found = findings(boost_pressure=pressure)["boost_overshoot"]
    assert found.severity == STOP
    assert found.value == pytest.approx(18e3)
    assert found.where.time_s == pytest.approx(3.0, abs=0.02)
    assert found.where.speed_rpm == pytest.approx(1800 + 440 * 3.0, abs=20)
    assert found.margin == pytest.approx(-3e3)


def test_boost_rising_to_its_target_is_no_shortfall():
    assert findings()["boost_shortfall"].severity == PASS


def test_boost_that_never_arrives():
    found = findings(boost_pressure=np.full(T.size, 150e3))["boost_shortfall"]
    assert found.severity == STOP and "never" in found.statement and found.value == pytest.approx(50e3)


def test_boost_against_the_components():
    found = findings(boost_pressure=np.full(T.size, 226e3), boost_target=np.full(T.size, 226e3))["boost_limit"]
    assert found.severity == WATCH and "pipe" in found.statement


def test_charge_temperature():
    hot = findings(charge_temperature=293.15 + 5.0 * T)
    assert hot["charge_rise"].severity == STOP
    assert hot["charge_rise"].value == pytest.approx(49.9, abs=0.2)
    assert hot["charge_over_ambient"].severity == STOP
    assert findings(ambient_temperature=None)["charge_over_ambient"].severity == NO_DATA


def test_rail_sag():
    rail = HEALTHY["rail_pressure"].copy()
    rail[400:420] = 350e5 * 0.9
    found = findings(rail_pressure=rail)["rail_sag"]
    assert found.severity == STOP and found.value == pytest.approx(-0.10)
    assert found.numbers({}).startswith("-10.0 % at")
    assert findings()["rail_sag"].statement == "Rail pressure holds"


def test_injector_window():
    assert findings(injector_window=np.full(T.size, 0.93))["injector_window"].severity == WATCH
    assert findings(injector_window=np.full(T.size, 0.99))["injector_window"].severity == STOP


def test_lean_and_rich():
    lean = findings(lambda_measured=np.where(T > 6, 0.92, 0.86))
    assert lean["lambda_lean"].severity == STOP
    assert lean["lambda_lean"].value == pytest.approx(0.06, abs=1e-6)
    assert lean["lambda_rich"].severity == PASS
    rich = findings(lambda_measured=np.where(T > 6, 0.75, 0.86))
    assert rich["lambda_rich"].severity == STOP and rich["lambda_rich"].value == pytest.approx(-0.11, abs=1e-6)


def test_one_noisy_sample_is_not_a_lean_engine():
    spike = HEALTHY["lambda_measured"].copy()
    spike[300] = 1.2
    assert findings(lambda_measured=spike)["lambda_lean"].severity != STOP


def test_the_sensors_delay_is_considered():
    # The target steps at 5 s; the sensor sees it 0.12 s later. Without the delay that would be an error of 0.06.
    found = findings(lambda_target=np.where(T >= 5.0, 0.86, 0.92), lambda_measured=np.where(T >= 5.12, 0.86, 0.92))
    assert found["lambda_lean"].severity == PASS


@pytest.mark.parametrize(("end", "word"), [(0.65, "rich"), (1.30, "lean")])
def test_a_trace_on_the_sensors_end_is_off_the_scale(end, word):
    found = findings(lambda_measured=np.where(T > 5, end, 0.86))
    for check in ("lambda_lean", "lambda_rich"):
        assert found[check].severity == NO_DATA
        assert found[check].value is None
        assert f"{word} end" in found[check].note and "off the scale" in found[check].note


def test_knock_again_and_again_stops():
    found = findings(spark_correction_2=steps(-1.5, -3.0, -4.5))["knock_retard"]
    assert found.severity == STOP and found.value == 4.5
    assert found.statement == "Cylinder 2 knocked" and found.where.cylinder == 2
    assert found.where.channel == "spark_correction_2"


def dip(depth, seconds=0.3):
    """One dip at 3 s that lasts so long."""
    return np.where((T >= 3.0) & (3.0 + seconds > T), depth, 0.0)


THREE = EngineKind(cylinders=3)


def knocking(engine=THREE, **changes):
    return {f.check: f for f in knock(replace(evidence(**changes), engine=engine))}


def test_a_single_short_dip_is_only_watched():
    # Common practice, no published source: a single dip is noise.
    found = knocking(spark_correction_1=dip(-4.0))
    assert found["knock_retard"].severity == WATCH and "noise" in found["knock_retard"].note
    assert found["knock_duration"].severity == found["knock_repeats"].severity == PASS


@pytest.mark.parametrize("correction", [np.full(T.size, -8.0), steps(-8.0), dip(-4.0, 3.0)])
def test_a_retard_that_stays_is_no_single_dip(correction):
    found = knocking(spark_correction_1=correction)
    assert found["knock_retard"].severity == found["knock_duration"].severity == STOP


def test_a_single_dip_too_deep_for_noise_stops():
    assert knocking(spark_correction_1=dip(-7.0))["knock_retard"].severity == STOP


def test_knock_that_repeats_stops_even_where_no_single_one_is_deep():
    often = sum((np.where((s <= T) & (s + 0.2 > T), -2.0, 0.0) for s in (2.0, 3.5, 5.0, 6.5)), np.zeros(T.size))
    found = knocking(spark_correction_2=often)
    assert found["knock_repeats"].severity == STOP and found["knock_repeats"].value == 4
    assert found["knock_retard"].severity == WATCH


@pytest.mark.parametrize("every", [1, 2, 5])
def test_knocks_are_counted_alike_at_any_rate(every):
    correction = steps(-1.5, -3.0, -4.5)
    t = T[::every]
    retard = Retard(1, "spark_correction_1", t, -np.interp(t, T, correction))
    assert len(retard.events(0.5, 0.12)) == 3


@pytest.mark.parametrize("cylinders", [1, 2, 4, 8, 16])
def test_every_cylinder_of_the_job_is_heard_and_an_unheard_one_is_said(cylinders):
    engine = EngineKind(cylinders=cylinders)
    bare = {f"spark_correction_{i}": None for i in (1, 2, 3)}
    heard = {f"spark_correction_{i}": np.zeros(T.size) for i in range(1, cylinders + 1)}
    data = replace(evidence(**{**bare, **heard}), engine=engine)
    assert {f.severity for f in knock(data)} == {PASS}
    last = f"spark_correction_{cylinders}"
    loud = {f.check: f for f in knock(replace(evidence(**{**bare, **heard, last: steps(-2, -4, -6)}), engine=engine))}
    assert loud["knock_retard"].severity == STOP and loud["knock_retard"].where.cylinder == cylinders
    missing = knock(replace(evidence(**{**bare, **heard, last: None}), engine=engine))
    assert {f.severity for f in missing} == {NO_DATA}
    if cylinders > 1:
        assert all(f"cylinder {cylinders} was not heard" in f.note for f in missing)


def test_a_cylinder_more_than_the_sheet_says_is_heard_too():
    found = knocking(EngineKind(cylinders=2), spark_correction_3=steps(-2, -4, -6))
    assert found["knock_retard"].severity == STOP and found["knock_retard"].where.cylinder == 3


def test_what_was_heard_stops_even_where_another_cylinder_was_not():
    found = knocking(EngineKind(cylinders=4), spark_correction_2=steps(-2, -4, -6))
    assert found["knock_retard"].severity == STOP and found["knock_repeats"].severity == NO_DATA


def test_a_sheet_without_its_cylinders_makes_knock_not_known():
    assert {f.severity for f in knocking(EngineKind(cylinders=0)).values()} == {NO_DATA}
    assert "not stated" in knocking(EngineKind())["knock_retard"].note


def test_one_correction_for_all_cylinders_is_heard_but_tells_no_spread():
    none = {f"spark_correction_{i}": None for i in (1, 2, 3)}
    found = knocking(EngineKind(cylinders=4), **none, spark_correction=np.zeros(T.size))
    assert found["knock_retard"].severity == PASS and found["knock_spread"].severity == NO_DATA


def test_one_cylinder_alone_is_not_asked_for_a_spread():
    none = {f"spark_correction_{i}": None for i in (1, 2, 3)}
    found = knocking(EngineKind(cylinders=1), **none, spark_correction=np.zeros(T.size))
    assert {f.severity for f in found.values()} == {PASS} and "knock_spread" not in found
    assert "knock_spread" not in knocking(EngineKind(cylinders=1), **none)


def test_a_sign_that_is_not_known_is_never_judged():
    data = evidence()
    doubted = replace(data.log.channel("spark_correction_2"), doubt=Doubt("sign", "its sign is unknown"))
    data = replace(data, log=Log({**data.log.channels, "spark_correction_2": doubted}))
    assert {f.severity for f in knock(replace(data, engine=EngineKind(cylinders=3)))} == {NO_DATA}


def test_a_zero_that_is_not_known_leaves_the_difference_to_the_target():
    data = evidence()
    doubt = Doubt("reference", "gauge or absolute")
    both = {k: replace(data.log.channel(k), doubt=doubt) for k in ("boost_pressure", "boost_target")}
    found = {f.check: f.severity for f in boost(replace(data, log=Log({**data.log.channels, **both})))}
    assert found == {"boost_overshoot": PASS, "boost_shortfall": PASS, "boost_swing": PASS, "boost_limit": NO_DATA}
    one = {**data.log.channels, "boost_pressure": both["boost_pressure"]}
    found = {f.check: f.severity for f in boost(replace(data, log=Log(one)))}
    assert set(found.values()) == {NO_DATA}
    other = replace(both["boost_target"], doubt=Doubt("reference", NO_BAROMETER))
    two = {f.check: f.severity for f in boost(replace(data, log=Log({**one, "boost_target": other})))}
    assert set(two.values()) == {NO_DATA}  # one is gauge over no barometer, the other nobody knows
    far = {**both, "boost_target": replace(both["boost_target"], values=both["boost_target"].values - 97e3)}
    apart = {f.check: f.severity for f in boost(replace(data, log=Log({**data.log.channels, **far})))}
    assert set(apart.values()) == {NO_DATA}


def test_spread_between_cylinders():
    found = findings(spark_correction_3=steps(-2.0, -4.5))["knock_spread"]
    assert found.severity == STOP and found.value == 4.5
    equal = findings(**{f"spark_correction_{i}": steps(-1.0) for i in (1, 2, 3)})["knock_spread"]
    assert equal.value == 0.0


def test_exhaust_temperature():
    assert findings(exhaust_temperature=np.full(T.size, 1213.15))["exhaust_temperature"].severity == WATCH
    found = findings(exhaust_temperature=np.full(T.size, 1243.15))["exhaust_temperature"]
    assert found.severity == STOP and found.numbers({}).startswith("970.0 degC")


@pytest.mark.parametrize(
    ("channel", "checks"),
    [
        ("boost_pressure", ("boost_overshoot", "boost_shortfall")),
        ("charge_temperature", ("charge_rise", "charge_over_ambient")),
        ("rail_pressure", ("rail_sag",)),
        ("injector_window", ("injector_window",)),
        ("lambda_measured", ("lambda_lean", "lambda_rich")),
        ("exhaust_temperature", ("exhaust_temperature",)),
        ("coolant_temperature", ("coolant_temperature",)),
        ("oil_temperature", ("oil_temperature",)),
    ],
)
def test_what_was_not_logged_or_is_full_of_holes_is_not_known(channel, checks):
    holed = HEALTHY[channel].astype(float).copy()
    holed[::8] = np.nan
    for values in (None, holed):
        found = findings(**{channel: values})
        for check in checks:
            assert found[check].severity == NO_DATA
            assert found[check].value is None and found[check].note


@pytest.mark.parametrize(
    ("target", "check"),
    [("boost_target", "boost_overshoot"), ("rail_target", "rail_sag"), ("lambda_target", "lambda_lean")],
)
def test_without_its_target_a_channel_is_not_judged(target, check):
    for values in (None, np.full(T.size, np.nan)):
        found = findings(**{target: values})[check]
        assert (found.severity == NO_DATA and CHANNELS[target].title in found.note) or "not in this log" in found.note


def test_engine_speed_full_of_holes_is_not_known():
    limit = ComponentLimit(
        key="engine_speed", component="valves", basis="shaft", unit="rpm", safe=6700, stretch=7000, source="t"
    )
    holed = HEALTHY["engine_speed"].copy()
    holed[::8] = np.nan
    data = replace(evidence(engine_speed=holed), limits=default_limits((limit,)))
    found = {f.check: f for _, family in FAMILIES for f in family(data)}
    assert found["engine_speed"].severity == NO_DATA


def test_a_log_without_any_spark_correction_is_not_called_free_of_knock():
    found = findings(**{f"spark_correction_{i}": None for i in (1, 2, 3)})
    assert found["knock_retard"].severity == NO_DATA


def test_a_few_missing_samples_are_left_out_not_averaged():
    few = HEALTHY["exhaust_temperature"].copy()
    few[10:15] = np.nan
    assert findings(exhaust_temperature=few)["exhaust_temperature"].value == pytest.approx(1123.15)


def of_log(change):
    """The findings of a whole log, found as the command line finds them."""
    log = Log({k: change(c) for k, c in evidence().log.channels.items()})
    (checked,) = check_log("R1", log, default_limits(COMPONENTS))
    return {f.check: f for f in checked.findings if f.check != "power_and_torque"}


def without(start_s, end_s):
    def change(c):
        keep = (c.time_s < start_s) | (c.time_s > end_s)
        return replace(c, time_s=c.time_s[keep], values=c.values[keep])

    return change


def test_what_lies_in_a_gap_of_the_log_never_passes():
    found = of_log(without(5.0, 6.5))
    judged = [
        f for f in found.values() if f.rule is not None and f.check in ("knock_retard", "lambda_lean", "rail_sag")
    ]
    assert len(judged) == 3 and {f.severity for f in judged} == {NO_DATA}
    assert "is missing in the pull" in found["rail_sag"].note
    assert of_log(without(5.0, 5.3))["rail_sag"].severity == PASS


def test_a_log_whose_time_runs_backward_is_not_judged():
    def back(c):
        time_s = c.time_s.copy()
        time_s[[250, 251]] = time_s[[251, 250]]
        return replace(c, time_s=time_s)

    found = of_log(back)
    assert {found[c].severity for c in ("knock_retard", "lambda_lean", "rail_sag", "oil_temperature")} == {NO_DATA}
    assert "time runs backward" in found["rail_sag"].note


@pytest.mark.parametrize(("step", "severity"), [(0.1, STOP), (0.5, STOP), (1.0, NO_DATA)])
def test_a_knock_that_may_lie_between_two_samples_never_passes(step, severity):
    dip = np.where((T > 5.0) & (T < 5.9), -6.0, 0.0)  # held and given back, as a unit does

    def seldom(c):
        keep = slice(None, None, round(step / 0.02))
        if c.key.startswith("spark_correction"):
            values = dip if c.key.endswith("2") else c.values
            return replace(c, time_s=c.time_s[keep], values=values[keep])
        return c

    assert of_log(seldom)["knock_retard"].severity == severity


@pytest.mark.parametrize(
    ("channel", "reading", "check"),
    [
        ("exhaust_temperature", 273.15, "exhaust_temperature"),  # not connected
        ("exhaust_temperature", 293.15, "exhaust_temperature"),  # as cold as the shop
        ("coolant_temperature", 233.15, "coolant_temperature"),  # an open thermistor
        ("oil_temperature", 233.15, "oil_temperature"),
        ("charge_temperature", 233.15, "charge_rise"),
        ("boost_pressure", 0.0, "boost_overshoot"),
        ("rail_pressure", 0.0, "rail_sag"),
        ("injector_window", 0.0, "injector_window"),
        ("rail_target", 0.0, "rail_sag"),  # a share of nothing
        ("boost_target", 0.0, "boost_shortfall"),
        ("lambda_measured", 0.0, "lambda_rich"),
        ("lambda_measured", 9.9, "lambda_lean"),
        ("ambient_temperature", 233.15 - 40.0, "charge_over_ambient"),
        ("ambient_temperature", np.nan, "charge_over_ambient"),
    ],
)
def test_a_dead_sensor_is_no_engine_that_is_well(channel, reading, check):
    changes = {channel: np.full(T.size, reading)}
    if channel in ("boost_pressure", "rail_pressure"):
        changes[channel.replace("pressure", "target")] = np.full(T.size, reading)
    assert findings(**changes)[check].severity == NO_DATA


@pytest.mark.parametrize("value", [np.nan, np.inf, -np.inf])
@pytest.mark.parametrize("check", sorted(default_limits().rules))
def test_what_is_no_number_never_passes(check, value):
    data = evidence()
    assert judge(data.limits.rules[check], value) == NO_DATA
    assert data.found(check, value, "A made statement", data.where("throttle")).severity == NO_DATA


def test_a_sensor_that_fails_within_the_pull_is_said_and_a_single_spike_left_out():
    spiked, broken = HEALTHY["coolant_temperature"].copy(), HEALTHY["coolant_temperature"].copy()
    spiked[100] = 500.0
    broken[300:] = 233.15
    assert findings(coolant_temperature=spiked)["coolant_temperature"].severity == PASS
    found = findings(coolant_temperature=broken)["coolant_temperature"]
    assert found.severity == NO_DATA and "past what it can read" in found.note


def test_every_sensor_range_is_of_a_known_channel_and_states_its_source():
    for key, r in sensor_ranges().items():
        assert UNITS[r.unit].quantity == CHANNELS[key].quantity
        assert r.least < (r.reaches or r.least + 1.0) < r.most and len(r.source) > 10


def test_without_a_ledger_its_checks_are_not_asked():
    data = replace(evidence(), limits=default_limits())
    found = {f.check: f for _, family in FAMILIES for f in family(data)}
    # The shipped limit serves for the exhaust; what only a ledger limits is not asked.
    assert found["exhaust_temperature"].severity == PASS
    assert "power" not in found and "boost_limit" not in found


def test_a_dyno_run_without_a_curve_is_asked_for_its_power(pulled):
    """A ledger that states no power, and a roller that was not logged: not known, never passed over."""
    log, conditions = pulled
    bare = Log({k: c for k, c in log.channels.items() if k != "roller_speed"})
    for given, limits in ((log, default_limits(())), (bare, default_limits(COMPONENTS))):
        found = {f.check: f.severity for f in check_log("R1", given, limits, conditions)[0].findings}
        assert found["power"] == found["torque"] == NO_DATA
    assert "power" not in {f.check for f in check_log("R1", log, default_limits(), conditions)[0].findings}
    assert "power" not in {f.check for f in check_log("R1", log, default_limits(COMPONENTS))[0].findings}


def test_a_bench_pull_is_judged(pulled):
    log, conditions = pulled
    results = check_log("R1", log, default_limits(COMPONENTS), conditions)
    assert len(results) == 1
    by_check = {f.check: f for f in results[0].findings}
    assert by_check["power"].severity == PASS and 60e3 < by_check["power"].value < 90e3
    assert by_check["power"].basis == "wheel, uncorrected"
    assert all(f.family for f in results[0].findings)


def test_summary_is_worst_first_and_counts_pulls():
    one = list(findings(spark_correction_2=steps(-2.0, -4.0)).values())
    two = list(findings().values())
    summaries = summarize([one, two])
    # Without a dyno curve power and torque are not known; knock stops and comes first.
    assert (summaries[0].worst.severity, summaries[0].check) == (STOP, "knock_duration")
    assert summaries[0].sentence() == "Cylinder 2 stays retarded in 1 of 2 pulls"
    assert verdict([s.worst for s in summaries]) == STOP
    assert verdict([]) == NO_DATA


def test_numbers_follow_the_chosen_unit():
    found = findings(boost_pressure=np.full(T.size, 226e3), boost_target=np.full(T.size, 226e3))["boost_limit"]
    assert found.numbers({"pressure": "psi"}).startswith("32.8 psi")
    assert "34.1 psi" in found.numbers({"pressure": "psi"})
    assert amount(6461.0, "rpm") == "6,461 rpm"
    assert amount(-0.04, "deg") == "0.0 deg" and amount(-0.06, "deg") == "-0.1 deg"
    assert amount(0.5, "%") == "50.0 %" and amount(0.87, "lambda") == "0.870 lambda"


def test_judging_both_sides():
    above = Rule(title="t", quantity="ratio", unit="%", side="above", watch=5, stop=8, source="s")
    below = Rule(title="t", quantity="ratio", unit="%", side="below", watch=-5, stop=-8, source="s")
    for rule, sign in ((above, 1.0), (below, -1.0)):
        assert judge(rule, sign * 0.05) == PASS
        assert judge(rule, sign * 0.06) == WATCH
        assert judge(rule, sign * 0.081) == STOP


def test_every_default_limit_names_its_source():
    for rule in default_limits().rules.values():
        assert rule.source


GOOD = """
[rail_sag]
title = "t"
quantity = "ratio"
unit = "%"
side = "below"
watch = -2.0
stop = -3.0
source = "mine"
"""


def test_own_limits_replace_the_defaults(tmp_path):
    path = tmp_path / "limits.toml"
    path.write_text(GOOD)
    limits = read_limits(path)
    assert limits.rules["rail_sag"].stop == -3.0
    assert limits.rules["knock_retard"].stop == default_limits().rules["knock_retard"].stop


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('unit = "%"', 'unit = "kPa"', "does not measure"),
        ("watch = -2.0", "watch = -4.0", "before stop"),
        ('source = "mine"', 'source = ""', "source"),
        ("[rail_sag]", "[rail_sog]", "no limit 'rail_sog'"),
        ('side = "below"', 'side = "left"', "side"),
        ("stop = -3.0", "stop = -3.0 -", "TOML"),
    ],
)
def test_limits_that_cannot_be_are_refused(tmp_path, old, new, message):
    path = tmp_path / "limits.toml"
    path.write_text(GOOD.replace(old, new))
    with pytest.raises(FormatError, match=message) as caught:
        read_limits(path)
    assert "limits.toml" in str(caught.value)


def test_component_limits_in_order():
    with pytest.raises(ValueError, match="safe is above"):
        ComponentLimit(key="power", component="c", basis="wheel", unit="kW", safe=99, stretch=98, source="t")
    with pytest.raises(FormatError):
        parse_limits("nonsense = 3")


# -- several of one kind


def bank(log, key, other, change):
    """The log with a second sensor, whose numbers are the first one's changed."""
    c = log.channel(key)
    return replace(log, channels={**log.channels, other: replace(c, key=other, values=change(c.values))})


@pytest.mark.parametrize(
    ("key", "other", "change", "check"),
    [
        ("lambda_measured", "lambda_measured_bank_2", lambda v: v + 0.12, "lambda_lean"),
        ("exhaust_temperature", "exhaust_temperature_3", lambda v: v + 250.0, "exhaust_temperature"),
        ("boost_pressure", "boost_pressure_bank_2", lambda v: v + 40e3, "boost_overshoot"),
        ("spark_correction_1", "spark_correction_bank_2", lambda v: v - 6.0, "knock_retard"),
    ],
)
def test_the_worst_of_several_sensors_is_the_one_that_counts(pulled, key, other, change, check):
    log, conditions = pulled

    def found(log):
        return next(
            f for r in check_log("e", log, default_limits(), conditions) for f in r.findings if f.check == check
        )

    before, after = found(log), found(bank(log, key, other, change))
    assert ORDER[after.severity] < ORDER[before.severity] and after.where.channel == other
    broken = found(bank(log, key, other, lambda v: v * np.nan))
    assert broken.severity in (NO_DATA, STOP)
