"""The bench as the desk holds it: what a person sets on its page, and what that does to the next runs."""

import pytest

from yarvic.core.errors import LinkError, UnitError
from yarvic.core.job.store import Job
from yarvic.core.physics.air import Air
from yarvic.demo.story import AUTHOR
from yarvic.state.bench import BenchState, fuels_for
from yarvic.state.session import Session
from yarvic.state.settings import Settings
from yarvic.state.work import InlineRunner


@pytest.fixture
def session(demo_path):
    made = Session(Settings(author=AUTHOR), InlineRunner())
    made.failures = []
    made.failed.connect(made.failures.append)
    made.open_job(demo_path)
    made.bench.unit.seconds_per_block = 0.0
    yield made
    made.close_job()


def newest(session):
    return session.job.evidence()[-1]


def test_what_the_page_says_is_what_the_run_has(session):
    bench = session.bench
    bench.set_weather(Air(95_000.0, 285.15, 0.8), hour=14.0, drifts=False)
    bench.set_dyno("south")
    bench.set_tank("petrol-95+e10")
    bench.set_run(gear=3, throttle=0.75, fan=0.5, cool_down_s=30.0)
    bench.set_fault("plugged_filter", 0.4)
    session.pull(1)
    c = newest(session).conditions
    assert session.failures == []
    assert (c.gear, c.throttle, c.fan, c.cool_down_s) == (3, 0.75, 0.5, 30.0)
    assert c.dyno.startswith("simulated dyno 2") and c.fuel == "petrol-95+e10"
    assert c.temperature_k == pytest.approx(285.15, abs=1.0)
    assert c.faults == {"plugged_filter": 0.4} and c.simulated


def test_runs_that_may_not_stand_together_do_not(session):
    """One more pull of B1, on the other dyno: the mean is of it alone, and the rest is said to be left out."""
    from yarvic.state.readings import readings

    session.bench.set_dyno("south")
    session.pull(1)
    results = session.results[session.working]
    assert len(results.at_full_throttle) == 4 and len(results.together()) == 1
    session.go("dyno")
    said = [r for r in readings(session, "dyno") if "left out of the mean" in r.sentence]
    assert said and "two dynos" in said[0].numbers
    session.bench.set_dyno("north")
    session.pull(1)
    assert len(session.results[session.working].together()) == 4


def test_a_climb_is_named_and_recorded_as_one(session):
    session.bench.set_run(kind="climb", climb_s=20.0, grade=0.05)
    assert session.bench.settings.gear == session.bench.plant.habit.climb_gear
    session.pull(1)
    assert newest(session).title == "B1 climb 4" and newest(session).conditions.run == "climb"
    session.bench.set_run(kind="inertia")
    assert session.bench.settings.gear == session.bench.plant.habit.gear


def test_the_wrong_image_does_not_start_and_a_flash_cures_it(session):
    bench = session.bench
    bench.set_fault("wrong_image", 1.0)
    assert bench.holds() is None
    assert bench.unit.identify().running == "an image of another family"
    session.pull(1)
    assert "does not start" in str(session.failures[-1])
    session.link.write()
    assert bench.holds().name == "B1" and bench.faults == {}
    session.pull(1)
    assert len(session.failures) == 1


def test_an_old_map_is_measured_as_what_it_was_taken_for(session):
    bench = session.bench
    bench.set_fault("rich_map", 1.0)
    assert bench.holds() is None
    session.pull(1)
    assert session.failures == [] and newest(session).conditions.faults == {"rich_map": 1.0}
    bench.set_fault("rich_map", 0.0)
    assert bench.holds().name == "B1"


def test_a_weak_battery_is_not_written_with(session):
    session.bench.set_fault("weak_battery", 1.0)
    session.link.write()
    assert "supply is 10.8 V" in str(session.failures[-1])
    session.bench.set_fault("weak_battery", 0.0)
    session.link.write()
    assert len(session.failures) == 1


def test_what_cannot_be_is_refused_and_changes_nothing(session):
    bench = session.bench
    before = (bench.settings, bench.faults, bench.tank, bench.dyno)
    with pytest.raises(LinkError, match="end speed"):
        bench.set_run(end_rpm=1000.0)
    with pytest.raises(LinkError, match="no fault"):
        bench.set_fault("gremlins", 0.5)
    with pytest.raises(UnitError, match="unknown"):
        bench.set_tank("lamp oil")
    with pytest.raises(LinkError, match="no dyno"):
        bench.set_dyno("east")
    assert (bench.settings, bench.faults, bench.tank, bench.dyno) == before
    bench.set_run(gear=9)
    session.pull(1)
    assert "no gear 9" in str(session.failures[-1])


def test_heat_and_time_go_on_from_run_to_run(session):
    bench = session.bench
    bench.set_weather(bench.weather.air, hour=9.0, drifts=True)
    bench.set_run(cool_down_s=0.0)
    session.pull(3)
    starts = [e.conditions.charge_start_k for e in session.job.evidence()[-3:]]
    assert starts[2] > starts[0] + 2.0
    assert 9.0 < bench.hour() < 9.1


def test_each_vehicle_has_its_fuels(any_demo_file):
    job = Job.open(any_demo_file, read_only=True)
    try:
        bench = BenchState(job)
        keys = set(fuels_for(bench.plant))
        assert set(job.sheet.vehicle.fuels.values()) <= keys
        assert ("diesel" in keys) == (job.sheet.vehicle.ignition == "compression")
        bench.set_usual_run()
        assert bench.settings.gear == bench.plant.habit.gear and bench.faults_text() == ""
    finally:
        job.close()


def test_a_diesels_sheet_asks_for_no_octane(demo_job):
    """The released carrier's sheet, drawn again: its fuel by name, and marked as simulated."""
    import io

    from pypdf import PdfReader

    from yarvic.state.release import capture
    from yarvic.state.signing import sheet_pdf

    made = Session(Settings(author=AUTHOR), InlineRunner())
    made.open_job(demo_job("wether"), read_only=True)
    try:
        made.choose_working(made.job.revision("A1").id)
        pdf = sheet_pdf(capture(made, AUTHOR))
        text = " ".join(page.extract_text() for page in PdfReader(io.BytesIO(pdf)).pages)
        assert "SIMULATED" in text and "Slot Diesel: Diesel." in text and "RON" not in text
        assert "against a brake's ramp" in text
    finally:
        made.close_job()


def test_a_run_of_unknown_weather_keeps_no_bench_away(session, tmp_path):
    """A file that says nothing of its air is no reason why nothing can be pulled."""
    from yarvic.core.evidence.conditions import Conditions
    from yarvic.state.opened import bench_of

    job = session.job
    log = job.log(job.evidence()[0].id)
    unknown = Conditions(simulated=False, run="", fan=None)
    job.add_evidence("from outside", job.revisions()[0].id, log, unknown, source="file")
    bench, why = bench_of(job)
    assert why is None and bench is not None
