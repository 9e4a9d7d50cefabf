"""Nothing comes from nothing: energy closes at every step, whatever the weather, the throttle and the faults."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from yarvic.bench.drive import Drive
from yarvic.bench.faults import FAULTS
from yarvic.bench.rig import usual_settings
from yarvic.bench.run import DT, Run
from yarvic.core.errors import LinkError
from yarvic.core.physics.air import Air

# Fuel power = brake + friction with pumping + coolant + exhaust, to this share of the fuel's power, at every step.
CLOSES = 1e-9


def started(rig, how):
    """A run of a rig about to begin."""
    rig.cool(how.cool_down_s, how.fan)
    around = rig._around(how.fan)
    engine = rig._engine(how, around, np.random.default_rng(1))
    return Run(rig.faulty_plant, engine, around, rig.dyno, how, {}, (1,), None)


@pytest.mark.parametrize("name", ["ptarmigan", "wether", "fieldfare"])
@pytest.mark.parametrize("kind", ["inertia", "ramp", "road"])
def test_energy_closes_at_every_step(bench, name, kind):
    rig = bench.rig(name)
    run = started(rig, replace(usual_settings(rig.plant), kind=kind))
    fuel = 0.0
    while not run.finished:
        run.step()
        ledger = run.engine.ledger
        assert abs(ledger.open_w) <= CLOSES * max(ledger.fuel_w, 1.0)
        assert ledger.fuel_w >= 0.0 and ledger.coolant_w >= 0.0
        assert ledger.brake_w <= ledger.fuel_w + 1e-9 or ledger.fuel_w == 0.0
        fuel += ledger.fuel_w * DT
    assert fuel > 0.0


@pytest.mark.parametrize("name", ["ptarmigan", "wether", "fieldfare"])
def test_the_shares_are_those_of_real_engines(bench, name):
    """From memory of usual heat balances (Heywood, table 12.1: brake 25-28 %, coolant 17-26 %, exhaust 34-45 % petrol;
    34-38, 16-35 and 22-35 % diesel) at full load, with room for boosted and for small fast engines."""
    rig = bench.rig(name)
    run = started(rig, usual_settings(rig.plant))
    total = np.zeros(5)
    while not run.finished:
        run.step()
        if run.pedal == 1.0:
            total += np.array(run.engine.ledger)
    brake, friction, coolant, exhaust = total[1:] / total[0]
    assert brake + friction + coolant + exhaust == pytest.approx(1.0)
    # The twin's own map throws fuel away.
    low, high = {"wether": (0.33, 0.43), "ptarmigan": (0.22, 0.34), "fieldfare": (0.15, 0.30)}[name]
    assert low < brake < high
    assert 0.11 < coolant < 0.30
    assert 0.25 < exhaust < 0.65


def test_work_at_the_crank_becomes_motion(bench):
    """Free on the roller: the work given is the kinetic energy gained, with what the driveline lost counted as inertia."""
    rig = bench.rig("ptarmigan")
    run = started(rig, usual_settings(rig.plant))
    work = 0.0
    drive = run.drive
    inertia = drive.engine_inertia + drive.output_inertia
    before = 0.5 * inertia * drive.engine_rad_s**2
    while not run.finished:
        speed = drive.engine_rad_s
        run.step()
        # The mean of the speeds before and after is exact for a constant torque over the step.
        torque = run.engine.ledger.brake_w / speed
        work += torque * 0.5 * (speed + drive.engine_rad_s) * DT
    assert 0.5 * inertia * drive.engine_rad_s**2 - before == pytest.approx(work, rel=1e-6)


@given(
    st.floats(0.01, 0.5),
    st.floats(0.05, 5.0),
    st.floats(20.0, 600.0),
    st.floats(-200.0, 900.0),
    st.floats(0.0, 200.0),
)
@settings(max_examples=80, deadline=None)
def test_a_clutch_gives_no_energy(engine, output, holds, torque, resists):
    """What goes in is motion, work against the road, and heat in the clutch: never less than nothing."""
    drive = Drive(engine, output, holds, 2000.0)
    start = 0.5 * (engine + output) * drive.engine_rad_s**2
    given_j = taken_j = 0.0
    for _ in range(120):
        w, v = drive.engine_rad_s, drive.output_rad_s
        drive.free(torque, resists, DT)
        given_j += torque * 0.5 * (w + drive.engine_rad_s) * DT
        taken_j += resists * 0.5 * (v + drive.output_rad_s) * DT
        assert abs(drive.transmitted_nm) <= holds + 1e-6
        if drive.engine_rad_s <= 1.0 or drive.output_rad_s <= 1.0:
            return  # stalled: the bench holds it at a crawl
    motion = 0.5 * engine * drive.engine_rad_s**2 + 0.5 * output * drive.output_rad_s**2 - start
    heat = given_j - taken_j - motion
    # A step that ends with both sides at one speed may take a little of the next one's slip.
    assert heat >= -0.02 * (abs(given_j) + abs(taken_j) + 1.0)


WEATHER = st.builds(Air, st.floats(80e3, 104e3), st.floats(250.0, 315.0), st.floats(0.0, 1.0))


@pytest.mark.parametrize("name", ["ptarmigan", "wether", "fieldfare"])
@given(
    air=WEATHER,
    throttle=st.floats(0.15, 1.0),
    share=st.floats(0.0, 1.0),
    severity=st.floats(0.0, 1.0),
    fault=st.sampled_from([k for k in FAULTS if k != "wrong_image"]),
    fan=st.floats(0.0, 1.0),
    cell=st.sampled_from(["north", "south"]),
)
@settings(
    max_examples=12, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture]
)
def test_nothing_impossible_anywhere(bench, name, air, throttle, share, severity, fault, fan, cell):
    """No NaN, no negative pressure, no energy from nothing, the same seed the same log."""
    faults = {fault: severity}
    rig = bench.rig(name, air=air, faults=faults, cell=cell, seed=3)
    habit = rig.plant.habit
    speed = habit.start_rpm + share * (habit.end_rpm - habit.start_rpm)
    how = replace(usual_settings(rig.plant), kind="hold", hold_rpm=speed, hold_s=1.0, throttle=throttle, fan=fan)
    try:
        log, conditions = rig.pull(how)
    except LinkError:
        assert rig.plant.kind not in FAULTS[fault].kinds
        return
    for key, c in log.channels.items():
        assert np.all(np.isfinite(c.values)), key
        if c.quantity in ("pressure", "temperature", "mixture", "mass", "mass flow"):
            assert c.values.min() >= 0.0, key
    assert conditions.faults == ({fault: severity} if severity > 0.0 else {})
    again = bench.rig(name, air=air, faults=faults, cell=cell, seed=3).pull(how)[0]
    for key, c in log.channels.items():
        assert np.array_equal(c.values, again.channels[key].values), key
    run = started(bench.rig(name, air=air, faults=faults, cell=cell), how)
    for _ in range(150):
        run.step()
        assert abs(run.engine.ledger.open_w) <= CLOSES * max(run.engine.ledger.fuel_w, 1.0)
        assert run.engine.ledger.brake_w <= 0.5 * run.engine.ledger.fuel_w or run.engine.ledger.fuel_w < 1.0
