"""Any unit's memory through the real window: description and image, roles, the search, and the way by file."""

import shutil

import pytest
from asking import choose
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog

from yarvic.core.calibration.roles import kinds
from yarvic.core.formats.images import write_image
from yarvic.core.job.store import Job
from yarvic.demo import foreign, outside
from yarvic.demo.whinchat import WHINCHAT
from yarvic.desk.views.flash.memory import ASIDE, DIFFERS, OTHER, PROVEN

pytestmark = pytest.mark.window
CTRL = Qt.KeyboardModifier.ControlModifier
WHO = "Rowan Sedge"


@pytest.fixture
def unit_files(tmp_path):
    for name in outside.OF_THE_UNIT:
        (tmp_path / name).write_bytes(outside.shipped(name))
    return tmp_path


@pytest.fixture
def bare(empty, unit_files):
    """The wagon's job of which only the sheet is known."""
    path = unit_files / "wagon.yarvic"
    Job.create(path, WHINCHAT.sheet(), author=WHO).close()
    empty.open(path)
    return empty


def drop(driver, *paths):
    driver.window.arriving.bring(list(paths))
    driver.idle()


@pytest.fixture
def known(bare, unit_files):
    """The same with its stock image."""
    drop(bare, unit_files / outside.COMPANION, unit_files / outside.IMAGE)
    bare.click(bare.window.view("maps").stock.go)
    bare.idle()
    assert bare.window.session.working_name() == "Stock"
    return bare


def revise(driver, limit="6500"):
    """A1: another rev limit, typed into its row."""
    view = driver.window.view("maps")
    driver.key(Qt.Key.Key_F, CTRL)
    driver.type("rev lim")
    driver.key(Qt.Key.Key_Return)
    driver.window.maps.edits.set_value("nMax", limit)
    driver.settle()
    driver.fill(view.commit.reason, "rev limit lower")
    driver.key(Qt.Key.Key_Return)
    assert driver.window.session.working_name() == "A1"


# -- what comes in


def test_files_go_where_they_belong_in_whatever_order(bare, unit_files):
    form = bare.window.view("maps").stock
    drop(bare, unit_files / outside.IMAGE)
    assert bare.window.session.settings.step == "maps" and form.image.text().endswith(outside.IMAGE)
    assert not form.go.isEnabled()
    drop(bare, unit_files / outside.DESCRIPTION)
    assert form.go.isEnabled() and "states no checksum" in form.said.text() and form.sum.isVisible()
    assert "Tq_Shown: it is worked out of others" in form.listed.toPlainText()
    drop(bare, unit_files / outside.COMPANION)
    assert form.go.isEnabled() and not form.sum.isVisible() and "checksum" not in form.said.text()


def test_a_checksum_is_stated_by_hand_and_held_against_the_image(bare, unit_files):
    drop(bare, unit_files / outside.DESCRIPTION, unit_files / outside.IMAGE)
    form = bare.window.view("maps").stock
    choose(bare, form.kind, "crc-16/ibm-3740")
    for field, text in ((form.first, "0x80042000"), (form.last, "0x80045DFF"), (form.place, "here")):
        bare.fill(field, text)
    state = next(b for b in form.findChildren(type(form.kind)) if b.text() == "State it")
    bare.click(state)
    assert "is no address" in form.fault.text() and form.go.isEnabled()
    bare.fill(form.place, "0x80045FFE")
    bare.click(state)
    bare.idle()
    # Without its second range it does not hold, and that is said before anything is kept.
    assert "states another rule" in form.fault.text() and not form.go.isEnabled()


def test_what_is_dropped_without_a_place_is_said(empty, known, unit_files):
    drop(known, unit_files / outside.DESCRIPTION)
    assert "the job has its own" in known.window.notice.what.text()
    known.key(Qt.Key.Key_Escape)
    known.window.session.leave_job()
    drop(known, unit_files / outside.DESCRIPTION)
    assert "no job is open" in known.window.notice.what.text()


# -- tables among many, and what they do


def test_a_table_is_found_by_part_of_its_name(known):
    view = known.window.view("maps")
    known.step(3)
    assert known.window.maps.key == "SpkAdv_Base" or known.window.maps.key in dict(known.window.maps.titles())
    known.key(Qt.Key.Key_F, CTRL)
    assert view.listed.isVisible()
    known.type("boost")
    assert "1 fits" in view.listed.count.text()
    known.key(Qt.Key.Key_Return)
    assert known.window.maps.key == "Boost_Tgt" and not view.listed.isVisible()
    known.key(Qt.Key.Key_F, CTRL)
    known.type("fuel that")
    known.key(Qt.Key.Key_Return)
    row = view.scalars.currentIndex().row()
    value, bounds = (view.scalars.cells.index(row, column).data() for column in (1, 4))
    assert value == "RON 95" and "RON 91, RON 95, RON 98" in bounds
    known.key(Qt.Key.Key_F, CTRL)
    known.key(Qt.Key.Key_Escape)
    assert not view.listed.isVisible()


def test_words_are_typed_as_words(known):
    known.step(3)
    maps = known.window.maps
    maps.find("Fuel_Kind")
    known.settle()
    maps.edits.set_value("Fuel_Kind", "ron 98")
    draft = known.window.session.draft
    assert draft.image["Maps"].scalar("Fuel_Kind").shown() == "RON 98"
    maps.edits.set_value("Sw_Siren", "off")
    assert draft.image["Maps"].scalar("Sw_Shutter").shown() == "on"  # the other bit of that byte
    assert maps.edits.undo() is None and draft.image["Maps"].scalar("Sw_Siren").shown() == "on"


def test_roles_are_proposed_confirmed_changed_and_shared(known, unit_files, monkeypatch):
    view, session = known.window.view("maps"), known.window.session
    known.step(3)
    known.click(view.page_words["roles"])
    assert "Spark advance, base map?" in view.roles.choosers["spark_advance"].text()
    assert "Tq_Shown" in view.roles.left.toPlainText()
    known.click(view.roles.confirm)
    assert set(session.job.layout.roles) == set(kinds()) and not view.roles.confirm.isEnabled()
    choose(known, view.roles.choosers["rev_limit"], "no table does")
    assert "rev_limit" not in session.job.layout.roles
    path = unit_files / "roles.toml"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(path), ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: (str(path), ""))
    words = {b.text(): b for b in view.roles.findChildren(type(view.page_words["roles"]))}
    known.click(words["Export as TOML"])
    choose(known, view.roles.choosers["boost_target"], "no table does")
    known.click(words["Import from TOML"])
    assert session.job.layout.of_role("boost_target") == ("Boost_Tgt",)
    path.write_text('format = "yarvic roles 1"\nfamily = "other"\n')
    known.click(words["Import from TOML"])
    assert "of family 'other'" in view.roles.fault.text()
    # It is kept with the layout.
    job_path = session.job.path
    session.close_job()
    job = Job.open(job_path)
    assert job.layout.of_role("spark_advance") == ("SpkAdv_Base",)
    job.close()


def test_what_an_axis_is_of_is_said_by_a_person(known):
    view = known.window.view("maps")
    known.step(3)
    known.window.maps.find("SpkAdv_Base")
    known.click(view.page_words["roles"])
    assert view.roles.axes["y"].text().startswith("y: cylinder filling, by its name")
    choose(known, view.roles.axes["y"], "Throttle")
    assert known.window.session.job.layout.by_key["SpkAdv_Base"].y.input == "throttle"
    assert view.roles.axes["y"].text().startswith("y: throttle")


# -- by file


def exported(driver, tmp_path):
    driver.step(4)
    panel = driver.window.view("flash").by_file
    session = driver.window.session
    request = session.request("exporting the image", revision=session.working_revision().id)
    path = tmp_path / "a1.hex"
    panel.export_to(path, request, "hex")
    driver.idle()
    return panel, path


def read_back(driver, panel, path):
    session = driver.window.session
    panel.take_read_back(path, session.request("reading back", revision=session.working_revision().id))
    driver.idle()


def test_a_unit_without_a_link_is_written_by_file(known, tmp_path):
    revise(known)
    known.step(4)
    view = known.window.view("flash")
    panel = view.by_file
    assert panel.isVisible() and not view.write.isVisible() and not panel.wrote.isEnabled()
    assert panel.memory.states.count(DIFFERS) == 2 and "Rev limit" in panel.key.text()
    panel, path = exported(known, tmp_path)
    assert path.exists() and "Exported to a1.hex" in panel.said.text()
    known.click(panel.wrote)
    assert "not ticked, the first" in panel.fault.text()
    for box in panel.boxes.values():
        box.click()
    known.click(panel.wrote)
    assert "not read back" in panel.said.text() and "Unit: unknown" in panel.unit.text()
    stock = known.window.session.job.image(known.window.session.revisions()[0].image)
    back = tmp_path / "back.s37"
    # Another unit, a half, then all of it.
    data = outside.taken().data.replace(b"WHN20.04", b"WHN20.09", 1)
    write_image(back, data, "srec", foreign.unit()["start"], foreign.gaps())
    read_back(known, panel, back)
    assert "is 'WHN20.09-FR7', not 'WHN20.04-FR7'" in known.window.notice.what.text()
    known.key(Qt.Key.Key_Escape)
    back.write_bytes(foreign.half_written(path.read_bytes(), stock))
    read_back(known, panel, back)
    assert "It is what Stock is: the write did not take" in panel.said.text() and OTHER in panel.memory.states
    assert "Rev limit" in panel.key.text()
    back.write_bytes(foreign.read_out(path.read_bytes(), stock))
    read_back(known, panel, back)
    assert panel.memory.states.count(PROVEN) == 96 - 17 and panel.memory.states.count(ASIDE) == 17
    assert panel.unit.text().startswith("Unit: A1, as last read back, by file")
    assert known.window.status.unit.text() == "Unit by file: A1"


def test_what_is_ticked_is_for_one_revision_and_one_write(known, tmp_path):
    revise(known)
    panel, _ = exported(known, tmp_path)
    for box in panel.boxes.values():
        box.click()
    known.rung("Stock")
    assert not any(b.isChecked() for b in panel.boxes.values())
    known.rung("A1")
    assert all(b.isChecked() for b in panel.boxes.values())
    exported(known, tmp_path)
    assert not any(b.isChecked() for b in panel.boxes.values())


def test_a_file_that_was_asked_for_in_another_job_is_not_taken(known, tmp_path, demo_path):
    revise(known)
    panel, path = exported(known, tmp_path)
    session = known.window.session
    request = session.request("reading back", revision=session.working_revision().id)
    known.open(shutil.copy(demo_path, tmp_path / "other.yarvic"))
    panel.take_read_back(path, request)
    known.idle()
    assert "closed meanwhile" in panel.fault.text() and session.job.carried() == []


def test_an_export_into_a_folder_that_is_none_is_said(known, tmp_path):
    revise(known)
    known.step(4)
    panel, session = known.window.view("flash").by_file, known.window.session
    request = session.request("exporting the image", revision=session.working_revision().id)
    panel.export_to(tmp_path / "none" / "a.hex", request, "hex")
    known.idle()
    assert "its folder is not there" in known.window.notice.what.text() and session.job.carried() == []


def test_two_images_are_compared_without_a_description(empty, unit_files):
    empty.command("compare two images")
    page = empty.window.shown()
    data = bytearray(outside.taken().data)
    data[0x2100] ^= 0xFF
    write_image(unit_files / "other.s37", bytes(data), "srec", foreign.unit()["start"], foreign.gaps())
    empty.fill(page.lines[0], str(unit_files / outside.IMAGE))
    empty.key(Qt.Key.Key_Return)
    empty.fill(page.lines[1], str(unit_files / "other.s37"))
    empty.key(Qt.Key.Key_Return)
    empty.idle()
    assert page.headline.text().startswith("1 of 20,480 bytes differ")
    assert page.listed.toPlainText().startswith("0x80042100")
    empty.fill(page.lines[1], str(unit_files / "none"))
    empty.key(Qt.Key.Key_Return)
    empty.idle()
    assert "is not there" in page.fault.text()
    empty.key(Qt.Key.Key_Escape)
    assert empty.window.shown() is not page


ODD = """
format = "yarvic layout 2"
family = "odd"
byte_order = "little"
size = 4096
[conversions.inverse]
kind = "rational"
b = 0.0
c = 12000.0
e = 1.0
f = 0.0
[conversions.gate]
kind = "words"
words = [{ low = 0.0, high = 0.0, text = "shut" }, { low = 1.0, high = 1.0, text = "open" }]
[[entries]]
key = "reals"
kind = "map"
unit = "furlong"
address = 0
storage = "f32"
x = { kind = "fixed", values = [1.0, 2.0, 3.0] }
y = { kind = "fixed", values = [1.0, 2.0], unit = "rpm", title = "Engine speed" }
[[entries]]
key = "none at all"
kind = "block"
count = 3
address = 64
storage = "f64"
[[entries]]
key = "inverse"
kind = "curve"
unit = "rpm"
address = 128
storage = "u16"
conversion = "inverse"
x = { kind = "fixed", start = 1.0, step = 1.0, count = 4 }
[[entries]]
key = "doors"
kind = "block"
count = 2
address = 160
conversion = "gate"
[[entries]]
key = "falling"
kind = "curve"
unit = "degC"
address = 170
factor = -0.75
offset = 120.0
x = { kind = "fixed", start = 0.0, step = 1.0, count = 5, unit = "V" }
[[entries]]
key = "real"
kind = "value"
address = 200
storage = "f32"
"""


def test_every_kind_of_table_is_shown(empty, tmp_path, complaints):
    """Numbers that are none, poles, words, blocks, factors below zero, units that nobody knows."""
    import numpy as np

    data = bytearray(4096)
    data[0:24] = np.array([1.0, np.nan, np.inf, 3e38, 5.0, -6.0], "<f4").tobytes()
    data[64:88] = np.array([np.nan] * 3, "<f8").tobytes()
    data[128:136] = np.array([0, 2, 4, 8], "<u2").tobytes()  # a stored nothing is the pole
    data[160:162] = bytes([1, 0])
    data[170:175] = bytes([10, 20, 30, 40, 50])
    data[200:204] = np.array([np.nan], "<f4").tobytes()
    (tmp_path / "odd.toml").write_text(ODD)
    (tmp_path / "odd.bin").write_bytes(data)
    path = tmp_path / "odd.yarvic"
    Job.create(path, WHINCHAT.sheet(), author=WHO).close()
    empty.open(path)
    drop(empty, tmp_path / "odd.toml", tmp_path / "odd.bin")
    form = empty.window.view("maps").stock
    assert "unit 'furlong' is unknown" in form.listed.toPlainText() and form.go.isEnabled()
    empty.click(form.go)
    empty.idle()
    view, maps = empty.window.view("maps"), empty.window.maps
    shown = {}
    for key, _ in maps.titles():
        maps.choose(key)
        empty.settle(30)
        if maps.table() is not None:
            shown[key] = [[view.grid.cells.data(view.grid.cells.index(r, c)) for c in range(view.grid.cells.columnCount())]
                          for r in range(view.grid.cells.rowCount())]  # fmt: skip
    assert shown["reals"][0] == ["1.000", "none", "none"] and shown["none at all"] == [["none"] * 3]
    assert shown["inverse"] == [["none", "6000.000", "3000.000", "1500.000"]]
    assert shown["falling"] == [["112.50", "105.00", "97.50", "90.00", "82.50"]]
    maps.choose("falling")
    view.grid.select_block(0, 0, 0, 4)
    empty.settle()
    maps.edits.calculate("+ 0.75")
    empty.settle()
    assert empty.window.session.draft.image["Maps"].table("falling").values.tolist() == [
        [113.25, 105.75, 98.25, 90.75, 83.25]
    ]
    assert complaints == []
