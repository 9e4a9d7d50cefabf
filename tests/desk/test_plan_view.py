"""Plan through the real window: dragging the target, the solver, ledger, stages and gate, ratings, sizing."""

import pytest
from pictures import painted
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from yarvic.core.plan.parts import library
from yarvic.core.plan.sizing import SHEETS
from yarvic.desk.views.plan import PlanView

SHIFT = Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def plan(driver):
    """The plan view of the demo."""
    driver.step(2)
    view = driver.window.view("plan")
    assert isinstance(view, PlanView)
    return view


def write(driver, field, text):
    driver.window.activateWindow()
    driver.fill(field, text)
    if not text:
        driver.key(Qt.Key.Key_Backspace)
    driver.key(Qt.Key.Key_Return)


def drag(driver, lanes, x0, x1, *, drop=True):
    """Press, move in steps, let go: as a hand does."""
    y = 60.0
    QTest.mousePress(lanes, Qt.MouseButton.LeftButton, pos=QPoint(round(x0), int(y)))
    for k in range(1, 6):
        at = QPointF(x0 + (x1 - x0) * k / 5, y)
        move = QMouseEvent(
            QMouseEvent.Type.MouseMove, at, lanes.mapToGlobal(at), Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )  # fmt: skip
        QApplication.sendEvent(lanes, move)
    if drop:
        QTest.mouseRelease(lanes, Qt.MouseButton.LeftButton, pos=QPoint(round(x1), int(y)))
    driver.settle()


def test_dragging_the_target_changes_the_weakest_link(driver, plan):
    session, lanes = driver.window.session, plan.lanes
    assert "clutch pack" in plan.target.headline.text()
    # Held over a band that begins low, the same power asks for torque: the gearbox becomes the weakest.
    write(driver, plan.target.low, "4000")
    assert "gearbox" in plan.target.headline.text()
    assert driver.window.readings.cards[0].reading.sentence == "Weakest link: gearbox"
    start = lanes.x_of(lanes.shown.target_mark())
    half = lanes.x_of(46e3)
    drag(driver, lanes, start, half, drop=False)
    # While it is dragged the headline follows, and nothing is kept.
    assert "clears" in plan.target.headline.text() and session.job.sheet.plan.target.value == 92.0
    QTest.mouseRelease(lanes, Qt.MouseButton.LeftButton, pos=QPoint(round(half), 60))
    driver.settle()
    assert session.job.sheet.plan.target.value == pytest.approx(46.0, abs=0.5)
    drag(driver, lanes, lanes.x_of(lanes.shown.target_mark()), lanes.x_of(100e3))
    assert session.job.sheet.plan.target.value == pytest.approx(100.0, abs=0.5)
    assert "gives way" in plan.target.headline.text()
    lanes.setFocus()
    driver.key(Qt.Key.Key_Right)
    driver.key(Qt.Key.Key_Left, SHIFT)
    assert session.job.sheet.plan.target.value == pytest.approx(91.0, abs=0.5)
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.job.sheet.plan.target.value == pytest.approx(101.0, abs=0.5)


def test_a_stage_is_dragged_and_esc_lets_go(driver, plan):
    session, lanes = driver.window.session, plan.lanes
    number, _, value = lanes.shown.stage_marks()[1]
    gain = session.job.sheet.plan.stages[number].gain_low_kw
    x = lanes.x_of(value)
    drag(driver, lanes, x, lanes.x_of(value + 10e3), drop=False)
    lanes.setFocus()
    driver.key(Qt.Key.Key_Escape)
    assert session.job.sheet.plan.stages[number].gain_low_kw == gain
    QTest.mouseRelease(lanes, Qt.MouseButton.LeftButton, pos=QPoint(int(x), 60))
    drag(driver, lanes, x, lanes.x_of(value + 5e3))
    assert session.job.sheet.plan.stages[number].gain_low_kw == pytest.approx(gain + 5.0, abs=0.3)


def test_axis_basis_and_what_is_planned(driver, plan):
    lanes, target = plan.lanes, plan.target
    shares = {lane.limit.component: lane.share for lane in lanes.shown.lanes()}
    wheel = lanes.shown.target_mark()
    driver.click(target.side)
    assert lanes.shown.target_mark() == pytest.approx(wheel / 0.868)
    driver.click(target.axis)
    # Where the bands end against the target says the same on every axis.
    for lane in lanes.shown.lanes():
        assert lane.share == pytest.approx(shares[lane.limit.component])
        at = lanes.shown.target_mark() / (lane.safe / 1.02)
        assert at == pytest.approx(lane.share, rel=1e-6)
    before = {lane.limit.component: lane.stretch for lane in lanes.shown.lanes()}
    driver.click(target.state)
    after = {lane.limit.component: lane.stretch for lane in lanes.shown.lanes()}
    assert after["gearbox"] > before["gearbox"] and after["clutch pack"] == before["clutch pack"]
    painted(driver.window.stack.currentWidget())


def test_the_solver_finds_explains_and_fills_a_stage(driver, plan):
    session, target = driver.window.session, plan.target
    write(driver, target.value, "105 kW")
    driver.click(target.solve_word)
    driver.idle()
    text = target.answer.text()
    assert "1. " in text and "clutch pack would give way" in text and "cr" in text
    driver.click(target.into)
    stage = session.job.sheet.plan.stages[-1]
    assert "lined-pack" in stage.parts and stage.title == "Stage 4"
    write(driver, target.value, "500")
    driver.click(target.solve_word)
    driver.idle()
    assert "No set of parts carries 500 kW" in target.answer.text() and "limited by" in target.answer.text()
    driver.click(target.use)
    assert session.job.sheet.plan.target.value < 130
    write(driver, target.budget, "600")
    driver.click(target.most)
    driver.idle()
    assert "kW at the wheel" in target.answer.text()


def test_targets_that_cannot_be_stand_beside_their_line(driver, plan):
    session, target = driver.window.session, plan.target
    before = session.job.sheet.plan.target
    for field, text, words in (
        (target.value, "-5", "greater than 0"),
        (target.value, "a lot", "not a number"),
        (target.value, "1e300", "less than or equal"),
        (target.value, "50 kPa", "measures pressure"),
        (target.low, "9000", "must rise"),
        (target.margin, "90", "margin"),
        (target.budget, "-1", "budget"),
    ):
        write(driver, field, text)
        assert words in field.fault.text(), text
        assert session.job.sheet.plan.target == before
        driver.key(Qt.Key.Key_Escape)
    write(driver, target.value, "240 N m")
    assert session.job.sheet.plan.target.quantity == "torque" and session.job.sheet.plan.target.value == 240
    write(driver, target.value, "")
    assert session.job.sheet.plan.target is None and not target.solve_word.isEnabled()


def test_without_the_loss_nothing_is_converted(driver, plan):
    session = driver.window.session
    session.sheet.set_vehicle(drivetrain_loss=None)
    driver.click(plan.target.side)
    assert plan.lanes.shown.basis == "wheel"
    plan.target._enter_basis("crank")
    driver.settle()
    assert "loss is not stated" in driver.window.notice.what.text().lower()
    limit = session.job.sheet.limits[0]
    session.sheet.save_limit(limit.model_copy(update={"basis": "crank"}), limit.name)
    assert any("drivetrain's loss" in c.reading.sentence for c in driver.window.readings.cards)
    assert limit.component in {m.component for m in plan.lanes.shown.hidden()}


def test_the_ledger_takes_limits_parts_and_kinds(driver, plan):
    session = driver.window.session
    plan.show_panel("limits")
    driver.settle()
    count = len(session.job.sheet.limits)
    driver.click(plan.limits.add_limit)
    assert len(session.job.sheet.limits) == count + 1
    row = plan.limits.limits.rows[-1]
    row._set("unit", "hp")
    assert session.job.sheet.limits[-1].safe == pytest.approx(134.1, abs=0.1)
    driver.click(plan.limits.add_part)
    part = plan.limits.parts.rows[-1]
    part._enter_title("Larger injector")
    part._enter_number("price", "120")
    pack = plan.limits.limits.row(("clutch pack", "power"))
    while not any(m.part == part.key for m in session.sheet.sheet.limits[0].moved_by):
        pack._add_mover()
    mover = pack.movers[-1]
    write(driver, mover.safe, "7.5")
    write(driver, mover.stretch, "8")
    assert (session.job.sheet.limits[0].moved_by[-1].safe, session.job.sheet.limits[0].moved_by[-1].stretch) == (
        7.5,
        8,
    )
    mover._set("how", "becomes")
    write(driver, mover.safe, "9")
    assert "above stretch" in mover.safe.fault.text() and session.job.sheet.limits[0].moved_by[-1].safe == 7.5
    driver.key(Qt.Key.Key_Escape)
    assert "clutch pack: becomes 7.5 to 8 kW" in part.summary.text()
    row._set("station", "fuel")
    assert session.job.sheet.limits[-1].station == "fuel"
    dict(part._related())["Incompatible with Hard charge pipe"]()
    assert session.sheet.part(part.key).excludes == ("hard-pipe",)
    part._save("caution", "hot")
    assert session.sheet.part(part.key).caution == "hot"
    part._remove()
    assert not any(m.part == part.key for x in session.job.sheet.limits for m in x.moved_by)
    plan.limits.add_kind(library()["diesel-five-heavy"])
    driver.settle()
    assert any(m.component == "injection pump" for m in session.job.sheet.limits)
    pump = plan.limits.parts.row("pump-cam")
    pump._remove()
    driver.settle()
    assert "Stage 3 needs" in driver.window.notice.what.text()


def test_stages_and_the_gate(driver, plan):
    w, session = driver.window, driver.window.session
    plan.show_panel("stages")
    driver.settle()
    rows = plan.stages.stages.rows
    assert (
        "Not fitted: High-pressure pump" in rows[2].summary.text()
        and "All that it requires" in rows[1].summary.text()
    )
    total = plan.stages.total.text()
    assert "planned +14.8 kW" in total and "a kW" in total and "measured so far" in total and "at 95 %" in total
    assert "Measured" in rows[1].bill.text() and "at 95 %" in rows[1].bill.text() and "cr a kW" in rows[1].bill.text()
    names = dict(rows[1]._revisions())
    names["B1 is not of this stage"]()
    dict(rows[2]._revisions())["B1 was made for this stage"]()
    driver.rung("B1")
    driver.step(8)
    cards = [c.reading.sentence for c in w.readings.cards]
    gate = {c.key: c for c in __import__("yarvic.state.release", fromlist=["x"]).gate_conditions(session)}
    assert not gate["prerequisites"].met and "High-pressure pump" in gate["prerequisites"].evidence and cards
    driver.step(2)
    driver.click(plan.stages.add)
    assert len(plan.stages.stages.rows) == 4
    write(driver, plan.stages.stages.rows[3].title, "Stage 1")
    assert "one title" in plan.stages.stages.rows[3].title.fault.text()
    driver.key(Qt.Key.Key_Escape)
    write(driver, plan.stages.stages.rows[3].low, "5")
    write(driver, plan.stages.stages.rows[3].high, "4")
    assert "must rise" in plan.stages.stages.rows[3].high.fault.text()
    driver.key(Qt.Key.Key_Escape)
    write(driver, plan.stages.rate, "100")
    assert "at 100" in plan.stages.total.text()


def test_ratings_are_for_diesels_and_refuse_with_reasons(driver, plan, demo_copy):
    w = driver.window
    assert plan.words["ratings"].isHidden()
    driver.open(demo_copy("wether"))
    plan.show_panel("ratings")
    driver.settle()
    cards = {c.move_.rating.key: c for c in plan.ratings.cards}
    assert cards["B"].state == "fitted here" and cards["D"].state == "refused" and cards["E"].state == "refused"
    driver.click(cards["D"])
    driver.wait("the way by parts", lambda: "being worked out" not in plan.ratings.beside.text())
    text = plan.ratings.beside.text()
    assert "gearbox carries" in text and not plan.ratings.here.isVisible()
    assert "add-on parts" in text and "gearbox calibration" in text
    driver.click(next(c for c in plan.ratings.cards if c.move_.rating.key == "C"))
    driver.wait("the way by parts", lambda: "being worked out" not in plan.ratings.beside.text())
    text = plan.ratings.beside.text()
    assert "by a file: 420 cr" in text and "435 cr for gearbox calibration" in text
    driver.click(plan.ratings.here)
    assert w.session.job.sheet.vehicle.rating == "C"
    w.session.sheet.set("none", families=())
    driver.settle()
    assert plan.ratings.empty.isVisible()


def test_every_sizing_sheet_lives(driver, plan):
    session = driver.window.session
    plan.show_panel("sizing")
    driver.settle()
    shown = [k for k, b in plan.sizing.names.items() if not b.isHidden()]
    assert "injectors" not in shown and "window" in shown and "cooler" in shown
    for key in shown:
        driver.click(plan.sizing.names[key])
        assert plan.sizing.key == key and plan.sizing.answer.text()
        x, y = plan.sizing.curve.getData()
        assert len(x) == len(y) > 10
    plan.sizing.choose("pump")
    before = plan.sizing.answer.text()
    write(driver, plan.sizing.fields["power"], "200")
    assert plan.sizing.answer.text() != before
    write(driver, plan.sizing.fields["reserve"], "500")
    assert "out of range" in plan.sizing.fields["reserve"].fault.text()
    driver.key(Qt.Key.Key_Escape)
    driver.click(plan.sizing.into)
    assert any(m.component == "fuel pump" for m in session.job.sheet.limits)
    assert session.job.sheet.plan.answers[0].sheet == SHEETS["pump"].title
    driver.click(plan.sizing.again)
    assert plan.sizing.values["power"] != 200e3
    session.choose_unit("power", "PS")
    driver.settle()
    assert plan.sizing.fields["power"].text() == f"{plan.sizing.values['power'] / 735.49875:.5g}"
    write(driver, plan.sizing.fields["power"], "200")
    assert plan.sizing.values["power"] == pytest.approx(200 * 735.49875)
    plan.sizing.choose("tank")
    write(driver, plan.sizing.fields["wanted"], "95")
    assert "not possible" in plan.sizing.answer.text() and not plan.sizing.into.isEnabled()


def test_an_empty_plan_says_what_it_waits_for(empty, tmp_path):
    d, w = empty, empty.window
    d.step(2)
    assert w.view("plan").empty.isVisible()
    d.key(Qt.Key.Key_N, Qt.KeyboardModifier.ControlModifier)
    d.type("Lapwing")
    d.key(Qt.Key.Key_Return)
    d.idle()
    d.step(2)
    plan = w.view("plan")
    assert "Write a target" in plan.target.headline.text()
    write(d, plan.target.value, "100")
    assert "No limit" in plan.target.headline.text()
    d.click(plan.target.solve_word)
    d.idle()
    assert "no limit for power or torque" in w.notice.what.text().lower()
    for panel in ("limits", "stages", "sizing"):
        plan.show_panel(panel)
        d.settle()
        painted(plan)
    plan.limits.add_kind(library()["petrol-turbo-four"])
    plan.show_panel("target")
    d.settle()
    # The limits of a kind stand at the crank, the target at the wheels: the loss between is asked for.
    assert "State the drivetrain loss" in plan.target.headline.text()
    w.session.sheet.set_vehicle(drivetrain_loss=12.0)
    d.settle()
    assert "Weakest link" in plan.target.headline.text()
