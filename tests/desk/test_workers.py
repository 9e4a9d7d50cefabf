"""Work beside the window: when it starts, when it stands aside, and that it ends with its window."""

import time

import pytest
from PyQt6.QtCore import QCoreApplication, QEvent, Qt
from PyQt6.QtTest import QTest

from yarvic.desk import workers
from yarvic.desk.workers import BEHIND_THE_PICTURE_MS, STANDS_ASIDE_S, QtRunner

pytestmark = pytest.mark.window


def test_nothing_starts_behind_a_runner_that_is_gone(qapp):
    started, ended = [], []
    runner = QtRunner()
    runner.run("late", lambda p, c: started.append(1), ended.append, ended.append, visible=False)
    runner.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    QTest.qWait(4 * BEHIND_THE_PICTURE_MS)
    assert started == ended == []


@pytest.mark.parametrize("visible", [False, True])
def test_only_what_nobody_waits_for_stands_aside_while_somebody_types(empty, monkeypatch, visible):
    runner, told, slept = empty.window.runner, [], []
    sleep = time.sleep
    monkeypatch.setattr(time, "sleep", lambda s: (slept.append(s), sleep(s)))
    empty.settle(int(STANDS_ASIDE_S * 1500))
    assert not runner._acting()
    monkeypatch.setattr(workers, "STANDS_ASIDE_S", 1.0)  # a machine that is busy starts late
    # As the system brings it: to the window, before any widget of it.
    QTest.keyClick(empty.window.windowHandle(), Qt.Key.Key_Shift)
    runner.run("beside", lambda p, c: p(0.5, "half"), told.append, told.append, visible=visible)
    empty.wait("the work", lambda: bool(told))
    assert bool(slept) is not visible
