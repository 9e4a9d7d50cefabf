"""The maps as they are worked on: arithmetic, pasting, axes, lists, comparing, merging, history, evidence, files."""

import shutil
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from test_session import Ears, select

from yarvic.core.errors import CalibrationError, JobError, YarvicError
from yarvic.core.evidence.expected import Expected
from yarvic.core.formats.files import write_whole
from yarvic.state.check_limits import set_limit
from yarvic.state.maps import MapsState
from yarvic.state.readings import readings
from yarvic.state.selection import DRAFT, rung_of
from yarvic.state.session import Session
from yarvic.state.settings import Settings
from yarvic.state.shown_table import SCALARS
from yarvic.state.work import InlineRunner

AUTHOR = "Rowan Sedge"


def opened(path):
    s = Session(Settings(author=AUTHOR), InlineRunner())
    s.open_job(Path(path))
    return s


@pytest.fixture
def session(demo_path):
    s = opened(demo_path)
    yield s
    s.close_job()


@pytest.fixture
def maps(session):
    made = MapsState(session)
    made.choose("spark_advance")
    return made


# -- editing


def test_a_preview_says_what_would_be_stored(maps):
    select(maps, slice(0, 2), slice(0, 2))
    before = maps.table().values[:2, :2]
    said = maps.edits.preview(maps.edits.formula("+ 0.54")).sentence()
    assert said.startswith("4 cells raised by 0.54 deg: ")
    assert "rounded to what is stored" in said and f"{before.min() + 0.5:.1f}" in said
    assert maps.session.draft is None  # looking changes nothing
    maps.edits.calculate("+ 0.54")
    assert np.allclose(maps.table().values[:2, :2], np.round(before + 0.54, 1))
    assert "nothing changes" in maps.edits.preview(maps.edits.formula("+ 0")).sentence()


def test_arithmetic_is_in_the_unit_that_is_shown(maps):
    maps.choose("boost_target")
    maps.session.settings.units["pressure"] = "psi"
    select(maps, 3, 3)
    shown = float(maps.shown(maps.table())[3, 3])
    maps.edits.calculate("+ 1")
    assert float(maps.shown(maps.table())[3, 3]) == pytest.approx(shown + 1.0, abs=0.03)
    maps.edits.calculate("= reference")
    assert float(maps.shown(maps.table())[3, 3]) == pytest.approx(shown, abs=0.03)


def test_steps_fills_and_other_tables(maps):
    select(maps, 2, slice(3, 6))
    before = maps.table().values[2, 3:6].copy()
    maps.edits.do(maps.edits.steps(2))
    assert np.allclose(maps.table().values[2, 3:6], before + 0.2)
    maps.edits.do(maps.edits.fill("rows"))
    assert len(set(maps.table().values[2, 3:6])) == 1
    lambda_ = maps.session.calibration(DRAFT, maps.session.slot).table("lambda_target")
    with pytest.raises(CalibrationError, match="not in deg"):
        maps.edits.from_table("lambda_target", "copy")
    assert lambda_.unit == "lambda"
    maps.edits.undo(), maps.edits.undo()
    assert np.array_equal(maps.table().values[2, 3:6], before)


def test_cells_go_to_a_spreadsheet_and_come_back(maps):
    select(maps, slice(0, 3), slice(0, 4))
    plain, named = maps.edits.copied(), maps.edits.copied(axes=True)
    assert len(plain.splitlines()) == 3 and named.splitlines()[0].startswith("Spark advance, deg\t1000")
    maps.edits.do(maps.edits.paste(named.replace(".", ",")))
    assert maps.session.draft is None  # the same values, with decimal commas
    select(maps, 5, 5)
    maps.edits.do(maps.edits.paste("1,5\t2,5\n3,5\t4,5\n"))
    assert maps.table().values[5:7, 5:7].tolist() == [[1.5, 2.5], [3.5, 4.5]]
    select(maps, slice(0, 2), slice(0, 2))
    maps.edits.do(maps.edits.paste("9"))
    assert (maps.table().values[:2, :2] == 9.0).all()


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("fast\tslow", "is 'fast', no number"),
        ("1\t2\t3", "1 x 3 cells, 2 x 2 are selected"),
        ("\\\t1000\t1234\n20\t1\t2\n", "1234 is no break point"),
        ("99\t1\n1\t1", "outside the bounds"),
        ("\t\n\t", "holds no cells"),
    ],
)
def test_a_paste_that_does_not_fit_changes_nothing(maps, text, message):
    select(maps, slice(8, 10), slice(11, 13))
    with pytest.raises(YarvicError, match=message):
        maps.edits.do(maps.edits.paste(text))
    assert maps.session.draft is None


def test_points_are_dragged_together_and_stop_at_the_bounds(maps):
    cells = {(0, 0): 500.0, (0, 1): maps.table().values[0, 1] + 1.0}
    maps.edits.drag(cells)
    table = maps.table()
    assert table.values[0, 0] == table.high and len(maps.session.draft.steps) == 1


def test_break_points_move_with_the_values_and_undo_to_the_bit(maps):
    session = maps.session
    before = session.image(session.working).data
    change = maps.axes.move("x", 3, 2600.0)
    assert "the function changes by up to" in change.sentence() or "stays as it is" in change.sentence()
    maps.axes.do(change)
    assert maps.table().x.values[3] == 2600.0
    inserted = maps.axes.insert("x", 2250.0)
    assert " for " in inserted.what  # no room: one that is missed least is given up
    maps.axes.do(inserted)
    assert 2250.0 in maps.table().x.values and maps.table().x.values.size == 13
    maps.axes.do(maps.axes.delete("y", 4))
    assert maps.table().y.values.size == 10
    for _ in range(3):
        maps.edits.undo()
    assert session.draft.image.data == before
    with pytest.raises(CalibrationError, match="break points rise"):
        maps.axes.move("x", 3, 9000.0)
    assert maps.axes.shared_with("x") == [] and maps.axes.why_not("x") == ""


acts = st.lists(
    st.one_of(
        st.tuples(
            st.just("edit"), st.integers(0, 9), st.integers(0, 12), st.sampled_from(["+ 0.5", "- 0.5", "times 1.02"])
        ),
        st.tuples(st.just("axis"), st.integers(1, 11), st.integers(-40, 40)),
        st.tuples(st.sampled_from(["undo", "redo", "kill", "branch", "value"])),
    ),
    min_size=1,
    max_size=14,
)


@given(acts)
@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_any_sequence_of_edits_undone_is_what_it_was(small_job, tmp_path_factory, sequence):
    """Edits, axes, undo, redo, another draft, and a process that ends: what is open is what is on disk, and all of it
    undone is the revision to the bit.
    """
    path = Path(shutil.copy(small_job, tmp_path_factory.mktemp("s") / "a.yarvic"))
    s = opened(path)
    maps = MapsState(s)
    maps.choose("spark_advance")
    try:
        for act, *given_ in sequence:
            try:
                if act == "edit":
                    select(maps, given_[0], given_[1])
                    maps.edits.calculate(given_[2])
                elif act == "axis":
                    place, by = given_
                    maps.axes.do(maps.axes.move("x", place, float(maps.table().x.values[place] + by)))
                elif act in ("undo", "redo"):
                    getattr(maps.edits, act)()
                elif act == "value":
                    maps.edits.set_value("rev_limit", "6400")
                elif act == "branch":
                    maps.history.branch(s.revisions()[0], f"another {len(s.job.drafts())}")
                else:
                    shown = s.draft.image.data if s.draft is not None else None
                    s.close_job()
                    s = opened(path)
                    maps = MapsState(s)
                    maps.choose("spark_advance")
                    if shown is not None:
                        assert s.draft is not None and s.draft.image.data == shown
            except CalibrationError:
                pass  # out of bounds, or an axis that would fall: nothing has changed
        if s.draft is not None:
            again = [s.job.steps(d.id) for d in s.job.drafts() if d.id == s.draft.id]
            assert not again or list(again[0]) == s.draft.steps
            while s.draft.can_undo:
                s.draft.undo()
            assert s.draft.image.data == s.job.image(s.draft.parent.image)
    finally:
        s.close_job()


# -- the list


def test_the_list_is_grouped_searched_and_narrowed(maps):
    listing = maps.listing
    rows = listing.rows()
    groups = [r.title for r in rows if not r.key]
    assert groups[:2] == ["Limits", "Spark"] and {r.key for r in rows if r.key} == set(maps.layout().by_key)
    spark = next(r for r in rows if r.key == "spark_advance")
    assert (spark.what, spark.role, spark.unit) == ("map 10 x 13", "Spark advance", "deg") and spark.evidence
    listing.text = "boost"
    assert [r.key for r in listing.rows() if r.key] == ["boost_target"]
    listing.text = ""
    select(maps, 1, 1)
    maps.edits.calculate("+ 1")
    listing.narrowed = "draft"
    assert [r.key for r in listing.rows() if r.key] == ["spark_advance"]
    assert listing.difference("spark_advance").cells == 1 and listing.difference("lambda_target") is None
    listing.narrowed = "favourites"
    assert listing.rows() == []
    listing.toggle_favourite("boost_target")
    assert [r.key for r in listing.rows() if r.key] == ["boost_target"]
    assert maps.session.settings.favourites == {maps.layout().family: ("boost_target",)}
    listing.toggle_favourite("boost_target")
    assert listing.rows() == []


def test_the_way_back_leads_to_what_was_shown_before(maps):
    for key in ("boost_target", "lambda_target", SCALARS):
        maps.choose(key)
    seen = []
    for _ in range(5):
        maps.go_back()
        seen.append(maps.key)
    assert seen[:3] == ["lambda_target", "boost_target", "spark_advance"] and not maps.listing.can_go_back


# -- comparing


def test_maps_are_held_against_a_slot_and_an_image(maps, tmp_path):
    session = maps.session
    maps.compared.against_slot("E30")
    other = session.calibration(session.working, "E30")
    assert np.array_equal(maps.reference().values, other.table("spark_advance").values)
    listed = maps.compared.differences()
    own = session.calibration(session.working, "RON 95")
    differ = {k for k in own.tables if not np.array_equal(other.tables[k].values, own.tables[k].values)}
    differ |= {k for k in own.scalars if other.scalars[k].value != own.scalars[k].value}
    assert {w.difference.key for w in listed} == differ
    assert listed == sorted(listed, key=lambda w: -w.matters)
    stock = session.job.image(session.revisions()[0].image)
    path = tmp_path / "stock.bin"
    write_whole(path, stock)
    maps.compared.against_file(path)
    assert maps.compared.name() == "stock.bin"
    maps.compared.take_over([w.difference.key for w in maps.compared.differences()])
    assert maps.compared.differences() == [] and len(session.draft.steps) == 1
    ears = Ears(session)
    path.write_bytes(stock[:-3])
    maps.compared.against_file(path)
    assert "3 too few" in str(ears.errors[-1]) and maps.compared.name() == "stock.bin"
    maps.compared.against_reference()
    assert maps.compared.name() == session.name_of(session.reference)


def test_differences_in_per_cent(maps):
    select(maps, 0, 0)
    maps.edits.calculate("times 1.1")
    assert maps.percent()[0, 0] == pytest.approx(10.0, abs=0.4) and maps.percent()[5, 5] == 0.0


# -- branches, merges, history, marks


def test_a_branch_is_merged_and_recorded(session, maps):
    a1 = session.job.revision("A1")
    maps.history.branch(a1, "less spark")
    assert session.draft.parent.name == "A1" and session.draft.name == "less spark"
    select(maps, 9, 9)
    maps.edits.calculate("- 1")
    maps.merging.with_revision(session.job.revision("B1"))
    found = maps.merging.merge
    assert maps.merging.base == "A1" and found.conflicts == () and found.taken > 50
    maps.merging.do()
    b1 = session.image_of(session.job.revision("B1"))
    assert np.array_equal(
        session.draft.image["RON 95"].table("boost_target").values, b1["RON 95"].table("boost_target").values
    )
    made = session.commit_draft("both", AUTHOR)
    assert made.merged_id == session.job.revision("B1").id and made.parent_id == a1.id


def test_a_draft_has_a_name_of_its_own(session, maps):
    a1 = session.job.revision("A1")
    assert maps.history.branch(a1, "  less\nspark ").name == "less spark"
    count = len(session.job.drafts())
    for taken in ("Less Spark", "less  spark", "a1", "Stock"):
        with pytest.raises(JobError, match="another draft or revision"):
            maps.history.branch(a1, taken)
    assert len(session.job.drafts()) == count
    assert maps.history.branch(a1, " ").name == maps.history.branch(a1, "").name == ""
    assert len(maps.history.branch(a1, "x" * 500).name) == 80


def test_a_merge_that_is_undone_is_not_recorded(session, maps):
    maps.history.branch(session.job.revision("A1"), "x")
    select(maps, 9, 9)
    maps.edits.calculate("- 1")
    maps.merging.with_revision(session.job.revision("B1"))
    maps.merging.do()
    maps.edits.undo()
    assert session.draft.merged_id is None
    assert session.commit_draft("only mine", AUTHOR).merged_id is None


def test_conflicts_are_decided_one_by_one(session, maps):
    maps.history.branch(session.job.revision("A1"), "boost")
    maps.choose("boost_target")
    select(maps, slice(3, 5), slice(4, 6))
    maps.edits.calculate("- 3")
    maps.merging.with_revision(session.job.revision("B1"))
    open_ = maps.merging.open_conflicts()
    assert open_ and all(c.key == "boost_target" for c in open_)
    with pytest.raises(CalibrationError, match="whose value is to stand"):
        maps.merging.do()
    maps.merging.decide(open_[:1], "ours")
    maps.merging.decide(open_[1:], "theirs")
    mine = maps.table().values[open_[0].cell]
    maps.merging.do()
    assert maps.table().values[open_[0].cell] == mine
    theirs = session.image_of(session.job.revision("B1"))["RON 95"].table("boost_target").values
    assert all(maps.table().values[c.cell] == theirs[c.cell] for c in open_[1:])
    with pytest.raises(JobError, match="stands on A1 already"):
        maps.merging.with_revision(session.job.revision("A1"))


def test_a_merge_waits_for_the_draft_that_it_was_for(session, maps):
    maps.history.branch(session.job.revision("A1"), "x")
    select(maps, 9, 9)
    maps.edits.calculate("- 1")
    maps.merging.with_revision(session.job.revision("B1"))
    maps.edits.calculate("- 1")
    with pytest.raises(JobError, match="changed meanwhile"):
        maps.merging.do()
    maps.merging.with_revision(session.job.revision("B1"))
    first = session.draft
    maps.history.branch(session.job.revision("B1"), "y")
    with pytest.raises(JobError, match="not selected"):
        maps.merging.do()
    session.choose_working(rung_of(next(d for d in session.other_drafts() if d.id == first.id)))


def test_a_cell_says_who_changed_it_and_a_table_its_states(session, maps):
    maps.choose("boost_target")
    found = maps.history.of_table()
    assert [r.name for r, _ in found.states] == ["Stock", "B1"]
    row, column = (int(v) for v in np.argwhere(found.changed.revision == session.job.revision("B1").id)[0])
    words = maps.history.in_words(row, column)
    assert words.startswith("last changed from ") and "in B1 by Rowan Sedge: boost to 210 kPa" in words
    untouched = np.argwhere(found.changed.revision == 0)
    assert maps.history.in_words(*(int(v) for v in untouched[0])) == "as it came"
    assert maps.history.touched()["boost_target"] == session.job.revision("B1").id


def test_revert_and_marks(session, maps):
    maps.history.revert(session.job.revision("Stock"))
    stock = session.image_of(session.job.revision("Stock"))
    assert all(not session.draft.image.changed_keys(stock, slot) for slot in stock)
    a1 = session.job.revision("A1")
    maps.history.mark(a1, "do not use", AUTHOR, "lean at the top")
    assert [t.tag for t in session.job.tags_of(a1.id)] == ["do not use"]
    maps.history.mark(a1, "do not use", AUTHOR, "it was the sensor", put=False)
    assert session.job.tags_of(a1.id) == []
    with pytest.raises(JobError, match="name and a reason"):
        maps.history.mark(a1, "keep", "", "")


def test_what_was_expected_is_answered_by_the_pulls(session):
    b1 = session.job.revision("B1")
    low = Expected(
        channel="knock_retard", index=2, statistic="greatest", way="below", limit=2.0, unit="deg", from_rpm=2800.0
    )
    boost = Expected(channel="boost_pressure", statistic="greatest", way="above", limit=180.0, unit="kPa")
    deaf = Expected(channel="smoke", statistic="greatest", way="below", limit=0.2, unit="%")
    for each in (low, boost, deaf):
        session.job.expect(b1.id, each, AUTHOR)
    texts = [f"{r.severity} {r.sentence}, {r.numbers}" for r in readings(session, "checks")]
    assert any(t.startswith("watch Not as expected: greatest knock retard of cylinder 2 below 2 deg") for t in texts)
    assert any(t.startswith("pass As expected: greatest boost pressure above 180 kPa") for t in texts)
    assert any("Expected: greatest smoke opacity" in t and "no pull of it heard that" in t for t in texts)


# -- evidence


def test_one_limit_says_what_retard_counts_and_it_is_the_jobs_own(maps):
    """The count in words, the bar's colour, the doubt of an edit and the check: one limit, changed in one place."""
    facts = maps.cells.facts()
    row, column = (
        int(v) for v in np.unravel_index(np.nanargmax(facts.evidence.retard_deg), facts.evidence.seconds.shape)
    )
    deepest = float(facts.evidence.retard_deg[row, column])
    low, high = np.floor(deepest) + 1.0, np.floor(deepest) + 2.0
    set_limit(maps.session, "knock_retard", (f"{low:g}", f"{high:g}"), "deg", "another fuel", AUTHOR)
    assert maps.retard_limits_deg() == (low, high)
    assert f"retarded past {low:g} deg in 0 of 3 pulls" in maps.cells.words(row, column)
    results = maps.session.working_results()
    found = [f for p in results.pulls for f in p.findings if f.check == "knock_retard"]
    assert found and all(f.severity == "pass" for f in found)


def test_evidence_is_laid_over_the_cells(maps):
    facts = maps.cells.facts()
    assert facts.pulls == 3 and facts.evidence.visited.sum() > 20 and len(facts.trace) == 3
    row, column = (
        int(v) for v in np.unravel_index(np.nanargmax(facts.evidence.retard_deg), facts.evidence.seconds.shape)
    )
    words = maps.cells.words(row, column)
    watch, _ = maps.retard_limits_deg()
    assert f"retarded past {watch:g} deg in 3 of 3 pulls" in words and "cylinder 2" in words
    assert maps.cells.words(0, 12) == "never visited"
    [first, *_] = maps.cells.moments(row, column)
    assert first[0].startswith("B1 pull 1: ") and first[2].evidence
    maps.cells.choose("often")
    values, unit, _ = maps.cells.shown()
    assert unit == "%" and np.isnan(values[0, 12]) and np.nanmax(values) == 100.0
    maps.cells.choose_channel("boost_pressure")
    values, unit, _ = maps.cells.shown()
    assert unit == "kPa" and 90.0 < np.nanmin(values) < np.nanmax(values) < 240.0
    maps.choose("boost_target")
    maps.cells.choose("error")
    values, unit, _ = maps.cells.shown()
    assert unit == "kPa" and np.isfinite(values).any()


def test_runs_of_another_revision_count_where_the_map_was_the_same(maps):
    alone = maps.cells.facts().evidence.samples.sum()
    maps.cells.toggle_revision(maps.session.job.revision("A1").id)
    together = maps.cells.facts()
    assert together.pulls == 6 and together.evidence.samples.sum() > 1.5 * alone and together.left_out == ()
    maps.choose("boost_target")  # B1 changed most of it: only what was the same counts
    maps.cells.toggle_revision(maps.session.job.revision("A1").id)
    own = maps.cells.facts().evidence.samples.sum()
    maps.cells.toggle_revision(maps.session.job.revision("A1").id)
    assert own <= maps.cells.facts().evidence.samples.sum() < 1.5 * own


def test_what_would_cover_it_and_the_cursor_of_the_logs(maps):
    found = maps.cells.cover()
    assert found and all(len(s.cells) > 0 for s in found)
    covered = {c for s in found for c in s.cells}
    assert not any(maps.cells.facts().evidence.visited[c] for c in covered)
    run = maps.session.working_results().pulls[0]
    maps.cells.point_at(run.evidence.id, (run.pull.start_s + run.pull.end_s) / 2)
    reading = maps.cells.reading()
    assert sum(w for *_, w in reading.cells) == pytest.approx(1.0)
    maps.choose("rev_limit")
    assert maps.cells.reading() is None and maps.cells.facts() is None


def test_doubts_are_said_of_the_draft_alone(maps):
    assert maps.doubts.of_table() == []
    select(maps, 8, 5)
    maps.edits.calculate("+ 9")
    sentences = [d.sentence for d in maps.doubts.of_table()]
    assert any("a step of" in s for s in sentences) and any("retarded" in s for s in sentences)
    maps.choose("boost_target")
    select(maps, 3, 3)
    maps.edits.calculate("= 240")
    assert any("charge pipe" in d.sentence for d in maps.doubts.of_table())
    maps.edits.set_value("rev_limit", "6900")
    assert any("valve gear" in d.sentence for d in maps.doubts.of_value("rev_limit"))


# -- files


def test_maps_go_out_and_come_back_as_one_step(maps, tmp_path):
    session = maps.session
    for suffix in ("csv", "json", "xlsx"):
        path = tmp_path / f"maps.{suffix}"
        maps.files.tables(path, None)
        maps.files.import_tables(path)
        assert session.draft is None  # it holds the same
    select(maps, 1, 1)
    maps.edits.calculate("+ 2")
    maps.files.tables(tmp_path / "spark.csv", ["spark_advance"])
    session.discard_draft()
    maps.files.import_tables(tmp_path / "spark.csv")
    assert len(session.draft.steps) == 1 and maps.listing.difference("spark_advance").cells == 1
    maps.files.book(tmp_path / "book.html")
    assert "front intercooler" in (tmp_path / "book.html").read_text()
    maps.files.differences(tmp_path / "d.xlsx")
    assert (tmp_path / "d.xlsx").stat().st_size > 1000
    with pytest.raises(YarvicError, match="no known ending"):
        maps.files.tables(tmp_path / "maps.doc", None)


def test_a_file_with_one_bad_cell_is_not_taken_at_all(maps, tmp_path):
    path = tmp_path / "maps.csv"
    maps.files.tables(path, None)
    lines = path.read_text().splitlines()
    at = next(n for n, line in enumerate(lines) if line.startswith("entry,E30,boost_target")) + 2
    lines[at] = ",".join([lines[at].split(",")[0], "9999.0", *lines[at].split(",")[2:]])
    first = next(n for n, line in enumerate(lines) if line.startswith("entry,RON 95,spark_advance")) + 2
    lines[first] = ",".join([lines[first].split(",")[0], "1.0", *lines[first].split(",")[2:]])
    path.write_text("\n".join(lines))
    ears = Ears(maps.session)
    maps.files.import_tables(path)
    assert "outside the bounds" in str(ears.errors[-1]) and "maps.csv, line" in str(ears.errors[-1])
    assert maps.session.draft is None
