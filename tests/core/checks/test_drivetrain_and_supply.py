"""Slip, misfires, supply and the low-pressure side: what each says, and that nothing is asked of a log without them."""

import numpy as np
import pytest
from test_checks import HEALTHY, T, evidence, findings

from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.checks.filling import filling
from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.core.checks.fuel_pressure import fuel_pressure
from yarvic.core.checks.run import WHERE_LOGGED, check_log, families_of

SPEED = HEALTHY["engine_speed"]


def slipping(share, after=5.0):
    """Engine speed that runs ahead of the roller from a time on."""
    return np.where(after < T, SPEED * (1.0 + share * np.minimum((T - after) / 0.5, 1.0)), SPEED)


@pytest.mark.parametrize(("share", "severity"), [(0.0, PASS), (0.03, PASS), (0.06, WATCH), (0.9, STOP)])
@pytest.mark.parametrize("behind", ["roller_speed", "vehicle_speed"])
def test_an_engine_that_runs_ahead_of_the_wheels_slips(share, severity, behind):
    noise = 1.0 + 0.002 * np.sin(37.0 * T)
    found = findings(engine_speed=slipping(share), **{behind: SPEED / 5.0 * noise})["slip"]
    assert found.severity == severity and found.value == pytest.approx(share, abs=0.01)
    if severity != PASS:
        assert found.where.time_s > 5.0 and "runs ahead" in found.statement


def test_a_lag_and_a_converter_that_has_yet_to_lock_are_no_slip():
    """A speed over ground that lags by 0.2 s, as wheel speeds do; a converter that slips by 40 % for three seconds."""
    late = (1800.0 + 440.0 * (T - 0.2)) / 5.0
    assert findings(vehicle_speed=late)["slip"].severity == PASS
    open_ = SPEED * (1.0 + 0.4 * np.clip((3.0 - T) / 3.0, 0.0, 1.0))
    assert findings(engine_speed=open_, roller_speed=SPEED / 5.0)["slip"].severity == PASS
    # Locked, and then let go.
    both = np.where(T > 7.0, 1.3 * SPEED, open_)
    assert findings(engine_speed=both, roller_speed=SPEED / 5.0)["slip"].severity == STOP


def test_slip_that_cannot_be_told_is_no_data_and_a_log_without_wheels_is_not_asked():
    assert "slip" not in findings()
    assert findings(roller_speed=np.full(T.size, np.nan))["slip"].severity == NO_DATA
    assert findings(roller_speed=np.zeros(T.size))["slip"].severity == NO_DATA
    assert not set(WHERE_LOGGED) & set(families_of(EngineKind()))


def test_misfires_are_what_the_counter_rose_by():
    counted = np.where(T > 6.0, 12.0, np.where(T > 4.0, 4.0, 0.0))
    found = findings(misfires=counted)["misfires"]
    assert (found.severity, found.value) == (STOP, 12.0) and found.where.time_s == pytest.approx(6.0, abs=0.05)
    assert findings(misfires=np.full(T.size, 7.0))["misfires"].severity == PASS, "counted before the pull"
    # A counter that begins anew in the pull.
    assert findings(misfires=np.where(T > 6.0, 1.0, np.where(T > 4.0, 3.0, 0.0)))["misfires"].value == 3.0
    assert findings(misfires=np.where(T > 4.0, 2.0, 0.0))["misfires"].severity == WATCH


@pytest.mark.parametrize(("volts", "severity"), [(13.6, PASS), (12.1, WATCH), (10.8, STOP), (np.nan, NO_DATA)])
def test_a_supply_that_falls_is_said(volts, severity):
    assert findings(supply_voltage=np.where(T > 3.0, volts, 13.6))["supply_voltage"].severity == severity
    # A truck's 24 V: 20 V would be low there, and is not called good by the limit of another.
    assert findings(supply_voltage=np.full(T.size, 20.0))["supply_voltage"].severity == NO_DATA


def test_feed_pressure_is_held_against_where_it_began():
    from dataclasses import replace

    def feed(end, **engine):
        data = evidence(feed_pressure=np.linspace(300e3, end, T.size))
        data = replace(data, engine=EngineKind(**engine))
        return {f.check: f for f in fuel_pressure(data)}

    assert feed(295e3, rail=False)["feed_sag"].severity == PASS
    assert feed(270e3, rail=False)["feed_sag"].severity == WATCH
    assert feed(240e3, rail=False)["feed_sag"].severity == STOP
    # What feeds a high-pressure pump may give way further.
    assert feed(240e3, rail=True)["feed_sag_rail"].severity == PASS
    assert feed(180e3, rail=True)["feed_sag_rail"].severity == STOP
    assert "feed_sag" not in findings()


def test_a_filter_that_takes_the_air_is_said_at_full_throttle_of_an_engine_without_boost():
    from dataclasses import replace

    def lost(share, *, throttle=1.0, boosted=False, barometer=97e3):
        pressure = barometer * (1.0 - share * SPEED / SPEED[-1])
        data = evidence(airbox_pressure=pressure, ambient_pressure=np.full(T.size, barometer))
        data = replace(data, engine=EngineKind(boosted=boosted), pull=replace(data.pull, throttle=throttle))
        return filling(data)

    assert [lost(share)[0].severity for share in (0.03, 0.07, 0.15)] == [PASS, WATCH, STOP]
    assert lost(0.07)[0].value == pytest.approx(0.07, abs=0.002) and lost(0.07, barometer=84e3)[0].severity == WATCH
    # A throttle that is half shut loses pressure on purpose, and behind a compressor it is boost.
    assert lost(0.5, throttle=0.5) == [] == lost(0.15, boosted=True)
    assert "restriction" not in findings()


@pytest.mark.parametrize(
    ("vehicle", "fault", "check"),
    [
        ("ptarmigan", "slipping_clutch", "slip"), ("wether", "slipping_clutch", "slip"),
        ("fieldfare", "slipping_clutch", "slip"), ("ptarmigan", "weak_battery", "supply_voltage"),
        ("wether", "weak_battery", "supply_voltage"), ("ptarmigan", "failing_coil", "misfires"),
        ("fieldfare", "failing_coil", "misfires"), ("wether", "tired_pump", "feed_sag_rail"),
        ("fieldfare", "tired_pump", "feed_sag"), ("fieldfare", "plugged_filter", "restriction"),
    ],
)  # fmt: skip
def test_seeded_faults_stop_and_healthy_vehicles_show_nothing(vehicle, fault, check):
    from yarvic.bench.cell import Weather
    from yarvic.bench.rig import Rig, usual_settings
    from yarvic.bench.unit import SimulatedUnit
    from yarvic.bench.vehicles import layout_text, plant_for, stock_image
    from yarvic.core.calibration.layout_file import parse_layout
    from yarvic.core.checks.limits import default_limits
    from yarvic.core.physics.air import Air

    layout = parse_layout(layout_text(vehicle))
    plant = plant_for(layout.family)
    engine = EngineKind(
        ignition="compression" if vehicle == "wether" else "spark",
        boosted=vehicle != "fieldfare", rail=vehicle != "fieldfare",
    )  # fmt: skip
    said = {}
    for faults in ({}, {fault: 1.0}):
        rig = Rig(
            plant, SimulatedUnit(layout, stock_image(vehicle)), layout.sets[0],
            Weather(Air(97_200.0, 293.15, 0.5), 9.0, False, 1), fuel=plant.fuel, seed=5,
        )  # fmt: skip
        rig.faults = faults
        log, conditions = rig.pull(usual_settings(plant))
        (pull,) = check_log("run", log, default_limits(()), conditions, engine)
        said[bool(faults)] = {f.check: f.severity for f in pull.findings}
    assert said[True][check] == STOP
    judged = ("restriction", "slip", "supply_voltage", "misfires", "feed_sag", "feed_sag_rail")
    assert {said[False][c] for c in judged if c in said[False]} == {PASS}
