"""Cell and road: two dynos that disagree, ramps and holds, a day that drifts, a road with a grade."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarvic.bench.cell import Weather, dyno, dynos, station_reading
from yarvic.bench.drive import Drive
from yarvic.bench.rig import usual_settings
from yarvic.core.errors import EvidenceError, LinkError
from yarvic.core.evidence.dyno import dyno_curve, held_power
from yarvic.core.evidence.pulls import find_pulls, steady_span
from yarvic.core.physics.air import Air, vapour_pressure
from yarvic.core.physics.correction import correction
from yarvic.core.physics.power import RAD_PER_S_PER_RPM, power_from_torque
from yarvic.core.physics.road import road_force

DAY = Air(97_400.0, 293.15, 0.5)
MIDDLE = {"ptarmigan": (3000.0, 6000.0), "wether": (1700.0, 3500.0), "fieldfare": (4500.0, 7500.0)}


def mean(bench, name, run):
    return bench.curve(run).mean_power(*MIDDLE[name])


@pytest.mark.parametrize("name", sorted(MIDDLE))
def test_two_dynos_disagree_by_what_tyres_and_straps_take(bench, name):
    rig = bench.rig(name)
    how = replace(usual_settings(rig.plant), kind="ramp")
    north, south = (bench.run(name, how, cell=c) for c in ("north", "south"))
    ratio = mean(bench, name, south) / mean(bench, name, north)
    assert ratio == pytest.approx((1 - dyno("south").tyre_loss) / (1 - dyno("north").tyre_loss), abs=0.006)
    # Common practice, no published source: one car read 295 whp on one dyno and 350 on another.
    assert 0.80 < ratio < 0.90
    assert any("two dynos" in r for r in north[1].comparable_with(south[1]))


def test_the_gain_is_much_the_same_on_both(bench):
    """Absolute numbers differ by a sixth; what a map gains, in shares, does not."""
    gains = []
    leaner = bench.image("fieldfare", {"injection_time": lambda v: v / 1.15})
    for cell in ("north", "south"):
        rich, lean = (
            mean(bench, "fieldfare", bench.run("fieldfare", cell=cell, **i)) for i in ({}, {"image": leaner})
        )
        gains.append(lean / rich)
    assert gains[0] == pytest.approx(gains[1], abs=0.012)


@pytest.mark.parametrize("name", sorted(MIDDLE))
def test_ramp_and_hold_agree(bench, name):
    """The brake's torque at a held speed is what the ramp reads there: two ways to one power."""
    rig = bench.rig(name)
    usual = usual_settings(rig.plant)
    ramp = bench.curve(bench.run(name, replace(usual, kind="ramp", ramp_rpm_s=usual.ramp_rpm_s / 2.0)))
    rpm = sum(MIDDLE[name]) / 2.0
    log, _conditions = bench.run(name, replace(usual, kind="hold", hold_rpm=rpm, hold_s=6.0))
    span = steady_span(log)[0]
    t = np.arange(span.start_s, span.end_s - 0.2, 0.05)
    roller_rad_s = log.at("roller_speed", t) * RAD_PER_S_PER_RPM
    held = held_power(log, span).power_w
    assert held == pytest.approx(float(np.mean(log.at("roller_torque", t) * roller_rad_s)), rel=2e-3)
    # A turbocharger lags a little behind a ramp, however slow.
    lag = {"wether": 0.045, "ptarmigan": 0.035}.get(name, 0.025)
    assert held == pytest.approx(float(np.interp(rpm, ramp.speed_rpm, ramp.power_w)), rel=lag)
    assert np.ptp(log.at("engine_speed", t)) < 40.0
    assert find_pulls(log) == []


def test_a_free_run_reads_the_engine_less_what_it_spends_on_itself(bench):
    """Inertia dyno: roller power = (torque - engine inertia x its rate) x losses: the reduction, done from the truth."""
    from tests_of_runs import truth_of_a_run

    truth, log, conditions = truth_of_a_run(bench, "ptarmigan")
    curve = dyno_curve(log, find_pulls(log)[0], conditions, "none", boost_controlled=True)
    expected = np.interp(curve.speed_rpm, truth["rpm"], truth["roller_w"])
    middle = (curve.speed_rpm > 2600) & (curve.speed_rpm < 6000)
    assert curve.power_w[middle] == pytest.approx(expected[middle], rel=0.02)


def test_a_faster_ramp_shows_less_of_the_engine_inertia_aside(bench):
    """The brake reads what reaches it: an engine that must accelerate itself faster gives it less."""
    rig = bench.rig("ptarmigan")
    slow, fast = (
        mean(
            bench, "ptarmigan", bench.run("ptarmigan", replace(usual_settings(rig.plant), kind="ramp", ramp_rpm_s=r))
        )
        for r in (250.0, 900.0)
    )
    assert 0.80 * slow < fast < 0.97 * slow


def test_std_reads_over_sae_by_four_per_cent(bench, healthy):
    # From the two standards' reference conditions; the trade's "four per cent".
    log, conditions = healthy["fieldfare"]
    std, sae = (
        dyno_curve(log, find_pulls(log)[0], conditions, s, boost_controlled=False).peak_power[0]
        for s in ("std", "sae-j1349")
    )
    assert std / sae == pytest.approx(1.04, abs=0.012)
    assert correction("std", conditions.air).factor > correction("sae-j1349", conditions.air).factor


# -- the trade's numbers; common practice, no published source: they concern kinds of vehicles


def test_three_pulls_spread_by_little_and_the_least_cooled_is_lowest(bench):
    rig = bench.rig("ptarmigan")
    usual = usual_settings(rig.plant)
    peaks = np.array([bench.curve(rig.pull(usual)).peak_power[0] for _ in range(3)])
    # About 4 hp of 250 between three pulls with a minute of cooling between.
    assert np.ptp(peaks) / peaks.mean() < 4.0 / 250.0
    hot = [bench.curve(rig.pull(replace(usual, cool_down_s=0.0))).peak_power[0] for _ in range(4)]
    # Heat soak over back-to-back pulls costs a small turbo petrol up to a tenth.
    assert 0.005 < 1.0 - hot[-1] / peaks.mean() < 0.12


def test_humid_haze_costs_a_breathing_engine_a_few_per_cent(bench):
    dry, wet = (mean(bench, "fieldfare", bench.run("fieldfare", air=Air(99_000.0, 303.15, h))) for h in (0.10, 0.95))
    # About 10 hp of 230.
    assert 0.02 < 1.0 - wet / dry < 0.06


def test_cold_weather_gives_a_few_per_cent(bench):
    warm, cold = (
        mean(bench, "ptarmigan", bench.run("ptarmigan", air=Air(98_000.0, t, 0.5))) for t in (298.15, 277.15)
    )
    # 5-10 hp at about 295 between a summer day and 4 degC.
    assert 0.003 < cold / warm - 1.0 < 0.06


def test_part_throttle_makes_less_and_later(bench, healthy):
    rig = bench.rig("fieldfare")
    half = bench.curve(rig.pull(replace(usual_settings(rig.plant), throttle=0.5)))
    full = bench.curve(healthy["fieldfare"])
    assert 0.4 < half.peak_torque[0] / full.peak_torque[0] < 0.98
    assert half.peak_torque[1] <= full.peak_torque[1] + 200.0


def test_compression_is_worth_its_per_cent(bench):
    """12.0 to 13.2 by pistons: half of the step from 10.0 to 12.5 that is worth 6 to 8 per cent."""
    plain, high = (
        mean(bench, "fieldfare", bench.run("fieldfare", parts=p))
        for p in ({}, {"cylinders": "high-compression pistons"})
    )
    assert 0.015 < high / plain - 1.0 < 0.05


def test_shutters_shut_and_open(bench):
    """Intake temperature over back-to-back pulls: it starts and ends higher with the shutters shut."""
    ends = {}
    for said, opens in (("shut", 80.0), ("open", 0.0)):
        rig = bench.rig(
            "ptarmigan", air=Air(98_000.0, 298.15, 0.5), image=bench.image("ptarmigan", shutters_open_above=opens)
        )
        usual = replace(usual_settings(rig.plant), cool_down_s=20.0)
        runs = [rig.pull(usual) for _ in range(3)]
        charge = runs[-1][0].channels["charge_temperature"].values
        ends[said] = (float(charge[0]), float(charge.max()))
    # 113 to over 130 degF shut, 100 to 115 degF open: about 7 K at the start, 8 K at the end.
    assert 1.0 < ends["shut"][0] - ends["open"][0] < 15.0
    assert 3.0 < ends["shut"][1] - ends["open"][1] < 20.0


def test_ethanol_gains(bench, healthy):
    """An E30 map with the boost that its knock margin allows, against the petrol map: 10 to 15 of about 250."""
    more = {"boost_target": lambda v: v + 12.0, "torque_limit": lambda v: v + 20.0}
    log, conditions = bench.run("ptarmigan", image=bench.image("ptarmigan", more), slot="E30", fuel="petrol-95+e30")
    gain = mean(bench, "ptarmigan", (log, conditions)) / mean(bench, "ptarmigan", healthy["ptarmigan"]) - 1.0
    assert 0.02 < gain < 0.12
    # And it knocks no more for it than petrol would at that boost.
    petrol, _ = bench.run("ptarmigan", image=bench.image("ptarmigan", more))
    deepest = [
        max(float(-x.channels[f"spark_correction_{i}"].values.min()) for i in (1, 2, 3)) for x in (petrol, log)
    ]
    assert deepest[1] <= min(deepest[0] + 0.1, 2.0)


# -- weather


@given(st.floats(85e3, 104e3), st.floats(255.0, 305.0), st.floats(0.1, 0.9), st.floats(0.0, 23.0), st.integers(0, 50))
def test_a_day_keeps_its_water_and_its_bounds(pressure, temperature, humidity, hour, seed):
    weather = Weather(Air(pressure, temperature, humidity), hour, seed=seed)
    assert weather.at(0.0) == weather.air
    for elapsed in (1800.0, 7200.0, 30_000.0):
        air = weather.at(elapsed)
        assert abs(air.temperature_k - temperature) < 10.0 and abs(air.pressure_pa - pressure) < 700.0
        if 0.02 < air.relative_humidity < 1.0:
            assert vapour_pressure(air) == pytest.approx(vapour_pressure(weather.air), rel=1e-6)
    assert Weather(weather.air, hour, drifts=False).at(20_000.0) == weather.air


def test_it_is_warmest_in_the_afternoon():
    weather = Weather(DAY, 8.0)
    hours = np.arange(0.0, 14.0, 0.25)
    warmest = 8.0 + hours[np.argmax([weather.at(h * 3600.0).temperature_k for h in hours])]
    assert warmest == pytest.approx(15.0, abs=0.3)


def test_the_station_reads_nearly_what_there_is(bench):
    rng = np.random.default_rng(3)
    read = [station_reading(DAY, rng) for _ in range(400)]
    assert np.mean([r.temperature_k for r in read]) == pytest.approx(DAY.temperature_k, abs=0.05)
    assert 0.05 < np.std([r.temperature_k for r in read]) < 0.4
    assert all(round(r.pressure_pa / 10.0, 6) == round(r.pressure_pa / 10.0) for r in read)
    assert station_reading(Air(97_400.0, 293.15, 1.0), rng).relative_humidity <= 1.0


def test_the_day_goes_on_with_runs_and_cooling(bench):
    rig = bench.rig("ptarmigan")
    rig.weather = Weather(DAY, 9.0)
    first = rig.pull(usual_settings(rig.plant))[1]
    rig.cool(3.0 * 3600.0)
    later = rig.pull(usual_settings(rig.plant))[1]
    assert later.temperature_k > first.temperature_k + 2.0
    assert later.relative_humidity < first.relative_humidity


def test_a_fan_that_stands_lets_it_soak(bench):
    def start(fan):
        rig = bench.rig("ptarmigan")
        for _ in range(3):
            run = rig.pull(replace(usual_settings(rig.plant), cool_down_s=20.0, fan=fan))
        return run[1].charge_start_k

    assert start(0.0) > start(1.0) + 3.0


# -- the road


def test_a_road_run_obeys_the_road(bench):
    """Force from the logged acceleration is what the law of the road asks at that speed, less the driveline's loss."""
    rig = bench.rig("ptarmigan")
    how = replace(usual_settings(rig.plant), kind="road", grade=0.03, gear=3)
    log, conditions = rig.pull(how)
    assert conditions.dyno == "simulated road" and conditions.engine_per_roller is None
    t = np.arange(4.0, float(log.channels["gps_speed"].time_s[-1]) - 2.0, 0.2)
    v = log.at("gps_speed", t)
    # The accelerometer feels motion and grade together.
    along = log.at("acceleration", t) - 9.80665 * np.sin(np.arctan(0.03))
    body = rig.plant.body
    force = road_force(
        v, along, mass_kg=body.mass_kg, grade=0.03, rolling=body.rolling, drag_area_m2=body.drag_area_m2,
        air_density=1.157,
    )  # fmt: skip
    wheel_nm = force * rig.plant.driveline.tyre_radius_m / rig.engine_per_wheel(3)
    power = float(np.nanmax(wheel_nm * log.at("engine_speed", t) * RAD_PER_S_PER_RPM))
    roller = bench.curve(bench.run("ptarmigan")).peak_power[0]
    # The road's number holds the wheels' and the engine's own inertia back, as the roller's does, and no roller loss.
    assert 0.85 < power / roller < 1.15
    assert 1.0 / np.median(np.diff(log.channels["gps_speed"].time_s)) == pytest.approx(10.0, rel=0.01)


def test_uphill_is_slower(bench):
    rig = bench.rig("fieldfare")
    flat, steep = (
        rig.pull(replace(usual_settings(rig.plant), kind="road", grade=g))[0].span()[1] for g in (0.0, 0.12)
    )
    assert steep > 1.1 * flat


def test_a_road_run_has_no_dyno_curve(bench):
    rig = bench.rig("fieldfare")
    log, conditions = rig.pull(replace(usual_settings(rig.plant), kind="road"))
    with pytest.raises(EvidenceError, match="Roller speed is not in this log"):
        held_power(log, find_pulls(log)[0])
    with pytest.raises(EvidenceError):
        dyno_curve(log, find_pulls(log)[0], conditions, "none", boost_controlled=False)


# -- clutch and names


def test_a_clutch_that_holds_is_one_inertia():
    drive = Drive(0.1, 0.4, 500.0, 1000.0)
    for _ in range(100):
        drive.free(50.0, 10.0, 0.01)
    assert drive.engine_rad_s == drive.output_rad_s
    assert drive.engine_rad_s == pytest.approx(1000.0 * RAD_PER_S_PER_RPM + 40.0 / 0.5)
    assert drive.transmitted_nm == pytest.approx(50.0 - 0.1 * 80.0)


def test_a_clutch_that_slips_lets_go_and_joins_again():
    drive = Drive(0.1, 0.4, 60.0, 1000.0)
    for _ in range(50):
        drive.free(100.0, 0.0, 0.01)
    # Each side for itself: 40 N m on 0.1, 60 N m on 0.4.
    assert drive.slips
    assert drive.engine_rad_s - drive.output_rad_s == pytest.approx((40.0 / 0.1 - 60.0 / 0.4) * 0.5)
    for _ in range(400):
        drive.free(10.0, 0.0, 0.01)
    assert not drive.slips and drive.engine_rad_s == drive.output_rad_s


def test_names_that_are_not_there():
    assert set(dynos()) == {"north", "south"}
    with pytest.raises(LinkError, match="no dyno 'east'"):
        dyno("east")
    assert power_from_torque(100.0, 1000.0) == pytest.approx(10_472.0, abs=1.0)
