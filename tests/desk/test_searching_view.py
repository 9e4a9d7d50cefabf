"""An image without a description through the real window: looked through, confirmed, a layout, the job's maps."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog

from yarvic.bench.random_images import random_image
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.job.store import Job
from yarvic.demo.whinchat import WHINCHAT
from yarvic.desk.views.searching import CONFIRMED
from yarvic.state import searching

pytestmark = pytest.mark.window


@pytest.fixture(scope="module")
def hidden():
    return random_image(601, tables=10)


@pytest.fixture
def page(empty, hidden, tmp_path, monkeypatch):
    """The page with an image that was looked through."""
    path = tmp_path / "read.bin"
    path.write_bytes(hidden.data)
    empty.window.open_searching()
    empty.idle()
    view = empty.window.view("searching")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (str(path), ""))
    view._choose()
    empty.idle()
    return view


def test_places_are_listed_likeliest_first_with_a_picture(page, hidden):
    assert page.rows.rowCount() == len(page.state.tables) >= 6
    assert "look like tables" in page.headline.text()
    assert page.picture.table is page.state.tables[0]
    assert "Axes right before it" in page.why.text()
    addresses = {f"0x{t.address:X}" for t in hidden.tables}
    listed = {page.rows.item(n, 0).text() for n in range(page.rows.rowCount())}
    assert len(addresses & listed) >= 7
    page.rows.selectRow(2)
    assert page.picture.table is page.state.tables[2]


def test_space_confirms_and_no_longer(page, empty):
    page.rows.setFocus()
    page.rows.selectRow(1)
    empty.key(Qt.Key.Key_Space)
    assert page.state.confirmed == {page.state.tables[1].address}
    assert page.rows.item(1, CONFIRMED).text() == "yes"
    assert [i.row() for i in page.rows.selectionModel().selectedRows()] == [1]
    empty.key(Qt.Key.Key_Space)
    assert page.state.confirmed == set()


def test_nothing_is_saved_before_it_is_confirmed_and_named(page):
    assert not page.save.isEnabled()
    page.sure.click()
    assert page.state.confirmed
    assert not page.save.isEnabled()
    page._family("Unit 601")
    assert page.save.isEnabled()


def test_the_confirmed_become_the_maps_of_a_job_without_any(page, empty, tmp_path, monkeypatch):
    job = tmp_path / "bare.yarvic"
    Job.create(job, WHINCHAT.sheet(), author="Rowan Sedge").close()
    empty.open(job)
    page.sure.click()
    page._family("UNIT 601")
    out = tmp_path / "unit.toml"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(out), ""))
    page.save.click()
    empty.idle()
    layout = parse_layout(out.read_text())
    assert len(layout.entries) == len(page.state.confirmed)
    stock = empty.window.view("maps").stock
    assert stock.stock.description == out
    assert stock.stock.taken is not None
    stock.go.click()
    empty.idle()
    maps = empty.window.maps
    assert maps.table() is not None
    place = next(t for t in page.state.tables if f"table_{t.address:X}" == maps.table().key)
    assert maps.table().values.tolist() == page.state.values(place).tolist()


def test_the_address_of_raw_bytes_is_stated(page):
    page.base.setText("0x8000")
    page.base.setModified(True)
    page.base.done()
    assert page.state.base == 0x8000
    assert page.rows.item(0, 0).text() == f"0x{page.state.tables[0].address + 0x8000:X}"
    page.base.setText("here")
    page.base.setModified(True)
    page.base.done()
    assert page.base.fault.text()
    assert page.state.base == 0x8000


def test_an_address_stated_before_the_image_stays(page, hidden, empty, tmp_path):
    page.state.state_base("0x4000")
    again = tmp_path / "again.bin"
    again.write_bytes(hidden.data)
    page.look(again)
    empty.idle()
    assert page.state.base == 0x4000


def test_the_image_is_not_written_over(page, hidden):
    page.sure.click()
    page._family("UNIT 601")
    page.save_to(page.state.path)
    assert "is the image itself" in page.fault.text()
    assert page.state.path.read_bytes() == hidden.data


def test_more_places_than_can_be_looked_through_are_said(page, monkeypatch):
    monkeypatch.setattr(searching, "MOST_LISTED", 3)
    page.refresh()
    assert page.rows.rowCount() == 3
    assert "the likeliest 3 are listed" in page.headline.text()


def test_another_image_forgets_what_was_confirmed_and_a_wrong_file_is_named(page, empty, tmp_path):
    page.sure.click()
    wrong = tmp_path / "empty.bin"
    wrong.write_bytes(b"")
    page.look(wrong)
    empty.idle()
    assert page.state.confirmed == set()
    assert page.rows.rowCount() == 0
    assert "empty.bin" in str(page.state.error)
    assert not page.save.isEnabled()
    assert page.picture.table is None


def test_looking_that_is_cancelled_keeps_nothing_and_another_takes_its_place(empty, tmp_path, hidden):
    long, short = tmp_path / "long.bin", tmp_path / "short.bin"
    long.write_bytes(random_image(602, tables=60).data)
    short.write_bytes(hidden.data)
    empty.window.open_searching()
    view = empty.window.view("searching")
    view.look(long)
    assert "Looking through long.bin" in view.headline.text()
    view.look(short)
    empty.idle()
    assert view.state.image.name == "short.bin"
    view.look(long)
    empty.window.session.requests.cancel_all()
    empty.idle()
    assert view.state.found is None
    assert view.rows.rowCount() == 0
    assert not view.state.under_way


def test_a_look_that_was_overtaken_by_one_at_the_same_file_does_not_end_it(page, empty):
    path = page.state.path
    page.state.look(path)
    page.state.look(path)
    heard = []
    page.state.changed.connect(lambda: heard.append((page.state.under_way, page.state.found is not None)))
    empty.idle()
    assert not page.state.under_way and page.state.tables
    assert (False, False) not in heard[:-2]


def test_addresses_and_shapes_are_whole_in_a_narrow_window(page, empty):
    empty.window.resize(1024, 700)
    empty.settle(30)
    metrics = page.rows.fontMetrics()
    for column, text in ((0, "0x80004802"), (2, "20 x 40"), (3, "u16")):
        assert metrics.horizontalAdvance(text) + 6 <= page.rows.columnWidth(column)
    assert sum(page.rows.columnWidth(n) for n in range(5)) <= page.rows.viewport().width()
