"""A log from outside through the real window: dropped, answered, assigned, judged, corrected, undone."""

import gzip
import hashlib
import os
import shutil
from pathlib import Path
from urllib.parse import quote

import pytest
from asking import choose
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QApplication

from yarvic.core.formats.mapping_file import read_mapping
from yarvic.core.job.file import verify
from yarvic.desk.views.importing import ImportView
from yarvic.desk.views.importing.columns import DOUBT

HEAD = "Time,RPM,TPS,Boost (mbar),IAT,AFR,Ignition correction cyl 2,Cup holder\n"


def log_text(rows=280):
    lines = []
    for i in range(rows):
        t = i / 20.0
        pulls = 2.0 <= t <= 12.0
        speed = 1800 + 440 * (t - 2.0) if pulls else 1800
        boost = min(120 * (t - 2.0), 880) - i % 3 if pulls else -520
        lines.append(
            f"{t:.2f},{speed:.0f},{100 if pulls else 15},{boost:.0f},{32 + t:.1f},{12.8 + i % 3 / 50 if pulls else 14.7},0,7"
        )
    return HEAD + "\n".join(lines) + "\n"


@pytest.fixture
def log(tmp_path):
    path = tmp_path / "tuesday.csv"
    path.write_text(log_text())
    return path


def drop(driver, *paths):
    """Drop files in the middle of the window, as a file browser does."""
    return drop_addresses(driver, [QUrl.fromLocalFile(str(p)) for p in paths])


def drop_addresses(driver, addresses):
    data = QMimeData()
    data.setUrls(addresses)
    actions, buttons, keys = Qt.DropAction.CopyAction, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    enter = QDragEnterEvent(QPoint(600, 400), actions, data, buttons, keys)
    QApplication.sendEvent(driver.window, enter)
    if enter.isAccepted():
        QApplication.sendEvent(driver.window, QDropEvent(QPointF(600, 400), actions, data, buttons, keys))
    driver.settle()
    driver.idle()
    return enter.isAccepted()


@pytest.fixture
def page(driver, log):
    driver.rung("A1")
    assert drop(driver, log)
    shown = driver.window.shown()
    assert isinstance(shown, ImportView)
    return shown


def rows(page):
    model = page.table.columns
    return [[model.data(model.index(r, c)) for c in range(DOUBT + 1)] for r in range(model.rowCount())]


def in_hand(driver, page, name):
    at = next(n for n, r in enumerate(rows(page)) if r[0].startswith(name))
    page.table.selectRow(at)
    driver.settle()


def enter(driver, field, text):
    field.setFocus()
    field.selectAll()
    driver.type(text)
    driver.key(Qt.Key.Key_Return)


def answer_all(driver, page):
    in_hand(driver, page, "IAT")
    choose(driver, page.answer.unit, "degC")
    enter(driver, page.barometer, "970 mbar")
    choose(driver, page.fuel, "Petrol RON 95")


def findings(driver):
    driver.idle()
    results = driver.window.session.working_results()
    mine = [p for p in results.pulls if p.evidence.origin is not None]
    return mine, {f.check: f for p in mine for f in p.findings}


def test_doubt_stands_first_with_its_reason(driver, page):
    found = rows(page)
    assert [r[0] for r in found[:3]] == ["IAT", "Boost (mbar)", "AFR"]
    assert found[0][3] == "?" and "degC or degF" in found[0][4]
    assert "no barometer" in found[1][4] and "fuel" in found[2][4]
    assert found[-1][2] == "left aside" and "unknown" in found[-1][4]
    assert (
        "3 columns are in doubt" in page.pulls.text() and "1 pull was found: 1,800 to 6,200 rpm" in page.pulls.text()
    )
    assert page.build.text().startswith("build 1")  # where A1's other pulls were made
    assert page.revision.text().startswith("A1") and driver.window.session.settings.step == "logs"


def test_dropped_answered_imported_judged_corrected_and_undone(driver, page, log):
    window, job = driver.window, driver.window.session.job
    before = len(job.evidence())
    answer_all(driver, page)
    assert "in doubt" not in page.pulls.text()
    driver.click(page.take)
    mine, found = findings(driver)
    assert len(job.evidence()) == before + 1 and len(mine) == 1
    run = mine[0].evidence
    assert run.origin.name == "tuesday.csv" and run.revision_id == window.session.working
    assert found["boost_limit"].value == pytest.approx(97e3 + 88e3, abs=200.0)
    assert found["charge_rise"].value == pytest.approx(10.0, abs=0.3)
    # A unit is corrected: the numbers in the file stay, the finding is another.
    driver.key(Qt.Key.Key_Escape)
    view = window.view("logs")
    view.at = window.session.working_results().pulls.index(mine[0])
    view.refresh()
    driver.settle()
    driver.click(view.run.conditions)
    driver.idle()
    assert window.shown() is page and page.take.text() == "Read it so"
    in_hand(driver, page, "IAT")
    choose(driver, page.answer.unit, "degF")
    driver.click(page.take)
    mine, found = findings(driver)
    assert found["charge_rise"].value == pytest.approx(10.0 * 5.0 / 9.0, abs=0.2)
    window.session.go("logs")
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    mine, found = findings(driver)
    assert found["charge_rise"].value == pytest.approx(10.0, abs=0.3)
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)  # the import itself
    assert findings(driver)[0] == [] and None in job.evidence()[-1].aside
    assert verify(job.path).faults == ()


def test_what_is_left_in_doubt_is_not_judged(driver, page):
    driver.click(page.take)
    _, found = findings(driver)
    for check in ("boost_limit", "charge_rise", "lambda_lean"):
        assert found[check].severity == "no_data", check
    assert "barometer" in found["boost_limit"].note


def test_answers_are_undone_and_redone_on_the_page(driver, page):
    in_hand(driver, page, "IAT")
    choose(driver, page.answer.unit, "degF")
    assert rows(page)[0][3] == "degF"
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert rows(page)[0][3] == "?"
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert rows(page)[0][3] == "degF"


def test_a_column_is_called_something_else_by_keyboard(driver, page):
    in_hand(driver, page, "Cup holder")
    enter(driver, page.answer.channel, "Lambda bank 2")
    assert rows(page)[-1][2] == "Lambda, bank 2"
    # The list of titles that opens under it takes the keys on this platform: the text is put there at once.
    page.answer.channel.setText("nonsense")
    page.answer.channel.setModified(True)
    page.answer.channel.done()
    assert "There is no channel 'nonsense'" in page.answer.channel.fault.text()
    assert rows(page)[-1][2] == "Lambda, bank 2"
    in_hand(driver, page, "RPM")
    driver.click(page.answer.aside)
    assert "No pull was found" in page.pulls.text()
    in_hand(driver, page, "Cup holder")
    enter(driver, page.answer.channel, "Throttle")
    other = next(r for r in rows(page) if r[0] == "TPS")
    assert other[2] == "left aside" and "'Cup holder' was named throttle" in other[4]


def test_it_waits_for_its_revision_and_is_assigned_later(driver, page):
    job = driver.window.session.job
    choose(driver, page.revision, "not assigned")
    driver.click(page.take)
    driver.idle()
    run = job.runs_of(None)[0]
    assert run.revision_id is None and run.build is None
    driver.key(Qt.Key.Key_Escape)
    view = driver.window.view("logs")
    assert view.arrived.isVisible() and "Arrived, not assigned: 1" in view.arrived.text()
    choose(driver, view.arrived, "tuesday")
    driver.idle()
    assert driver.window.shown() is page
    choose(driver, page.revision, "A1")
    driver.click(page.take)
    driver.idle()
    assert job.runs_of(None) == []
    driver.key(Qt.Key.Key_Escape)
    assert not view.arrived.isVisible()
    assert len(findings(driver)[0]) == 1


def test_what_was_confirmed_is_known_for_the_next_file_of_the_logger(driver, page, tmp_path):
    answer_all(driver, page)
    driver.click(page.take)
    driver.idle()
    (tmp_path / "wednesday.csv").write_text(log_text(260))
    drop(driver, tmp_path / "wednesday.csv")
    found = {r[0]: r for r in rows(page)}
    assert found["IAT"][3] == "degC" and found["IAT"][4] == "confirmed"
    assert "no barometer" in found["Boost (mbar)"][4]  # of another day


def test_a_mapping_is_shared_as_a_file_and_taken(driver, page, tmp_path, monkeypatch):
    in_hand(driver, page, "IAT")
    choose(driver, page.answer.unit, "degC")
    path = tmp_path / "mapping.toml"
    monkeypatch.setattr("PyQt6.QtWidgets.QFileDialog.getSaveFileName", lambda *a, **k: (str(path), ""))
    driver.click(page.share)
    assert any(c.name == "IAT" and c.unit == "degC" for c in read_mapping(path).columns)
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    drop(driver, path)
    assert rows(page)[0][3] == "degC"
    path.write_text(path.read_text().replace('name = "', 'name = "other '))
    drop(driver, path)
    assert "mapping of another logger" in driver.window.notice.what.text()


@pytest.mark.parametrize(
    ("name", "data", "said"),
    [
        ("empty.csv", b"", "holds no rows"),
        ("letter.csv", b"Dear customer,\nsee below.\n", "no rows of numbers"),
        ("notime.csv", b"Alpha,Beta\n3,2\n1,4\n5,1\n", "no time column"),
        ("packed.gz", gzip.compress(log_text().encode())[:500], "damaged"),
        ("picture.csv", b"\x89PNG\r\n\x1a\n" + bytes(300), "is a picture"),
    ],
)
def test_what_cannot_be_read_says_so_and_leaves_nothing(driver, tmp_path, name, data, said):
    (tmp_path / name).write_bytes(data)
    before = driver.window.session.job.evidence()
    drop(driver, tmp_path / name)
    assert said in driver.window.notice.what.text() and name in driver.window.notice.what.text()
    assert driver.window.notice.remedy.text()
    assert driver.window.session.job.evidence() == before and driver.window.arrivals.waiting == []


def test_without_a_job_a_log_says_what_to_do(empty, log):
    drop(empty, log)
    assert "no job is open" in empty.window.notice.what.text().lower()
    assert empty.window.arrivals.waiting == []


def test_a_job_that_is_dropped_is_opened(empty, demo_path):
    drop(empty, demo_path)
    empty.idle()
    assert empty.window.session.job.path == demo_path


def test_several_files_wait_one_behind_the_other(driver, log, tmp_path):
    other = tmp_path / "other.csv"
    other.write_text(log_text(250))
    drop(driver, log, other)
    driver.idle()
    page = driver.window.shown()
    assert isinstance(page, ImportView) and len(driver.window.arrivals.waiting) == 2
    choose(driver, page.which, "tuesday")
    page.table.setFocus()
    driver.key(Qt.Key.Key_Delete)
    assert [a.answers.title for a in driver.window.arrivals.waiting] == ["other"]


def test_an_import_that_is_cancelled_leaves_nothing(driver, page):
    before = driver.window.session.job.evidence()
    page.arrivals.accept()
    driver.window.session.requests.cancel_all()
    driver.idle()
    assert driver.window.session.job.evidence() == before
    assert len(driver.window.arrivals.waiting) == 1


def test_another_job_that_is_opened_meanwhile_gets_nothing(driver, page, demo_job, tmp_path):
    driver.open(Path(shutil.copy(demo_job("fieldfare"), tmp_path / "other.yarvic")))
    assert driver.window.arrivals.waiting == []
    assert all(e.origin is None for e in driver.window.session.job.evidence())


def test_the_released_sheet_says_on_which_files_it_rests(driver, page):
    import io

    from pypdf import PdfReader

    from yarvic.state.release import capture
    from yarvic.state.signing import sheet_pdf

    answer_all(driver, page)
    driver.click(page.take)
    mine, _ = findings(driver)
    origin = mine[0].evidence.origin
    pdf = sheet_pdf(capture(driver.window.session, "Rowan Sedge", driver.window.session.working_revision()))
    said = " ".join(" ".join(p.extract_text() for p in PdfReader(io.BytesIO(pdf)).pages).split())
    assert "Rests on the file tuesday.csv" in said and origin.sha256[:20] in said.replace(" ", "")
    assert "Of 1 pull the conditions are unknown" in said


def test_simulated_and_measured_never_stand_in_one_mean(driver, page):
    from yarvic.state.results import apart

    driver.click(page.take)
    mine, _ = findings(driver)
    results = driver.window.session.working_results()
    simulated = next(p for p in results.pulls if p.evidence.origin is None)
    assert any("simulated" in reason for reason in apart(mine[0], simulated))
    assert mine[0] not in results.together()


def test_a_pull_that_was_left_out_comes_back_after_the_desk_was_closed(driver, page):
    answer_all(driver, page)
    driver.click(page.take)
    mine, _ = findings(driver)
    driver.key(Qt.Key.Key_Escape)
    view = driver.window.view("logs")
    view.at = driver.window.session.working_results().pulls.index(mine[0])
    view.refresh()
    driver.settle()
    driver.click(view.run.aside.word)
    enter(driver, view.run.aside.reason, "wheels slipped")
    assert findings(driver)[0] == []
    path = driver.window.session.job.path
    driver.window.session.leave_job()
    driver.open(path)
    driver.rung("A1")
    driver.step(6)
    assert view.left_out.isVisible() and view.left_out.text().startswith("Left out: 1")
    choose(driver, view.left_out, "Count again: tuesday, pull 1, left out because wheels slipped")
    assert len(findings(driver)[0]) == 1 and not view.left_out.isVisible()
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert findings(driver)[0] == [] and view.left_out.isVisible()


def test_columns_and_revision_that_are_corrected_at_once_are_undone_at_once(driver, page):
    answer_all(driver, page)
    driver.click(page.take)
    run = findings(driver)[0][0].evidence
    window, job = driver.window, driver.window.session.job
    for _ in range(2):  # asked twice, it is still one that waits
        window.arrivals.read_anew(run, opened=window.open_import)
        driver.idle()
    assert len(window.arrivals.waiting) == 1 and page.fuel.text().startswith("Petrol RON 95")
    in_hand(driver, page, "IAT")
    choose(driver, page.answer.unit, "degF")
    choose(driver, page.revision, "not assigned")
    driver.click(page.take)
    driver.idle()
    assert len(job.runs_of(None)) == 1
    window.session.go("logs")
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert job.runs_of(None) == []
    assert findings(driver)[1]["charge_rise"].value == pytest.approx(10.0, abs=0.3)


def test_a_doubtful_time_is_answered_and_then_judged(driver, tmp_path):
    head, *lines = log_text().splitlines()
    clocks = [f"{int(x) // 60:02d}:{int(x) % 60:02d}" for x in (float(line.split(",")[0]) * 20 for line in lines)]
    rest = [line.split(",", 1)[1] for line in lines]
    path = tmp_path / "clock.csv"
    path.write_text("\n".join([head, *(f"{c},{r}" for c, r in zip(clocks, rest, strict=True))]) + "\n")
    driver.rung("A1")
    drop(driver, path)
    page = driver.window.shown()
    assert "Time" in [r[0] for r in rows(page)[:4]]
    in_hand(driver, page, "Time")
    assert "hours and minutes or minutes and seconds" in page.answer.question.text()
    assert not page.answer.channel.isEnabled()
    before = page.arrivals.shown.asked()
    choose(driver, page.answer.unit, "min")
    assert page.arrivals.shown.asked() == before - 1
    assert page.arrivals.shown._part([0]).channel("engine_speed").time_s[1] == 60.0
    choose(driver, page.answer.unit, "s")
    driver.click(page.take)
    mine, _ = findings(driver)
    assert all(c.doubt is None or c.doubt.about != "time" for p in mine for c in p.log.channels.values())
    assert driver.window.session.job.log(driver.window.session.job.evidence()[-1].id).span()[1] == 279.0


def test_a_bad_file_among_several_stops_none_of_the_others(driver, log, tmp_path):
    bad, other = tmp_path / "bad.csv", tmp_path / "other.csv"
    bad.write_bytes(b"")
    other.write_text(log_text(250))
    drop(driver, log, bad, other)
    driver.idle()
    assert [a.answers.title for a in driver.window.arrivals.waiting] == ["tuesday", "other"]
    assert "bad.csv" in driver.window.notice.what.text() and driver.window.notice.isVisible()


def test_a_job_that_is_dropped_with_logs_is_opened_before_them(empty, demo_path, log):
    drop(empty, demo_path, log)
    empty.idle()
    assert empty.window.session.job.path == demo_path
    assert [a.answers.title for a in empty.window.arrivals.waiting] == ["tuesday"]


def two_pulls():
    """An hour's drive: two pulls, the second long after the first."""
    lines = log_text().splitlines()
    again = []
    for line in lines[1:]:
        fields = line.split(",")
        again.append(",".join([f"{float(fields[0]) + 2000.0:.2f}", *fields[1:]]))
    return "\n".join([*lines, *again]).replace("IAT,", "IAT (C),") + "\n"


def test_each_pull_of_a_drive_goes_to_its_own_revision(driver, tmp_path):
    driver.rung("A1")
    path = tmp_path / "drive.csv"
    path.write_text(two_pulls())
    assert drop(driver, path)
    page, window = driver.window.shown(), driver.window
    assert page.which_pull.isVisible() and page.which_pull.text().startswith("All its pulls")
    choose(driver, page.which_pull, "Pull 2, at 2,0")
    choose(driver, page.revision, "B1")
    choose(driver, page.which_pull, "Pull 1")
    assert page.revision.text().startswith("A1")
    driver.click(page.take)
    driver.idle()
    session = window.session

    def mine(name):
        results = session.results[session.job.revision(name).id]
        return [(p.number, p.evidence.build) for p in results.pulls if p.evidence.origin is not None]

    assert mine("A1") == [(0, 1)] and mine("B1") == [(1, 2)]
    # In Logs the pull that is shown goes on to another one; Ctrl+Z brings it back; closed and opened it stays so.
    driver.rung("B1")
    driver.step(6)
    logs = window.view("logs")
    logs.choose(next(n for n, (title, _) in enumerate(logs._choices()) if title == "drive, pull 2"))
    logs._show_arrived()
    assert logs.belongs.button.text().startswith("of B1") and "build 2" in logs.belongs.button.toolTip()
    choose(driver, logs.belongs.button, "Stock, build 1")
    driver.idle()
    assert mine("Stock") == [(1, 1)] and not mine("B1")
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    driver.idle()
    assert mine("B1") == [(1, 2)] and not mine("Stock")
    path = session.job.path
    driver.open(path)
    driver.idle()
    assert mine("A1") == [(0, 1)] and mine("B1") == [(1, 2)]
    assert not verify(path).faults


def test_pulls_are_proposed_by_what_was_flashed_before_them(driver, tmp_path):
    from datetime import datetime, timedelta

    job = driver.window.session.job
    flashes = [datetime.fromisoformat(f.time).astimezone().replace(tzinfo=None) for f in job.flashes()]
    began = flashes[1] - timedelta(seconds=400)  # before A1 was written, and after Stock was
    lines = two_pulls().splitlines()
    head = "Date time," + lines[0].partition(",")[2]
    rows = []
    for line in lines[1:]:
        t, _, rest = line.partition(",")
        rows.append(f"{began + timedelta(seconds=float(t)):%Y-%m-%d %H:%M:%S.%f},{rest}")
    path = tmp_path / "dated.csv"
    path.write_text("\n".join([head, *rows]) + "\n")
    assert drop(driver, path)
    said = driver.window.arrivals.shown.answers
    name = driver.window.session.name_of
    assert [name(said.place_of(n)[0]) for n in (0, 1)] == ["Stock", "A1"]


def test_a_watched_folder_offers_what_appears(driver, tmp_path):
    import time

    folder = tmp_path / "card"
    folder.mkdir()
    (folder / "before.csv").write_text(log_text())
    watching = driver.window.watching
    time.sleep(0.02)
    watching.begin(folder)
    time.sleep(0.02)
    (folder / "evening.csv").write_text(log_text())

    def looks():
        for _ in range(2):
            watching.look()
            driver.wait("the look", lambda: not watching._looking)

    looks()
    assert watching.button.isVisible() and watching.button.text().startswith("Appeared: 1")
    choose(driver, watching.button, "Import evening.csv")
    driver.idle()
    assert driver.window.arrivals.shown.recording.origin.name == "evening.csv"
    looks()
    assert not watching.button.isVisible()  # dealt with
    assert driver.window.session.settings.watched == str(folder)
    shutil.rmtree(folder)
    watching.look()
    driver.wait("the fault", lambda: watching.watch is None)
    assert "cannot be read" in driver.window.notice.what.text()


def taken(driver, path):
    """A file dropped and taken as it is; gives the session and the view of logs."""
    driver.rung("A1")
    assert drop(driver, path)
    driver.click(driver.window.shown().take)
    driver.idle()
    return driver.window.session, driver.window.view("logs")


def test_cruises_of_an_imported_drive_are_seen_in_the_traces(driver, tmp_path):
    """A drive of two cruises and a pull between them: the chooser of pulls leads to each."""
    lines = ["time [s],Engine speed [rpm],Throttle [%],Fuel trim [%]"]
    for i in range(3000):
        t = i / 20.0
        pull = 60.0 <= t < 70.0
        speed = 1800 + 440 * (t - 60.0) if pull else 2100
        lines.append(f"{t:.2f},{speed:.0f},{100 if pull else 14},{1.5 if t < 60.0 else 9.0}")
    path = tmp_path / "drive.csv"
    path.write_text("\n".join(lines))
    session, view = taken(driver, path)
    session.go("logs")
    (mine,) = [p for p in session.working_results().pulls if p.evidence.origin is not None]
    view.choose(session.working_results().pulls.index(mine))
    seen = [(title, do) for title, do in view._choices() if title.startswith("See: Cruise")]
    assert len(seen) == 2 and "2,100 rpm, 14 % throttle" in seen[1][0]
    seen[1][1]()
    driver.settle()
    (low, high), _ = view.tracks[0].plot.getViewBox().viewRange()
    assert low == pytest.approx(70.0 - 3.0 - mine.pull.start_s, abs=0.5) and high > low + 80.0
    assert 70.0 < view.time_at_cursor() < 150.0
    trims = next(f for f in mine.findings if f.check == "cruise_trim")
    assert trims.severity == "watch" and trims.value == pytest.approx(0.09, abs=1e-3)


def test_a_pull_is_made_by_hand_where_none_was_found(driver, tmp_path):
    """Half throttle through 900 rpm is no pull to be found; a person says that it is one, and takes it back."""
    speeds = [1500.0] * 40 + [1500.0 + 18.0 * i for i in range(50)] + [2400.0 - 30.0 * i for i in range(30)]
    rows = [f"{i / 10.0:.1f},{n:.0f},{50 if 40 <= i < 90 else 12},{0.4 * (i % 3):.1f}" for i, n in enumerate(speeds)]
    path = tmp_path / "gentle.csv"
    path.write_text("\n".join(["time [s],Engine speed [rpm],Throttle [%],Fuel trim [%]", *rows]))
    session, view = taken(driver, path)
    (whole,) = session.working_results().beside
    before = len(session.working_results().pulls)
    session.go("logs")
    view.choose(before)
    driver.settle()
    assert view.shown() is whole
    view.move_to_time(4.1)
    driver.click(view.second)
    view.move_to_time(8.8)
    next(do for title, do in view._choices() if "Judge it between the cursors" in title)()
    driver.idle()
    results = session.working_results()
    made = [p for p in results.pulls if p.evidence.id == whole.evidence.id]
    assert len(made) == 1 and made[0].pull.from_rpm == pytest.approx(1520.0, abs=40) and made[0].findings
    assert results.beside == () or all(p.evidence.id != whole.evidence.id for p in results.beside)
    driver.window.activateWindow()
    view.setFocus()
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    driver.idle()
    assert len(session.working_results().pulls) == before


@pytest.mark.parametrize("speed", [True, False])
def test_a_log_without_a_pull_is_drawn_and_judged_by_what_needs_none(driver, tmp_path, speed):
    head = (
        "time [s],Engine speed [rpm],Throttle [%],Fuel trim [%]" if speed else "time [s],Throttle [%],Fuel trim [%]"
    )
    rows = [f"{i / 10.0:.1f}{',2100' if speed else ''},14,{11.0 + 0.1 * (i % 3)}" for i in range(900)]
    path = tmp_path / "cruise.csv"
    path.write_text("\n".join([head, *rows]))
    session, view = taken(driver, path)
    results = session.working_results()
    (whole,) = results.beside
    assert whole.title.endswith(", no pull") and len(results.pulls) == 3
    assert [f.check for f in whole.findings] == (["cruise_trim"] if speed else [])
    session.go("logs")
    view.choose(3)
    driver.settle()
    assert view.shown() is whole and view.traces.isVisible()
    assert "No pull was found in it" in view.caption.text() and "Shaded" not in view.caption.text()
    view.move_cursor(30.0)
    assert "30.00 s" in view.reading.text()
    driver.click(view.by_speed)  # without engine speed there is nothing to lay it on
    driver.key(Qt.Key.Key_V)
    driver.settle()
    if speed:
        found = next(s for s in results.summaries if s.check == "cruise_trim")
        assert found.worst.severity == "watch" and found.worst.value == pytest.approx(0.111, abs=1e-3)
        session.go("checks")
        assert "cruise_trim" in driver.window.view("checks").matrix.rows
        session.place_changed.emit(found.worst.where)


def test_a_ratio_of_unknown_fuel_is_never_shown_as_lambda(driver, page):
    """Its fuel was not stated: in the traces and over another channel it stays a ratio, and says so at the axis."""
    driver.click(page.take)
    driver.idle()
    window = driver.window
    session, view = window.session, window.view("logs")
    mine = next(p for p in session.working_results().pulls if p.evidence.origin is not None)
    session.go("logs")
    view.choose(session.working_results().pulls.index(mine))
    track = next(t for t in view.tracks if t.lane.keys == ("lambda_measured",))
    assert track.plot.getAxis("left").labelText == "AFR of unknown fuel"
    over = view.figures.over
    view.figures.toggle("over")
    over._asking = "y"
    over.choose("lambda_measured")
    over.pick(5)
    assert "AFR of unknown fuel" in over.at.text() and "lambda" not in over.at.text()
    assert over.plot.getAxis("left").labelText == "AFR of unknown fuel"


def without_time(path, *, name="n", scale=50.0, whole=False):
    """The log with a column of its own for time, or (`whole`) whole seconds and the rest of them beside."""
    head, *lines = log_text().splitlines()
    rest = [line.split(",", 1)[1] for line in lines]
    stamps = [i / 20.0 for i in range(len(rest))]
    if whole:
        heads, fields = "Time,Rest", [f"{int(t)},{round(t % 1.0 * 100)}" for t in stamps]
    else:
        heads, fields = name, [f"{t * 20.0 * scale:g}" for t in stamps]
    path.write_text(
        "\n".join([f"{heads},{head.split(',', 1)[1]}", *(f"{f},{r}" for f, r in zip(fields, rest, strict=True))])
    )
    return path


def test_a_log_without_a_column_of_time_is_given_one_by_name(driver, tmp_path):
    driver.rung("A1")
    assert drop(driver, without_time(tmp_path / "rows.csv", name="Distance"))
    page = driver.window.shown()
    assert rows(page)[0][0] == "(rows, counted)" and "no column of time" in rows(page)[0][DOUBT]
    in_hand(driver, page, "Distance")
    enter(driver, page.answer.channel, "Time")
    assert rows(page)[[r[0] for r in rows(page)].index("Distance")][2] == "Time"
    choose(driver, page.answer.unit, "ms")
    assert page.arrivals.shown.pulls()[0].end_s == pytest.approx(12.0, abs=0.5)
    assert "was named as time" in next(r for r in rows(page) if r[0] == "(rows, counted)")[DOUBT]
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert "no column of time" in next(r for r in rows(page) if r[0] == "(rows, counted)")[DOUBT]
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    driver.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    driver.click(page.take)
    mine, _ = findings(driver)
    assert len(mine) == 1 and mine[0].pull.end_s == pytest.approx(12.0, abs=0.5)
    job = driver.window.session.job
    assert job.log(job.evidence()[-1].id, ["engine_speed"]).channel("engine_speed").time_s[-1] == pytest.approx(13.95)
    drop(driver, without_time(tmp_path / "again.csv", name="Distance"))
    again = driver.window.shown()
    assert next(r for r in rows(again) if r[0] == "Distance")[2] == "Time", "what was named is known the next time"


def test_a_row_is_said_to_last_so_long(driver, tmp_path):
    head, *lines = log_text().splitlines()
    path = tmp_path / "bare.csv"
    path.write_text("\n".join(line.split(",", 1)[1] for line in [head, *lines]))
    driver.rung("A1")
    drop(driver, path)
    page = driver.window.shown()
    in_hand(driver, page, "(rows")
    assert page.answer.factor_name.text() == "A row lasts"
    enter(driver, page.answer.factor, "minus a bit")
    assert "is not a number" in page.answer.factor.fault.text()
    in_hand(driver, page, "IAT")
    assert page.answer.factor.text() == "" and not page.answer.factor.isModified(), "it was about the rows"
    in_hand(driver, page, "(rows")
    enter(driver, page.answer.factor, "-0.05")
    assert "backward" in page.answer.factor.fault.text()
    enter(driver, page.answer.factor, "0.05")
    assert not page.answer.factor.fault.text()
    assert page.arrivals.shown.pulls()[0].end_s == pytest.approx(12.0, abs=0.5)


def test_whole_seconds_and_their_rest_are_added(driver, tmp_path):
    driver.rung("A1")
    drop(driver, without_time(tmp_path / "halves.csv", whole=True))
    page = driver.window.shown()
    in_hand(driver, page, "Time")
    choose(driver, page.answer.plus, "Rest")
    choose(driver, page.answer.plus_unit, "0.01 s")
    assert next(r for r in rows(page) if r[0] == "Time")[3] == "s + 'Rest' in 0.01 s"
    at = next(n for n, c in enumerate(page.arrivals.shown.answers.columns) if c.channel == "engine_speed")
    found = page.arrivals.shown._part([at]).channel("engine_speed").time_s
    assert found[:4].tolist() == pytest.approx([0.0, 0.05, 0.1, 0.15])


def test_a_wideband_in_volts_is_read_by_factor_and_offset(driver, page):
    in_hand(driver, page, "Cup holder")
    enter(driver, page.answer.channel, "Oil temperature")
    choose(driver, page.answer.unit, "degC")
    enter(driver, page.answer.factor, "12,5")
    enter(driver, page.answer.offset, "2.5")
    assert next(r for r in rows(page) if r[0] == "Cup holder")[3] == "degC \u00d7 12.5 + 2.5"
    driver.click(page.take)
    job = driver.window.session.job
    driver.idle()
    assert job.log(job.evidence()[-1].id).channel("oil_temperature").values[0] == pytest.approx(
        7 * 12.5 + 2.5 + 273.15
    )


@pytest.mark.parametrize(
    "name",
    [b"x" * 246, b"l\xff\xfeg", b"a\nb", "a\u202eb".encode(), b"log[1]", b"a*", b"a#b%41?c", b" lead "],
    ids=["long", "no text", "new line", "from the right", "brackets", "star", "signs", "blanks"],
)
def test_a_log_of_any_name_is_dropped_and_accepted(driver, tmp_path, name):
    folder = tmp_path / "in"
    folder.mkdir()
    (folder / "log1.csv").write_text("time,rpm\n0,1\n1,2\n2,3\n")
    path = os.fsencode(folder) + b"/" + name + b".csv"
    with open(path, "w") as file:
        file.write(log_text())
    driver.rung("A1")
    assert drop_addresses(driver, [QUrl.fromEncoded(b"file://" + quote(path).encode())])
    page = driver.window.shown()
    assert isinstance(page, ImportView)
    answer_all(driver, page)
    arrivals, job = driver.window.arrivals, driver.window.session.job
    before = {e.id for e in job.evidence()}
    arrivals.accept()
    driver.idle()
    (run,) = [e for e in job.evidence() if e.id not in before]
    assert run.title.isprintable() and len(run.title) <= 200
    assert run.origin.sha256 == hashlib.sha256(log_text().encode()).hexdigest()
    assert verify(job.path).faults == ()
