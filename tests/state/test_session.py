"""The session: drafting, committing, flashing, pulling, judging, without any window."""

import numpy as np
import pytest
from kept import kept_drafts

from yarvic.core.calibration.storing import steps as steps_of
from yarvic.core.checks.run import check_log
from yarvic.core.errors import CalibrationError, FormatError, JobError, LinkError, UnitError, YarvicError
from yarvic.core.job.store import Job
from yarvic.core.link.sectors import SectorWriter
from yarvic.core.release.gate import is_open
from yarvic.core.release.package import verify_package
from yarvic.core.typed_numbers import parse_number
from yarvic.core.units import UNITS, convert, units_of
from yarvic.state.keys import demo_key
from yarvic.state.maps import MapsState
from yarvic.state.readings import compared, peaks, readings, route_state
from yarvic.state.release import begin_waiver, capture, gate_conditions, release, waive
from yarvic.state.selection import DRAFT, rung_of
from yarvic.state.session import STEPS, Session
from yarvic.state.settings import Settings, home, load_settings, remembered, save_settings
from yarvic.state.shown_table import SCALARS
from yarvic.state.signing import sheet_pdf
from yarvic.state.work import InlineRunner


class Ears:
    """Counts what a session says."""

    def __init__(self, session):
        self.said, self.errors, self.counts = [], [], {}
        session.told.connect(lambda sentence, trouble: self.said.append((sentence, trouble)))
        session.failed.connect(lambda error: self.errors.append(error))
        for name in ("job_changed", "selection_changed", "draft_changed", "results_changed", "bench_changed"):
            getattr(session, name).connect(lambda name=name: self.count(name))

    def count(self, name):
        self.counts[name] = self.counts.get(name, 0) + 1


@pytest.fixture
def session(demo_path):
    from pathlib import Path

    s = Session(Settings(author="Rowan Sedge"), InlineRunner())
    s.open_job(Path(demo_path))
    s.bench.unit.seconds_per_block = 0.0
    yield s
    s.close_job()


@pytest.fixture
def maps(session):
    return MapsState(session)


def select(maps, rows, columns):
    table = maps.table()
    mask = np.zeros(table.values.shape, dtype=bool)
    mask[rows, columns] = True
    maps.select(mask, int(np.flatnonzero(mask.any(axis=1))[0]))


def retard_spark(maps, amount=-3.0):
    maps.choose("spark_advance")
    select(maps, slice(6, 10), slice(3, 8))
    maps.edits.calculate(f"+ {amount}")


def test_the_demo_opens_on_its_last_revision(session):
    assert session.working_name() == "B1"
    assert session.name_of(session.reference) == "A1"
    assert session.working_results().verdict == "stop"
    assert session.bench.holds().name == "B1"
    assert [route_state(session, s) for s in STEPS] == [
        "watch", "watch", "pass", "pass", "pass", "pass", "stop", "stop",
    ]  # fmt: skip


def test_readings_come_worst_first_and_lead_to_the_place(session):
    found = readings(session, "checks")
    assert found[0].severity == "stop" and found[0].sentence == "Cylinder 2 knocked in 3 of 3 pulls"
    assert found[0].where.channel == "spark_correction_2"
    order = ["stop", "no_data", "watch", "pass"]
    ranks = [order.index(r.severity) for r in found]
    assert ranks == sorted(ranks)
    for step in STEPS:
        assert readings(session, step)


def test_a_new_pull_is_judged_alone_and_a_new_limit_judges_all(session, monkeypatch):
    judged = []

    def noting(evidence, *arguments):
        judged.append(evidence)
        return check_log(evidence, *arguments)

    monkeypatch.setattr("yarvic.state.evaluating.check_log", noting)
    before = session.working_results()
    session.pull(1)
    newest = session.job.evidence()[-1].id
    assert judged == [newest]
    assert session.working_results().pulls[:-1] == before.pulls and len(session.working_results().pulls) == 4
    judged.clear()
    limit = session.sheet.sheet.limits[0]
    session.sheet.save_limit(limit.model_copy(update={"safe": limit.safe * 0.99}), limit.name)
    assert sorted(judged) == [e.id for e in session.job.evidence()]


def test_an_edit_begins_a_draft_and_undo_takes_it_back(session, maps):
    before = session.calibration(session.working, "RON 95").table("spark_advance").values
    retard_spark(maps)
    assert session.working == DRAFT and session.name_of(session.reference) == "B1"
    assert np.allclose(maps.difference()[6:10, 3:8], -3.0)
    assert np.count_nonzero(maps.difference()) == 20
    select(maps, 0, 0)
    maps.edits.calculate("= 20.0")
    maps.edits.undo()
    maps.edits.undo()
    assert np.array_equal(maps.table().values, before)
    maps.edits.redo()
    assert np.count_nonzero(maps.difference()) == 20
    maps.edits.redo()
    maps.edits.redo()  # nothing more: said, not raised
    assert maps.table().values[0, 0] == 20.0


def test_a_new_edit_forgets_what_was_undone(session, maps):
    retard_spark(maps)
    maps.edits.undo()
    select(maps, 0, 0)
    maps.edits.calculate("+ 0.5")
    assert not session.draft.can_redo


@pytest.mark.parametrize("text", ["= 99", "- 90", "times 50"])
def test_an_edit_out_of_bounds_begins_no_draft(session, maps, text):
    select(maps, 3, 3)
    with pytest.raises(CalibrationError, match="bounds"):
        maps.edits.calculate(text)
    assert session.draft is None and session.working_name() == "B1"


def test_no_cells_in_hand_is_said(session, maps):
    with pytest.raises(CalibrationError, match="no cells"):
        maps.edits.calculate("+ 1.0")


def test_every_operation(session, maps):
    select(maps, 4, slice(2, 9))
    before = maps.table().values[4].copy()
    maps.edits.calculate("* 1.1")
    assert np.allclose(maps.table().values[4, 2:9], np.round(before[2:9] * 1.1, 1))
    maps.edits.do(maps.edits.between())
    inner = maps.table().values[4]
    assert inner[5] == pytest.approx(np.interp(3500, [2000, 5000], [inner[2], inner[8]]), abs=0.06)
    maps.edits.do(maps.edits.smooth())
    maps.edits.do(maps.edits.to_reference())
    assert np.array_equal(maps.table().values[4], before)


def test_edits_in_a_chosen_unit(session, maps):
    maps.choose("boost_target")
    select(maps, 5, 4)
    session.choose_unit("pressure", "psi")
    maps.edits.calculate("= 29.0")
    assert maps.table().values[5, 4] == pytest.approx(29.0 * 6.894757, abs=0.06)
    maps.edits.calculate("- 1.0")
    assert maps.table().values[5, 4] == pytest.approx(28.0 * 6.894757, abs=0.12)
    assert maps.shown(maps.table())[5, 4] == pytest.approx(28.0, abs=0.02)
    assert maps.display_unit("deg") == "deg"


@pytest.mark.parametrize("key", ["boost_target", "torque_limit"])
def test_a_cell_that_is_typed_as_it_is_shown_stays_as_it_is_in_every_unit(session, maps, key):
    maps.choose(key)
    table = maps.table()
    quantity = UNITS[table.unit].quantity
    for label in units_of(quantity):
        session.choose_unit(quantity, label)
        assert maps.display_unit(table.unit) == label
        steps, places = steps_of(table.storing.step, table.storing.origin), maps.decimals(table)
        shown = np.array([[float(f"{v:.{places}f}") for v in row] for row in maps.shown(table)])
        again = steps.nearest(convert(shown, label, table.unit), table.low, table.high)
        assert np.array_equal(again, table.values), label


def test_scalars(session, maps):
    maps.choose(SCALARS)
    assert maps.table() is None
    maps.edits.set_value("rev_limit", "6700")
    now, then = maps.value("rev_limit")
    assert (now.value, then.value) == (6700.0, 6600.0)
    with pytest.raises(CalibrationError, match="7200"):
        maps.edits.set_value("rev_limit", "9000")
    with pytest.raises(UnitError, match="not a number"):
        maps.edits.set_value("rev_limit", "fast")
    with pytest.raises(CalibrationError, match="single values"):
        maps.edits.calculate("+ 1.0")


@pytest.mark.parametrize(("text", "value"), [("2.5", 2.5), ("-3", -3.0), (" 1,5 ", 1.5)])
def test_numbers_as_typed(text, value):
    assert parse_number(text) == value


@pytest.mark.parametrize("text", ["", "abc", "inf", "nan", "1.2.3"])
def test_numbers_that_are_none(text):
    with pytest.raises(UnitError):
        parse_number(text)


def test_a_dragged_point_stays_within_bounds(session, maps):
    maps.edits.drag({(2, 3): 500.0})
    assert maps.table().values[2, 3] == maps.table().high
    assert session.draft.edits[-1].cells == ((2, 3),)


def test_evidence_in_the_cells(session, maps):
    evidence = maps.evidence()
    total = sum(p.pull.length_s for p in session.working_results().pulls)
    assert evidence.seconds.sum() == pytest.approx(total, rel=0.02)
    assert np.nanmax(evidence.retard_deg) > 3.0
    # Where it was not, nothing is claimed.
    assert np.isnan(evidence.retard_deg[0, 12]) and evidence.seconds[0, 12] == 0.0


def test_slots_are_edited_apart(session, maps):
    maps.choose_slot("E30")
    select(maps, 0, 0)
    maps.edits.calculate("+ 1.0")
    assert session.draft.edits[0].slot == "E30"
    assert [s for s, _ in session.draft.differences()] == ["E30"]


def test_a_kept_draft_is_offered_again(session, maps, demo_path):
    from pathlib import Path

    retard_spark(maps)
    held = maps.table().values.copy()
    session.close_job()
    again = Session(Settings(), InlineRunner())
    ears = Ears(again)
    again.open_job(Path(demo_path))
    assert again.working == DRAFT
    assert np.array_equal(again.calibration(DRAFT, "RON 95").table("spark_advance").values, held)
    assert any("was saved" in s for s, _ in ears.said)
    again.draft.undo()
    assert again.draft.differences() == []
    again.close_job()


def test_drafts_stand_beside_each_other(session, maps):
    """An edit on another rung begins another draft; the one before stays on the ladder, and can be taken in hand."""
    retard_spark(maps)
    first = session.draft
    session.choose_working(session.revisions()[0].id)
    select(maps, 0, 0)
    maps.edits.calculate("+ 1.0")
    second = session.draft
    assert second is not first and second.parent.name == "Stock" and session.working == DRAFT
    assert [d.id for d in session.other_drafts()] == [first.id]
    session.choose_working(rung_of(session.other_drafts()[0]))
    assert session.working == DRAFT and session.draft.parent.name == "B1"
    assert session.draft.image.data == first.image.data and session.draft.steps == first.steps
    # What is kept opens with the one that was touched last.
    path = session.job.path
    session.close_job()
    session.open_job(path)
    assert session.draft.id == first.id
    session.discard_draft()
    assert session.draft is None and [d.id for d in session.other_drafts()] == [second.id]


def test_commit_needs_reason_author_and_a_difference(session, maps):
    with pytest.raises(JobError, match="no draft"):
        session.commit_draft("x", "y")
    retard_spark(maps)
    for reason, author, message in (("", "R. S.", "reason"), ("why", "  ", "author")):
        with pytest.raises(JobError, match=message):
            session.commit_draft(reason, author)
    assert session.draft is not None
    maps.edits.undo()
    with pytest.raises(JobError, match="does not differ"):
        session.commit_draft("why", "R. S.")


def test_reference_is_never_the_working_rung(session):
    ears = Ears(session)
    session.choose_reference(session.working)
    assert ears.said[-1][1] is True
    session.choose_reference(session.revisions()[0].id)
    assert session.name_of(session.reference) == "Stock"
    session.choose_working(session.revisions()[0].id)
    assert session.reference != session.working


def test_the_whole_way_to_a_package(session, maps, tmp_path):
    retard_spark(maps)
    revision = session.commit_draft("spark retarded where cylinder 2 knocked", "Rowan Sedge")
    assert revision.name == "B2" and session.working == revision.id
    assert [r.severity for r in readings(session, "checks")] == ["no_data"]
    shut = {c.key for c in gate_conditions(session) if not c.met}
    assert {"flashed", "pulls", "build"} <= shut
    ears = Ears(session)
    session.pull(1)
    assert "the unit holds B1, not B2" in str(ears.errors[-1])
    session.link.write()
    assert session.bench.holds().name == "B2"
    session.pull(3)
    results = session.working_results()
    assert len(results.pulls) == 3 and results.verdict == "pass"
    assert is_open(gate_conditions(session))
    path = tmp_path / "b2.zip"
    signing = capture(session, "Rowan Sedge")
    release(session, signing, path, demo_key)
    sha = session.job.releases()[-1].manifest_sha256
    v = verify_package(path)
    assert v.intact and v.manifest_sha256 == sha
    assert v.manifest.image_sha256 == revision.image
    assert set(v.manifest.files) == {
        "image.hex", "maps/ron-95.json", "maps/ron-95.csv", "maps/e30.json", "maps/e30.csv", "evidence.json",
        "customer-sheet.pdf",
    }  # fmt: skip
    assert session.job.releases()[-1].manifest_sha256 == sha
    assert route_state(session, "release") == "pass"
    release(session, signing, path, demo_key)
    assert "name is there already" in str(ears.errors[-1]) and verify_package(path).intact


def test_a_revision_that_falls_short_is_not_signed(session, tmp_path):
    path, ears = tmp_path / "b1.zip", Ears(session)
    release(session, capture(session, "R. S."), path, demo_key)
    assert "does not meet: knock" in str(ears.errors[-1])
    assert not path.exists() and len(session.job.releases()) == 1


def test_a_waiver_opens_the_gate_and_stands_in_the_package(session, tmp_path):
    with pytest.raises(JobError, match="name and a reason"):
        waive(session, begin_waiver(session, "check Knock"), "Rowan Sedge", "")
    waive(
        session,
        begin_waiver(session, "check Knock"),
        "Rowan Sedge",
        "closed course, one more degree of margin from the fuel",
    )
    assert is_open(gate_conditions(session))
    path = tmp_path / "b1.zip"
    release(session, capture(session, "Rowan Sedge"), path, demo_key)
    waivers = verify_package(path).manifest.waivers
    assert [w.condition for w in waivers] == ["check Knock"]


def test_a_release_needs_a_name_and_room(session, tmp_path):
    waive(session, begin_waiver(session, "check Knock"), "Rowan Sedge", "why not")
    ears = Ears(session)
    release(session, capture(session, "  "), tmp_path / "a.zip", demo_key)
    assert "signed by name" in str(ears.errors[-1])
    release(session, capture(session, "R. S."), tmp_path / "none" / "a.zip", demo_key)
    assert "its folder is not there" in str(ears.errors[-1])
    assert len(session.job.releases()) == 1


def test_drafts_and_bare_revisions_have_no_sheet(session, maps):
    retard_spark(maps)
    assert gate_conditions(session) == []
    with pytest.raises(YarvicError, match="draft"):
        capture(session, "")
    session.commit_draft("why", "R. S.")
    with pytest.raises(YarvicError, match="no pulls at full throttle"):
        capture(session, "")


def test_the_sheet_compares_with_stock(session):
    import io

    from pypdf import PdfReader

    text = PdfReader(io.BytesIO(sheet_pdf(capture(session, "")))).pages[0].extract_text()
    for part in (
        "Dashed: Stock",
        "Map and parts changed",
        "Build 2: front intercooler",
        "Stage 2. Requires: Front intercooler. Gearbox calibration: as delivered",
        "Slot E30",
        "Not measured",
        "SIMULATED",
        "Uncorrected: ",
        "B1: ",
        "Stock: ",
    ):
        assert part in text


def test_comparisons_say_what_they_test(session):
    stock, a1, b1 = (session.results[r.id] for r in session.revisions())
    assert compared(b1, a1)[1].startswith("Map and parts")
    assert compared(a1, stock)[1] == "A test of the map"
    assert compared(a1, a1)[1].startswith("A test of nothing")
    assert compared(None, stock)[1] == "Nothing to compare yet"
    from dataclasses import replace

    def elsewhere(results):
        first = results.pulls[0]
        conditions = first.evidence.conditions.model_copy(update={"dyno": "another dyno", "gear": 3})
        return replace(results, pulls=(replace(first, evidence=replace(first.evidence, conditions=conditions)),))

    said = compared(elsewhere(a1), stock)
    assert said[0] == "watch" and "own baseline" in said[1] and "two dynos" in said[2] and "gears" in said[2]


def test_peaks_carry_units_and_speed(session):
    power, torque = peaks(session, session.working_results())
    assert " kW at " in power and " N m at " in torque
    assert peaks(session, None) is None


def test_cancelled_work_is_said_not_raised(session):
    class Cancelling(InlineRunner):
        def run(self, title, work, done, failed, *, visible=True, heard=None):
            return super().run(title, lambda p, c: work(p, lambda: True), done, failed, visible=visible, heard=heard)

    session.requests.runner = Cancelling()
    ears = Ears(session)
    session.choose_working(session.revisions()[1].id)
    before = session.bench.unit.memory
    session.link.write()
    assert session.bench.unit.memory == before
    assert "cancelled" in ears.said[-1][0] and ears.errors == []
    assert session.busy is None


def test_one_long_work_at_a_time(session):
    class Never(InlineRunner):
        def run(self, title, work, done, failed, *, visible=True, heard=None):
            class Handle:
                def cancel(self): ...

            handle = Handle()
            handle.title = title
            return handle

    session.requests.runner = Never()
    ears = Ears(session)
    session.pull(1)
    session.pull(1)
    assert "under way" in ears.said[-1][0]


def test_a_read_only_session_edits_and_pulls_nothing(demo_path):
    from pathlib import Path

    holder = Job.open(Path(demo_path))
    try:
        s = Session(Settings(), InlineRunner())
        with pytest.raises(JobError, match="open in another"):
            s.open_job(Path(demo_path))
        s.open_job(Path(demo_path), read_only=True)
        maps = MapsState(s)
        select(maps, 0, 0)
        with pytest.raises(JobError, match="read only"):
            maps.edits.calculate("+ 1.0")
        ears = Ears(s)
        s.pull(1)
        assert "read only" in str(ears.errors[-1])
        s.close_job()
    finally:
        holder.close()


def test_a_job_that_does_not_open_leaves_the_present_one(session, tmp_path):
    bad = tmp_path / "bad.yarvic"
    bad.write_text("no")
    with pytest.raises(JobError):
        session.open_job(bad)
    assert session.working_name() == "B1"


def test_settings_are_remembered_and_damage_is_survived(tmp_path, monkeypatch):
    monkeypatch.setenv("YARVIC_HOME", str(tmp_path / "home"))
    settings = Settings(theme="night", step="maps", author="R. S.")
    save_settings(settings)
    assert load_settings() == settings
    for text in ("{broken", "[]", '{"step": "../../etc"}', '{"theme": 3}', "\0"):
        (home() / "settings.json").write_text(text)
        assert load_settings() == Settings()
    (home() / "settings.json").write_text(
        '{"units": {"pressure": "kg", "torque": "lb-ft", "x": "y"}, "author": "R. S."}'
    )
    assert load_settings().units == {**Settings().units, "torque": "lb-ft"}
    assert load_settings().author == "R. S."
    (home() / "settings.json").write_text("{broken")
    assert load_settings() == Settings()
    assert "not valid JSON" in str(remembered()[1])
    monkeypatch.setenv("YARVIC_HOME", "/proc/none")
    with pytest.raises(FormatError):
        save_settings(settings)
    fault = remembered()[1]
    assert "may not be written" in str(fault) and "Jobs are not touched" in fault.remedy
    for hostile in ("x" * 5000, "a" * 300):
        monkeypatch.setenv("YARVIC_HOME", hostile)
        assert remembered()[0] == Settings()
        with pytest.raises(FormatError):
            save_settings(settings)


def test_an_image_file_can_be_taken_into_the_draft(session, maps, tmp_path):
    from yarvic.core.formats.images import write_image

    stock = session.job.image(session.revisions()[0].image)
    path = tmp_path / "stock.hex"
    write_image(path, stock, "hex")
    session.import_image(path)
    assert len(session.draft.differences()) == 3  # filling, boost target and torque limit were changed since
    assert session.working == DRAFT
    session.choose_reference(session.revisions()[0].id)
    for key, _ in maps.titles()[:-1]:
        maps.choose(key)
        assert np.count_nonzero(maps.difference()) == 0
    while session.draft.can_undo:
        session.draft.undo()
    assert session.draft.differences() == []


def test_the_same_image_begins_no_draft(session, tmp_path):
    path = tmp_path / "b1.bin"
    path.write_bytes(session.job.image(session.revisions()[-1].image))
    session.import_image(path)
    assert session.draft is None and session.working_name() == "B1"


@pytest.mark.parametrize(
    ("damage", "message"),
    [
        (lambda d: d.replace(b"ptarmigan-14", b"wether-32\0\0\0", 1), "wether-32"),
        (lambda d: d[:-1] + b"\0", "checksum"),
        (lambda d: d[:1000], "64,536 too few"),
        (lambda d: b"hello", "65,531 too few"),
        (lambda d: b":0102", "is not Intel HEX"),
    ],
)
def test_another_image_is_refused_and_nothing_changes(session, tmp_path, damage, message):
    path = tmp_path / "their.bin"
    path.write_bytes(damage(session.job.image(session.revisions()[0].image)))
    ears = Ears(session)
    session.import_image(path)
    [error] = ears.errors
    assert message in str(error) and "their.bin" in str(error) and error.remedy
    assert session.draft is None and session.job.drafts() == []


def test_a_disk_that_refuses_leaves_the_draft_as_it_was(session, maps, monkeypatch):
    """What is shown is always what is on disk."""
    retard_spark(maps)
    shown = maps.table().values.copy()
    kept = kept_drafts(session.job)

    def full(*what, **more):
        raise JobError("the disk is full: nothing was changed", remedy="Free some space and do it again.")

    monkeypatch.setattr(session.job, "add_step", full)
    monkeypatch.setattr(session.job, "drop_steps", full)
    select(maps, 0, 0)
    for action in (lambda: maps.edits.calculate("= 20.0"), session.draft.undo):
        with pytest.raises(JobError, match="disk is full"):
            action()
        assert np.array_equal(maps.table().values, shown)
    assert kept_drafts(session.job) == kept
    monkeypatch.undo()
    session.draft.undo()
    monkeypatch.setattr(session.job, "add_step", full)
    monkeypatch.setattr(session.job, "drop_steps", full)
    with pytest.raises(JobError, match="disk is full"):
        session.draft.redo()
    assert session.draft.can_redo and not session.draft.can_undo
    monkeypatch.undo()
    session.draft.redo()
    assert np.array_equal(maps.table().values, shown)


def test_work_of_a_closed_job_comes_to_nothing(session, tmp_path):
    """A pull that ends after another job was opened is not recorded into it."""
    held = {}

    class Later(InlineRunner):
        def run(self, title, work, done, failed, *, visible=True, heard=None):
            if visible:
                held["done"] = lambda: done(work(lambda s, w: None, lambda: False))

                class Handle:
                    def cancel(self): ...

                handle = Handle()
                handle.title = title
                return handle
            return super().run(title, work, done, failed, visible=visible, heard=heard)

    import shutil

    other = shutil.copy(session.job.path, tmp_path / "other.yarvic")
    session.requests.runner = Later()
    session.pull(1)
    session.open_job(other)
    held["done"]()
    assert len(session.job.evidence()) == 9
    assert session.busy is None


@pytest.mark.parametrize(
    "edits",
    [
        '["RON 95", "spark_advance", "x", [[0, 0]], [99.0], [1.0]]',  # expects a value that is not there
        '["RON 95", "no such table", "x", [[0, 0]], [1.0], [2.0]]',
        '["RON 95", "spark_advance", "x", [[99, 0]], [1.0], [2.0]]',
        '["RON 95", "spark_advance"',
        '["no slot", "spark_advance", "x", [[0, 0]], [1.0], [2.0]]',
    ],
)
def test_a_bad_draft_does_not_keep_the_job_shut(demo_path, edits):
    import sqlite3
    from pathlib import Path

    connection = sqlite3.connect(demo_path)
    connection.execute("INSERT INTO draft VALUES (1, '', 3, NULL, '2024-01-01', 1)")
    connection.execute("INSERT INTO draft_edit VALUES (1, 1, 0, ?)", (edits,))
    connection.commit()
    connection.close()
    s = Session(Settings(), InlineRunner())
    ears = Ears(s)
    s.open_job(Path(demo_path))
    assert s.draft is None and s.working_name() == "B1"
    assert "saved draft cannot be opened" in str(ears.errors[0]) and ears.errors[0].remedy
    maps = MapsState(s)
    retard_spark(maps)
    assert s.job.steps(s.draft.id) == tuple(s.draft.steps) and len(s.job.drafts()) == 2
    s.close_job()


def test_an_unknown_standard_in_a_sheet_is_refused():
    from yarvic.demo.ptarmigan import PTARMIGAN

    with pytest.raises(ValueError, match="no correction standard"):
        type(PTARMIGAN.sheet()).model_validate({**PTARMIGAN.sheet().model_dump(), "standard": "abc"})


def test_what_is_not_offered_is_not_done(session, monkeypatch, tmp_path):
    """The backup is damaged: going on is left, and said."""
    bench = session.bench
    bench.link.place = tmp_path
    told = []
    session.failed.connect(told.append)

    def breaks(*args):
        raise LinkError("the cable is out", remedy="Plug it in.")

    monkeypatch.setattr(SectorWriter, "_sector", breaks)
    session.choose_working(session.job.revision("Stock").id)
    session.link.write()
    journal = bench.link.left_unfinished()
    assert journal is not None and "broke off" in told[-1].what
    session.link.write()
    assert "was broken off" in told[-1].what
    monkeypatch.undo()
    path = bench.link.vault_folder / "images" / f"{journal.begun.backup}.bin"
    path.write_bytes(b"x" + path.read_bytes()[1:])
    session.link.finish("restore")
    assert "half written" in told[-1].what and "go on" in told[-1].remedy
    session.link.finish("go on")
    assert bench.holds().name == "Stock" and bench.link.left_unfinished() is None
