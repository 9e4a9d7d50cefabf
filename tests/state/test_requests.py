"""Acts and their outcomes, apart in time: what is selected, fitted, opened or set in between changes nothing of them."""

import shutil
import tempfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from psygnal import EmitLoopError
from scheduler import Scheduler

from yarvic.core.errors import JobError, LinkError, YarvicError
from yarvic.core.job.model import Fitting
from yarvic.core.release.package import verify_package
from yarvic.state.bench import Measured
from yarvic.state.keys import demo_key
from yarvic.state.maps import MapsState
from yarvic.state.release import begin_waiver, capture, gate_conditions, release, waive
from yarvic.state.session import Session
from yarvic.state.settings import Settings

REASON = "closed course, one more degree of margin"


def opened(path, *, early=False):
    runner = Scheduler(early=early)
    session = Session(Settings(author="Rowan Sedge"), runner)
    session.open_job(Path(path))
    session.bench.unit.seconds_per_block = 0.0
    runner.finish_all()
    session.errors, session.sentences = [], []
    session.failed.connect(lambda error: session.errors.append(error))
    session.told.connect(lambda sentence, trouble: session.sentences.append(sentence))
    return session, runner


@pytest.fixture
def apart(demo_path):
    session, runner = opened(demo_path)
    yield session, runner
    session.close_job()


@pytest.fixture
def quick(small_job, tmp_path, pulled):
    """The small job, with runs that take no time."""
    session, runner = opened(shutil.copy(small_job, tmp_path / "job.yarvic"))
    canned(session, pulled)
    yield session, runner
    session.close_job()


def canned(session, pulled):
    """Every run gives the same log; what a run is about is what is looked at here."""

    def work_of(slot, runs):
        rig = session.bench.rig(slot).fork()
        return lambda progress, asked: Measured(tuple(pulled for _ in runs), rig)

    session.bench.pull_work = work_of


def names(session):
    return [r.name for r in session.revisions()]


def runs_of(session, name):
    revision = session.job.revision(name)
    return [e for e in session.job.evidence() if e.revision_id == revision.id]


def choose(session, name):
    session.choose_working(session.job.revision(name).id)


def fit(session, title="another exhaust"):
    session.job.fit(title, {"exhaust": title}, Fitting(date="2024-05-01"))
    session.job_changed.emit()


def elsewhere(session, tmp_path):
    session.open_job(Path(shutil.copy(session.job.path, tmp_path / "other.yarvic")))
    session.bench.unit.seconds_per_block = 0.0


def test_a_pull_is_of_the_revision_and_build_that_were_asked_for(quick):
    session, runner = quick
    before = len(runs_of(session, "B1")), len(runs_of(session, "Stock"))
    session.pull(2)
    choose(session, "Stock")
    build = len(session.job.builds())
    fit(session)
    runner.finish_titled("Pulling")
    runner.finish_all()
    made = runs_of(session, "B1")
    assert (len(made), len(runs_of(session, "Stock"))) == (before[0] + 2, before[1])
    assert [e.build for e in made[-2:]] == [build, build]
    assert all(e.title.startswith("B1 ") for e in made)
    assert len(session.results[session.job.revision("B1").id].pulls) == before[0] + 2


def test_a_flash_is_of_the_revision_that_was_asked_for(apart):
    session, runner = apart
    choose(session, "Stock")
    session.link.write()
    choose(session, "A1")
    runner.finish_all()
    flash, stock = session.job.flashes()[-1], session.job.revision("Stock")
    assert (flash.revision_id, flash.image) == (stock.id, stock.image)
    assert session.bench.holds() == stock


def test_nobody_touches_the_unit_while_it_is_written(apart):
    session, runner = apart
    choose(session, "A1")
    session.link.write()
    with pytest.raises(LinkError, match="being written"):
        session.bench.set_fault("wrong_image", 1.0)
    session.pull(1)
    assert "being written" in str(session.errors[-1])
    runner.finish_all()
    assert session.bench.holds().name == "A1"
    session.bench.set_fault("wrong_image", 1.0)
    assert session.bench.holds() is None


def test_a_unit_that_was_changed_behind_the_flash_is_not_recorded_as_good(apart):
    session, runner = apart
    choose(session, "A1")
    flashes = len(session.job.flashes())
    session.link.write()
    p = runner.pending[-1]
    outcome = p.work(lambda share, what, detail=None: None, lambda: False)
    session.bench.unit.load(session.job.image(session.job.revision("Stock").image))
    p.work = lambda progress, asked: outcome
    runner.finish_all()
    assert len(session.job.flashes()) == flashes
    assert "does not hold A1" in str(session.errors[-1])


def test_a_listener_that_fails_breaks_no_flash(apart):
    session, runner = apart
    choose(session, "A1")

    def fail(request, step):
        raise RuntimeError("a view that is gone")

    session.link.step_came.connect(fail)
    session.link.write()
    p = runner.pending[-1]
    heard, p.heard = p.heard, None  # as the runner does it: what it tells cannot raise into the work
    with pytest.raises(EmitLoopError) as raised:  # its own text names the cause or the callback, by version
        heard(object())
    assert "a view that is gone" in str(raised.value.__cause__)
    runner.finish_all()
    assert session.bench.holds().name == "A1"


@pytest.mark.parametrize("early", [False, True])
def test_a_judgement_that_ends_late_replaces_no_newer_one(small_job, tmp_path, pulled, early):
    session, runner = opened(shutil.copy(small_job, tmp_path / "job.yarvic"), early=early)
    canned(session, pulled)
    b1 = session.job.revision("B1").id
    try:
        for _ in range(2):
            session.pull(1)
            runner.finish_titled("Pulling")  # each asks for a judgement of what is there then
        first, second = (i for i, p in enumerate(runner.pending) if p.title == "Judging")
        runner.finish(second)
        newest = session.results[b1]
        runner.finish(first)
        assert session.results[b1] is newest and len(newest.pulls) == len(runs_of(session, "B1"))
    finally:
        session.close_job()


@pytest.mark.parametrize("act", ["pull", "flash", "release", "judge"])
@pytest.mark.parametrize("early", [False, True])
def test_nothing_reaches_a_job_that_was_opened_meanwhile(small_job, pulled, tmp_path, act, early):
    session, runner = opened(shutil.copy(small_job, tmp_path / "job.yarvic"), early=early)
    canned(session, pulled)
    path = tmp_path / "b1.zip"
    try:
        if act == "pull":
            session.pull(1)
        elif act == "flash":
            choose(session, "Stock")
            session.link.write()
        elif act == "release":
            waive_all(session)
            release(session, capture(session, "Rowan Sedge"), path, demo_key)
        else:
            session._judge(session.job.revision("Stock").id)
        elsewhere(session, tmp_path)
        job = session.job
        there = len(job.evidence()), len(job.flashes()), len(job.releases()), session.bench.unit.memory
        runner.finish_all()
        assert there == (len(job.evidence()), len(job.flashes()), len(job.releases()), session.bench.unit.memory)
        assert not path.exists() and session.busy is None and session.errors == []
        counts = [len(r.pulls) for r in session.results.values()]
        assert sum(counts) == len(job.evidence())
    finally:
        session.close_job()


# -- waivers and release


def waive_all(session):
    for condition in gate_conditions(session):
        if condition.may_waive and not condition.met:
            waive(session, begin_waiver(session, condition.key), "Rowan Sedge", REASON)


def test_a_waiver_is_for_the_revision_that_it_was_begun_for(apart):
    session, _ = apart
    waiving = begin_waiver(session, "check Knock")
    choose(session, "Stock")
    waive(session, waiving, "Rowan Sedge", REASON)
    assert [w.condition for w in session.job.waivers(session.job.revision("B1").id)] == ["check Knock"]
    assert session.job.waivers(session.job.revision("Stock").id) == []


def test_a_waiver_of_what_is_worse_by_now_is_refused(quick, monkeypatch):
    session, runner = quick
    waiving = begin_waiver(session, "pulls")
    session.pull(1)  # another run, and another judgement
    runner.finish_all()
    with pytest.raises(JobError, match="changed meanwhile"):
        waive(session, waiving, "Rowan Sedge", REASON)
    assert session.job.waivers(session.job.revision("B1").id) == []


def test_a_waiver_does_not_cover_a_worse_finding(apart):
    """Cylinder 2 is waived as it knocked; then it is driven on a fuel that knocks more."""
    session, runner = apart
    waive(session, begin_waiver(session, "check Knock"), "Rowan Sedge", REASON)
    assert next(c for c in gate_conditions(session) if c.key == "check Knock").met
    session.bench.set_fault("bad_fuel", 1.0)
    session.pull(1)
    runner.finish_all()
    knock = next(c for c in gate_conditions(session) if c.key == "check Knock")
    assert not knock.met and knock.waiver is None and knock.lapsed is not None
    assert capture(session, "Rowan Sedge").waivers == ()  # nor does it stand on the sheet or in the package


def test_what_is_signed_is_what_stood_there_when_it_was_asked(apart, tmp_path):
    session, runner = apart
    waive(session, begin_waiver(session, "check Knock"), "Rowan Sedge", REASON)
    path = tmp_path / "b1.zip"
    release(session, capture(session, "Rowan Sedge"), path, demo_key)
    choose(session, "Stock")
    session.choose_standard("none")
    runner.finish_all()
    manifest = verify_package(path).manifest
    assert (manifest.revision, manifest.image_sha256) == ("B1", session.job.revision("B1").image)
    assert session.job.releases()[-1].revision_id == session.job.revision("B1").id


@pytest.mark.parametrize("change", ["fit", "pull", "limit"])
def test_a_release_of_what_is_not_so_any_more_is_dropped(quick, tmp_path, change):
    session, runner = quick
    waive_all(session)
    signing, path = capture(session, "Rowan Sedge"), tmp_path / "b1.zip"
    if change == "fit":
        release(session, signing, path, demo_key)
        fit(session)
    elif change == "limit":
        release(session, signing, path, demo_key)
        session.sheet.set_vehicle(stroke_mm=70.0)
    else:
        session.pull(1)
        runner.finish_all()
        release(session, signing, path, demo_key)
    released = len(session.job.releases())
    runner.finish_all()
    assert len(session.job.releases()) == released and not path.exists()
    assert any("changed meanwhile" in s for s in session.sentences), (session.sentences, session.errors)


def test_a_package_that_a_kill_left_unrecorded_is_signed_again(apart, tmp_path, monkeypatch):
    session, runner = apart
    waive(session, begin_waiver(session, "check Knock"), "Rowan Sedge", REASON)
    path = tmp_path / "b1.zip"

    class Killed(BaseException):
        pass

    def killed(*what):
        raise Killed

    with monkeypatch.context() as m:
        m.setattr(session.job, "record_release", killed)
        release(session, capture(session, "Rowan Sedge"), path, demo_key)
        with pytest.raises(Killed):
            runner.finish_all()
    assert path.exists()
    release(session, capture(session, "Rowan Sedge"), path, demo_key)
    runner.finish_all()
    assert session.errors == []
    assert session.job.releases()[-1].manifest_sha256 == verify_package(path).manifest_sha256


# -- drafts


def change_a_cell(maps, by):
    maps.choose("spark_advance")
    mask = np.zeros(maps.table().values.shape, dtype=bool)
    mask[3, 3] = True
    maps.select(mask, 3)
    maps.edits.calculate(f"+ {by}")


def test_an_image_goes_where_it_was_asked_for_or_nowhere(apart, tmp_path):
    session, runner = apart
    path = tmp_path / "stock.bin"
    path.write_bytes(session.job.image(session.job.revision("Stock").image))
    request = session.image_request()
    choose(session, "A1")
    with pytest.raises(JobError, match="changed meanwhile"):
        session.import_image(path, request)
    assert session.draft is None
    # Another rung is chosen while the file is read: nothing of it is taken.
    session.import_image(path, session.image_request())
    choose(session, "B1")
    runner.finish_titled("Reading")
    assert session.draft is None
    choose(session, "A1")
    session.import_image(path, session.image_request())
    runner.finish_titled("Reading")
    assert len(session.draft.differences()) == 1  # A1 changed one table
    assert len(session.draft.steps) == 1
    MapsState(session).edits.undo()
    assert session.draft.differences() == []


def test_a_reason_is_for_the_draft_that_it_was_written_for(apart):
    session, _ = apart
    maps = MapsState(session)
    change_a_cell(maps, -1.0)
    written_for = session.draft
    session.discard_draft()
    change_a_cell(maps, -2.0)
    with pytest.raises(JobError, match="another draft"):
        session.commit_draft("one degree less", "Rowan Sedge", written_for)
    assert session.draft is not None and len(names(session)) == 3


# -- everything at once

ACTS = st.lists(
    st.one_of(
        st.tuples(st.just("choose"), st.integers(0, 2)),
        st.tuples(st.just("pull"), st.integers(1, 2)),
        st.tuples(st.just("flash"), st.just(0)),
        st.tuples(st.just("fit"), st.just(0)),
        st.tuples(st.just("finish"), st.integers(0, 5)),
        st.tuples(st.just("cancel"), st.integers(0, 5)),
        st.tuples(st.just("waive"), st.just(0)),
        st.tuples(st.just("edit"), st.integers(1, 3)),
        st.tuples(st.just("commit"), st.just(0)),
        st.tuples(st.just("sign"), st.just(0)),
    ),
    min_size=4,
    max_size=14,
)


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(acts=ACTS, early=st.booleans())
def test_every_outcome_is_where_it_was_asked_for(small_job, pulled, acts, early):
    """Whatever is chosen in between, in whatever order outcomes come, each is of its own revision and build."""
    with tempfile.TemporaryDirectory() as folder:
        session, runner = opened(shutil.copy(small_job, Path(folder) / "job.yarvic"), early=early)
        canned(session, pulled)
        asked = {}  # title of work: revision and build at that moment
        try:
            for act, n in acts:
                _do(session, runner, act, n, asked)
            runner.finish_all()
            known = {r.id: r for r in session.revisions()}
            for run in session.job.evidence()[3:]:
                assert run.title.startswith(f"{known[run.revision_id].name} ")
                assert (run.revision_id, run.build) in asked
            for flash in session.job.flashes():
                assert flash.image == known[flash.revision_id].image
            assert session.bench.holds().id == session.job.flashes()[-1].revision_id
            for revision in known.values():
                assert len(session.results[revision.id].pulls) == len(runs_of(session, revision.name))
            for made in session.job.releases():
                manifest = verify_package(session.job.path.with_name(made.package)).manifest
                assert known[made.revision_id].name == manifest.revision
                assert known[made.revision_id].image == manifest.image_sha256
            assert session.draft is None or session.draft.steps == list(session.job.steps(session.draft.id))
            assert session.busy is None and not session.bench.flashing
        finally:
            session.close_job()


def _do(session, runner, act, n, asked):
    if act == "choose":
        choose(session, names(session)[n])
    elif act == "pull":
        asked[session.working, len(session.job.builds())] = True
        session.pull(n)
    elif act == "flash":
        session.link.write()
    elif act == "fit":
        fit(session)
    elif act == "finish" and runner.pending:
        runner.finish(n % len(runner.pending))
    elif act == "cancel":  # what a person sees can be cancelled
        for p in runner.pending:
            p.handle.cancel() if p.visible else None
    else:
        try:
            _write(session, act, n)
        except YarvicError:
            return  # refused in place, as by the gate or for want of a draft


def _write(session, act, n):
    if act == "waive":
        shut = [c for c in gate_conditions(session) if c.may_waive and not c.met]
        for condition in shut[:1]:
            waive(session, begin_waiver(session, condition.key), "Rowan Sedge", REASON)
    elif act == "edit":
        change_a_cell(MapsState(session), -float(n))
    elif act == "commit":
        session.commit_draft(REASON, "Rowan Sedge")
    elif act == "sign":
        waive_all(session)
        path = session.job.path.with_name(f"package-{len(session.job.journal())}.zip")
        release(session, capture(session, "Rowan Sedge"), path, demo_key)
