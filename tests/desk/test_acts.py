"""What is chosen, or changes its colour, while a question is open or work is under way."""

import shutil
import traceback
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from asking import asked_to_sign
from evidence_files import read_log
from kept import kept_drafts
from pictures import painted
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QLabel

from yarvic.core.formats.images import image_to_hex
from yarvic.core.job.store import Job
from yarvic.core.job.template import read_sheet, write_sheet
from yarvic.core.release.gate import is_open
from yarvic.core.release.grounds import written
from yarvic.desk.theme import tokens
from yarvic.state.release import begin_waiver

pytestmark = pytest.mark.window


def test_a_theme_changes_colours_and_nothing_else(driver):
    window = driver.window
    driver.step(3)
    view = window.view("maps")
    view.maps.choose("spark_advance")
    mask = np.zeros(view.maps.table().values.shape, dtype=bool)
    mask[4, 4] = True
    view.maps.select(mask, 4)
    view.maps.edits.calculate("- 1.0")
    driver.fill(view.commit.reason, "half a sentence")
    paper = tokens().sheet
    for step in (1, 2, 3, 4, 5, 6, 7, 8, 3):
        driver.step(step)
    selected = view.maps.mask.copy()
    window.session.choose_theme("night")
    driver.settle(50)
    assert window.view("maps") is view and view.commit.reason.text() == "half a sentence"
    assert np.array_equal(view.maps.mask, selected)
    for step, key in ((3, "maps"), (5, "dyno"), (6, "logs"), (7, "checks"), (2, "plan")):
        driver.step(step)
        driver.settle(30)
        assert paper.lower() not in painted(window.view(key)), key
    window.session.choose_theme("paper")
    driver.step(3)
    driver.settle(50)
    assert paper.lower() in painted(view)


def _of(session, rows):
    """The names of the revisions of these rows."""
    names = {r.id: r.name for r in session.revisions()}
    return [names[row.revision_id] for row in rows]


def _flash(driver, tmp_path):
    driver.rung("A1")
    driver.step(4)
    driver.window.session.link.write()
    return lambda s: _of(s, s.job.flashes())[-1:] == ["A1"] and s.bench.holds().name == "A1"


def _pull(driver, tmp_path):
    driver.step(5)
    driver.window.session.pull(1)
    return lambda s: _of(s, s.job.evidence()[9:]) == ["B1"] and len(s.results[s.job.revision("B1").id].pulls) == 4


def _throttles(driver, tmp_path):
    driver.step(5)
    driver.window.session.sweep_throttles([1.0, 0.5])
    return lambda s: _of(s, s.job.evidence()[9:]) == ["B1", "B1"]


def _sign(driver, tmp_path):
    _, _, dialog = asked_to_sign(driver)
    QTest.mouseClick(dialog.sign, Qt.MouseButton.LeftButton)
    return lambda s: _of(s, s.job.releases())[-1:] == ["B1"]


def _solve(driver, tmp_path):
    driver.step(2)
    QTest.mouseClick(driver.window.view("plan").target.solve_word, Qt.MouseButton.LeftButton)
    return lambda s: "in this order" in driver.window.view("plan").target.answer.text()


def _save(driver, tmp_path):
    driver.step(6)
    view = driver.window.view("logs")
    view.saving.save_as(tmp_path / "run.csv", "plain", view.shown())
    return lambda s: read_log(tmp_path / "run.csv").channels


@pytest.mark.parametrize("work", [_flash, _pull, _throttles, _sign, _solve, _save])
def test_a_theme_in_the_middle_of_work(driver, tmp_path, work):
    window = driver.window
    ended_well = work(driver, tmp_path)
    # No event lies between: the work cannot have ended before.
    assert window.runner.busy()
    window.session.choose_theme("night")
    driver.rung("Stock")
    window.session.choose_theme("paper")
    driver.idle()
    assert not window.notice.isVisible()
    assert ended_well(window.session)


@pytest.mark.parametrize(
    ("finding", "why"), [(None, "it was for less than is found now"), ("", "it does not say for what finding")]
)
def test_a_waiver_that_has_lapsed_is_shown_and_keeps_the_gate_shut(driver, finding, why):
    session = driver.window.session
    revision, condition = session.job.revision("B1"), begin_waiver(session, "check Knock").condition
    if finding is None:
        # As if it had been given when the knock retard was 1 deg less.
        milder = [replace(g, value=g.value - 1.0) for g in condition.grounds if g.value is not None]
        finding = written(milder)
    session.job.waive(revision.id, condition.key, "Rowan Sedge", "closed course", finding)
    driver.step(8)
    view = driver.window.view("release")
    view.refresh()
    shown = [t.text() for t in view.findChildren(QLabel) if "Rowan Sedge" in t.text()]
    assert shown == [f"A waiver by Rowan Sedge does not hold any more: {why}."]
    assert not view.sign.isEnabled() or not is_open(_conditions(session))
    driver.fill(view.signer, "Rowan Sedge")
    driver.click(view.sign)
    assert session.job.releases() == [r for r in session.job.releases() if r.revision_id != revision.id]


def test_what_the_question_named_is_what_is_signed(driver):
    session, _, dialog = asked_to_sign(driver)
    session.choose_working(session.job.revision("Stock").id)
    driver.settle(30)
    driver.click(dialog.sign)
    driver.idle()
    assert session.job.releases()[-1].revision_id == session.job.revision("B1").id


def test_a_part_that_is_fitted_while_the_question_is_open_stops_the_signature(driver):
    session, view, dialog = asked_to_sign(driver)
    released = len(session.job.releases())
    session.job.fit("another exhaust", {"exhaust": "another"})
    session.job_changed.emit()
    driver.click(dialog.sign)
    driver.idle()
    assert len(session.job.releases()) == released
    assert "changed meanwhile" in view.fault.text()


def test_a_waiver_stays_with_its_revision(driver):
    session = driver.window.session
    driver.step(8)
    view = driver.window.view("release")
    knock = next(c for c in _conditions(session) if c.key == "check Knock")
    view._begin_waiver(knock)
    driver.fill(view.waiver_name, "Rowan Sedge")
    driver.fill(view.waiver_reason, "closed course")
    session.choose_working(session.job.revision("A1").id)
    driver.settle(30)
    assert "B1" in view.waiver_title.text()
    view.waiver_reason.setFocus()
    driver.key(Qt.Key.Key_Return)
    assert [w.condition for w in session.job.waivers(session.job.revision("B1").id)] == ["check Knock"]
    assert session.job.waivers(session.job.revision("A1").id) == []
    assert not view.waiver.isVisible()


def _conditions(session):
    from yarvic.state.release import gate_conditions

    return gate_conditions(session)


@pytest.mark.parametrize("read_only", [False, True])
def test_nothing_on_the_way_of_a_paint_reads_the_disk(driver, monkeypatch, read_only):
    window = driver.window
    if read_only:
        driver.open(window.session.job.path, read_only=True)
    for step in range(1, 9):
        driver.step(step)
        driver.idle()
        read = []
        with monkeypatch.context() as m:
            for name in ("_rows", "image"):
                m.setattr(window.session.job, name, noting(getattr(window.session.job, name), read))
            painted(window.stack.currentWidget())
        assert read == [], "".join(read[0])


def _image(window, path, job):
    path.write_text(image_to_hex(job.image(job.revisions()[0].image)))
    return window.ask_for_image


def _sheet(window, path, job):
    write_sheet(job.sheet.changed(purpose="track"), path)
    return window.view("job").ask_to_read


def _families(window, path, job):
    write_sheet(job.sheet, path)
    return window.view("plan").ratings._ask


ASKS = {"image": _image, "sheet": _sheet, "families": _families}


@pytest.mark.parametrize("kind", ASKS)
def test_a_file_is_taken_only_into_the_job_it_was_asked_for(driver, monkeypatch, tmp_path, demo_copy, kind):
    window = driver.window
    path = tmp_path / "chosen"
    ask = ASKS[kind](window, path, window.session.job)
    other = demo_copy("wether")

    def choosing(*_):
        driver.open(other)
        return str(path), ""

    before = Job.open(other, read_only=True)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", choosing)
    ask()
    driver.idle()
    try:
        assert window.session.job.path == other
        assert window.session.job.sheet == before.sheet and kept_drafts(window.session.job) == kept_drafts(before)
        assert "the job it belongs to was closed meanwhile" in window.notice.what.text()
    finally:
        before.close()


@pytest.mark.parametrize("kind", ["sheet", "run"])
def test_a_file_holds_what_it_was_asked_for(driver, monkeypatch, tmp_path, demo_copy, kind):
    window, path = driver.window, tmp_path / "chosen"
    driver.step(1 if kind == "sheet" else 6)
    sheet, shown = window.session.job.sheet, None
    if kind == "run":
        shown = window.view("logs").shown()

    def choosing(*_):
        if kind == "sheet":
            driver.open(demo_copy("wether"))
        else:
            window.session.choose_working(window.session.job.revision("Stock").id)
        driver.idle()
        return str(path), ""

    monkeypatch.setattr(QFileDialog, "getSaveFileName", choosing)
    if kind == "sheet":
        window.view("job").ask_to_write()
        assert read_sheet(path).vehicle == sheet.vehicle
    else:
        window.view("logs").saving.ask_where("plain")
        driver.idle()
        written, asked = (log.channel("engine_speed").values for log in (read_log(path), shown.log))
        assert np.allclose(written[1:], asked[1:], atol=20.0)


def noting(ask, read):
    """The same, noting who asked: what a paint raises is lost in Qt."""

    def noted(*what):
        read.append(traceback.format_stack()[-8:-1])
        return ask(*what)

    return noted


def test_a_reader_sees_what_the_writer_does(driver, demo_path, tmp_path):
    window = driver.window
    other = Path(shutil.copy(window.session.job.path, tmp_path / "other.yarvic"))
    writer = Job.open(other)
    try:
        driver.open(other, read_only=True)
        before = len(window.session.job.builds())
        writer.fit("another exhaust", {"exhaust": "another"})
        window.session.look_again()
        assert len(window.session.job.builds()) == before + 1
    finally:
        writer.close()
