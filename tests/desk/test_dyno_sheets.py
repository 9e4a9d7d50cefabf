"""A dyno's sheet through the real window: dropped, asked, answered, corrected once, joined to its log, left out."""

import numpy as np
import pytest
from asking import choose
from PyQt6.QtCore import Qt
from test_import import drop, enter, log_text

from yarvic.core.job.file import verify
from yarvic.state.readings import readings

N = np.arange(1900.0, 6101.0, 100.0)
T = 150.0 * (1.0 - 0.5 * ((N - 3600.0) / 4200.0) ** 2)
P = T * N * 2.0 * np.pi / 60.0


def sheet_text(power=P, names="RPM,Power [kW],Torque [Nm]", above=""):
    rows = [f"{n:.0f},{p / 1e3:.2f},{t:.2f}" for n, p, t in zip(N, power, T, strict=True)]
    return above + "\n".join([names, *rows]) + "\n"


@pytest.fixture
def sheet(tmp_path):
    path = tmp_path / "dyno.csv"
    path.write_text(sheet_text())
    return path


@pytest.fixture
def page(driver, sheet):
    driver.rung("A1")
    assert drop(driver, sheet)
    return driver.window.shown()


def told(driver, page, basis="the wheels", by="nothing"):
    choose(driver, page.curve.basis, basis)
    choose(driver, page.curve.corrected, by)


def curves_of(driver):
    driver.idle()
    results = driver.window.session.working_results()
    return [p for p in results.pulls if p.evidence.is_sheet]


def test_what_a_sheet_does_not_say_is_asked_and_gives_no_curve(driver, page):
    assert page.curve.isVisible() and "wheels or stands for the crank" in page.curve.question.text()
    assert "gives no curve before" in page.pulls.text()
    assert page.show_conditions.text() == "Conditions: pressure, temperature, humidity unknown"
    driver.click(page.take)
    driver.idle()
    assert not curves_of(driver)
    (wrong,) = driver.window.session.working_results().problems[-1:]
    assert "gives no curve" in wrong.sentence and "wheels" in wrong.sentence


def test_a_sheet_over_roller_speed_is_answered_with_the_turns_of_the_engine(driver, tmp_path):
    rows = "\n".join(f"{n / 2.5:.2f},{p / 1e3:.2f}" for n, p in zip(N, P, strict=True))
    path = tmp_path / "roller.csv"
    path.write_text(f"Roller rpm,Power [kW]\n{rows}\n")
    driver.rung("A1")
    assert drop(driver, path)
    page = driver.window.shown()
    told(driver, page)
    assert "engine turns per roller turn" in page.curve.question.text() and not page.curve.ratio.isVisible()
    enter(driver, page.curve.turns, "a few")
    assert "no number of engine turns" in page.curve.turns.fault.text()
    enter(driver, page.curve.turns, "2.5")
    assert not page.curve.question.isVisible() and f"{P.max() / 1e3:.1f} kW" in page.pulls.text()
    driver.click(page.take)
    (curve,) = curves_of(driver)
    assert curve.evidence.is_sheet


def test_answered_imported_and_shown_by_what_is_known(driver, page):
    told(driver, page)
    assert not page.curve.question.isVisible()
    assert "At the wheel, uncorrected:" in page.pulls.text()
    driver.click(page.take)
    driver.window.session.choose_standard("none")
    (p,) = curves_of(driver)
    assert list(p.curves) == ["none"] and p.curves["none"].peak_power[0] == pytest.approx(P.max(), rel=3e-3)
    driver.step(5)
    dyno = driver.window.view("dyno")
    assert "At the wheel. Uncorrected" in dyno.factor.text() and "As its sheet gives it" in dyno.factor.text()
    driver.window.session.choose_standard("std")
    driver.settle()
    assert not driver.window.session.working_results().together(standard="std")[0].evidence.is_sheet
    # Weather that is stated later, from the table, lets the other standards stand; Ctrl+Z takes it back.
    row = next(r for r in range(dyno.table.rowCount()) if dyno.table.item(r, 0).text() == "dyno")
    dyno.table.selectRow(row)
    driver.settle()
    driver.click(dyno.chosen.conditions)
    driver.idle()
    again = driver.window.shown()
    again.turn_to(1)
    form = again.conditions
    for field, text in ((form.temperature, "24 C"), (form.humidity, "40"), (form.pressure, "1017 mbar")):
        enter(driver, field, text)
    assert "Say whether it is the station's" in form.pressure_said.text()
    choose(driver, form.at, "reduced")
    enter(driver, form.altitude, "500 m")
    assert form.pressure_said.text().startswith("95") and "at the station" in form.pressure_said.text()
    driver.click(again.take)
    driver.idle()
    (p,) = curves_of(driver)
    factor = 1013.25 / (p.evidence.conditions.pressure_pa / 100 - 11.93) * (297.15 / 288.7) ** 0.5  # SAE J607
    assert p.curves["std"].correction.factor == pytest.approx(factor, rel=1e-3)
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    driver.idle()
    (p,) = curves_of(driver)
    assert list(p.curves) == ["none"]
    assert not verify(driver.window.session.job.path).faults


def test_a_line_that_cannot_be_is_refused_beside_its_field(driver, page):
    page.turn_to(1)
    form = page.conditions
    for field, text in (
        (form.pressure, "2 fathoms"),
        (form.humidity, "140 %"),
        (form.gear, "99"),
        (form.dew, "12 C"),
    ):
        enter(driver, field, text)
        assert field.fault.text() and field.property("wrong"), text
        driver.key(Qt.Key.Key_Escape)
    assert page.arrivals.shown.answers.stated.unknown_air == ["pressure", "temperature", "humidity"]


def test_a_broken_identity_is_named_and_mended_by_the_unit(driver, tmp_path):
    driver.rung("A1")
    path = tmp_path / "ps.csv"
    path.write_text(sheet_text(P * 1e3 / 735.49875, "RPM,Power [kW],Torque [Nm]"))
    drop(driver, path)
    page = driver.window.shown()
    told(driver, page)
    assert "power fits PS and not kW" in page.curve.question.text()
    page.table.selectRow(1)
    driver.settle()
    choose(driver, page.answer.unit, "PS")
    assert not page.curve.question.isVisible()
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert "power fits PS" in page.curve.question.text()


def test_a_sheet_with_time_finds_the_pull_of_its_log(driver, tmp_path):
    driver.rung("A1")
    log = tmp_path / "tuesday.csv"
    log.write_text(log_text().replace("IAT,", "IAT (C),"))
    drop(driver, log)
    page = driver.window.shown()
    driver.click(page.take)
    driver.idle()
    # The same ten seconds, by the dyno's own clock: 1,800 to 6,200 rpm.
    t = np.arange(0.0, 9.5, 0.1)
    n = 1850.0 + 440.0 * t
    torque = np.interp(n, N, T)
    rows = [f"{a + 733:.1f},{b:.0f},{c * b * 2e-3 * np.pi / 60:.2f}" for a, b, c in zip(t, n, torque, strict=True)]
    sheet = tmp_path / "roller.csv"
    sheet.write_text("Time [s],RPM,Wheel power uncorrected [kW]\n" + "\n".join(rows) + "\n")
    drop(driver, sheet)
    page = driver.window.shown()
    assert (
        page.curve.joined.text().startswith("tuesday, pull 1") and "apart all along" in page.curve.joined_said.text()
    )
    driver.click(page.take)
    driver.idle()
    results = driver.window.session.working_results()
    (joined,) = [p for p in results.pulls if p.evidence.origin is not None]
    assert joined.title == "tuesday" and joined.curves["none"].peak_power[0] == pytest.approx(P.max(), rel=0.02)
    power = next(f for f in joined.findings if f.check == "power")
    assert power.value == pytest.approx(P.max(), rel=0.02) and power.where.time_s > 2.0
    # Taken apart again it stands alone, and is undone in one.
    run = next(e for e in driver.window.session.job.evidence() if e.is_sheet)
    driver.window.arrivals.read_anew(run, opened=driver.window.open_import)
    driver.idle()
    choose(driver, driver.window.shown().curve.joined, "of no log")
    driver.click(driver.window.shown().take)
    driver.idle()
    assert len([p for p in driver.window.session.working_results().pulls if p.evidence.origin is not None]) == 2
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    driver.idle()
    assert len([p for p in driver.window.session.working_results().pulls if p.evidence.origin is not None]) == 1


def test_a_curve_of_the_crank_is_held_against_no_limit_of_the_wheels(driver, page):
    told(driver, page, "the crank")
    driver.click(page.take)
    (p,) = curves_of(driver)
    assert p.basis == "crank"
    power = next(f for f in p.findings if f.check == "power")
    assert power.severity == "no_data" and "at the wheels, the curve is at the crank" in power.note
    results = driver.window.session.working_results()
    assert all(not q.evidence.is_sheet for q in results.together() if q is not p) or results.together() == [p]


def test_a_sheet_is_left_out_and_no_gain_is_of_file_and_bench(driver, page):
    told(driver, page)
    driver.click(page.take)
    driver.idle()
    driver.step(5)
    driver.rung("Stock", reference=True)
    driver.idle()
    session = driver.window.session
    session.choose_standard("none")
    sentences = [r.sentence for r in readings(session, "dyno")]
    assert any(s.startswith("No gain of A1") for s in sentences) and "Gain of A1 over Stock" not in str(sentences)
    dyno = driver.window.view("dyno")
    row = next(r for r in range(dyno.table.rowCount()) if dyno.table.item(r, 0).text() == "dyno")
    dyno.table.selectRow(row)
    driver.settle()
    driver.click(dyno.chosen.aside.word)
    enter(driver, dyno.chosen.aside.reason, "strap slipped")
    assert not curves_of(driver)
    driver.step(6)
    assert driver.window.view("logs").left_out.isVisible()


def test_sheets_stand_in_no_list_of_traces(driver, page):
    told(driver, page)
    driver.click(page.take)
    driver.idle()
    driver.step(6)
    logs = driver.window.view("logs")
    assert "dyno" not in [title for title, _ in logs._choices()]
    driver.step(7)
    assert "dyno" in [p.title for p in driver.window.session.working_results().pulls]


def test_what_stands_beside_a_curve_is_drawn_over_engine_speed(driver, tmp_path):
    driver.rung("A1")
    path = tmp_path / "rich.csv"
    rows = [f"{n:.0f},{p / 1e3:.2f},0.86,{40 + n / 500:.1f}" for n, p in zip(N, P, strict=True)]
    path.write_text("RPM,Wheel power uncorrected [kW],Lambda,IAT [C]\n" + "\n".join(rows) + "\n")
    drop(driver, path)
    driver.click(driver.window.shown().take)
    driver.idle()
    driver.step(6)
    logs = driver.window.view("logs")
    titles = [title for title, _ in logs._choices()]
    logs.choose(titles.index("rich"))
    driver.settle()
    assert [t.lane.title for t in logs.tracks] == ["Engine speed", "Charge temperature", "Lambda"]
    logs.move_cursor(4000.0)
    assert logs.reading.text() == "4,000 rpm"
    run = next(e for e in driver.window.session.job.evidence() if e.is_sheet)
    driver.window.arrivals.set_aside(run, 0, "strap slipped")
    driver.idle()
    assert not curves_of(driver)  # a curve is left out whole


def test_a_standard_that_needs_unknown_air_says_so_in_place_of_a_curve(driver, tmp_path):
    """The only curve of a revision was measured in weather that nobody states."""
    session = driver.window.session
    driver.rung("A1")
    for run in session.job.runs_of(session.working):
        driver.window.arrivals.set_aside(run, None, "another day")
    path = tmp_path / "dyno.csv"
    path.write_text(sheet_text())
    drop(driver, path)
    page = driver.window.shown()
    told(driver, page)
    driver.click(page.take)
    driver.idle()
    driver.step(5)
    session.choose_standard("sae-j1349")
    driver.settle()
    dyno = driver.window.view("dyno")
    assert dyno.table.isVisible() and not dyno.empty.isVisible()
    assert dyno.peaks.text().startswith("A1 (working): no number by SAE J1349, its air")
    assert "No number by SAE J1349" in [r.sentence for r in readings(session, "dyno")]
    session.choose_standard("none")
    driver.settle()
    assert "kW at" in dyno.peaks.text()


def test_a_joined_curve_takes_the_logs_throttle_and_does_not_vanish_with_its_pull(driver, tmp_path):
    driver.rung("A1")
    log = tmp_path / "half.csv"
    # Half throttle all along the pull: a sheet that supposes full throttle changes nothing of it.
    lines = [line.split(",") for line in log_text().replace("IAT,", "IAT (C),").splitlines()]
    half = [[*f[:2], "50" if f[2] == "100" else f[2], *f[3:]] for f in lines]
    log.write_text("\n".join(",".join(f) for f in half) + "\n")
    drop(driver, log)
    driver.click(driver.window.shown().take)
    driver.idle()
    (run,) = [e for e in driver.window.session.job.evidence() if e.origin is not None]
    sheet = tmp_path / "dyno.csv"
    sheet.write_text(sheet_text())
    drop(driver, sheet)
    page = driver.window.shown()
    told(driver, page)
    driver.window.arrivals.join(run.id, 0)
    driver.click(page.take)
    driver.idle()

    def outside():
        driver.idle()
        return [p for p in driver.window.session.working_results().pulls if p.evidence.origin is not None]

    (joined,) = outside()
    assert joined.throttle == 0.5 and joined.curves and joined.sheet is not None
    driver.window.arrivals.set_aside(run, 0, "wheels slipped")
    (alone,) = outside()
    assert alone.evidence.is_sheet and alone.curves
    assert any("stands alone" in p.sentence for p in driver.window.session.working_results().problems)
