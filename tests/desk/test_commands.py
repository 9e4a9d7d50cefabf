"""Every command in every state of the window, also one that another state offered: it is done, or it is said why not."""

import shutil

import pytest
from PyQt6.QtCore import QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog

from yarvic.core.errors import YarvicError
from yarvic.core.job.store import Job
from yarvic.demo.fieldfare import FIELDFARE
from yarvic.desk.app import make_window, unexpected
from yarvic.state.session import STEPS
from yarvic.state.settings import Settings

# They end what the others are tried in: given last, or not at all.
LAST = ("Close the job", "New job", "Open the demo job", "Open a job", "Go to")
NEVER = ("Quit",)


def no_job(window, job):
    window.session.leave_job()


def empty_job(window, job):
    path = job.parent / "empty.yarvic"
    if not path.exists():
        Job.create(path, FIELDFARE.sheet(), author="x").close()
    window.open_job(path)
    settle(window)


def read_only(window, job):
    window.open_job(job, read_only=True)
    settle(window)


def open_job(window, job):
    window.open_job(job)
    settle(window)


def judging(window, job):
    window.open_job(job)
    until(lambda: window.session.job is not None)


def writing(window, job):
    open_job(window, job)
    window.session.bench.unit.seconds_per_block = 0.3
    window.session.go("flash")
    window.session.link.write()
    until(lambda: window.session.link.writing)


def dialog_open(window, job):
    open_job(window, job)
    window.session.go("release")
    window.view("release").show_keys()


STATES = [no_job, empty_job, read_only, open_job, judging, writing, dialog_open]


def until(done, ms=8000):
    while not done() and ms > 0:
        QTest.qWait(20)
        ms -= 20
    assert done()


def settle(window):
    until(lambda: window.session.job is not None and not window.runner.busy(), 30_000)


def close_dialogs():
    for _ in range(5):
        top = QApplication.activeModalWidget()
        if top is None:
            return
        top.close()
        QApplication.processEvents()


@pytest.fixture
def files(monkeypatch):
    """File dialogs are left without a choice."""
    for name in ("getOpenFileName", "getSaveFileName"):
        monkeypatch.setattr(QFileDialog, name, lambda *a, **k: ("", ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *a, **k: ([], ""))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a, **k: "")


def offered(window, job):
    """Every command that any state and step offers, with those that only others offer."""
    found = {}
    for state in (no_job, empty_job, read_only, open_job):
        state(window, job)
        for step in STEPS:
            window.session.go(step)
            QApplication.processEvents()
            found.update({c.title: c for c in window._commands()})
    return found


@pytest.mark.parametrize("theme", ["paper", "night"])
def test_every_command_in_every_state_is_done_or_refused(qapp, demo_path, tmp_path, files, theme):
    window = make_window(Settings(author="Rowan Sedge", theme=theme))
    window.resize(1280, 800)
    window.show()
    job = shutil.copy(demo_path, tmp_path / "work.yarvic")
    before = len(unexpected().errors)
    commands = offered(window, tmp_path / "work.yarvic")
    assert len(commands) > 50
    order = sorted(commands, key=lambda t: (t.startswith(LAST), t))
    slips = []
    for state in STATES:
        state(window, tmp_path / "work.yarvic")
        for title in order:
            if title in NEVER or (state is not no_job and title.startswith(LAST)):
                continue
            # What opens a dialog that waits for itself is closed from within.
            if state is not dialog_open:
                QTimer.singleShot(0, close_dialogs)
            try:
                commands[title].action()
                QApplication.processEvents()
            except YarvicError as error:
                assert error.remedy
            except Exception as error:  # noqa: BLE001 - that is what is looked for
                slips.append(f"{state.__name__}, {title}: {type(error).__name__}: {error}")
            slips += [f"{state.__name__}, {title}: {e.what}" for e in unexpected().errors[before:]]
            del unexpected().errors[before:]
            if state is not dialog_open:
                close_dialogs()
        close_dialogs()
        if state is writing:
            window.session.bench.unit.seconds_per_block = 0.0
            until(lambda: not window.session.link.writing, 60_000)
    window.close()
    window.deleteLater()
    assert slips == []
    assert job
