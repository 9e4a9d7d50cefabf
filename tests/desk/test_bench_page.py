"""The bench's page through the real window: reached, read, changed by keyboard, and seen in the evidence."""

import shutil

import pytest
from asking import choose
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QToolTip

from yarvic.bench.faults import FAULTS
from yarvic.desk.views.bench import BenchView


@pytest.fixture
def page(driver):
    """The page, opened from Dyno with its key."""
    driver.step(5)
    driver.rung("B1")
    driver.window.view("dyno").setFocus()
    driver.key(Qt.Key.Key_B)
    shown = driver.window.shown()
    assert isinstance(shown, BenchView)
    return shown


def enter(driver, field, value):
    """Type a value into a field and leave it."""
    field.setFocus()
    field.selectAll()
    driver.type(str(value))
    driver.key(Qt.Key.Key_Tab)


@pytest.mark.parametrize("step", [4, 5, 6])
def test_it_is_reached_from_flash_dyno_and_logs_and_leads_back(driver, step):
    driver.step(step)
    at = driver.window.session.settings.step
    view = driver.window.view(at)
    driver.click(view.bench_word)
    page = driver.window.shown()
    assert isinstance(page, BenchView) and at.capitalize() in page.back.text()
    driver.key(Qt.Key.Key_Escape)
    assert driver.window.shown() is view
    assert any(c.title.startswith("Bench") for c in driver.window._commands())
    # By its key from wherever the focus is, and back the same way; other steps have none.
    driver.window.ladder.setFocus()
    driver.key(Qt.Key.Key_B)
    assert driver.window.shown() is page
    driver.key(Qt.Key.Key_B)
    assert driver.window.shown() is view
    driver.step(1)
    driver.key(Qt.Key.Key_B)
    assert driver.window.shown() is driver.window.view("job")


def test_its_key_is_a_letter_where_words_are_typed(driver):
    driver.step(5)
    driver.key(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    driver.type("bob")
    assert driver.window.commands.search.text() == "bob"
    driver.key(Qt.Key.Key_Escape)
    assert driver.window.shown() is driver.window.view("dyno")


def test_it_says_that_all_of_it_is_simulated(page, driver):
    assert "simulated: no real vehicle, cell or day" in page.about.text()
    assert "Simulated weather" in page.day.summary.text()
    assert set(page.faults.lines) == {k for k, f in FAULTS.items() if "turbo petrol" in f.kinds}


def test_a_pull_has_what_was_typed(page, driver):
    enter(driver, page.temperature, 12)
    enter(driver, page.pressure, 96)
    enter(driver, page.humidity, 70)
    enter(driver, page.run_fields["throttle"], 60)
    enter(driver, page.run_fields["gear"], 3)
    enter(driver, page.fan, 40)
    choose(driver, page.dyno, "Simulated dyno 2")
    choose(driver, page.fuel, "Petrol RON 91")
    box, severity = page.faults.lines["bad_fuel"]
    driver.click(box)
    enter(driver, severity, 80)
    driver.key(Qt.Key.Key_Escape)
    view = driver.window.view("dyno")
    assert "injected faults: bad fuel 80 %" in view.about.text()
    driver.click(view.one)
    driver.idle()
    c = driver.window.session.job.evidence()[-1].conditions
    assert c.temperature_k == pytest.approx(285.15, abs=0.8) and c.pressure_pa == pytest.approx(96_000.0, abs=120.0)
    assert (c.throttle, c.gear, c.fan, c.fuel) == (pytest.approx(0.6), 3, pytest.approx(0.4), "petrol-91")
    assert c.dyno.startswith("simulated dyno 2") and c.faults == {"bad_fuel": pytest.approx(0.8)}
    # The table says how it was run; the curve of full pulls is not mixed with it.
    table = view.table
    assert "free, gear 3, 60 %; faults injected" in table.item(table.rowCount() - 1, 1).text()
    assert view.throttle.isVisible() and len(driver.window.session.working_results().curves("none")) == 3


def test_units_of_the_page_are_the_chosen_ones(page, driver):
    driver.window.session.choose_unit("temperature", "degF")
    driver.window.session.choose_unit("pressure", "psi")
    driver.settle()
    assert page.temperature.suffix() == " degF" and page.pressure.suffix() == " psi"
    enter(driver, page.temperature, 68)
    assert driver.window.session.bench.weather.air.temperature_k == pytest.approx(293.15)


def test_air_that_cannot_be_is_refused_in_place(page, driver):
    before = driver.window.session.bench.weather
    enter(driver, page.pressure, 14.5)  # psi typed where kPa is asked
    assert page.fault.isVisible() and "outside 200 to 1200 mbar" in page.fault.text()
    assert driver.window.session.bench.weather == before
    assert page.pressure.value() == pytest.approx(before.air.pressure_pa / 1e3, abs=0.1)
    enter(driver, page.pressure, 98)
    assert not page.fault.isVisible()


def test_a_number_is_read_as_in_every_other_field(page, driver):
    """A decimal comma is one; a comma that may be either changes nothing and is said; Esc or a letter neither."""
    enter(driver, page.temperature, "18,5")
    assert page.temperature.value() == 18.5 and page.temperature.text() == "18.5 degC"
    enter(driver, page.pressure, "1,013")
    assert page.pressure.value() != 1.013 and page.pressure.value() != 1013.0
    assert QToolTip.text() == "'1,013' may be 1013 or 1.013. Write 1013 or 1.013."
    enter(driver, page.temperature, "21 degC")
    assert page.temperature.value() == 21.0
    enter(driver, page.temperature, "warm")
    assert page.temperature.value() == 21.0 and "not a number" in QToolTip.text()


def test_fields_follow_the_kind_of_run(page, driver):
    assert page.run_fields["start_rpm"].isVisible() and not page.run_fields["grade"].isVisible()
    choose(driver, page.kind, "Climbing")
    assert page.run_fields["grade"].isVisible() and not page.run_fields["start_rpm"].isVisible()
    enter(driver, page.run_fields["climb_s"], 20)
    driver.key(Qt.Key.Key_Escape)
    driver.click(driver.window.view("dyno").one)
    driver.idle()
    assert driver.window.session.job.evidence()[-1].title == "B1 climb 4"
    driver.step(6)
    logs = driver.window.view("logs")
    logs.choose(3)
    titles = [t.lane.title for t in logs.tracks]
    assert "Speed over ground" in titles and "Gearbox" in titles and "Boost" in titles


def test_the_raw_knock_sensor_comes_into_the_log(page, driver):
    driver.click(page.knock)
    driver.key(Qt.Key.Key_Escape)
    driver.click(driver.window.view("dyno").one)
    driver.idle()
    log = driver.window.session.job.log(driver.window.session.job.evidence()[-1].id)
    assert log.channels["knock_signal_2"].values.size > 20_000
    driver.step(6)
    logs = driver.window.view("logs")
    logs.choose(3)
    assert "Knock sensor 2" in [t.lane.title for t in logs.tracks]


def test_a_wrong_image_shows_on_flash(page, driver):
    box, _ = page.faults.lines["wrong_image"]
    driver.click(box)
    driver.step(4)
    flash = driver.window.view("flash").write
    assert "blocks differ" in flash.summary.text() and len([s for s in flash.memory.states if s == "differs"]) > 2
    driver.step(5)
    driver.click(driver.window.view("dyno").one)
    driver.idle()
    assert driver.window.notice.isVisible()
    driver.key(Qt.Key.Key_Escape)
    driver.step(4)
    driver.click(flash.go)
    driver.idle()
    assert driver.window.session.bench.faults == {}
    assert "holds B1 already" in flash.summary.text()


def test_a_long_climb_can_be_cancelled(page, driver):
    choose(driver, page.kind, "Climbing")
    enter(driver, page.run_fields["climb_s"], 3600)
    driver.key(Qt.Key.Key_Escape)
    before = len(driver.window.session.job.evidence())
    driver.click(driver.window.view("dyno").one)
    driver.wait("progress", lambda: driver.window.status.progress.isVisible())
    driver.settle(300)
    driver.click(driver.window.status.cancel)
    driver.idle()
    assert len(driver.window.session.job.evidence()) == before
    assert "cancelled" in driver.window.status.message.text()


def test_a_held_speed_gives_a_number_with_its_spread(page, driver):
    choose(driver, page.kind, "At a held speed")
    enter(driver, page.run_fields["hold_rpm"], 4000)
    driver.key(Qt.Key.Key_Escape)
    view = driver.window.view("dyno")
    driver.click(view.one)
    driver.idle()
    said = view.table.item(3, 2).text()
    assert "±" in said and "kW held at 4,0" in said
    assert "held, gear 4, 100 %" in view.table.item(3, 1).text()


def test_four_throttles_in_one_go_each_with_its_own_curve(driver):
    driver.step(5)
    driver.rung("B1")
    view = driver.window.view("dyno")
    driver.click(view.sweep)
    driver.idle()
    assert [e.conditions.throttle for e in driver.window.session.job.evidence()[-4:]] == [0.25, 0.5, 0.75, 1.0]
    assert driver.window.session.bench.settings.throttle == 1.0
    choose(driver, view.throttle, "at 50 %")
    assert view.throttle.text().startswith("at 50 %")
    assert "B1 (working)" in view.peaks.text()


def test_the_usual_bench_comes_back_by_command(page, driver):
    driver.click(page.faults.lines["tired_pump"][0])
    choose(driver, page.kind, "At a held speed")
    next(c for c in page.commands() if c.title.startswith("Reset the bench")).action()
    driver.settle()
    bench = driver.window.session.bench
    assert bench.faults == {} and bench.settings.kind == "inertia"


def test_a_log_is_saved_in_each_style_and_read_back(driver, tmp_path):
    from evidence_files import read_log

    from yarvic.bench.loggers import STYLES

    driver.step(6)
    logs = driver.window.view("logs")
    for style in STYLES:
        path = tmp_path / f"{style}.csv"
        logs.saving.save_as(path, style, logs.shown())
        driver.idle()
        assert "is in" in driver.window.status.message.text()
        assert "boost_pressure" in read_log(path, stoichiometric_afr=14.6).channels
    logs.saving.save_as(tmp_path / "none" / "a.csv", "plain", logs.shown())
    driver.idle()
    assert driver.window.notice.isVisible()


@pytest.mark.parametrize("name", ["wether", "fieldfare"])
def test_the_other_demo_jobs_show_in_every_view(driver, demo_job, tmp_path, name):
    path = shutil.copy(demo_job(name), tmp_path / f"{name}.yarvic")
    driver.open(path)
    for step in range(1, 9):
        driver.step(step)
        driver.settle()
    driver.step(5)
    driver.window.open_bench()
    page = driver.window.shown()
    driver.settle()
    assert "stuck_shutters" not in page.faults.lines
    driver.window.resize(1024, 700)
    driver.settle()
    assert page.minimumSizeHint().width() <= page.width() + 1
