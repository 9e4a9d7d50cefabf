"""Job through the real window: a job from nothing by keyboard, stations, readiness, builds, sheets, templates."""

from pathlib import Path

import pytest
from pictures import painted
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication

from yarvic.core.job.store import Job
from yarvic.desk.views.job import JobView
from yarvic.desk.views.maps.view import MapsView

CTRL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def job(driver):
    """The job view of the demo."""
    driver.step(1)
    view = driver.window.view("job")
    assert isinstance(view, JobView)
    return view


def write(driver, field, text):
    """Into a field, and Enter."""
    driver.window.activateWindow()
    area = next((w for w in ancestors(field) if hasattr(w, "ensureWidgetVisible")), None)
    if area is not None:
        area.ensureWidgetVisible(field)
    driver.fill(field, text)
    driver.key(Qt.Key.Key_Return)


def ancestors(widget):
    while widget is not None:
        yield widget
        widget = widget.parentWidget()


def test_a_job_from_nothing_by_keyboard(empty, home):
    d, w = empty, empty.window
    d.key(Qt.Key.Key_N, CTRL)
    d.type("Lapwing, delivery van")
    d.key(Qt.Key.Key_Return)
    d.idle()
    job = w.session.job
    assert job is not None and job.sheet.title == "Lapwing, delivery van" and not job.has_maps
    assert job.path == home / "jobs/lapwing-delivery-van.yarvic"
    view = w.view("job")
    # From the strip, Tab leads into the form; every entry is reached and kept by keys alone.
    fields = {"cylinders": "4", "bore_mm": "82.5", "stroke_mm": "3.65 in", "redline_rpm": "6,800", "idle_rpm": "800"}
    seen = set()
    for _ in range(60):
        focus = QApplication.focusWidget()
        key = next((k for k, f in view.vehicle.fields.items() if f is focus), None)
        if key in fields and key not in seen:
            seen.add(key)
            d.key(Qt.Key.Key_A, CTRL)
            d.type(fields[key])
        d.key(Qt.Key.Key_Tab)
    v = job.sheet.vehicle
    assert seen == set(fields)
    assert (v.cylinders, v.bore_mm, v.stroke_mm, v.redline_rpm) == (4, 82.5, 92.71, 6800.0)
    assert view.vehicle.beside["stroke_mm"].text().startswith("1982 cm3")
    for number in range(1, 9):
        d.step(number)
        assert w.readings.cards, number
        assert not w.notice.isVisible()
    d.step(3)
    maps = w.view("maps")
    assert isinstance(maps, MapsView) and maps.stock.isVisible() and not maps.full.isVisible()
    assert not maps.stock.go.isEnabled()  # nothing is chosen yet
    maps.stock.read_unit("ptarmigan")
    d.idle()
    assert w.session.working_name() == "Stock" and maps.full.isVisible() and not maps.stock.isVisible()


def test_stock_from_files_wrong_ones_first(empty, tmp_path):
    from yarvic.bench.vehicles import layout_text, stock_image
    from yarvic.core.formats.images import image_to_hex

    d, w = empty, empty.window
    d.key(Qt.Key.Key_N, CTRL)
    d.type("Lapwing")
    d.key(Qt.Key.Key_Return)
    d.idle()
    d.step(3)
    form = w.view("maps").stock
    (tmp_path / "layout.toml").write_text(layout_text("wether"))
    (tmp_path / "image.hex").write_text(image_to_hex(stock_image("wether")))
    (tmp_path / "broken.toml").write_text("[[[")
    (tmp_path / "deep.toml").write_text("a = " + "[" * 5000)
    (tmp_path / "other.hex").write_text(image_to_hex(stock_image("ptarmigan")))
    (tmp_path / "short.bin").write_bytes(stock_image("wether")[:-9])
    damaged = bytearray(stock_image("wether"))
    damaged[20_000] ^= 1
    (tmp_path / "damaged.bin").write_bytes(damaged)

    def choose(layout, image):
        for field, name in ((form.description, layout), (form.image, image)):
            d.fill(field, str(tmp_path / name))
            d.key(Qt.Key.Key_Return)
        d.idle()

    for layout, image, words in (
        ("nowhere.toml", "image.hex", "nowhere.toml"),
        ("broken.toml", "image.hex", "TOML"),
        ("deep.toml", "image.hex", "deep.toml"),
        ("image.hex", "image.hex", "is no description of a memory but an image"),
        ("layout.toml", "layout.toml", "is text, no image of a memory"),
        ("layout.toml", "other.hex", "is 'ptarmigan-14', not 'wether-32'"),
        ("layout.toml", "short.bin", "9 too few"),
        ("layout.toml", "damaged.bin", "it is damaged, or the layout states another rule"),
    ):
        choose(layout, image)
        assert words in form.fault.text() and not w.session.job.has_maps, (layout, image, form.fault.text())
        assert not form.go.isEnabled()
    choose("layout.toml", "image.hex")
    d.click(form.go)
    d.idle()
    assert w.session.job.layout.family == "wether-32" and w.session.bench is not None


def test_names_that_are_taken_and_folders_that_are_none(empty, tmp_path):
    d, w = empty, empty.window
    new = w.view("job").new
    d.key(Qt.Key.Key_N, CTRL)
    d.key(Qt.Key.Key_Return)
    assert "needs a title" in new.fault.text() and w.session.job is None
    d.type("Lapwing")
    new.folder.setText("not/absolute")
    d.key(Qt.Key.Key_Return)
    d.idle()
    assert "no folder" in new.fault.text()
    new.folder.setText(str(tmp_path / "jobs"))
    d.key(Qt.Key.Key_Return)
    d.idle()
    assert w.session.job is not None
    w.new_job()
    d.type("Lapwing")
    new.folder.setText(str(tmp_path / "jobs"))
    d.key(Qt.Key.Key_Return)
    assert "there already" in new.fault.text()
    d.key(Qt.Key.Key_Escape)
    assert w.view("job").pages.currentWidget() is w.view("job").full


def test_a_slip_stands_beside_its_entry_and_is_not_kept(driver, job):
    session = driver.window.session
    bore = job.vehicle.fields["bore_mm"]
    write(driver, bore, "8000")
    assert "from 20 to 300 mm" in bore.fault.text() and bore.fault.isVisible()
    assert session.job.sheet.vehicle.bore_mm == 80.0 and bore.text() == "8000"
    driver.key(Qt.Key.Key_Escape)
    assert bore.text() == "80" and not bore.fault.isVisible()
    write(driver, bore, "81")
    assert session.job.sheet.vehicle.bore_mm == 81.0
    # What is kept is undone as a change of the sheet; what is being written, letter by letter.
    driver.key(Qt.Key.Key_Z, CTRL)
    assert session.job.sheet.vehicle.bore_mm == 80.0 and bore.text() == "80"
    write(driver, job.vehicle.fields["gearbox_torque_nm"], "tag 16")
    assert session.job.sheet.vehicle.gearbox_torque_nm == pytest.approx(2169.3)
    write(driver, job.vehicle.fields["fuels"], "RON 95 = water")
    assert "unknown" in job.vehicle.fields["fuels"].fault.text()


def test_a_station_is_chosen_by_click_and_by_keys_and_edited_in_place(driver, job):
    session = driver.window.session
    place = job.strip.places()["clutch"][1].center().toPoint()
    driver.click(job.strip, QPoint(place.x(), place.y()))
    assert job.strip.chosen == "clutch" and job.station.isVisible()
    write(driver, job.station.received, "twin plates")
    assert session.job.sheet.fitted["clutch"] == "twin plates"
    row = job.station.limits.rows[0]
    write(driver, row.stretch, "85")
    assert "above stretch" in row.stretch.fault.text()
    driver.key(Qt.Key.Key_Escape)
    write(driver, row.stretch, "99")
    assert next(m for m in session.job.sheet.limits if m.component == "clutch pack").stretch == 99.0
    job.strip.setFocus()
    driver.key(Qt.Key.Key_Left)
    assert job.strip.chosen == "gearbox"
    driver.key(Qt.Key.Key_Up)
    assert job.strip.chosen in ("exhaust_manifold", "turbine")
    driver.click(job.station.add)
    assert any(m.source == "to be stated" for m in session.job.sheet.limits)


def test_units_of_a_limit_change_with_its_numbers(driver, job):
    job.show_station("clutch")
    row = job.station.limits.rows[0]
    row._set("unit", "PS")
    limit = next(m for m in driver.window.session.job.sheet.limits if m.component == "clutch pack")
    assert limit.safe == pytest.approx(122.366, abs=0.01) and limit.moved_by[0].stretch == pytest.approx(
        163.155, abs=0.01
    )
    row._set("key", "torque")
    limit = next(m for m in driver.window.session.job.sheet.limits if m.component == "clutch pack")
    assert limit.unit == "N m" and limit.key == "torque"


def test_a_stop_blocks_the_flash_and_the_way_leads_back(driver, job):
    w = driver.window
    driver.rung("A1")
    job.show_panel("readiness")
    driver.settle()
    row = job.readiness.items.row("clutch")
    job.readiness.items.ensureWidgetVisible(row)
    driver.click(row.states["stop"])
    assert "needs its reason" in row.fault.text() and w.session.sheet.item("clutch").state == "pass"
    row.reason.setText("slips in fourth")
    driver.click(row.states["stop"])
    assert w.session.sheet.item("clutch").state == "stop"
    driver.step(4)
    count = len(w.session.job.flashes())
    driver.click(w.view("flash").write.go)
    driver.idle()
    assert len(w.session.job.flashes()) == count and "readiness" in w.notice.what.text()
    driver.click(w.notice.offer)
    assert w.session.settings.step == "job" and job.readiness.isVisible()
    driver.step(4)
    card = w.readings.cards[0]
    assert card.reading.severity == "stop" and "Clutch" in card.reading.sentence
    driver.click(card)
    assert w.session.settings.step == "job" and job.readiness.isVisible()


def test_a_number_decides_and_codes_come_from_the_unit(driver, job):
    session = driver.window.session
    job.show_panel("readiness")
    driver.settle()
    battery = job.readiness.items.row("battery")
    write(driver, battery.value, "11.9")
    assert session.sheet.item("battery").state == "stop" and battery.states["stop"].isChecked()
    write(driver, battery.value, "flat")
    assert "not a number" in battery.value.fault.text() and session.sheet.item("battery").value == 11.9
    session.bench.set_fault("failing_coil", 0.8)
    driver.click(job.readiness.items.row("fault_codes").codes)
    assert "P0300" in session.sheet.item("fault_codes").reason


def test_an_item_is_changed(driver, job):
    session = driver.window.session
    job.show_panel("readiness")
    driver.settle()
    form = job.readiness.form
    dict(job.readiness._changeable())["Battery"]()
    assert form.isVisible() and form.watch.text() == "12.4"
    for field, text, words in ((form.stop, "12.9", "watch must come before stop"), (form.unit, "ells", "unknown"),
                               (form.title, " ", "title"), (form.watch, "much", "not a number")):  # fmt: skip
        before = field.text()
        driver.fill(field, text)
        driver.key(Qt.Key.Key_Return)
        assert words in form.fault.text() and session.sheet.item("battery").measure.stop == 12.0
        field.setText(before)
    driver.fill(form.watch, "12.7")
    driver.key(Qt.Key.Key_Return)
    item = session.sheet.item("battery")
    assert not form.isVisible() and item.measure.watch == 12.7 and item.value == 12.6
    dict(job.readiness._changeable())["Oil and coolant"]()
    form.number.setText("oil low by")
    form.unit.setText("mm")
    form.watch.setText("5")
    form.stop.setText("15")
    form.source.setText("our choice")
    form.save()
    assert session.sheet.item("oil").by_number(20) == "stop"
    assert job.readiness.items.row("oil").value.isVisible()


def test_a_part_is_fitted_and_taken_off(driver, job):
    session = driver.window.session
    job.show_station("fuel")
    driver.settle()
    form = job.station.form
    assert form.part().key == "pump-cam" and form.cost.text() == "520"
    form.day.setText("18.3.")
    driver.click(form.go)
    assert "no date" in form.fault.text() and len(session.job.builds()) == 2
    form.day.setText("2024-03-18")
    form.odometer.setText("18,500")
    driver.click(form.go)
    build = session.job.builds()[-1]
    assert build.event.parts == ("pump-cam",) and build.event.odometer_km == 18500
    assert form.off.isVisible()
    driver.click(form.off)
    assert session.job.builds()[-1].event.removed == ("pump-cam",)
    job.show_panel("history")
    table = job.history.table
    assert table.rowCount() == 4 and table.item(2, 3).text() == "18,500 km"
    assert "Same part, new map" in job.history.tests.text()


def test_sheets_go_out_and_come_back(driver, job, tmp_path):
    session = driver.window.session
    job.write(tmp_path / "s.toml", job.session.job.sheet)
    before = session.job.sheet
    session.sheet.set_vehicle(bore_mm=90.0)
    session.sheet.drop_limit(before.limits[-1].name)
    job.read(tmp_path / "s.toml", job.session.request("importing"))
    driver.idle()
    assert session.job.sheet.vehicle == before.vehicle and session.job.sheet.limits == before.limits
    text = (tmp_path / "s.toml").read_text()
    for broken, words in (
        (text.replace("bore_mm = 80.0", "bore_mm = 8000.0"), "Bore 8,000 mm cannot be"),
        (text.replace("bore_mm = 80.0", "bore_mm = "), "line"),
        (text.replace("safe = 90.0", "safe = 990.0"), "safe is above stretch"),
        (text.replace('unit = "kPa"', 'unit = "N m"', 1), "measures torque"),
    ):
        (tmp_path / "broken.toml").write_text(broken)
        job.read(tmp_path / "broken.toml", job.session.request("importing"))
        driver.idle()
        assert words in driver.window.notice.what.text()
        assert session.job.sheet.vehicle == before.vehicle
    kept = session.job.path
    session.close_job()
    again = Job.open(kept)
    assert again.sheet.limits == before.limits
    again.close()


def test_templates_begin_a_job(driver, job, tmp_path):
    w = driver.window
    job._save_template()
    w.new_job()
    new = job.new
    titles = [text for text, _ in new._choices()]
    assert "Like Ptarmigan, which is open" in titles and "Template: ptarmigan" in titles
    dict(new._choices())["Template: ptarmigan"]()
    new.folder.setText(str(tmp_path / "other"))
    driver.fill(new.title, "Plover")
    driver.key(Qt.Key.Key_Return)
    driver.idle()
    sheet = w.session.job.sheet
    assert sheet.title == "Plover" and sheet.vehicle.bore_mm == 80 and not w.session.job.has_maps
    assert all(i.state == "" for i in sheet.readiness)


def test_the_strip_adapts(driver, demo_copy, job):
    for name, there, gone in (("fieldfare", "throttle", "turbine"), ("wether", "turbine", "nothing")):
        driver.open(demo_copy(name))
        assert there in job.strip.places() and gone not in job.strip.places()
        painted(job.strip)


def test_read_only_jobs_show_and_do_not_take(driver, job, demo_path):
    w = driver.window
    w.session.close_job()
    driver.open(Path(demo_path), read_only=True)
    assert job.vehicle.fields["bore_mm"].isReadOnly()
    job.show_station("fuel")
    assert not job.station.form.go.isEnabled()
    job.show_panel("readiness")
    assert not job.readiness.items.row("oil").states["stop"].isEnabled()
