"""The window as a new user meets it, and as one who makes mistakes."""

import shutil
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from pictures import painted
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QFontMetrics
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton, QWidget

from yarvic.core.checks.finding import NO_DATA, PASS, STOP, VERDICT_WORDS, WATCH
from yarvic.core.errors import LinkError
from yarvic.core.job.store import Job
from yarvic.core.link.sectors import SectorWriter
from yarvic.core.link.transport import TransportError
from yarvic.desk.app import make_window
from yarvic.desk.driver import Driver
from yarvic.desk.theme import BODY_PX, NIGHT, PAPER, font, tokens
from yarvic.desk.views.release.sign import SignDialog
from yarvic.state.release import begin_waiver, waive
from yarvic.state.selection import DRAFT
from yarvic.state.session import STEPS
from yarvic.state.settings import Settings, load_settings

pytestmark = pytest.mark.window

SHIFT = Qt.KeyboardModifier.ShiftModifier
CONTROL = Qt.KeyboardModifier.ControlModifier


def visible_text(window):
    """All text of labels and buttons in sight."""
    from PyQt6.QtWidgets import QLabel, QPushButton

    parts = [w.text() for kind in (QLabel, QPushButton) for w in window.findChildren(kind) if w.isVisible()]
    return "\n".join(parts)


def maps_of(driver):
    driver.step(3)
    view = driver.window.view("maps")
    view.maps.choose("spark_advance")
    driver.settle()
    return view


def pick(driver, view, top, left, bottom=None, right=None):
    """Click a cell, and Shift-click another."""
    grid = view.grid
    driver.click(grid.viewport(), grid.visualRect(grid.cells.index(top, left)).center())
    if bottom is not None:
        driver.click(grid.viewport(), grid.visualRect(grid.cells.index(bottom, right)).center(), SHIFT)


# -- nothing open


def set_aside(driver, condition):
    session = driver.window.session
    waive(session, begin_waiver(session, condition), "R. S.", "why")


def test_without_a_job_every_step_says_what_comes_there(empty):
    assert "No job is open" in visible_text(empty.window)
    for number in range(1, 9):
        empty.step(number)
        assert empty.window.session.settings.step == STEPS[number - 1]
        assert len(visible_text(empty.window)) > 60


def test_the_welcome_builds_and_opens_the_demo(empty, home):
    button = next(b for b in empty.window.findChildren(QPushButton) if b.text() == "Open the demo: Ptarmigan")
    empty.click(button)
    assert empty.window.status.progress.isVisible()
    empty.wait("the demo job", lambda: empty.window.session.job is not None)
    # Its draft is in hand; the other jobs are built beside, and that can be stopped.
    assert empty.window.session.working_name() == "B2"
    assert (home / "jobs" / "ptarmigan.yarvic").exists()
    empty.wait("the other jobs", lambda: empty.window.status.progress.isVisible())
    assert empty.window.session.busy is None
    # One that is being built is not built twice: it is asked for, and would open by itself.
    empty.window.open_demo("fieldfare")
    assert "it opens as soon as" in empty.window.status.message.text()
    empty.click(empty.window.status.cancel)
    empty.wait("the end of it", lambda: not empty.window.status.progress.isVisible())
    assert sorted(p.name for p in (home / "jobs").iterdir() if p.suffix != ".lock") == [
        "ptarmigan-A1.zip",
        "ptarmigan.yarvic",
    ]


def test_a_demo_asked_for_meanwhile_opens_when_it_is_there(empty, home, demo_job, monkeypatch):
    """The other jobs are being told; what was asked for opens by itself."""
    import shutil

    from yarvic.demo import jobs

    (home / "jobs").mkdir(parents=True)
    shutil.copy(demo_job("ptarmigan"), home / "jobs" / "ptarmigan.yarvic")

    def copied(folder, progress=None, cancelled=None):
        for name in ("wether", "fieldfare", "whinchat"):
            shutil.copy(demo_job(name), folder / f"{name}.yarvic")

    monkeypatch.setattr(jobs, "build_missing", copied)
    empty.window.open_demo("ptarmigan")
    empty.wait("the buggy", lambda: empty.window.session.job is not None)
    empty.window.open_demo("wether")
    empty.wait("the carrier", lambda: empty.window.session.job.sheet.title == "Wether")
    empty.idle()


def test_building_the_demo_can_be_cancelled(empty, home):
    empty.window.open_demo()
    empty.settle(200)
    empty.click(empty.window.status.cancel)
    empty.idle()
    assert empty.window.session.job is None
    assert not (home / "jobs" / "ptarmigan.yarvic").exists()
    assert "cancelled" in empty.window.status.message.text()


@pytest.mark.parametrize("content", [b"", b"not a job at all", b"SQLite format 3\0" + b"\1" * 300])
def test_a_wrong_file_is_explained_in_place(driver, tmp_path, content):
    bad = tmp_path / "holiday.yarvic"
    bad.write_bytes(content)
    driver.window.open_job(bad)
    driver.idle()
    notice = driver.window.notice
    assert notice.isVisible()
    assert "holiday.yarvic" in notice.what.text() and notice.remedy.text()
    # The job that was open stays.
    assert driver.window.session.working_name() == "B1"
    driver.key(Qt.Key.Key_Escape)
    assert not notice.isVisible()


def test_a_job_open_elsewhere_may_be_read(empty, demo_path):
    holder = Job.open(Path(demo_path))
    try:
        empty.window.open_job(Path(demo_path))
        empty.idle()
        assert "open in another window" in empty.window.notice.what.text()
        assert "read only" in empty.window.notice.remedy.text()
        empty.click(empty.window.notice.offer)
        empty.idle()
        assert empty.window.session.job.read_only
        assert not empty.window.notice.isVisible()
        view = maps_of(empty)
        pick(empty, view, 5, 5)
        empty.key(Qt.Key.Key_H)
        assert "read only" in empty.window.status.message.text()
        assert empty.window.session.draft is None
    finally:
        holder.close()


def test_a_job_in_a_folder_of_others_may_be_read(empty, demo_path, monkeypatch):
    from yarvic.core.job import lock

    # What the system says of a folder that this user may not write.
    monkeypatch.setattr(lock.os, "access", lambda place, how: Path(place) != Path(demo_path).parent)
    empty.window.open_job(Path(demo_path))
    empty.idle()
    assert "folder may not be written" in empty.window.notice.what.text()
    empty.click(empty.window.notice.offer)
    empty.idle()
    assert empty.window.session.job.read_only and empty.window.session.working_name() == "B1"


# -- keys and overlays


def test_steps_by_key_and_by_click(driver):
    for number, step in enumerate(STEPS, 1):
        driver.step(number)
        assert driver.window.stack.currentWidget() is driver.window.views[step]
    for step, stop in driver.window.route.stops.items():
        driver.click(stop)
        assert driver.window.session.settings.step == step
        assert stop.isChecked() and stop.accessibleName()


def test_f1_lists_the_keys_of_each_view(driver):
    for number in range(1, 9):
        driver.step(number)
        QTest.keyClick(driver.window, Qt.Key.Key_F1)
        driver.settle()
        assert driver.window.keys.isVisible()
        assert "Alt+1" in visible_text(driver.window)
        driver.key(Qt.Key.Key_Escape)
        assert not driver.window.keys.isVisible()


def test_commands_are_found_by_words(driver):
    driver.command("reference stock")
    assert driver.window.session.name_of(driver.window.session.reference) == "Stock"
    driver.command("go to dyno")
    assert driver.window.session.settings.step == "dyno"
    driver.command("correct by din")
    assert driver.window.session.standard == "din-70020"
    driver.command("no such thing at all")
    assert not driver.window.commands.isVisible()
    QTest.keyClick(driver.window, Qt.Key.Key_K, CONTROL)
    driver.settle()
    driver.type("zzz")
    assert "Nothing of that name" in driver.window.commands.list.item(0).text()
    driver.key(Qt.Key.Key_Escape)
    assert not driver.window.commands.isVisible()


def test_f6_goes_round_the_window(driver):
    driver.step(3)
    seen = set()
    for _ in range(3):
        QTest.keyClick(driver.window, Qt.Key.Key_F6)
        driver.settle()
        focus = QApplication.focusWidget()
        seen.add(type(focus).__name__)
    assert seen == {"Ladder", "Grid", "Card"}


def test_the_ladder_by_mouse_and_keys(driver):
    s = driver.window.session
    driver.rung("A1")
    assert s.working_name() == "A1" and s.name_of(s.reference) == "Stock"
    driver.rung("B1", reference=True)
    assert s.name_of(s.reference) == "B1"
    driver.window.ladder.setFocus()
    for key in (Qt.Key.Key_Left, Qt.Key.Key_R):
        driver.key(key)
    assert s.name_of(s.reference) == "Stock"
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Return):
        driver.key(key)
    assert s.working_name() == "B1"
    assert "Working B1" in driver.window.ladder.accessibleDescription()


# -- maps


def test_editing_by_keyboard_alone(driver):
    view = maps_of(driver)
    QTest.keyClick(driver.window, Qt.Key.Key_F6)
    while QApplication.focusWidget() is not view.grid:
        QTest.keyClick(driver.window, Qt.Key.Key_F6)
    driver.key(Qt.Key.Key_Down)
    driver.key(Qt.Key.Key_Right, SHIFT)
    driver.key(Qt.Key.Key_1)  # a digit begins a Set
    assert view.formula.isVisible() and view.formula.line.text() == "1"
    driver.type("2.5")
    driver.key(Qt.Key.Key_Return)
    assert view.maps.table().values[1, 0:2].tolist() == [12.5, 12.5]
    assert driver.window.session.working == DRAFT
    driver.key(Qt.Key.Key_M)
    driver.type("1.1")
    driver.key(Qt.Key.Key_Return)
    assert view.maps.table().values[1, 0] == pytest.approx(13.8, abs=0.051)
    driver.key(Qt.Key.Key_Z, CONTROL)
    assert view.maps.table().values[1, 0] == 12.5
    driver.key(Qt.Key.Key_Z, CONTROL | SHIFT)
    driver.key(Qt.Key.Key_Z, CONTROL)
    driver.key(Qt.Key.Key_Z, CONTROL)
    assert np.count_nonzero(view.maps.difference()) == 0
    assert view.redo_word.isEnabled() and not view.undo_word.isEnabled()


def test_an_edit_out_of_bounds_is_explained_beside_the_field(driver):
    view = maps_of(driver)
    pick(driver, view, 2, 2)
    driver.key(Qt.Key.Key_S)
    driver.type("88")
    driver.key(Qt.Key.Key_Return)
    assert view.formula.isVisible()
    assert "outside the bounds" in view.formula.fault.text() and "2000 rpm, 60 %" in view.formula.fault.text()
    assert driver.window.session.draft is None
    view.formula.line.selectAll()
    driver.type("abc")
    driver.key(Qt.Key.Key_Return)
    assert "has no meaning for 'abc'" in view.formula.fault.text()
    driver.key(Qt.Key.Key_Escape)
    assert not view.formula.isVisible() and driver.window.session.draft is None


def test_words_do_what_their_keys_do(driver):
    view = maps_of(driver)
    pick(driver, view, 3, 2, 3, 8)
    before = view.maps.table().values.copy()
    driver.click(view.acts.words["add"])
    driver.type("-1")
    driver.key(Qt.Key.Key_Return)
    driver.key(Qt.Key.Key_H)
    driver.key(Qt.Key.Key_I)
    assert not np.array_equal(view.maps.table().values, before)
    # The cells stay in hand all the while.
    assert view.maps.mask.sum() == 7
    driver.key(Qt.Key.Key_T)
    assert np.array_equal(view.maps.table().values, before)


def test_a_point_of_the_slice_can_be_dragged(driver):
    view = maps_of(driver)
    pick(driver, view, 4, 4)
    slices, table = view.slices, view.maps.table()
    slices.redraw()

    def at(value):
        return slices.place(4, 6, value).toPoint()

    start, end = at(table.values[4, 6]), at(table.values[4, 6] - 4.0)
    viewport = slices
    QTest.mousePress(viewport, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    QTest.mouseMove(viewport, QPoint((start.x() + end.x()) // 2, (start.y() + end.y()) // 2))
    QTest.mouseMove(viewport, end)
    QTest.mouseRelease(viewport, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end)
    driver.settle()
    moved = view.maps.table().values[4, 6] - table.values[4, 6]
    assert moved == pytest.approx(-4.0, abs=0.6)
    assert len(driver.window.session.draft.edits) == 1


def test_tables_and_slots_are_reached_by_key_and_command(driver):
    view = maps_of(driver)
    titles = []
    for _ in range(7):
        driver.window.view("maps").grid.setFocus()
        driver.key(Qt.Key.Key_N)
        titles.append(view.chooser.text())
    assert len(set(titles)) == 7
    driver.command("show boost target")
    assert "kPa" in view.about.text()
    driver.command("show the e30 slot")
    assert driver.window.session.slot == "E30" and "E30" in view.slot.text()


def type_value(driver, view, title, text):
    cells = view.scalars.cells
    row = next(r for r in range(cells.rowCount()) if cells.index(r, 0).data() == title)
    view.scalars.setFocus()
    view.scalars.setCurrentIndex(cells.index(row, 1))
    driver.key(Qt.Key.Key_F2)
    driver.type(text)
    driver.key(Qt.Key.Key_Return)


def test_limits_and_constants_are_typed_in_place(driver):
    view = maps_of(driver)
    view.maps.choose("scalars")
    driver.settle()
    type_value(driver, view, "Rev limit", "6750")
    driver.settle()
    assert driver.window.session.draft.image["RON 95"].scalar("rev_limit").value == 6750
    type_value(driver, view, "Rev limit", "9999")
    driver.settle()
    assert "outside the bounds" in driver.window.status.message.text()
    assert driver.window.session.draft.image["RON 95"].scalar("rev_limit").value == 6750


def test_commit_by_hand_and_its_refusals(driver):
    view = maps_of(driver)
    pick(driver, view, 5, 5)
    driver.key(Qt.Key.Key_A)
    driver.type("-0.5")
    driver.key(Qt.Key.Key_Return)
    assert view.commit.isVisible()
    driver.click(view.commit.commit_act)
    assert "needs its reason" in view.commit.fault.text()
    driver.fill(view.commit.reason, "smoothed a bump")
    driver.fill(view.commit.author, " ")
    driver.click(view.commit.commit_act)
    assert "needs its author" in view.commit.fault.text()
    driver.fill(view.commit.author, "Rowan Sedge")
    driver.click(view.commit.commit_act)
    assert driver.window.session.working_name() == "B2"
    assert not view.commit.isVisible()


def test_a_draft_is_thrown_away_only_when_asked_twice(driver):
    view = maps_of(driver)
    pick(driver, view, 5, 5, 7, 7)
    driver.key(Qt.Key.Key_H)
    driver.click(view.commit.discard)
    assert driver.window.session.draft is not None and view.commit.discard.text() == "Discard the draft?"
    driver.key(Qt.Key.Key_Escape)
    assert view.commit.discard.text() == "Discard draft"
    driver.click(view.commit.discard)
    driver.click(view.commit.discard)
    assert driver.window.session.draft is None


def test_the_command_asks_what_the_word_asks_and_the_draft_comes_back(driver):
    view, s = maps_of(driver), driver.window.session
    pick(driver, view, 5, 5, 7, 7)
    driver.key(Qt.Key.Key_H)
    before = s.draft.image.data
    driver.step(5)  # from another step, too
    driver.key(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    driver.type("discard the draft")
    driver.key(Qt.Key.Key_Return)
    assert s.draft is not None and s.settings.step == "maps" and view.commit.discard.hasFocus()
    driver.key(Qt.Key.Key_Space)
    assert s.draft is None and "Ctrl+Z brings it back" in driver.window.status.message.text()
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert s.draft is not None and s.draft.image.data == before and s.working == DRAFT
    assert [e.sentence for e in s.job.journal()[-2:]] == ["The draft was discarded.", "The draft was brought back."]
    # Once more, and by the command, after the job was opened anew.
    s.discard_draft()
    path = s.job.path
    s.close_job()
    s.open_job(path)
    assert s.draft is None
    driver.key(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    driver.type("bring the draft back")
    driver.key(Qt.Key.Key_Return)
    assert s.draft is not None and s.draft.image.data == before


def test_closing_with_a_draft_offers_it_again(qapp, driver, demo_path, tmp_path):
    view = maps_of(driver)
    pick(driver, view, 5, 5, 7, 7)
    driver.key(Qt.Key.Key_A)
    driver.type("-2")
    driver.key(Qt.Key.Key_Return)
    driver.window.close()
    assert load_settings().last_job == str(demo_path)
    again = make_window(load_settings())
    again.show()
    other = Driver(again, tmp_path, lambda text: None)
    try:
        other.open(Path(demo_path))
        assert again.session.working == DRAFT
        assert again.session.settings.step == "maps"
        assert np.count_nonzero(again.maps.difference()) == 9
        assert "9 cells differ from B1" in visible_text(again)
    finally:
        again.close()


def test_units_change_everywhere_they_stand(driver):
    view = maps_of(driver)
    driver.command("show boost target")
    driver.window.session.choose_unit("pressure", "psi")
    driver.settle()
    assert view.about.text().startswith("psi")
    assert "psi" in driver.window.status.units.text()
    driver.step(5)
    driver.window.session.choose_unit("power", "hp")
    driver.settle()
    assert " hp at" in driver.window.view("dyno").peaks.text()
    menu = driver.window.status.unit_menu()
    assert [a.text() for a in menu.actions()][:2] == ["Pressure", "Fuel pressure"]


def test_an_image_of_another_family_is_explained(driver, tmp_path, stock):
    path = tmp_path / "their.bin"
    path.write_bytes(stock.replace(b"ptarmigan-14", b"wether-32\0\0\0", 1))
    driver.window.import_image(path)
    driver.idle()
    assert "is 'wether-32', not 'ptarmigan-14'" in driver.window.notice.what.text()
    assert "their.bin" in driver.window.notice.what.text().lower()
    assert "stops the engine" in driver.window.notice.remedy.text()
    assert driver.window.session.draft is None
    path.write_bytes(stock)
    driver.window.import_image(path)
    driver.idle()
    assert driver.window.session.working == DRAFT
    assert "3 tables" in driver.window.status.message.text()


def test_a_full_disk_while_editing_is_said_in_place(driver):
    view = maps_of(driver)
    pick(driver, view, 5, 5)
    connection = driver.window.session.job._connection
    pages = connection.execute("PRAGMA page_count").fetchone()[0]
    connection.execute("PRAGMA max_page_count=" + str(pages))
    before = view.maps.table().values.copy()
    for top, left, bottom, right in ((0, 0, 9, 12), (0, 0, 8, 12), (0, 0, 9, 11)):
        pick(driver, view, top, left, bottom, right)
        driver.key(Qt.Key.Key_A)
        driver.type("0.1")
        driver.key(Qt.Key.Key_Return)
        if "disk is full" in view.formula.fault.text():
            break
        before = view.maps.table().values.copy()
    assert "disk is full" in view.formula.fault.text()
    assert "Free some space" in view.formula.fault.text()
    assert np.array_equal(view.maps.table().values, before)


# -- flash, dyno, logs, checks, release


def test_a_draft_is_neither_flashed_nor_pulled(driver):
    view = maps_of(driver)
    pick(driver, view, 5, 5, 7, 7)
    driver.key(Qt.Key.Key_H)
    driver.step(4)
    assert not driver.window.view("flash").write.go.isEnabled()
    assert "commit it" in driver.window.view("flash").write.summary.text()
    driver.step(5)
    assert not driver.window.view("dyno").three.isEnabled()


def test_a_flash_can_be_cancelled(driver, monkeypatch):
    s = driver.window.session
    driver.rung("Stock")
    driver.step(4)
    view = driver.window.view("flash").write
    assert "differ between the unit and Stock" in view.summary.text()
    before = s.bench.unit.memory
    status, begun = driver.window.status, []
    write = SectorWriter._sector

    def held_up(self, image, sector):
        """Each sector takes until somebody cancels, however fast or slow the machine is."""
        write(self, image, sector)
        begun.append(sector)
        end = time.monotonic() + 60.0
        while not (status._task is None or status._task.asked) and time.monotonic() < end:
            time.sleep(0.01)

    monkeypatch.setattr(SectorWriter, "_sector", held_up)
    driver.click(view.go)
    driver.wait("writing to begin", lambda: begun)
    assert driver.window.status.progress.isVisible()
    driver.click(driver.window.status.cancel)
    driver.idle()
    assert s.bench.unit.memory == before
    assert "cancelled" in driver.window.status.message.text()
    assert s.bench.holds().name == "B1" and len(s.job.flashes()) == 3
    assert view.broken.isHidden()


@pytest.mark.parametrize("way", ["go_on", "put_back"])
def test_a_write_that_breaks_off_is_said_at_the_next_start_and_ended(driver, monkeypatch, way):
    s = driver.window.session
    driver.rung("Stock")
    driver.step(4)
    view = driver.window.view("flash").write
    held, wanted = s.bench.unit.memory, s.job.image(s.job.revision("Stock").image)
    write, done = SectorWriter._sector, []

    def breaks(self, image, sector):
        if len(done) == 3:
            raise TransportError("the cable is out", remedy="Plug it in.")
        done.append(sector)
        write(self, image, sector)

    monkeypatch.setattr(SectorWriter, "_sector", breaks)
    driver.click(view.go)
    driver.idle()
    assert "broke off" in driver.window.notice.what.text() and "cable is out" in driver.window.notice.what.text()
    assert s.bench.unit.memory not in (held, wanted) and len(s.job.flashes()) == 3
    with pytest.raises(LinkError, match="does not start"):
        s.bench.unit.restart()
    # The next start finds it so.
    monkeypatch.setattr(SectorWriter, "_sector", write)
    half = s.bench.unit.memory
    path = s.job.path
    s.close_job()
    driver.open(path)
    driver.idle()
    assert "was broken off" in driver.window.notice.what.text()
    driver.rung("Stock")
    driver.step(4)
    driver.idle()
    assert s.bench.unit.memory == half
    assert "does not start" in view.broken.text() and view.go_on.isVisible() and view.put_back.isVisible()
    assert not view.broken.isHidden() and "blocks were begun" in view.broken.text()
    assert "Unlock done, Write broken off, Read back to come" in view.steps.accessibleDescription()
    assert "half written" in driver.window.status.unit.text()
    assert "YR-SIM-01 is half written and does not start." in [
        c.reading.numbers for c in driver.window.readings.cards
    ]
    assert not view.go.isEnabled()
    s.bench.unit.seconds_per_block = 0.0
    driver.click(getattr(view, way))
    driver.idle()
    assert s.bench.unit.memory == (wanted if way == "go_on" else held)
    assert view.broken.isHidden() and view.go.isEnabled()
    assert "broken off" not in view.steps.accessibleDescription()
    assert s.bench.holds().name == ("Stock" if way == "go_on" else "B1")
    assert len(s.job.flashes()) == (4 if way == "go_on" else 3)


def test_pulling_a_revision_the_unit_does_not_hold_says_so(driver):
    driver.rung("A1")
    driver.step(5)
    driver.click(driver.window.view("dyno").one)
    assert "the unit holds B1, not A1" in driver.window.notice.what.text().lower().replace("b1", "B1").replace(
        "a1", "A1"
    )
    assert "Flash A1 first" in driver.window.notice.remedy.text()


def test_a_pull_can_be_cancelled_and_records_nothing(driver):
    driver.step(5)
    before = len(driver.window.session.job.evidence())
    # Without an event between them: the pulls cannot have ended before.
    QTest.mouseClick(driver.window.view("dyno").three, Qt.MouseButton.LeftButton)
    QTest.mouseClick(driver.window.status.cancel, Qt.MouseButton.LeftButton)
    driver.idle()
    assert len(driver.window.session.job.evidence()) == before
    assert driver.window.view("dyno").three.isEnabled()


def test_the_dyno_shows_factor_conditions_and_interval(driver):
    driver.step(5)
    view = driver.window.view("dyno")
    assert "B1 (working)" in view.peaks.text() and "A1 (reference)" in view.peaks.text()
    assert "SAE J1349: factor 1.0" in view.factor.text() and "Uncorrected peak" in view.factor.text()
    assert view.table.rowCount() == 3 and "degC" in view.table.item(0, 5).text()
    said = [c.reading.numbers for c in driver.window.readings.cards]
    assert any("at 95 %" in s for s in said)
    driver.window.session.choose_standard("none")
    driver.settle()
    assert "Uncorrected: factor 1.000" in view.factor.text()


def test_the_logs_cursor_reads_every_trace(driver):
    driver.step(6)
    view = driver.window.view("logs")
    view.setFocus()
    view.move_cursor(4.0)
    at = view.reading.text()
    driver.key(Qt.Key.Key_Right, SHIFT)
    assert view.reading.text() != at and "rpm" in view.reading.text()
    assert len(view.tracks) == 7 and all("<b" in t.readout.text for t in view.tracks)
    driver.key(Qt.Key.Key_X)
    assert view.by_speed.isChecked()
    driver.key(Qt.Key.Key_G)
    assert not view.ghost.isChecked()


def test_a_reading_jumps_to_its_place(driver):
    driver.step(7)
    card = driver.window.readings.cards[0]
    where = card.reading.where
    driver.click(card)
    assert driver.window.session.settings.step == "logs"
    view = driver.window.view("logs")
    assert view.shown().evidence.id == where.evidence
    assert view.tracks[0].cursor.value() == pytest.approx(where.time_s - view.shown().pull.start_s, abs=0.01)


def test_the_matrix_by_keys_leads_to_the_log(driver):
    driver.step(7)
    view = driver.window.view("checks")
    assert "Cylinder 2 knocked" in view.sentence.text() and "Limit by" in view.source.text()
    view.matrix.setFocus()
    driver.key(Qt.Key.Key_Up)
    assert "Cylinder 2 knocked" not in view.sentence.text()
    driver.key(Qt.Key.Key_Down)
    assert any(f": {w}," in view.matrix.accessibleDescription() for w in VERDICT_WORDS.values())
    driver.key(Qt.Key.Key_Return)
    assert driver.window.session.settings.step == "logs"
    driver.step(7)
    driver.click(view.to_dyno)
    assert driver.window.session.settings.step == "dyno"


def test_a_revision_that_falls_short_can_only_be_waived_by_name(driver, tmp_path):
    driver.step(8)
    view = driver.window.view("release")
    assert not view.sign.isEnabled() and "does not meet 1 condition" in view.state.text()
    waive = next(b for b in view.gate_area.findChildren(QPushButton) if b.text() == "Waive")
    driver.click(waive)
    assert view.waiver.isVisible() and "knock" in view.waiver_title.text().lower()
    driver.fill(view.waiver_reason, " ")
    driver.key(Qt.Key.Key_Return)
    assert "name and a reason" in view.waiver_fault.text()
    driver.fill(view.waiver_reason, "closed course, cold days only")
    driver.key(Qt.Key.Key_Return)
    assert view.sign.isEnabled()
    assert "Waived by Rowan Sedge" in visible_text(driver.window)


def test_signing_asks_once_more_and_can_be_declined(driver):
    set_aside(driver, "check Knock")
    driver.step(8)
    view = driver.window.view("release")
    driver.fill(view.signer, " ")
    driver.click(view.sign)
    assert "signed by name" in view.fault.text()
    driver.fill(view.signer, "Rowan Sedge")
    driver.click(view.sign)
    driver.wait("the question", lambda: view.findChild(SignDialog) is not None)
    dialog = view.findChild(SignDialog)
    driver.click(dialog.back)
    driver.idle()
    assert len(driver.window.session.job.releases()) == 1
    assert not view.package_path().exists()


def test_a_package_in_the_way_is_not_replaced(driver):
    set_aside(driver, "check Knock")
    driver.step(8)
    view = driver.window.view("release")
    view.package_path().write_text("mine")
    assert view.sign.isEnabled()
    driver.click(view.sign)
    driver.wait("the question", lambda: view.findChild(SignDialog) is not None)
    driver.click(view.findChild(SignDialog).sign)
    driver.idle()
    assert "there already" in driver.window.notice.what.text()
    assert view.package_path().read_text() == "mine"
    assert len(driver.window.session.job.releases()) == 1


def test_an_error_nobody_foresaw_is_shown_and_nothing_is_lost(driver, monkeypatch):
    from yarvic.desk.app import unexpected

    view = maps_of(driver)
    pick(driver, view, 5, 5)

    def broken(operation):
        raise ZeroDivisionError("a slip of the programmer's")

    monkeypatch.setattr(view.maps.edits, "do", broken)
    monkeypatch.setattr(unexpected(), "_before", lambda *caught: None)
    unexpected()._hook(*_raised(lambda: view.maps.edits.do(view.maps.edits.smooth())))
    assert "ZeroDivisionError" in driver.window.notice.what.text()
    assert "on disk" in driver.window.notice.remedy.text()
    driver.click(driver.window.notice._fold)
    assert "a slip of the programmer's" in driver.window.notice.details.text()
    driver.click(next(b for b in driver.window.notice.findChildren(QPushButton) if b.text() == "Copy"))
    assert "ZeroDivisionError" in QApplication.clipboard().text()
    unexpected().errors.clear()


def _raised(action):
    try:
        action()
    except Exception as error:  # noqa: BLE001 - whatever it is
        return type(error), error, error.__traceback__
    raise AssertionError


def test_one_damaged_run_does_not_take_the_others_with_it(empty, demo_path):
    import sqlite3

    connection = sqlite3.connect(demo_path)
    connection.execute("UPDATE evidence_column SET data = x'00' WHERE evidence_id = 'R0008' AND position = 3")
    connection.commit()
    connection.close()
    empty.open(Path(demo_path))
    empty.step(7)
    assert [p.title for p in empty.window.session.working_results().pulls] == ["B1 pull 1", "B1 pull 3"]
    said = [c.reading.numbers for c in empty.window.readings.cards]
    assert any("B1 pull 2 cannot be read" in s for s in said)


def test_empty_steps_offer_the_way_on(driver):
    view = maps_of(driver)
    pick(driver, view, 5, 5)
    driver.key(Qt.Key.Key_A)
    driver.type("-1")
    driver.key(Qt.Key.Key_Return)
    driver.fill(view.commit.reason, "one cell")
    driver.key(Qt.Key.Key_Return)
    for number, leads in ((5, "flash"), (6, "dyno"), (7, "dyno")):
        driver.step(number)
        empty = driver.window.stack.currentWidget().empty
        assert empty.isVisible() and "No pulls of B2 yet" in empty.title.text()
        driver.click(empty.action)
        assert driver.window.session.settings.step == leads


# -- looks


def luminance(color):
    def part(v):
        return v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4

    return 0.2126 * part(color.redF()) + 0.7152 * part(color.greenF()) + 0.0722 * part(color.blueF())


@pytest.mark.parametrize("theme", [PAPER, NIGHT])
@pytest.mark.parametrize("name", ["ink", "quiet", "working", "reference", "holds", "watch", "stop"])
@pytest.mark.parametrize("ground", ["ground", "sheet"])
def test_text_passes_wcag_aa(qapp, theme, name, ground):
    # WCAG 2.1, success criterion 1.4.3: a contrast of at least 4.5 to 1.
    a, b = sorted((luminance(theme.color(name)), luminance(theme.color(ground))))
    assert (b + 0.05) / (a + 0.05) >= 4.5


def test_map_values_stay_readable_on_their_tint(qapp):
    for share in np.linspace(0.0, 1.0, 11):
        a, b = sorted((luminance(tokens().color("ink")), luminance(tokens().ramp(share))))
        assert (b + 0.05) / (a + 0.05) >= 4.5


def test_verdicts_differ_in_shape_not_only_in_colour(qapp):
    from PyQt6.QtGui import QImage, QPainter

    from yarvic.desk.widgets.glyphs import draw_glyph

    shapes = set()
    for severity in (PASS, WATCH, STOP, NO_DATA):
        image = QImage(16, 16, QImage.Format.Format_ARGB32)
        image.fill(0)
        painter = QPainter(image)
        draw_glyph(painter, severity, 2, 2)
        painter.end()
        shapes.add(tuple(image.pixelColor(x, y).alpha() > 100 for x in range(16) for y in range(16)))
    assert len(shapes) == 4


@pytest.mark.parametrize("unit", ["kPa", "bar", "psi", "Pa"])
def test_no_number_of_a_table_is_cut_off(driver, unit):
    window = driver.window
    window.resize(1024, 700)
    driver.step(3)
    view = window.view("maps")
    view.maps.choose("boost_target")
    window.session.choose_unit("pressure", unit)
    driver.settle()
    cells, metrics = view.grid.cells, QFontMetrics(font(BODY_PX, bold=True))
    for row in range(cells.rowCount()):
        for column in range(cells.columnCount()):
            assert metrics.horizontalAdvance(cells.index(row, column).data()) + 6 <= view.grid.columnWidth(column)
    assert view.page.corner.text().endswith(unit)


def test_a_blank_picture_is_no_picture(qapp):
    blank = QWidget()
    blank.resize(400, 300)
    with pytest.raises(AssertionError):
        painted(blank)


@pytest.mark.parametrize(
    ("width", "height", "theme"), [(1024, 700, "night"), (1024, 700, "paper"), (2200, 1300, "paper")]
)
def test_every_view_fits_and_paints(driver, width, height, theme, complaints):
    driver.window.resize(width, height)
    driver.window.session.choose_theme(theme)
    for number in range(1, 9):
        driver.step(number)
        view = driver.window.stack.currentWidget()
        assert view.minimumSizeHint().width() <= view.width() + 1, STEPS[number - 1]
        assert view.minimumSizeHint().height() <= view.height() + 1, STEPS[number - 1]
        painted(view)
    assert driver.window.width() == width and driver.window.height() == height
    assert [c for c in complaints if "QPainter" in c or "QFont" in c] == []


def test_everything_that_acts_has_a_name(driver):
    from PyQt6.QtWidgets import QAbstractButton, QLineEdit

    for number in range(1, 9):
        driver.step(number)
        for kind in (QAbstractButton, QLineEdit):
            for widget in driver.window.findChildren(kind):
                if widget.isVisible() and type(widget).__module__.startswith("yarvic"):
                    assert widget.accessibleName(), widget


def test_the_window_is_remembered(driver):
    driver.step(6)
    driver.window.session.choose_theme("night")
    driver.window.session.choose_unit("torque", "lb-ft")
    driver.window.close()
    kept = load_settings()
    assert kept.step == "logs" and kept.theme == "night" and kept.units["torque"] == "lb-ft" and kept.geometry
    assert Settings.model_validate(kept.model_dump()) == kept


def test_nothing_that_a_file_holds_is_markup(driver, demo_path):
    """A title that would be a picture or a link stands as it was written, in labels and where the mouse rests."""
    from PyQt6.QtWidgets import QLabel

    from yarvic.desk.widgets.words import tip

    hostile = "<img src='file:///etc/passwd'><a href='x'>y</a>"
    label = QLabel()
    tip(label, hostile)
    assert "&lt;img" in label.toolTip() and "<img" not in label.toolTip()
    session = driver.window.session
    session.sheet.set("test", shop=hostile[:60], title="<b>bold</b>")
    for step in range(1, 9):
        driver.step(step)
        for shown in driver.window.findChildren(QLabel):
            if "<" in shown.text():
                assert shown.textFormat() == Qt.TextFormat.PlainText, shown.text()


@pytest.mark.parametrize("maps", [True, False])
def test_every_command_of_every_step_can_be_given(empty, tmp_path, demo_path, monkeypatch, maps):
    """With a job and its maps, and with one that has none yet: nothing is offered that ends in an error of ours."""
    from PyQt6.QtWidgets import QFileDialog

    from yarvic.core.job.template import begin, starts

    for name in ("getOpenFileName", "getSaveFileName"):
        monkeypatch.setattr(QFileDialog, name, lambda *_: ("", ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: ([], ""))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: "")
    path = Path(demo_path)
    if not maps:
        path = tmp_path / "bare.yarvic"
        Job.create(path, begin(next(iter(starts())), "Plover"), author="Rowan Sedge").close()
    empty.open(path)
    if maps:
        empty.window.session.bench.unit.seconds_per_block = 0.0
    given = set()  # what several steps offer is given once
    for step in range(1, 9):
        empty.step(step)
        for command in empty.window._commands():
            if command.title in given:
                continue
            given.add(command.title)
            if command.title == "Quit" or "demo" in command.title.lower() or command.title.startswith("Go to"):
                continue
            command.action()
            empty.settle(2)
            modal = QApplication.activeModalWidget()
            if modal is not None:
                modal.close()
        empty.idle()
    assert len(given) > (80 if maps else 40)


def test_a_refusal_is_shown_as_it_is(driver, demo_path):
    """Not as a slip of ours: a job that is open read only, and a command that would change it."""
    from yarvic.desk.app import unexpected

    before = len(unexpected().errors)
    driver.open(Path(demo_path), read_only=True)
    unexpected()._hook(*_raised(lambda: driver.window.session.job.note("test", "no")))
    assert "open read only" in driver.window.notice.what.text()
    assert "inside Yarvic" not in driver.window.notice.what.text()
    assert len(unexpected().errors) == before


def test_a_job_that_goes_away_under_the_window_is_offered_to_be_saved(driver, tmp_path, monkeypatch):
    from PyQt6.QtWidgets import QFileDialog

    session, notice = driver.window.session, driver.window.notice
    lines, path = len(session.job.journal()), session.job.path
    path.unlink()
    session.attempt(lambda: session.job.note("test", "lost?"))
    assert "moved, deleted or replaced" in notice.what.text() and notice.offer.text() == "Save a copy"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "kept.yarvic"), ""))
    driver.click(notice.offer)
    driver.idle()
    assert "The copy is saved" in driver.window.status.message.text() and not path.exists()
    driver.open(tmp_path / "kept.yarvic")
    assert len(session.job.journal()) == lines


def test_a_home_that_may_not_be_written_is_said_at_the_start(qapp, monkeypatch):
    monkeypatch.setenv("YARVIC_HOME", "/proc/none")
    window = make_window()
    window.show()
    try:
        assert "settings' folder may not be written" in window.notice.what.text()
        assert "Jobs are not touched" in window.notice.remedy.text()
    finally:
        window.close()
        window.deleteLater()


def test_what_is_read_beside_the_curves_speaks_of_their_throttle(empty, demo_job, tmp_path):
    empty.open(Path(shutil.copy(demo_job("fieldfare"), tmp_path / "f.yarvic")))
    empty.rung("A2")
    empty.rung("Stock", reference=True)
    empty.step(5)

    def gain():
        cards = empty.window.readings.cards
        return next(c.reading.numbers for c in cards if "A2 over Stock" in c.reading.sentence)

    assert ", full throttle" in gain()
    empty.window.view("dyno").choose_throttle(0.5)
    empty.settle()
    assert ", 50 % throttle" in gain() and "full" not in gain()


def test_the_head_opens_what_can_be_done_with_jobs(driver, tmp_path):
    window = driver.window
    assert window.windowTitle().startswith("Ptarmigan")

    def offered():
        menu = window.head.menu()
        found = {a.text().partition("\t")[0]: a.text().partition("\t")[2] for a in menu.actions() if a.text()}
        menu.deleteLater()
        return found

    there = offered()
    assert (
        there["Open a job"] == "Ctrl+O"
        and there["Import logs and dyno sheets"] == "Ctrl+I"
        and there["Close the job"] == "Ctrl+W"
    )
    assert "Recent" in there and window.session.settings.recent[0] == str(window.session.job.path)
    driver.click(window.head.help)
    assert window.keys.isVisible()
    driver.key(Qt.Key.Key_Escape)
    driver.click(window.head.commands)
    assert window.commands.isVisible()
    driver.key(Qt.Key.Key_Escape)
    driver.window.activateWindow()
    driver.key(Qt.Key.Key_W, Qt.KeyboardModifier.ControlModifier)
    assert window.session.job is None and window.windowTitle() == "Yarvic"
    assert "Import logs and dyno sheets" not in offered() and not window.head.bring.isEnabled()
    driver.step(1)
    lately = [b.text() for b in window.findChildren(QPushButton) if b.isVisible()]
    assert any(Path(p).stem in lately for p in window.session.settings.recent)


def test_the_first_picture_waits_for_nothing_that_it_does_not_need():
    """Packages that are used later are imported where they are used: a window is there the sooner."""
    late = ("can", "isotp", "udsoncan", "scipy", "openpyxl", "reportlab", "asammdf")
    code = (
        f"import sys, yarvic.desk.window, yarvic.desk.views.flash; print([m for m in {late!r} if m in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=True)
    assert done.stdout.strip() == "[]"
