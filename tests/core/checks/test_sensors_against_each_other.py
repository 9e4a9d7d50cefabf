"""What two sensors say of one thing, what the log shows beside its pulls, and how far the spark is from best torque."""

from dataclasses import replace

import numpy as np
import pytest
from test_baseline import against, pull
from test_checks import T, evidence, findings

from yarvic.core.checks.best_torque import PARABOLA, best_torque
from yarvic.core.checks.cross_checks import cross_checks
from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.checks.filling import filling
from yarvic.core.checks.finding import PASS, STOP, WATCH
from yarvic.core.checks.limits import default_limits
from yarvic.core.checks.run import check_log
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.driving import driven
from yarvic.core.evidence.dyno import Curve
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.evidence.pulls import find_pulls
from yarvic.core.physics.correction import Correction
from yarvic.core.physics.fuel import fuel

EVEN = np.ones(T.size)


def crossed(data):
    return {f.check: f for f in cross_checks(data)}


@pytest.mark.parametrize(
    ("kpa", "stated_kpa", "heights", "severity"),
    [
        (97.5, 97.0, None, PASS), (94.0, 97.0, None, WATCH), (90.0, 97.0, None, STOP),
        # ISO 2533: 89.87 kPa at 1,000 m, 101.325 at sea level; weather adds 4 either way.
        (90.0, None, (0.0, 1000.0), PASS), (84.0, None, (0.0, 1000.0), WATCH), (80.0, None, (0.0, 1000.0), STOP),
        (104.0, None, (0.0, 0.0), PASS), (108.0, None, (0.0, 0.0), WATCH),
    ],
)  # fmt: skip
def test_a_barometer_is_held_against_what_was_stated_or_the_altitude(kpa, stated_kpa, heights, severity):
    data = evidence(ambient_pressure=EVEN * kpa * 1e3)
    stated = Conditions(simulated=False, pressure_pa=stated_kpa * 1e3) if stated_kpa else None
    data = replace(data, conditions=stated, limits=replace(data.limits, altitudes_m=heights))
    assert crossed(data)["barometer_off"].severity == severity


def test_a_barometer_of_which_nothing_is_known_is_not_asked():
    data = replace(evidence(ambient_pressure=EVEN * 97e3), conditions=None)
    assert "barometer_off" not in crossed(data) and "barometer_off" not in crossed(evidence())


@pytest.mark.parametrize(("over_k", "severity"), [(5.0, PASS), (-2.0, PASS), (-6.0, WATCH), (-15.0, STOP)])
def test_no_cooler_cools_below_its_air(over_k, severity):
    data = evidence(charge_temperature=EVEN * (293.15 + over_k), ambient_temperature=EVEN * 293.15)
    assert crossed(data)["charge_under_ambient"].severity == severity


@pytest.mark.parametrize(("efficiency", "severity"), [(0.10, STOP), (0.15, WATCH), (0.28, PASS), (0.45, WATCH)])
def test_power_is_held_against_air_and_fuel(efficiency, severity):
    """0.1 kg/s of air, 14.5 to 1 of petrol with 43.5 MJ/kg: 300 kW of fuel; a rich mixture burns no more than its air."""
    data = evidence(air_flow=EVEN * 0.1, lambda_measured=EVEN * 0.86)
    speed = data.log.channel("engine_speed").values[::20]
    energy = 0.1 / 14.52 * 43.5e6
    none = np.full(speed.size, np.nan)
    power, at = np.full(speed.size, efficiency * energy), Correction("none", "none", 1.0, None)
    curve = Curve(speed, power, np.ones(speed.size), at, 50.0, none, none)
    data = replace(data, curve=curve, conditions=Conditions(simulated=False, fuel="petrol-95"))
    found = crossed(data)
    worst = min(
        (found[c] for c in ("energy_low", "energy_high")), key=lambda f: [STOP, WATCH, PASS].index(f.severity)
    )
    assert worst.severity == severity and worst.value == pytest.approx(efficiency, rel=0.01)
    diesel = replace(
        data, engine=EngineKind("compression", cylinders=4), conditions=data.conditions.changed(fuel="diesel")
    )
    assert "energy_low" not in crossed(diesel)  # its fuel was not logged


def test_a_rail_that_falls_with_speed_and_comes_back_late_is_told():
    target = np.full(T.size, 200e5)
    falls = findings(rail_target=target, rail_pressure=target * (1.0 - 0.10 * T / T[-1]))
    per_1000 = -0.10 / (4.4)  # of 4,400 rpm in the sweep
    assert falls["rail_slope"].value == pytest.approx(per_1000, rel=0.05) and falls["rail_slope"].severity == WATCH
    assert falls["rail_low"].severity == STOP and "not back" in falls["rail_low"].note
    dips = findings(rail_target=target, rail_pressure=np.where((T > 5) & (T < 6), 0.92, 1.0) * target)
    assert dips["rail_low"].value == pytest.approx(1.0, abs=0.06) and dips["rail_low"].severity == WATCH
    assert not dips["rail_low"].note and findings()["rail_low"].severity == PASS


def test_what_the_manifold_misses_of_the_barometer_and_what_the_switch_costs():
    data = evidence(boost_pressure=EVEN * 88e3, ambient_pressure=EVEN * 97e3)
    data = replace(data, engine=EngineKind(boosted=False), pull=replace(data.pull, throttle=1.0))
    found = {f.check: f for f in filling(data)}
    assert found["restriction_manifold"].severity == WATCH
    assert found["restriction_manifold"].value == pytest.approx(9.0 / 97.0, abs=1e-3)
    switched = (T > 5.0) * 1.0
    for lost, severity in ((-0.03, PASS), (0.04, WATCH), (0.09, STOP)):
        data = evidence(intake_length=switched, filling=0.8 * (1.0 - lost * switched))
        step = {f.check: f for f in filling(data)}["runner_step"]
        assert step.severity == severity and step.value == pytest.approx(max(lost, 0.0), abs=2e-3)


def spark(own_deg, base_deg, torque):
    """A pull lit at one spark, against one lit at another; torque of the pull as a share of the other's."""
    flow = {"spark_advance": EVEN * own_deg, "roller_torque": EVEN * 200.0 * torque}
    base = pull(spark_advance=EVEN * base_deg, roller_torque=EVEN * 200.0)
    from test_baseline import signed

    from yarvic.core.checks.baseline import Baseline

    return replace(pull(**flow), baseline=Baseline("R1", (signed(base),), same_maps=False))


def test_spark_past_best_torque_is_told_by_the_parabola():
    """Torque is 1 - k (way from best)^2: at 2 deg before and 3 deg past best the formula is exact."""
    torque = (1.0 - PARABOLA * 9.0) / (1.0 - PARABOLA * 81.0)  # from 9 deg past best to 3 deg past best
    (found,) = best_torque(spark(22.0, 28.0, torque), [])
    assert found.value == pytest.approx(3.0, abs=0.25) and found.severity == WATCH and "6.0 deg later" in found.note
    # Heywood 1988, figure 9-3 (from memory): 10 deg late of best torque costs some 4 per cent.
    (found,) = best_torque(spark(20.0, 10.0, 1.0 / 0.958), [])
    assert found.value == pytest.approx(0.0, abs=0.3) and found.severity == PASS


def test_the_way_to_best_torque_is_not_asked_where_something_else_moved_torque():
    earlier = spark(26.0, 20.0, 0.97)
    (found,) = best_torque(earlier, [])
    assert found.severity == STOP
    knocks = findings(spark_correction_1=np.where((T > 4) & (T < 6), -4.0, 0.0))["knock_retard"]
    assert knocks.severity != PASS and best_torque(earlier, [knocks]) == []
    assert best_torque(spark(20.2, 20.0, 0.97), []) == [] and best_torque(spark(26.0, 20.0, 1.001), []) == []
    assert best_torque(against(pull(), same_maps=True), []) == []
    assert best_torque(replace(earlier, engine=EngineKind("compression")), []) == []


def drive(rate=20.0, **changed):
    """Two minutes of cruise, a pull, the same cruise again, a cool-down."""
    t = np.arange(0.0, 300.0, 1.0 / rate)
    pulls = (t >= 120.0) & (t < 130.0)
    cools = t > 260.0
    values = {
        "engine_speed": np.where(pulls, 2000.0 + 440.0 * (t - 120.0), np.where(cools, 900.0, 2000.0)),
        "throttle": np.where(pulls, 1.0, np.where(t < 130.0, 0.12, np.where(cools, 0.0, 0.15))),
        "fuel_trim": np.where(t < 120.0, 0.03, 0.10),
        "coolant_temperature": 363.0 + np.round(2.0 * np.sin(t / 20.0)),
        **{k: f(t) for k, f in changed.items()},
    }
    kinds = {k: CHANNELS[k] for k in values}
    return Log({k: Channel(k, c.title, c.quantity, c.unit, t, values[k]) for k, c in kinds.items()})


@pytest.mark.parametrize("rate", [5.0, 20.0, 100.0])
def test_cruises_are_found_alike_at_any_rate(rate):
    log = drive(rate)
    found = driven(log, find_pulls(log))
    assert [d.kind for d in found] == ["cruise", "cruise"]
    assert found[0].end_s == pytest.approx(120.0, abs=0.5) and found[1].start_s == pytest.approx(130.0, abs=0.5)
    assert found[0].speed_rpm == pytest.approx(2000.0, abs=5.0) and "12 % throttle" in found[0].title


def test_a_cool_down_follows_a_pull_and_a_held_speed_is_loaded():
    def closed_behind(t):
        return np.where((t >= 120.0) & (t < 130.0), 1.0, np.where(t < 100.0, 0.6, 0.0))

    log = drive(throttle=closed_behind)
    kinds = [d.kind for d in driven(log, find_pulls(log))]
    assert kinds == ["hold", "cool-down"]
    assert driven(Log({}), []) == []


def checked(log, **kind):
    return {f.check: f for f in check_log("x", log, default_limits(), engine=EngineKind(**kind))[0].findings}


def test_the_trims_of_the_worst_cruise_are_told_with_the_pull():
    found = checked(drive())["cruise_trim"]
    assert found.severity == WATCH and found.value == pytest.approx(0.10, abs=1e-3) and found.family == "Mixture"
    assert "one of 2" in found.note and 130.0 < found.where.time_s < 260.0
    error = checked(drive(lambda_measured=lambda t: 1.0 + 0.06 + 0 * t, lambda_target=lambda t: 1.0 + 0 * t))
    assert error["cruise_trim"].value == pytest.approx(0.16, abs=1e-3) and error["cruise_trim"].severity == STOP
    assert "cruise_trim" not in checked(drive(), ignition="compression")


def test_a_coolant_that_does_not_move_is_watched():
    assert checked(drive())["sensor_still"].severity == PASS
    stuck = checked(drive(coolant_temperature=lambda t: 363.15 + 0.0 * t))["sensor_still"]
    assert stuck.severity == WATCH and stuck.value == pytest.approx(300.0, abs=1.0) and "Coolant" in stuck.statement


def test_manifold_and_barometer_read_the_same_air_while_the_engine_stands():
    def standing(kpa):
        return {
            "engine_speed": lambda t: np.where(t < 5.0, 0.0, drive().channel("engine_speed").values),
            "boost_pressure": lambda t: np.where(t < 5.0, kpa * 1e3, 150e3),
            "ambient_pressure": lambda t: 97e3 + 0.0 * t,
        }

    assert checked(drive(**standing(97.4)))["rest_apart"].severity == PASS
    off = checked(drive(**standing(101.3)))["rest_apart"]
    assert off.severity == WATCH and off.value == pytest.approx(4.3e3)
    assert "rest_apart" not in checked(drive())


def test_heat_that_soaks_in_is_told_from_the_second_pull_on():
    t = np.arange(0.0, 60.0, 0.05)
    phase = t % 30.0
    on = (phase >= 10.0) & (phase < 20.0)
    values = {
        "engine_speed": np.where(on, 1800.0 + 440.0 * (phase - 10.0), 1800.0), "throttle": np.where(on, 1.0, 0.1),
        "charge_temperature": 303.0 + np.where(t > 30.0, 15.0, 0.0) + 0.5 * np.where(on, phase - 10.0, 0.0),
    }  # fmt: skip
    kinds = {k: CHANNELS[k] for k in values}
    log = Log({k: Channel(k, c.title, c.quantity, c.unit, t, values[k]) for k, c in kinds.items()})
    first, second = ({f.check: f for f in p.findings} for p in check_log("x", log, default_limits()))
    assert "heat_soak" not in first
    assert second["heat_soak"].severity == WATCH and second["heat_soak"].value == pytest.approx(15.0, abs=0.1)
    # 5 K on 303 K at one pressure: an ideal gas loses 1.6 % of its density.
    assert "1.6 % of the charge's density" in first["charge_rise"].note


def test_limits_differ_by_use_and_fuel_and_a_finding_says_by_which_it_was_judged():
    data = evidence(lambda_measured=EVEN * 0.89, lambda_target=EVEN * 0.86)
    course = replace(data, limits=replace(data.limits, use="closed course"))
    assert course.limit_key("oil_temperature") == "oil_temperature_closed_course"
    assert data.limit_key("oil_temperature") == "oil_temperature"
    blend = replace(data, conditions=Conditions(simulated=False, fuel="petrol-95+e85"))
    assert blend.limit_key("lambda_lean") == "lambda_lean_ethanol" and blend.rule("lambda_lean").stop == 0.06
    weak = replace(data, conditions=Conditions(simulated=False, fuel="petrol-95+e30"))
    assert weak.limit_key("lambda_lean") == "lambda_lean"
    assert findings(lambda_measured=EVEN * 0.89)["lambda_lean"].limit == "lambda_lean"


def test_a_finding_says_which_channels_its_family_read():
    log = drive(oil_temperature=lambda t: 370.0 + 0.01 * t)
    found = checked(log)
    assert set(found["oil_temperature"].read) == {"coolant_temperature", "oil_temperature"}


def test_an_engine_that_stands_and_a_gap_are_no_sensor_that_stands_still():
    def parked(t):
        return np.where((t > 30.0) & (t < 100.0), 0.0, drive().channel("engine_speed").values)

    still = checked(drive(engine_speed=parked, coolant_temperature=lambda t: np.where(t < 100.0, 350.0, 350.0 + t)))
    assert still["sensor_still"].value == pytest.approx(30.0, abs=1.0)
    log = drive(coolant_temperature=lambda t: 363.15 + 0.0 * t)
    holed = {
        k: replace(c, time_s=np.where(c.time_s > 250.0, c.time_s + 5000.0, c.time_s)) for k, c in log.channels.items()
    }
    assert checked(replace(log, channels=holed))["sensor_still"].value == pytest.approx(250.0, abs=1.0)


def test_each_bank_has_its_own_trims_and_the_worst_is_told():
    banks = {"fuel_trim_bank_1": EVEN * 0.01, "long_trim_bank_1": EVEN * 0.02, "fuel_trim_bank_2": -EVEN * 0.05,
             "long_trim_bank_2": -EVEN * 0.06}  # fmt: skip
    found = findings(**banks)["trim_sum"]
    assert found.value == pytest.approx(0.11) and found.severity == WATCH and "bank_2" in found.where.channel
    at_cruise = checked(drive(fuel_trim_bank_1=lambda t: 0.01 + 0 * t, fuel_trim_bank_2=lambda t: -0.2 + 0 * t))
    assert at_cruise["cruise_trim"].value == pytest.approx(0.2) and at_cruise["cruise_trim"].severity == STOP


def test_the_way_to_best_torque_is_not_told_where_what_else_made_torque_was_not_logged():
    for missing in ({"lambda_measured": None}, {"boost_pressure": None}):
        both = {"roller_torque": EVEN * 200.0, **missing}
        from test_baseline import signed

        from yarvic.core.checks.baseline import Baseline

        base = Baseline("R1", (signed(pull(spark_advance=EVEN * 20.0, **both)),), same_maps=False)
        own = pull(spark_advance=EVEN * 26.0, **{**both, "roller_torque": EVEN * 190.0})
        assert best_torque(replace(own, baseline=base), []) == []


# -- exhaust against mixture, lambda against air and fuel, rail against opening time


@pytest.mark.parametrize(
    ("mixture", "celsius", "low", "high"),
    [
        # By hand: (1 + 1/(14.6 * 0.87)) * 1.2e3 * (900 - 40) / 2.98e6 = 0.374.
        (0.87, 900.0, PASS, PASS), (1.0, 950.0, PASS, PASS), (1.7, 560.0, PASS, PASS),
        (0.87, 500.0, WATCH, PASS), (0.87, 350.0, STOP, PASS),  # a probe far from the port
        (1.7, 900.0, PASS, STOP),  # so lean it cannot be so hot
    ],
)  # fmt: skip
def test_exhaust_is_held_against_the_mixture(mixture, celsius, low, high):
    """Heywood 1988, table 12.1 (from memory): 34 to 45 % of a spark engine's fuel at full load, 22 to 35 % of a diesel's."""
    data = evidence(exhaust_temperature=EVEN * (celsius + 273.15), lambda_measured=EVEN * mixture)
    found = crossed(data)
    assert (found["exhaust_heat_low"].severity, found["exhaust_heat_high"].severity) == (low, high)
    if celsius == 900.0 and mixture == 0.87:
        assert found["exhaust_heat_low"].value == pytest.approx(0.3735, abs=2e-3)


def test_exhaust_of_which_the_mixture_is_unknown_is_not_asked():
    data = evidence(exhaust_temperature=EVEN * 1100.0)
    without = {k: c for k, c in data.log.channels.items() if k != "lambda_measured"}
    assert "exhaust_heat_low" not in crossed(replace(data, log=replace(data.log, channels=without)))


@pytest.mark.parametrize(("reads", "severity"), [(1.0, PASS), (1.08, PASS), (0.85, WATCH), (1.3, STOP)])
def test_lambda_is_held_against_air_and_injected_fuel(reads, severity):
    """Four cylinders of 60 mg at 3,000 1/min are 6 g/s of fuel; 1.5 times the 14.5 (diesel) of it in air."""
    speed = evidence().log.channel("engine_speed").values
    each = EVEN * 60e-6
    diesel = fuel("diesel")
    air = 1.5 * diesel.stoichiometric_afr * each * 4.0 * speed / 120.0
    data = evidence(injected_quantity=each, air_flow=air, lambda_measured=EVEN * 1.5 * reads)
    stated = Conditions(simulated=False, fuel="diesel")
    data = replace(data, conditions=stated, engine=EngineKind("compression", cylinders=4))
    found = crossed(data)["mixture_by_fuel"]
    assert found.severity == severity and found.value == pytest.approx(abs(reads - 1.0), abs=1e-3)
    assert "mixture_by_fuel" not in crossed(replace(data, engine=EngineKind("compression")))


@pytest.mark.parametrize(
    ("true_rail", "read_rail", "severity"),
    [
        (np.full(T.size, 20e6), np.full(T.size, 20e6), PASS),
        (np.linspace(20e6, 12e6, T.size), np.linspace(20e6, 12e6, T.size), PASS),  # it sags, and the sensor says so
        (np.linspace(20e6, 8e6, T.size), np.full(T.size, 20e6) + np.random.default_rng(1).normal(0, 1e4, T.size), WATCH),
        (np.linspace(20e6, 3e6, T.size), np.full(T.size, 20e6) + np.random.default_rng(1).normal(0, 1e4, T.size), STOP),
    ],
)  # fmt: skip
def test_a_rail_that_is_not_what_it_reads_is_told_by_opening_time_and_fuel(true_rail, read_rail, severity):
    """An injector's flow goes with the root of its pressure (Bernoulli)."""
    opening = np.linspace(3e-3, 5e-3, T.size)
    speed = evidence().log.channel("engine_speed").values
    each = opening * np.sqrt(true_rail)
    data = evidence(
        injection_time=opening,
        rail_pressure=read_rail,
        lambda_measured=EVEN * 0.9,
        air_flow=each * speed * 0.9 * 1e-9,
    )
    assert crossed(data)["rail_by_duration"].severity == severity
