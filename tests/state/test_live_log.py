"""Logging from the unit: a simulated run heard over the bus becomes evidence; so does a unit on another bus."""

import numpy as np
import pytest

from yarvic.bench.control_unit.facts import UnitFacts
from yarvic.bench.control_unit.process import new_unit, start_unit
from yarvic.bench.control_unit.values import LiveValues
from yarvic.state.live import Live


@pytest.fixture
def session(at_once, tmp_path, monkeypatch):
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path / "bus"))
    at_once.settings.interface, at_once.settings.channel = "virtual bus", "road"
    at_once.choose_working(at_once.job.revision("B1").id)
    return at_once


def test_a_simulated_run_is_heard_over_the_bus_at_its_rate(session):
    live = Live(session)
    live.set_rate(10.0)
    live.choose("oil_temperature", False)
    before, hours = len(session.job.runs_of(session.working)), session.bench.hour()
    live.start()
    assert session.errors == [] and not live.running and "0 of" in live.said and "were missed (0.0 %)" in live.said
    run = session.job.runs_of(session.working)[-1]
    assert len(session.job.runs_of(session.working)) == before + 1
    assert run.source == "simulated bench" and run.conditions.simulated and "at 10 Hz: 0 of" in run.conditions.note
    log = session.job.log(run.id)
    assert "oil_temperature" not in log.channels and "smoke" not in log.channels
    speed = log.channel("engine_speed")
    assert np.allclose(np.diff(speed.time_s), 0.1) and speed.values.max() > 5000.0 and np.isfinite(speed.values).all()
    # The cell's own trace stands beside, at its own rate and on the same time.
    roller = log.channel("roller_speed")
    geared = np.interp(speed.time_s, roller.time_s, roller.values) * run.conditions.engine_per_roller
    driven = speed.values > 3000.0
    assert np.allclose(geared[driven][:-8], speed.values[driven][:-8], rtol=0.02)
    # It took the vehicle's time, and is judged.
    assert session.bench.hour() > hours
    assert any(p.evidence.id == run.id for p in session.working_results().pulls)


def test_what_cannot_be_logged_is_said(session):
    live = Live(session)
    for channel in live.channels():
        live.choose(channel, False)
    live.start()
    assert "no channel" in str(session.errors[-1])
    live.left_out = frozenset()
    live.set_rate(0.0)
    live.start()
    assert "no rate" in str(session.errors[-1]) and not live.running
    live.set_rate(10.0)
    session.choose_working(session.job.revision("A1").id)
    live.start()
    assert "Flash A1 first" in str(session.errors[-1])


def test_a_unit_that_does_not_start_gives_no_channels(session):
    """The page that lists them must not fall over it; logging says why."""
    session.bench.unit.load(bytes(len(session.bench.unit.memory)))
    live = Live(session)
    assert live.channels() == ()
    live.start()
    assert session.errors and session.errors[-1].remedy


def test_a_unit_on_a_bus_is_logged_until_it_is_stopped_or_gone(session, tmp_path, layout, stock, monkeypatch):
    new_unit(tmp_path / "unit", layout, stock, UnitFacts(serial="W-7"))
    values = LiveValues.create(tmp_path / "unit", ["engine_speed", "cup_holder"])
    values.put({"engine_speed": 2000.0, "cup_holder": 1.0})
    unit = start_unit(tmp_path / "unit", "road")
    try:
        session.link.choose_way("by interface")
        live = Live(session)
        live.came.connect(lambda moment: live.stop() if len(live.moments) >= 5 else None)
        live.start()
        assert session.errors == [] and live.channels() == ("engine_speed", "cup_holder")
        run = session.job.evidence()[-1]
        assert run.revision_id is None and run.source == "logged over virtual bus road" and run.conditions.run == ""
        assert session.job.log(run.id).channel("engine_speed").values[-1] == 2000.0
        monkeypatch.setattr("yarvic.core.link.live.MOST_MISSED", 1)
        live = Live(session)
        live.came.connect(lambda moment: unit.kill() if len(live.moments) == 3 else None)
        live.start()
        assert "no values any more" in str(session.errors[-1]) and session.job.evidence()[-1].id != run.id
    finally:
        unit.kill()
        values.close()
