"""The sheet in hand: changes on disk at once, undone, refused with words; readiness, builds, plan, shop."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from yarvic.bench.vehicles import layout_text, stock_image
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.checks.finding import NO_DATA, PASS, STOP
from yarvic.core.errors import CalibrationError, EvidenceError, FormatError, JobError, LinkError, YarvicError
from yarvic.core.evidence.origin import Origin
from yarvic.core.job.store import Job
from yarvic.core.job.template import begin, read_sheet
from yarvic.core.plan.parts import Part, library
from yarvic.core.plan.plan import Answer, Stage
from yarvic.state.builds import tests_of_builds as told_of_builds
from yarvic.state.coast import measured_loss
from yarvic.state.gains import peaks_between
from yarvic.state.jobs import create_job, job_path
from yarvic.state.lanes import LanesState
from yarvic.state.plan import PlanState
from yarvic.state.readiness import read_fault_codes
from yarvic.state.readings import readings, route_state
from yarvic.state.release import gate_conditions
from yarvic.state.session import STEPS, Session
from yarvic.state.settings import Settings
from yarvic.state.shop import own_kinds, readiness_path, save_kind, save_readiness, save_template, templates
from yarvic.state.work import InlineRunner


@pytest.fixture(autouse=True)
def home(tmp_path, monkeypatch):
    monkeypatch.setenv("YARVIC_HOME", str(tmp_path / "home"))
    return tmp_path / "home"


def opened(path):
    s = Session(Settings(author="Rowan Sedge"), InlineRunner())
    s.errors = []
    s.failed.connect(s.errors.append)
    s.open_job(Path(path))
    if s.bench is not None:
        s.bench.unit.seconds_per_block = 0.0
    return s


@pytest.fixture
def session(demo_path):
    s = opened(demo_path)
    yield s
    s.close_job()


@pytest.fixture
def bare(tmp_path):
    """A job of which only the kind of engine is known."""
    s = opened(create_job(tmp_path / "jobs", begin("turbo-petrol", "Lapwing"), "Rowan Sedge"))
    yield s
    s.close_job()


def test_changes_are_on_disk_at_once_and_can_be_undone(session):
    sheet, path = session.sheet, session.job.path
    sheet.set_vehicle(bore_mm=81.0)
    other = Job.open(path, read_only=True)
    assert other.sheet.vehicle.bore_mm == 81.0 and "Bore: 80 to 81." in other.journal()[-1].sentence
    other.close()
    sheet.set_vehicle(mass_kg=1000.0)
    assert sheet.undo() and session.job.sheet.vehicle.mass_kg == 980.0
    assert sheet.undo() and session.job.sheet.vehicle.bore_mm == 80.0
    assert sheet.undo() == ""
    assert sheet.redo() and session.job.sheet.vehicle.bore_mm == 81.0
    sheet.set_vehicle(stroke_mm=93.0)
    assert sheet.redo() == "" and session.job.sheet.vehicle.mass_kg == 980.0


def test_what_cannot_be_is_refused_and_nothing_changes(session):
    before = session.job.sheet
    for change, words in (
        (lambda s: s.set_vehicle(bore_mm=8000.0), "Bore"),
        (lambda s: s.set_vehicle(cylinders=0), "Cylinders"),
        (lambda s: s.set_vehicle(redline_rpm=800.0), "not above idle"),
        (lambda s: s.set_vehicle(name=""), "name"),
        (lambda s: s.set("x", band_rpm=(5, 4)), "must rise"),
        (lambda s: s.drop_part("pump-cam"), "Stage 3 needs"),
        (lambda s: s.part("nothing"), "no part"),
        (lambda s: s.item("nothing"), "no readiness item"),
        (lambda s: s.set_plan("x", margin=3.0), "margin"),
        (lambda s: s.save_stage(9, Stage(title="Stage 1")), "one title"),
        (lambda s: s.add_item(" ", "fuel"), "title"),
        (lambda s: s.fit("x", "fuel", "x", day="18.3."), "no date"),
        (lambda s: s.fit("x", "fuel", "x", cost=-1.0), "cost"),
        (lambda s: s.see("oil", "pass"), "who looked"),
    ):
        with pytest.raises(JobError, match=words):
            change(session.sheet)
    assert session.job.sheet == before and len(session.job.builds()) == 2


def test_a_limit_that_moves_is_judged_anew(session):
    verdict = {c.key: c.severity for c in gate_conditions(session)}
    limit = next(m for m in session.job.sheet.limits if m.component == "clutch pack")
    session.sheet.save_limit(limit.model_copy(update={"safe": 40.0, "stretch": 50.0}), limit.name)
    assert (
        {c.key: c.severity for c in gate_conditions(session)}["check Power and torque"]
        == STOP
        != verdict["check Power and torque"]
    )
    session.sheet.undo()
    assert {c.key: c.severity for c in gate_conditions(session)} == verdict


def test_a_stop_blocks_the_flash_and_leads_back(session):
    session.choose_working(session.revisions()[0].id)
    session.sheet.see("clutch", "stop", reason="slips in fourth", who="R", when="2024-01-01T00:00:00")
    count = len(session.job.flashes())
    session.link.write()
    assert len(session.job.flashes()) == count and isinstance(session.errors[-1], LinkError)
    assert "slips in fourth" in str(session.errors[-1])
    card = readings(session, "flash")[0]
    assert card.severity == STOP and (card.step, card.panel) == ("job", "readiness")
    assert route_state(session, "job") == route_state(session, "flash") == STOP
    session.sheet.see("clutch", "pass", who="R", when="2024-01-01T00:00:00")
    session.link.write()
    assert len(session.job.flashes()) == count + 1


def test_fault_codes_are_read_from_the_unit(session):
    assert read_fault_codes(session) == 0
    assert session.sheet.item("fault_codes").state == "pass"
    session.bench.set_fault("failing_coil", 0.8)
    session.bench.set_fault("weak_battery", 0.8)
    session.bench.set_fault("boost_leak", 0.9)
    assert read_fault_codes(session) == 3
    item = session.sheet.item("fault_codes")
    assert item.state == "stop" and "P0300" in item.reason and item.who == "Rowan Sedge"
    session.settings.author = ""
    with pytest.raises(JobError, match="who looks"):
        read_fault_codes(session)


def test_own_items_and_lists_of_the_shop(session):
    made = session.sheet.add_item("Snorkel drain", "intake")
    session.sheet.see(made.key, "watch", reason="half full", who="R", when="t")
    save_readiness(session.job.sheet)
    own = read_sheet(readiness_path(session.job.sheet.vehicle)).readiness
    assert own[-1].title == "Snorkel drain" and own[-1].state == ""
    assert not readiness_path(begin("turbo-diesel", "x").vehicle).exists()
    session.sheet.drop_item(made.key)
    assert all(i.key != made.key for i in session.job.sheet.readiness)


def test_templates_of_the_shop(session, home):
    assert templates() == {}
    path = save_template(session.job.sheet, "Rescue buggy")
    assert templates() == {"rescue-buggy": path}
    assert read_sheet(path).vehicle.bore_mm == 80
    with pytest.raises(JobError, match="no file name"):
        save_template(session.job.sheet, "!!!")
    (home / "shop/templates").rename(home / "shop/gone")
    (home / "shop/templates").write_text("in the way")
    with pytest.raises(FormatError, match="cannot be made"):
        save_template(session.job.sheet, "Rescue buggy")


def test_the_shops_own_library_stands_beside_the_shipped_one(session, home):
    assert own_kinds() == {}
    save_kind(session.job.sheet, "Our buggy")
    save_kind(session.job.sheet, "Our other buggy")
    found = own_kinds()
    assert found["our-buggy"].limits == session.job.sheet.limits and found["our-other-buggy"].parts
    (home / "shop/library.toml").write_text("[a\n")
    for again in (own_kinds, lambda: save_kind(session.job.sheet, "Third")):
        with pytest.raises(FormatError, match="line 1"):
            again()
    (home / "shop/library.toml").write_bytes(b"\xff\xfe")
    with pytest.raises(FormatError, match="not text"):
        save_kind(session.job.sheet, "Third")


def test_kinds_come_into_the_ledger_once(session):
    kind = library()["diesel-three-light"]
    assert session.sheet.add_kind(kind) == (len(kind.limits), len(kind.parts))
    assert session.sheet.add_kind(kind) == (0, 0)
    session.sheet.save_part(Part(key="new", title="New", station="fuel"))
    session.sheet.save_part(Part(key="new", title="Newer", station="fuel"), "new")
    assert session.sheet.part("new").title == "Newer"
    session.sheet.drop_part("new")
    session.sheet.drop_limit(kind.limits[0].name)
    assert kind.limits[0].name not in {m.name for m in session.job.sheet.limits}


def test_fitting_begins_a_build_and_rivals_come_off(session):
    fit = session.sheet.fit
    fit("hard pipe", "intercooler", "hard pipe", parts=("hard-pipe",), day="2024-03-20", odometer_km=18_500.0)
    assert session.job.builds()[-1].event.parts == ("hard-pipe",)
    rival = Part(key="soft", title="Soft pipe", station="intercooler", excludes=("hard-pipe",))
    session.sheet.save_part(rival)
    fit("soft pipe", "intercooler", "soft pipe", parts=("soft",))
    assert session.job.builds()[-1].event.removed == ("hard-pipe",)
    assert PlanState(session).fitted == {"front-intercooler", "soft"}
    session.sheet.save_part(Part(key="needy", title="Needy", station="fuel", needs=("pump-cam",)))
    with pytest.raises(JobError, match="needs High-pressure pump"):
        fit("needy", "fuel", "needy", parts=("needy",))


def test_same_map_new_part_and_same_part_new_map(session):
    assert any(t.startswith("Same part, new map: A1 over Stock on build 1") for t in told_of_builds(session))
    session.sheet.fit("hard pipe", "intercooler", "hard pipe", parts=("hard-pipe",))
    session.choose_working(session.job.revision("B1").id)
    session.link.write()
    session.pull(2)
    found = told_of_builds(session)
    assert any(t.startswith("Same map, new part: B1 with hard pipe") and "kW" in t for t in found)


def test_each_build_is_held_to_its_own_limits(session):
    """The charge pipe carries more once the hard one is on: only runs on that build are judged by it."""
    session.sheet.fit("hard pipe", "intercooler", "hard pipe", parts=("hard-pipe",))
    session.choose_working(session.job.revision("B1").id)
    session.link.write()
    session.pull(1)
    limits = {
        p.evidence.build: f.rule.stop
        for p in session.results[session.working].pulls
        for f in p.findings
        if f.check == "boost_limit"
    }
    assert limits == {2: 235.0, 3: 280.0}


def test_coast_down_on_the_bench(session):
    with pytest.raises(EvidenceError, match="no coast-down yet"):
        measured_loss(session)
    session.choose_working(session.job.revision("B1").id)
    session.bench.set_run(kind="coast")
    session.pull(1)
    loss = measured_loss(session)
    # What the simulated drivetrain loses on this dyno: 1 - 0.895 x 0.97.
    assert loss.share == pytest.approx(1 - 0.895 * 0.97, abs=0.004) and 0 < loss.half_width < 0.01
    assert session.job.evidence()[-1].title.startswith("B1 coast-down")
    assert session.results[session.working].full_pulls == 3


# -- plan


def test_links_name_what_moves_them_and_what_that_costs(session):
    plan = PlanState(session)
    links = plan.demands()
    assert links[0].limit.component == "clutch pack" and not links[0].clears and links[0].severity == "watch"
    assert "clutch pack with more plates (1,545 cr)" in plan.in_words(links[0])
    cards = readings(session, "plan")
    weakest = next(c for c in cards if c.sentence == "Weakest link: clutch pack")
    # The bar's tick stands at all that is carried: what gives way goes past it.
    assert weakest.share == pytest.approx(links[0].share) and weakest.share > 1.0
    assert any("belongs to Stage 2" in c.sentence for c in cards)
    session.sheet.set_plan("no target", target=None)
    assert PlanState(session).demands() == [] and route_state(session, "plan") == NO_DATA


def test_markers_and_measured_gain(session):
    plan = PlanState(session)
    lanes = LanesState(session)
    assert [t[:2] for t in lanes.lanes()[0].ticks] == [("reference", "Stock"), ("working", "B1")]
    assert [n for n, _, _ in lanes.stage_marks()] == [0, 1, 2] and lanes.target_mark() == pytest.approx(92e3)
    wheel = lanes.lanes()[0].ticks[0][2]
    lanes.basis = "crank"
    assert lanes.lanes()[0].ticks[0][2] == pytest.approx(wheel / 0.868)
    stages = session.job.sheet.plan.stages
    # They were pulled on different days: what counts is one air for both, as the curves under Dyno have it.
    after, before = (
        np.mean(
            [p.curves[session.standard].peak_power[0] for p in session.results[session.job.revision(n).id].together()]
        )
        for n in ("B1", "A1")
    )
    gain = plan.measured_gain(stages[1])
    assert gain.interval.mean == pytest.approx(after - before, rel=0.02) and after > before
    assert "different days" in gain.note
    assert plan.measured_gain(stages[2]) is None


def test_peaks_of_several_days_are_compared_in_one_air_and_it_is_said(session):
    """The same engine in air that gives 4 % more is no gain; pulls of a file and of the bench do not compare."""
    results = session.results
    before = results[session.job.revision("A1").id].together()
    standard = next(s for s in before[0].curves if s != "none")

    def on(pulls, day, factor, **origin):
        found = []
        for p in pulls:
            curves = {
                k: replace(c, power_w=c.power_w * (factor if k == "none" else 1.0)) for k, c in p.curves.items()
            }
            evidence = replace(
                p.evidence, time=f"2026-03-{day:02d}T10:0{len(found)}:00", id=f"R{day}{len(found)}", **origin
            )
            found.append(replace(p, curves=curves, evidence=evidence))
        return found

    one, other = on(before, 2, 1.0), on(before, 9, 1.04)
    corrected = peaks_between(other, one, standard)
    assert not corrected.interval.distinguishable and abs(corrected.interval.mean) < 1.0
    assert "different days" in corrected.note and "by " in corrected.note
    plain = peaks_between(other, one, "none")
    assert plain.interval.mean > 0.03 * one[0].curves["none"].peak_power[0] and "air of each day" in plain.note
    same = peaks_between(on(before, 2, 1.0), one, standard)
    assert same.note == ""
    filed = on(before, 2, 1.0, origin=Origin(name="a.csv", sha256="0" * 64, size=9))
    assert peaks_between(filed, one, standard).interval is None


def test_stages_move_and_answers_replace_each_other(session):
    session.sheet.move_stage(0, 1)
    assert [s.title for s in session.job.sheet.plan.stages] == ["Stage 2", "Stage 1", "Stage 3"]
    session.sheet.move_stage(0, -1)
    session.sheet.drop_stage(0)
    assert [s.title for s in session.job.sheet.plan.stages] == ["Stage 1", "Stage 3"]
    for sentence in ("one", "two"):
        session.sheet.save_answer(Answer(sheet="Turbo", sentence=sentence, source="s"))
    assert [a.sentence for a in session.job.sheet.plan.answers] == ["two"]


# -- a job from nothing


def test_a_bare_job_opens_and_every_step_says_what_it_lacks(bare):
    assert bare.bench is None and bare.revisions() == [] and bare.errors == []
    for step in STEPS:
        assert readings(bare, step), step
        assert route_state(bare, step) in (NO_DATA, PASS, "watch")
    assert any("cylinders, bore, stroke" in r.sentence for r in readings(bare, "job"))
    assert any(r.sentence == "The sheet lacks the maps" and r.step == "maps" for r in readings(bare, "checks"))
    with pytest.raises(JobError, match="no maps yet"):
        bare.editable_draft()
    bare.link.write()
    bare.pull(1)
    assert bare.job.evidence() == [] and LanesState(bare).stage_marks() == []


def test_a_bare_job_gets_its_maps_and_goes_on(bare):
    with pytest.raises(CalibrationError):
        bare.import_stock(parse_layout(layout_text("ptarmigan")), b"\0" * 100, "R")
    assert bare.job.revisions() == []
    bare.import_stock(parse_layout(layout_text("ptarmigan")), stock_image("ptarmigan"), "Rowan Sedge")
    assert bare.bench is not None and bare.working_name() == "Stock"
    bare.bench.unit.seconds_per_block = 0.0
    bare.link.write()
    bare.pull(1)
    assert len(bare.results[bare.working].pulls) == 1 and bare.errors == []


def test_a_unit_that_no_simulated_vehicle_has(bare):
    layout = layout_text("ptarmigan").replace("ptarmigan-14", "plover-20")
    from yarvic.core.calibration.image import pack, unpack

    old, new = parse_layout(layout_text("ptarmigan")), parse_layout(layout)
    maps = {s: unpack(stock_image("ptarmigan"), old, s, source="x") for s in old.sets}
    bare.import_stock(new, pack(maps, new, "Stock"), "R")
    assert bare.bench is None and bare.job.has_maps
    path = bare.job.path
    bare.close_job()
    again = opened(path)
    assert again.bench is None and again.working_name() == "Stock" and again.errors == []
    assert any("No unit" in r.sentence for r in readings(again, "flash"))
    again.close_job()


def test_where_jobs_are_made(tmp_path):
    assert job_path(tmp_path, "Lapwing, delivery van").name == "lapwing-delivery-van.yarvic"
    assert job_path(tmp_path, "***").name == "job.yarvic"
    create_job(tmp_path, begin("turbo-petrol", "A"), "R")
    with pytest.raises(JobError, match="there already"):
        create_job(tmp_path, begin("turbo-petrol", "A"), "R")
    with pytest.raises(JobError, match="no folder"):
        create_job(Path("somewhere"), begin("turbo-petrol", "B"), "R")
    (tmp_path / "file").write_text("x")
    with pytest.raises(YarvicError, match=r"folder|made"):
        create_job(tmp_path / "file" / "deep", begin("turbo-petrol", "B"), "R")


def test_a_read_only_job_takes_no_change(demo_path):
    s = Session(Settings(author="R"), InlineRunner())
    s.open_job(Path(demo_path), read_only=True)
    with pytest.raises(JobError, match="read only"):
        s.sheet.set_vehicle(bore_mm=81.0)
    assert s.job.sheet.vehicle.bore_mm == 80.0
    s.close_job()
