"""The engines against trends of the handbooks: heat, charge heating, mixture at small throttle, faults that must show.

Heywood, Internal Combustion Engine Fundamentals (1988): numbers of its sections 2.12, 6.2, 6.5, 12.7 are from memory.
"""

from dataclasses import replace

import numpy as np
import pytest

from yarvic.bench.breathing import behind_throttle
from yarvic.bench.cylinders import Charge, Cylinders
from yarvic.bench.plant import load_plant
from yarvic.bench.rig import usual_settings
from yarvic.bench.run import DT
from yarvic.core.physics.air import Air
from yarvic.core.physics.fuel import fuel
from yarvic.core.physics.heat import behind_pipe, charge_heating, coolant_share

PETROL = ("ptarmigan", "fieldfare")


def steady(rig, speed, pedal, seconds=3.0):
    """The engine held at a speed and a pedal until it is settled: means of the last half second."""
    engine = rig.engine(usual_settings(rig.plant))
    seen = []
    for _ in range(round(seconds / DT)):
        torque = engine.step(pedal, speed, DT)
        row = dict(zip(engine.truths, engine.row(), strict=True))
        seen.append((torque, row["exhaust_temperature"], row["lambda_measured"], *engine.ledger))
    torque, exhaust_k, mixture, fuel_w, _, _, coolant_w, _ = np.mean(np.array(seen[-50:]), axis=0)
    return {
        "torque": torque, "exhaust_c": exhaust_k - 273.15, "lambda": mixture, "fuel_w": fuel_w,
        "coolant": coolant_w / max(fuel_w, 1.0),
    }  # fmt: skip


def test_exhaust_temperature_rises_with_speed_at_a_load(bench):
    """Heywood 6.5 (from memory): less time to lose heat. At one pedal, mixture held near stoichiometric by the unit."""
    for name, speeds in (("ptarmigan", (1200, 2000, 3500, 5000)), ("fieldfare", (2500, 4000, 6000))):
        rig = bench.rig(name)
        found = [steady(rig, n, 0.6 if name == "ptarmigan" else 0.3)["exhaust_c"] for n in speeds]
        assert found == sorted(found) and found[-1] > found[0] + 60.0


def test_exhaust_temperature_by_load(bench):
    """Heywood 6.5 (from memory): about 300 to 400 degC at idle, 400 to 600 at usual loads, up to about 900 at full."""
    rig = bench.rig("ptarmigan")
    idle, usual, full = (steady(rig, *at)["exhaust_c"] for at in ((900.0, 0.08), (2000.0, 0.15), (5000.0, 1.0)))
    assert 230.0 < idle < 420.0
    assert 400.0 < usual < 650.0
    assert 780.0 < full < 980.0


@pytest.mark.parametrize(("name", "fast"), [("ptarmigan", 6000.0), ("fieldfare", 8000.0)])
def test_the_coolants_share_falls_with_speed_and_load(bench, name, fast):
    """Heywood 12.7 (from memory): about 30 % at part load and low speed, under 20 % at full load and high speed."""
    rig = bench.rig(name)
    assert 0.25 < steady(rig, 2000.0, 0.15)["coolant"] < 0.40
    assert steady(rig, fast, 1.0)["coolant"] < 0.20


def test_late_spark_heats_the_exhaust_and_fuel_cools_it():
    """About 8 to 10 K per degree of retard near best spark (from memory), and a fall with enrichment (Heywood 6.5)."""
    cylinders = Cylinders(load_plant("ptarmigan").engine, fuel("petrol-95"))
    charge = Charge(170e3, 320.0, 8.0e-4, 0.90, 3500.0)
    angles = cylinders.burn_angles(charge)
    best = 8.5 * -1 + angles[0] + 0.5 * angles[1]
    at = [cylinders.work(charge, best - late, angles).exhaust_k for late in (4.0, 8.0, 12.0)]
    assert 6.0 < (at[2] - at[0]) / 8.0 < 13.0 and at[0] < at[1] < at[2]
    rich = cylinders.work(replace(charge, mixture_lambda=0.82), best - 4.0, angles).exhaust_k
    assert rich < at[0] - 40.0


def test_a_naturally_aspirated_engine_loses_torque_as_the_root_of_temperature(bench):
    """Heywood 2.12 (from memory): air flow at full throttle goes as T^-0.5; brake torque a little more, for friction."""
    torque = []
    for kelvin in (268.0, 288.0, 308.0):
        rig = bench.rig("fieldfare", air=Air(99_000.0, kelvin, 0.0))
        torque.append(steady(rig, 6000.0, 1.0)["torque"])
    exponent = float(np.polyfit(np.log([268.0, 288.0, 308.0]), np.log(torque), 1)[0])
    assert -0.75 < exponent < -0.45


@pytest.mark.parametrize("name", PETROL)
@pytest.mark.parametrize("pedal", [0.08, 0.12, 0.2])
def test_the_mixture_is_near_its_target_at_small_throttle(bench, name, pedal):
    """Where the unit gives fuel at all: a dragged engine gets none."""
    rig = bench.rig(name)
    habit = rig.plant.habit
    burning = 0
    for speed in np.linspace(1500.0 if name == "fieldfare" else 1000.0, habit.end_rpm, 7):
        found = steady(rig, float(speed), pedal)
        if found["fuel_w"] > 100.0:
            burning += 1
            assert 0.80 < found["lambda"] < 1.20, speed
    assert burning


def test_throttle_and_cylinders_pass_the_same_air():
    """The quadratic against both flow laws, and against the limits: no throttle, and a shut one."""
    for capacity in (1e-7, 1e-6, 2.9e-5):
        p, flow = behind_throttle(101e3, 105e3, 4e-7, 0.11, capacity, 300.0)
        assert flow == pytest.approx(4e-7 * (1.11 * p - 0.11 * 105e3), rel=1e-9)
        assert flow == pytest.approx(capacity * ((101e3**2 - p**2) / 300.0) ** 0.5, rel=1e-6)
    assert behind_throttle(101e3, 101e3, 4e-7, 0.11, 1.0, 300.0)[0] == pytest.approx(101e3, rel=1e-6)
    shut, flow = behind_throttle(101e3, 105e3, 4e-7, 0.11, 1e-12, 300.0)
    assert shut == pytest.approx(0.11 * 105e3 / 1.11, rel=1e-3) and flow < 1e-5


def test_the_laws_of_heat_in_their_limits():
    assert charge_heating(300.0, 300.0) == 1.0 and charge_heating(1200.0, 300.0) == pytest.approx(2.0)
    assert coolant_share(0.2, 0.1, 0.1) == pytest.approx(0.2) and coolant_share(0.2, 0.1 / 16, 0.1) == pytest.approx(
        0.4
    )
    assert behind_pipe(1000.0, 400.0, 0.0, 0.1, 0.1) == pytest.approx(1000.0)
    assert behind_pipe(1000.0, 400.0, 50.0, 0.1, 0.1) == pytest.approx(400.0)
    assert behind_pipe(1000.0, 400.0, 0.1, 0.01, 0.1) < behind_pipe(1000.0, 400.0, 0.1, 0.1, 0.1)


@pytest.mark.parametrize("severity", [0.5, 1.0])
def test_bad_fuel_shows_on_the_twin(bench, severity):
    """Its power and its knock sensor: it has no knock control that would hide it."""
    hot = Air(97_400.0, 303.15, 0.4)
    loud, peaks = [], []
    for faults in ({}, {"bad_fuel": severity}):
        rig = bench.rig("fieldfare", air=hot, faults=faults)
        run = rig.pull(replace(usual_settings(rig.plant), knock_signal=True))
        c = run[0].channels["knock_signal_2"]
        slow = run[0].at("engine_speed", c.time_s) < 6000.0
        loud.append(float(np.percentile(np.abs(c.values[slow]), 99.9)))
        peaks.append(bench.curve(run).peak_power[0])
    assert peaks[1] < (1.0 - 0.03 * severity) * peaks[0]
    assert loud[1] > (1.0 + 0.25 * severity) * loud[0]


@pytest.mark.parametrize(("severity", "sag"), [(0.5, 0.05), (1.0, 0.20)])
def test_a_tired_pump_shows_in_the_twins_feed_pressure_and_mixture(bench, healthy, severity, sag):
    well, sick = healthy["fieldfare"][0], bench.run("fieldfare", faults={"tired_pump": severity})[0]
    low = float(np.nanmin(bench.inside(sick, "feed_pressure", 8000, 10_800)))
    assert low < (1.0 - sag) * float(np.nanmin(bench.inside(well, "feed_pressure", 8000, 10_800)))
    leaner = bench.inside(sick, "lambda_measured", 9500, 10_500) - np.nanmedian(
        bench.inside(well, "lambda_measured", 9500, 10_500)
    )
    assert np.nanmedian(leaner) > 0.01
