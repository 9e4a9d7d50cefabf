"""Logs in the real window: cursors, channels, computed ones, pulls laid over each other, events, marks, what is saved."""

import csv

import numpy as np
import pytest
from PyQt6.QtCore import Qt

from yarvic.core.job.store import Job
from yarvic.desk.views.logs.figures import KNOCK
from yarvic.state.log_panes import Computed, Panes, computed_of, kept_panes, with_computed

SHIFT = Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def logs(driver):
    driver.rung("B1")
    driver.step(6)
    driver.idle()
    view = driver.window.view("logs")
    view.setFocus()
    return view


def titles(view):
    return [t.lane.title for t in view.tracks]


def test_a_second_cursor_says_what_lies_between(driver, logs):
    logs.move_cursor(3.0)
    driver.key(Qt.Key.Key_S)
    logs.move_cursor(6.0)
    boost = logs.tracks[1].readout.text
    log, start = logs.shown().log, logs.shown().pull.start_s
    first, last = log.at("boost_pressure", np.array([start + 3.0, start + 6.0])) / 1e3
    assert f"\u0394 {last - first:+.1f}, mean" in boost and "+3.00 s from the second" in logs.reading.text()
    assert logs.tracks[1].anchor.isVisible() and logs.tracks[1].anchor.value() == pytest.approx(3.0)
    # Another axis: both stay where they were in the log.
    driver.key(Qt.Key.Key_X)
    assert logs.tracks[0].anchor.value() == pytest.approx(
        float(log.at("engine_speed", np.array([start + 3.0]))[0]), rel=0.01
    )
    driver.key(Qt.Key.Key_X)
    assert logs.tracks[0].cursor.value() == pytest.approx(6.0, abs=0.05)
    driver.key(Qt.Key.Key_S)
    assert not logs.tracks[0].anchor.isVisible() and "\u0394" not in logs.tracks[1].readout.text


def test_channels_are_chosen_by_typing_and_kept_with_the_job(driver, logs):
    before = titles(logs)
    driver.key(Qt.Key.Key_C)
    driver.type("wastegate")
    driver.key(Qt.Key.Key_Return)
    assert titles(logs) == [*before, "Wastegate duty"]
    logs.setFocus()
    driver.key(Qt.Key.Key_C)
    driver.type("engine speed")
    driver.key(Qt.Key.Key_Return)
    assert titles(logs) == [*before[1:], "Wastegate duty"]
    path = driver.window.session.job.path
    kept = Job.open(path, read_only=True)
    assert kept_panes(kept).panes[-1] == ("wastegate_duty",)
    kept.close()

    def listed(words):
        logs.setFocus()
        driver.key(Qt.Key.Key_C)
        driver.type(words)
        return {title: act for title, act in logs.finder.list._shown}

    listed("wastegate")["Wastegate duty: its pane up"]()
    assert titles(logs)[-2] == "Wastegate duty"
    listed("twice [kPa] = 2 * boost_pressure[kPa]")["Compute twice and draw it"]()
    assert titles(logs)[-1] == "twice"
    listed("twice")["twice: forget it"]()
    assert "twice" not in titles(logs) and not any("twice" in t for t in listed("twice"))
    logs.finder.as_usual()
    assert titles(logs) == before


def test_a_computed_channel_is_typed_drawn_and_read(driver, logs):
    driver.key(Qt.Key.Key_C)
    driver.type("short of target [kPa] = boost_target[kPa] - boost_pressur[kPa]")
    assert (
        not logs.finder.list._shown and "boost_pressur" in logs.finder.list.count.text()
    ) or logs.finder.list._shown
    logs.finder.list.search.setText("short of target [kPa] = boost_target[kPa] -")
    assert "missing" in logs.finder.list.count.text()
    logs.finder.list.search.setText("short of target [kPa] = boost_target[kPa] - boost_pressure[kPa]")
    driver.key(Qt.Key.Key_Return)
    assert titles(logs)[-1] == "short of target"
    logs.move_cursor(4.0)
    log, at = logs.shown().log, np.array([logs.shown().pull.start_s + 4.0])
    wanted = float((log.at("boost_target", at) - log.at("boost_pressure", at))[0]) / 1e3
    assert f"{wanted:.4g} kPa" in logs.tracks[-1].readout.text
    # A log without one of its channels says so, and draws what is left.
    _, faults = with_computed(log.cut(0.0, 1.0), [Computed(title="x", expression="smoke * 2")])
    assert "smoke was not logged" in faults[0]


def test_what_is_typed_is_an_expression_only_behind_one_equals_sign():
    made = computed_of("duty for boost [1/kPa] = wastegate_duty / boost_pressure[kPa]")
    assert (made.title, made.unit) == ("duty for boost", "1/kPa") and made.key == "computed duty for boost"
    assert computed_of("boost") is None and computed_of("a == b") is None and computed_of("= 2") is None
    assert Panes().toggled("a", [("a",), ("b", "c")]).panes == (("b", "c"),)
    assert Panes().moved(1, -1, [("a",), ("b",)]).panes == (("b",), ("a",))
    assert Panes().moved(0, -1, [("a",), ("b",)]) == Panes()
    assert Panes().with_computed(made, [("a",)]).without_computed("duty for boost").computed == ()


def test_pulls_are_drawn_over_each_other(driver, logs):
    def behind():
        return sum(g.getData()[0] is not None and g.getData()[0].size > 0 for g in logs.tracks[1]._ghosts)

    assert behind() == 1
    driver.key(Qt.Key.Key_A)
    assert behind() == 3 and "B1 pull 2, B1 pull 3" in logs.caption.text()
    for way in ("throttle", "speed", "fit", "start"):
        logs.laying.choose_way(way)
        assert behind() == 3, way
    logs.laying.choose_way("speed")
    # At the speed on which they are laid all of them pass nought.
    for curve in logs.tracks[0]._ghosts:
        x, y = curve.getData()
        middle = 0.5 * (logs.shown().pull.from_rpm + logs.shown().pull.to_rpm)
        assert np.interp(0.0, x, y) == pytest.approx(middle, rel=0.01)
    driver.key(Qt.Key.Key_G)
    assert behind() == 2


def test_over_distance_the_axis_is_the_integral_of_speed(driver, logs):
    logs.by_distance.click()
    x, _ = logs.tracks[1]._main[0].getData()
    log, pull = logs.shown().log, logs.shown().pull
    speed = log.channel("vehicle_speed")
    inside = (speed.time_s >= pull.start_s) & (speed.time_s <= pull.end_s)
    way = np.trapezoid(speed.values[inside], speed.time_s[inside])
    low, high = logs.traces.shown.laid.pull_ends()
    assert high - low == pytest.approx(way, rel=0.01) and np.isfinite(x).any()


def test_events_follow_each_other_and_marks_are_among_them(driver, logs):
    session = driver.window.session
    logs.move_cursor(0.5)
    driver.key(Qt.Key.Key_N)
    first = logs.time_at_cursor()
    driver.key(Qt.Key.Key_N)
    assert logs.time_at_cursor() > first
    driver.key(Qt.Key.Key_N, SHIFT)
    assert logs.time_at_cursor() == pytest.approx(first, abs=0.03)
    logs.move_cursor(1.0)
    driver.key(Qt.Key.Key_M)
    assert "B1 pull 1 at 1.00 s" in logs.marking.about.text()
    # Another pull is chosen meanwhile: the mark was begun for the first, and is dropped with its strip.
    logs.choose(1)
    assert not logs.marking.isVisible() and logs.marking.markers() == []
    logs.choose(0)
    logs.move_cursor(1.0)
    logs.setFocus()
    driver.key(Qt.Key.Key_M)
    driver.type("the pedal sticks here")
    driver.key(Qt.Key.Key_Return)
    (mark,) = logs.marking.markers()
    assert mark.text == "the pedal sticks here" and mark.name == "Rowan Sedge" and mark.end_s is None
    assert session.settings.step == "logs"
    logs.move_cursor(0.5)
    logs.setFocus()
    driver.key(Qt.Key.Key_N)
    assert "marked: the pedal sticks here" in driver.window.status.message.text()
    assert any("marked at" in e.sentence for e in session.job.journal())
    copy = Job.open(session.job.path, read_only=True)
    assert any(e.markers for e in copy.evidence())
    copy.close()
    logs.setFocus()
    driver.key(Qt.Key.Key_M)
    (choice,) = logs.marking._marks()
    choice[1]()
    assert logs.marking.markers() == []


def test_a_part_and_a_picture_are_saved(driver, logs, tmp_path):
    logs.move_cursor(3.0)
    driver.key(Qt.Key.Key_S)
    logs.move_cursor(5.0)
    assert all("Between the cursors" in t for t, _ in logs.saving._styles()[:-1])
    logs.saving.save_as(tmp_path / "part.csv", "plain", logs.shown())
    driver.idle()
    rows = list(csv.reader((tmp_path / "part.csv").open()))
    times = np.array([float(r[0]) for r in rows[1:]])
    assert times[-1] - times[0] == pytest.approx(2.0, abs=0.05)
    logs.saving.save_picture(tmp_path / "traces.png", logs.picture())
    assert (tmp_path / "traces.png").read_bytes().startswith(b"\x89PNG")


def test_the_raw_knock_signal_is_seen_over_engine_speed_and_saved_slowed_down(driver, logs, tmp_path):
    session = driver.window.session
    assert KNOCK not in logs.figures.can(logs.shown()), "none was recorded"
    logs.setFocus()
    driver.key(Qt.Key.Key_K)
    assert logs.traces.isVisible() and "nothing of it was logged" in driver.window.status.message.text()
    session.bench.set_run(knock_signal=True)
    session.pull(1)
    driver.idle()
    logs.choose(3)
    assert KNOCK in logs.figures.can(logs.shown())
    logs.setFocus()
    driver.key(Qt.Key.Key_K)
    driver.idle()
    logs.knock.choose(2)
    driver.idle()
    words = logs.knock.words.text()
    assert logs.knock.isVisible() and not logs.traces.isVisible()
    assert "B1 pull 4, cylinder 2:" in words and "cycles knock" in words and "6.1 to 7.8 kHz" in words
    assert "By cylinder 1: " in words and ", 2: " in words and "By cell of " in words
    assert logs.knock.image.image is not None and logs.knock.knocks.data.size > 3
    logs.knock.save_as(tmp_path / "k.wav", logs.shown(), 2)
    assert (tmp_path / "k.wav").read_bytes().startswith(b"RIFF")
    # Another is chosen while one is still listened to: it is listened to next, and the first is never shown for it.
    logs.knock.choose(1)
    assert session.busy is not None
    logs.knock.choose(3)
    assert "is listened to then" in logs.knock.words.text()
    driver.idle()
    assert "B1 pull 4, cylinder 3:" in logs.knock.words.text()
    logs.choose(0)
    assert logs.traces.isVisible() and not logs.knock.isVisible()


def test_one_channel_stands_over_another_and_a_click_leads_to_the_traces(driver, logs):
    logs.setFocus()
    driver.key(Qt.Key.Key_V)
    over = logs.figures.over
    assert over.isVisible() and not logs.traces.isVisible() and not logs.by_speed.isEnabled()
    assert over.words["y"].text().startswith("Boost pressure") and "1,002 points" in over.caption.text()
    driver.click(over.words["y"])
    driver.type("exhaust")
    driver.key(Qt.Key.Key_Return)
    assert over.words["y"].text().startswith("Exhaust temperature")
    at = int(np.argmax(over.points.y))
    over.pick(at)
    assert "degC" in over.at.text() and "rpm" in over.at.text()
    over._follow()
    assert logs.time_at_cursor() == pytest.approx(over.points.time_s[at])
    before = over.points.of
    driver.click(over.whole)
    assert over.points.of > before
    # It is kept with the job, and a pull that lacks it shows what is usual.
    driver.window.session.go("checks")
    driver.window.session.go("logs")
    assert over.over.y == "exhaust_temperature"
    driver.key(Qt.Key.Key_V)
    assert logs.traces.isVisible() and logs.by_speed.isEnabled()


def test_cylinders_stand_side_by_side_of_one_pull_or_of_all(driver, logs):
    logs.setFocus()
    driver.key(Qt.Key.Key_Y)
    grid = logs.figures.cylinders.grid
    assert grid.isVisible() and grid.table.cylinders == (1, 2, 3)
    own = logs.shown().log.channel("spark_correction_2")
    inside = (own.time_s >= logs.shown().pull.start_s) & (own.time_s <= logs.shown().pull.end_s)
    assert grid.table.whole[1] == own.values[inside].min()
    one = grid.table.whole.copy()
    driver.click(logs.all_pulls)
    assert (grid.table.whole <= one).all() and "3 pulls together" in logs.figures.cylinders.words.text()
    logs.figures.cylinders.choose_way("mean")
    assert "mean spark correction" in logs.figures.cylinders.words.text()
    assert "cylinder 2" in grid.accessibleDescription()


def between(driver, logs, start, end):
    """Put the two cursors at times of the log."""
    logs.move_to_time(start)
    if logs.second.isChecked():
        driver.click(logs.second)
    driver.click(logs.second)
    logs.move_to_time(end)


def act_on(logs, words):
    return next(do for title, do in logs._choices() if words in title)


def test_a_pull_is_judged_between_the_cursors_kept_and_undone(driver, logs):
    session, shown = driver.window.session, logs.shown()
    before = shown.findings
    start, end = shown.pull.start_s + 4.0, shown.pull.end_s - 1.0
    between(driver, logs, start, end)
    act_on(logs, "Judge it between the cursors")()
    driver.idle()
    now = logs.shown()
    assert now.pull.start_s == pytest.approx(start, abs=0.02) and now.pull.end_s == pytest.approx(end, abs=0.02)
    assert now.pull.from_rpm > shown.pull.from_rpm and now.findings != before
    assert "ends were set by hand" in logs.caption.text()
    run = next(e for e in session.job.evidence() if e.id == shown.evidence.id)
    assert run.spans == {0: (now.pull.start_s, now.pull.end_s)}
    assert "is judged from" in session.job.journal()[-1].sentence
    act_on(logs, "as it was found")()
    driver.idle()
    assert logs.shown().findings == before
    driver.window.activateWindow()
    logs.setFocus()
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    driver.idle()
    assert logs.shown().pull.start_s == pytest.approx(start, abs=0.02)
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    driver.idle()
    assert logs.shown().findings == before and not session.job.evidence()[0].spans


def test_what_is_no_rise_of_engine_speed_is_no_pull(driver, logs):
    shown, said = logs.shown(), []
    driver.window.session.failed.connect(lambda error: said.append(str(error)))
    if logs.second.isChecked():
        driver.click(logs.second)
    act_on(logs, "put the second")()
    assert logs.second.isChecked() and logs.shown().pull == shown.pull
    between(driver, logs, shown.pull.end_s - 0.1, shown.pull.end_s + 1.0)
    act_on(logs, "Judge it between the cursors")()
    driver.idle()
    assert said and "a pull sweeps" in said[0] and logs.shown().pull == shown.pull
    said.clear()
    between(driver, logs, shown.pull.start_s, shown.pull.start_s + 0.2)
    act_on(logs, "Judge it between the cursors")()
    assert "are no pull" in said[0]


def test_a_channel_goes_into_the_pane_above_and_out_again(driver, logs):
    """Two pressures share a pane where they are of one quantity; a temperature is not offered one of pressures."""
    logs.finder._toggle("boost_target")
    logs.finder._toggle("ambient_temperature")

    def offered(words, text):
        found, _ = logs.finder._found(text)
        return [do for title, do in found if words in title]

    keys = [track.lane.keys for track in logs.tracks]
    assert keys[-2:] == [("boost_target",), ("ambient_temperature",)]
    assert not offered("pane above", "ambient temp")
    while logs.tracks[[t.lane.keys for t in logs.tracks].index(("boost_target",)) - 1].lane.keys != (
        "boost_pressure",
    ):
        offered("its pane up", "boost target")[0]()
    offered("pane above", "boost target")[0]()
    (both,) = [t for t in logs.tracks if t.lane.keys == ("boost_pressure", "boost_target")]
    logs.move_cursor(4.0)
    assert both.readout.text.count("kPa") == 1 and " / " in both.readout.text
    assert "Of several in a pane in turn" in logs.caption.text()
    offered("pane of its own", "boost target")[0]()
    assert ("boost_target",) in [t.lane.keys for t in logs.tracks]
