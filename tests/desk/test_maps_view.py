"""Maps through the real window: typing, pasting, dragging, axes, pictures, lists, comparing, branching and merging."""

import os
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from pictures import painted
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QFontMetrics
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QTableView
from test_window import CONTROL, SHIFT, maps_of, pick

from yarvic.core.calibration.image import open_image
from yarvic.core.calibration.layout import Axis, Entry, Layout
from yarvic.core.job.store import Job
from yarvic.demo.whinchat import WHINCHAT
from yarvic.desk.theme import CAPTION_PX, font
from yarvic.desk.widgets.headed import NAME_PX
from yarvic.state.selection import DRAFT

pytestmark = pytest.mark.window


def shown(driver, view):
    driver.settle(30)
    return view.maps.table().values


# -- typing and pasting


def test_arithmetic_is_typed_with_what_comes_of_it_in_sight(driver):
    view = maps_of(driver)
    pick(driver, view, 2, 2, 3, 4)
    before = view.maps.table().values[2:4, 2:5].copy()
    driver.key(Qt.Key.Key_Minus)
    assert view.formula.isVisible() and view.formula.line.text() == "- "
    driver.type("1,5")
    assert "6 cells lowered by 1,5 deg" in view.formula.said.text()
    driver.key(Qt.Key.Key_Return)
    assert not view.formula.isVisible()
    assert np.allclose(shown(driver, view)[2:4, 2:5], before - 1.5) and view.maps.mask.sum() == 6
    driver.key(Qt.Key.Key_Equal)
    driver.type("(value + reference) / 2")
    driver.key(Qt.Key.Key_Return)
    assert np.allclose(shown(driver, view)[2:4, 2:5], before - 0.75, atol=0.051)
    driver.key(Qt.Key.Key_Plus)
    driver.type("soon")
    assert "no meaning for 'soon'" in view.formula.said.text()
    driver.key(Qt.Key.Key_Escape)
    assert not view.formula.isVisible() and view.grid.hasFocus()


def test_keys_step_fill_and_draw(driver):
    view = maps_of(driver)
    pick(driver, view, 1, 1, 1, 5)
    before = view.maps.table().values[1, 1:6].copy()
    driver.key(Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
    assert np.allclose(shown(driver, view)[1, 1:6], before + 0.1)
    driver.key(Qt.Key.Key_F)
    assert len(set(shown(driver, view)[1, 1:6])) == 1
    driver.key(Qt.Key.Key_Z, CONTROL)
    driver.key(Qt.Key.Key_I, SHIFT)
    drawn = shown(driver, view)[1, 1:6]
    assert np.allclose(np.diff(drawn, n=2), 0.0, atol=0.11)


def test_a_spreadsheets_text_is_pasted_or_refused_whole(driver):
    view = maps_of(driver)
    pick(driver, view, 4, 4)
    QApplication.clipboard().setText("10,5\t11,5\r\n12,5\t13,5\r\n")
    driver.key(Qt.Key.Key_V, CONTROL)
    assert shown(driver, view)[4:6, 4:6].tolist() == [[10.5, 11.5], [12.5, 13.5]]
    steps = len(driver.window.session.draft.steps)
    pick(driver, view, 4, 4)
    QApplication.clipboard().setText("1\tlots\n2\t3\n")
    driver.key(Qt.Key.Key_V, CONTROL)
    assert "row 1, column 2 is 'lots'" in driver.window.status.message.text()
    assert len(driver.window.session.draft.steps) == steps
    pick(driver, view, 0, 0, 1, 2)
    driver.key(Qt.Key.Key_C, CONTROL | SHIFT)
    assert QApplication.clipboard().text().splitlines()[0].split("\t")[1:] == ["1000", "1500", "2000"]


# -- axes


def test_a_break_point_is_moved_by_keyboard(driver):
    view = maps_of(driver)
    pick(driver, view, 2, 3)
    driver.key(Qt.Key.Key_X)
    assert view.axis.isVisible() and "engine speed" in view.axis._named.text()
    driver.type("2600")
    assert "moved to 2600 rpm" in view.axis.said.text() and "the function" in view.axis.said.text()
    driver.key(Qt.Key.Key_Return)
    driver.settle()
    assert view.maps.table().x.values[3] == 2600.0
    driver.type("9999")
    driver.key(Qt.Key.Key_Return)
    assert "break points rise" in view.axis.fault.text()
    driver.key(Qt.Key.Key_Escape)
    driver.key(Qt.Key.Key_Z, CONTROL)
    assert view.maps.table().x.values[3] == 2500.0


# -- pictures


def test_three_pictures_are_turned_by_keys(driver):
    view = maps_of(driver)
    pick(driver, view, 3, 3, 5, 6)
    view.maps.edits.calculate("+ 3")
    seen = set()
    for _ in range(3):
        driver.key(Qt.Key.Key_V)
        driver.settle(40)
        seen.add(frozenset(painted(view.page.pictures)))
    assert len(seen) == 3 and view.page.pictures.currentIndex() == 0
    driver.key(Qt.Key.Key_V)
    driver.key(Qt.Key.Key_V)
    relief = view.page.relief
    turned = relief.turn_deg
    relief.setFocus()
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Up):
        QTest.keyClick(relief, key)
    assert relief.turn_deg == turned + 10.0 and relief.tilt_deg > 30.0
    QTest.keyClick(relief, Qt.Key.Key_Home)
    assert relief.turn_deg == turned
    view.page.show_picture(1)
    driver.settle(40)
    box = view.page.isolines._box()
    QTest.mouseClick(view.page.isolines, Qt.MouseButton.LeftButton, pos=box.topLeft().toPoint() + QPoint(2, 2))
    driver.settle(40)
    assert (view.maps.row, view.maps.column) == (9, 0)  # loads rise upwards


def test_selected_points_of_a_slice_move_together(driver):
    view = maps_of(driver)
    pick(driver, view, 4, 4, 5, 6)
    slices, table = view.slices, view.maps.table()
    view.grid.select_block(4, 4, 5, 6, (4, 4))
    driver.settle(40)
    slices.redraw()
    start = slices.place(4, 5, table.values[4, 5]).toPoint()
    end = slices.place(4, 5, table.values[4, 5] - 3.0).toPoint()
    QTest.mousePress(slices, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    QTest.mouseMove(slices, end)
    QTest.mouseRelease(slices, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, end)
    moved = shown(driver, view)[4:6, 4:7] - table.values[4:6, 4:7]
    assert np.allclose(moved, moved[0, 0], atol=0.051) and moved[0, 0] == pytest.approx(-3.0, abs=0.6)
    assert len(driver.window.session.draft.steps) == 1
    driver.key(Qt.Key.Key_O)
    assert slices.other_way


# -- pages


def test_the_list_finds_marks_and_leads_back(driver):
    view = maps_of(driver)
    view.grid.setFocus()
    driver.key(Qt.Key.Key_L)
    assert view.panel == "list" and view.listed.search.hasFocus()
    driver.type("boost t")
    assert view.listed.count.text() == "1 fits"
    driver.key(Qt.Key.Key_Return)
    assert view.maps.key == "boost_target" and view.panel == "" and view.grid.hasFocus()
    driver.key(Qt.Key.Key_Backspace)
    assert view.maps.key == "spark_advance"
    driver.key(Qt.Key.Key_L)
    view.listed.search.clear()
    driver.click(view.listed.marks["evidence"])
    assert 3 <= sum(1 for r in view.listed.model.listed if r.key) < 15
    driver.click(view.listed.marks["all"])
    driver.key(Qt.Key.Key_Escape)
    assert view.panel == ""


def test_what_differs_is_taken_over(driver):
    view = maps_of(driver)
    view.grid.setFocus()
    driver.key(Qt.Key.Key_D)
    assert view.panel == "compare" and "differ from A1" in view.compare.headline.text()
    rows = view.compare.table.rowCount()
    assert rows >= 2
    view.compare.table.selectRow(0)
    driver.click(view.compare.take)
    assert view.compare.table.rowCount() == rows - 1 and driver.window.session.working == DRAFT
    driver.click(view.compare.take_all)
    # A draft is compared with what it stands on: nothing of A1 is left to differ from there.
    assert len(driver.window.session.draft.steps) >= 1


def test_branch_and_merge_by_hand(driver):
    view = maps_of(driver)
    session = driver.window.session
    view.show_panel("history")
    driver.settle(200)
    view.history._choose(session.job.revision("A1").id)
    driver.fill(view.history.name, "for the cold")
    driver.click(
        next(b for b in view.history.findChildren(type(view.acts.words["set"])) if b.text() == "Begin a draft on it")
    )
    assert session.draft.parent.name == "A1" and session.draft.name == "for the cold"
    assert any("for the cold" in r.reason for r in driver.window.ladder.rungs())
    view.show_panel("")
    view.maps.choose("boost_target")
    driver.settle()
    pick(driver, view, 3, 4, 4, 5)
    driver.key(Qt.Key.Key_Minus)
    driver.type("4")
    driver.key(Qt.Key.Key_Return)
    view.show_panel("history")
    view.history._choose(session.job.revision("B1").id)
    driver.click(view.history.merge)
    assert view.panel == "merge" and not view.merge.do.isEnabled()
    count = view.merge.table.rowCount()
    assert count >= 1
    view.merge.table.selectRow(0)
    driver.click(view.merge.ours)
    view.merge.table.selectAll()
    QTest.keyClick(view.merge, Qt.Key.Key_T)
    assert view.merge.do.isEnabled()
    driver.click(view.merge.do)
    assert view.panel == "" and "B1 is merged" in driver.window.status.message.text()
    driver.fill(view.commit.reason, "both")
    driver.fill(view.commit.author, "Rowan Sedge")
    driver.click(view.commit.commit_act)
    made = session.working_revision()
    assert made is not None and made.merged_id == session.job.revision("B1").id
    assert next(r for r in driver.window.ladder.rungs() if r.rung == made.id).merged is not None


def test_marks_stand_on_the_ladder(driver):
    view = maps_of(driver)
    view.show_panel("history")
    view.history._choose_tag("do not use")
    driver.fill(view.history.reason, "lean")
    driver.fill(view.history.by, "R. S.")
    view.history._mark()
    driver.settle()
    assert "do not use" in next(r.detail for r in driver.window.ladder.rungs() if r.name == "B1")
    view.history._choose_tag("keep")
    view.history.reason.clear()
    view.history._mark()
    assert "name and a reason" in view.history.fault.text()


def test_a_revision_says_what_it_expects(driver):
    view = maps_of(driver)
    pick(driver, view, 5, 5)
    driver.key(Qt.Key.Key_Minus)
    driver.type("1")
    driver.key(Qt.Key.Key_Return)
    driver.click(view.commit.expect_word)
    driver.fill(view.commit.expect.limit, "two")
    driver.fill(view.commit.reason, "less knock")
    driver.fill(view.commit.author, "R. S.")
    driver.click(view.commit.commit_act)
    assert "not a number" in view.commit.fault.text() and driver.window.session.draft is not None
    driver.fill(view.commit.expect.limit, "2")
    driver.fill(view.commit.expect.low, "2800")
    driver.click(view.commit.commit_act)
    [kept] = driver.window.session.job.expectations()
    assert kept.expected.sentence() == "greatest knock retard below 2 deg from 2,800 rpm on"


# -- evidence


def test_cells_show_the_evidence_and_lead_to_the_logs(driver):
    view = maps_of(driver)
    driver.wait("evidence", lambda: view.maps.evidence() is not None)
    view.maps.cells.choose("hits")
    driver.settle(50)
    cells = view.grid.cells
    assert cells.data(cells.index(0, 12)) == "" and "never visited" in cells.words(0, 12)
    row, column = (int(v) for v in np.argwhere(view.maps.evidence().retard.hits == 3)[0])
    assert cells.data(cells.index(row, column)) == "3"
    pick(driver, view, row, column)
    (title, go), *_ = view.page.evidence._moments()
    assert title.startswith("B1 pull 1: ")
    go()
    driver.settle(200)
    logs = driver.window.view("logs")
    assert driver.window.session.settings.step == "logs" and "Spark advance at the cursor" in logs.cell.text()
    driver.step(3)
    view.maps.cells.trace_shown = True
    view.maps.cells.choose("value")
    driver.settle(50)
    assert view.maps.cells.reading() is not None
    driver.click(view.page.evidence.cover)
    assert view.page.evidence.covering.isVisible() and len(view.page.evidence.covering._lines) >= 1


# -- files


def test_tables_are_exported_and_imported_from_the_window(driver, tmp_path, monkeypatch):
    view = maps_of(driver)
    path = tmp_path / "spark.csv"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(path), "CSV (*.csv)"))
    view.files.export_table()
    driver.idle()
    driver.wait("the file", path.exists)
    text = path.read_text()
    at = text.index("\n20.0,") + 6
    path.write_text(f"{text[:at]}11.0{text[text.index(',', at) :]}")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (str(path), ""))
    view.files.import_tables()
    driver.idle()
    assert shown(driver, view)[0, 0] == 11.0
    path.write_text("entry,RON 95,spark_advance\nwords")
    view.files.import_tables()
    driver.idle()
    assert "spark.csv" in driver.window.notice.what.text()


# -- sizes


def sized(tmp_path, rows, columns):
    """A job with one table of a size, words in another."""
    x = Axis(title="Engine speed", unit="rpm", address=0, storage="u16", count=columns)
    y = Axis(title="Throttle", unit="%", address=128, storage="u8", count=rows, factor=1.255)
    entry = Entry(key="t", title="T", kind="map" if rows > 1 else "curve", unit="deg", address=256, storage="u16",
                  factor=0.1, x=x, y=y if rows > 1 else None)  # fmt: skip
    layout = Layout(family="f", byte_order="big", size=8192, entries=(entry,))
    data = bytearray(8192)
    data[: 2 * columns] = np.arange(1, columns + 1).astype(">u2").tobytes()
    data[128 : 128 + rows] = np.arange(1, rows + 1).astype("u1").tobytes()
    z = np.add.outer(np.arange(rows), np.arange(columns)) * 7
    data[256 : 256 + 2 * rows * columns] = z.astype(">u2").tobytes()
    path = tmp_path / f"s{rows}x{columns}.yarvic"
    job = Job.create(path, WHINCHAT.sheet(), author="R. S.")
    job.import_stock(layout, open_image(bytes(data), layout).data, "R. S.")
    job.close()
    return path


def cut_off(grid):
    """Break points that have no room in their header."""
    metrics = QFontMetrics(font(CAPTION_PX, bold=True))
    across, down = grid.horizontalHeader(), grid.verticalHeader()
    ways = (
        (Qt.Orientation.Horizontal, grid.cells.columnCount(), across.sectionSize),
        (Qt.Orientation.Vertical, grid.cells.rowCount(), lambda n: down.width()),
    )
    labels = [(grid.cells.headerData(n, way), wide(n)) for way, count, wide in ways for n in range(count)]
    return [text for text, wide in labels if metrics.horizontalAdvance(text) + 12 > wide]


@pytest.mark.parametrize("theme", ["paper", "night"])
@pytest.mark.parametrize(("rows", "columns"), [(1, 12), (8, 8), (20, 20), (40, 40)])
def test_tables_of_every_size_are_shown_and_edited(empty, tmp_path, rows, columns, theme):
    empty.open(sized(tmp_path, rows, columns))
    empty.window.session.choose_theme(theme)
    for size in ((1024, 700), (1920, 1080)):
        empty.window.resize(*size)
        view = empty.window.view("maps")
        empty.step(3)
        for picture in range(3):
            view.page.show_picture(picture)
            empty.settle(30)
        assert view.minimumSizeHint().width() <= view.width() + 1
        view.page.show_picture(0)
        pick(empty, view, 0, 1)
        assert not cut_off(view.grid)
        empty.key(Qt.Key.Key_Plus)
        empty.type("1")
        empty.key(Qt.Key.Key_Return)
    assert view.maps.table().values[0, 1] == pytest.approx(0.7 + 2.0)
    assert len(empty.window.session.draft.steps) == 2


def test_names_keep_their_room_in_a_narrow_window(driver):
    driver.window.resize(1024, 700)
    view = maps_of(driver)
    for name in ("list", "compare"):
        view.show_panel(name)
        driver.settle(30)
        table = next(t for t in view.findChildren(QTableView) if t.isVisible())
        columns = range(table.model().columnCount())
        heads = [table.model().headerData(n, Qt.Orientation.Horizontal) for n in columns]
        assert table.columnWidth(heads.index("Table or value")) >= NAME_PX
        driver.window.resize(1920, 1080)
        driver.settle(30)
        assert sum(map(table.columnWidth, columns)) == table.viewport().width()
        driver.window.resize(1024, 700)


# -- killed

KILLED = """
import sys
from pathlib import Path
from yarvic.desk.app import make_window
from yarvic.desk.driver import Driver
from yarvic.state.settings import Settings
window = make_window(Settings(author="R. S."))
window.show()
driver = Driver(window, Path(sys.argv[1]).parent, lambda *a: None)
driver.open(Path(sys.argv[1]))
driver.step(3)
view = window.view("maps")
view.maps.choose("spark_advance")
for n in range(10000):
    view.grid.select_block(n % 10, n % 13, n % 10, n % 13)
    view.maps.edits.calculate("- 0.1")
    print(len(window.session.draft.steps), flush=True)
    driver.settle(1)
"""


@pytest.mark.parametrize("after", [3, 17])
def test_a_kill_in_mid_edit_loses_no_edit_that_was_shown(empty, demo_path, after):
    process = subprocess.Popen(
        [sys.executable, "-c", KILLED, str(demo_path)], stdout=subprocess.PIPE, text=True, env={**os.environ}
    )
    for _ in range(after):
        said = int(process.stdout.readline())
    process.send_signal(signal.SIGKILL)
    rest = process.stdout.read().split()
    process.wait()
    said = int(rest[-1]) if rest else said
    empty.open(Path(demo_path))
    session = empty.window.session
    assert session.working == DRAFT and said <= len(session.draft.steps) <= said + 1
    assert "saved and is open again" in empty.window.status.message.text()
    while session.draft.can_undo:
        session.draft.undo()
    assert session.draft.image.data == session.draft.base.data


def test_keys_that_open_close_and_the_list_is_found_from_anywhere(driver):
    view = maps_of(driver)
    view.grid.setFocus()
    driver.key(Qt.Key.Key_D)
    assert view.panel == "compare"
    driver.key(Qt.Key.Key_D)
    assert view.panel == "" and view.grid.hasFocus()
    for widget in (view.grid, driver.window.ladder, driver.window.readings, view.files_word):
        widget.setFocus()
        driver.key(Qt.Key.Key_F, CONTROL)
        assert view.panel == "list" and view.listed.search.hasFocus(), widget
        driver.key(Qt.Key.Key_F, CONTROL)
        assert view.panel == "", widget
    for key, layer in ((Qt.Key.Key_F1, driver.window.keys), (Qt.Key.Key_K, driver.window.commands)):
        modifier = CONTROL if key == Qt.Key.Key_K else Qt.KeyboardModifier.NoModifier
        driver.key(key, modifier)
        assert layer.isVisible()
        driver.key(key, modifier)
        assert not layer.isVisible()


def test_tables_are_found_by_every_name_of_their_role(driver):
    view = maps_of(driver)
    driver.key(Qt.Key.Key_F, CONTROL)
    for words in ("ignition timing", "zündwinkel", "timing"):
        view.listed.search.setText(words)
        driver.settle()
        assert "spark_advance" in {row.key for row in view.maps.listing.rows()}, words


def test_after_opening_the_cells_have_the_focus(driver, demo_path):
    driver.window.session.leave_job()
    driver.idle()
    driver.window.session.go("maps")
    driver.window.ladder.setFocus()
    driver.open(demo_path)
    view = maps_of(driver)
    assert view.grid.hasFocus()
    # Going from step to step by a key, the figure takes the keys; somebody at the ladder stays there.
    driver.key(Qt.Key.Key_5, Qt.KeyboardModifier.AltModifier)
    assert not driver.window.ladder.hasFocus()
    driver.window.ladder.setFocus()
    driver.key(Qt.Key.Key_3, Qt.KeyboardModifier.AltModifier)
    assert driver.window.ladder.hasFocus()
