"""Checks in the real window: a limit changed with a reason, the verdict that changes with it, and what findings point at."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from yarvic.core.checks.finding import STOP, WATCH


@pytest.fixture
def checks(driver):
    driver.rung("B1")
    driver.step(7)
    driver.idle()
    return driver.window.view("checks")


def verdict(driver, check):
    driver.idle()
    return {f.severity for p in driver.window.session.working_results().pulls for f in p.findings if f.check == check}


def test_a_limit_is_changed_with_a_reason_and_the_evidence_is_judged_anew(driver, checks):
    assert checks._finding.check == "knock_retard" and verdict(driver, "knock_retard") == {STOP}
    checks.matrix.setFocus()
    driver.key(Qt.Key.Key_L)
    form = checks.limit
    assert form.isVisible() and not checks.sheet.isVisible() and "knock retard" in form.about.text()
    for watch, stop, why, name, fault in (
        ("2.5", "4.5", "", "Rowan Sedge", "a reason"),
        ("2.5", "4.5", "race fuel", "", "somebody"),
        ("2.5", "450", "race fuel", "Rowan Sedge", "judges nothing"),
        ("4.5", "2.5", "race fuel", "Rowan Sedge", "watch must come before stop"),
        ("2.5", "4.5 kPa", "race fuel", "Rowan Sedge", "kPa"),
        ("", "4.5", "race fuel", "Rowan Sedge", "a number each"),
    ):
        for field, text in ((form.watch, watch), (form.stop, stop), (form.why, why), (form.name, name)):
            driver.fill(field, text) if text else field.clear()
        form.keep()
        assert fault in form.fault.text(), (fault, form.fault.text())
        assert driver.window.session.job.sheet.check_limits == ()
    driver.fill(form.watch, "2.5")
    driver.fill(form.stop, "4.5 deg")
    QTest.keyClick(form.stop, Qt.Key.Key_Return)
    assert verdict(driver, "knock_retard") == {WATCH}
    assert not form.isVisible() and checks.sheet.isVisible() and checks._finding.check == "knock_retard"
    finding = driver.window.session.working_results().pulls[0].findings
    source = next(f.rule.source for f in finding if f.check == "knock_retard")
    assert "race fuel" in source and "Rowan Sedge" in source
    assert any("Limit of knock retard" in entry.sentence for entry in driver.window.session.job.journal())
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert verdict(driver, "knock_retard") == {STOP} and driver.window.session.job.sheet.check_limits == ()


def test_a_limit_goes_back_to_what_ships(driver, checks):
    from yarvic.state.check_limits import set_limit

    session = driver.window.session
    set_limit(session, "knock_retard", ("2.5", "4.5"), "deg", "race fuel", "Rowan Sedge")
    assert verdict(driver, "knock_retard") == {WATCH}
    checks._change_limit()
    assert checks.limit.shipped.isVisible() and checks.limit.why.text() == "race fuel"
    driver.click(checks.limit.shipped)
    assert verdict(driver, "knock_retard") == {STOP}


def test_limits_of_components_are_not_changed_here(driver, checks):
    matrix = checks.matrix
    row = matrix.rows.index("boost_limit")
    matrix.choose(row, 0)
    assert not checks.to_limit.isEnabled()
    checks._change_limit()
    assert not checks.limit.isVisible()


def test_what_the_findings_point_at_is_said_with_the_next_look(driver, checks):
    words = checks.points_at.text()
    assert words.startswith("Points at: the spark is too far advanced for the fuel") and "Next look: " in words
    from yarvic.state.readings import readings

    assert any(r.sentence.startswith("Points at") for r in readings(driver.window.session, "checks"))
    driver.rung("A1")
    driver.idle()
    assert not checks.points_at.isVisible()


def test_a_leak_shows_against_the_first_pulls_of_the_same_maps(driver, checks):
    """Pulled on the bench with the fault switched on: nothing of it passes a limit of its own."""
    session = driver.window.session
    session.bench.set_fault("boost_leak", 0.5)
    session.pull(1)
    driver.idle()
    last = session.working_results().pulls[-1]
    assert last.held_against == "the first pulls of this revision"
    found = {f.check: f.severity for f in last.findings}
    assert found["boost_delay"] == WATCH and found["duty_rise"] == WATCH and found["boost_shortfall"] == "pass"
    assert last.causes(session.job.sheet.vehicle.asked).ranked[0].key == "boost_leak"
    matrix = checks.matrix
    matrix.choose(matrix.rows.index("duty_rise"), len(matrix.pulls) - 1)
    assert "against the first pulls of this revision" in checks.sentence.text()
    assert "the charge pipes leak" in checks.points_at.text()


def test_the_page_for_the_owner_is_read_and_saved(driver, checks, tmp_path):
    checks.matrix.setFocus()
    driver.key(Qt.Key.Key_O)
    assert checks.owner.isVisible() and not checks.sheet.isVisible()
    assert (
        "Do not drive it hard" in checks.owner.headline.text() and "licensed workshop" in checks.owner.caution.text()
    )
    checks.owner.save_as(tmp_path / "owner.pdf", checks.owner.page)
    assert (tmp_path / "owner.pdf").read_bytes().startswith(b"%PDF")
    driver.rung("A1")
    driver.idle()
    assert checks.owner.headline.text() == "Safe as logged."
    checks.owner.leave()
    assert checks.sheet.isVisible() and checks.sentence.isVisible()
