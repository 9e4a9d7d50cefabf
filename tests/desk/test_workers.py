"""Work beside the window: when it starts, when it stands aside, and that it ends with its window."""

import threading
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


def test_what_somebody_waits_for_is_not_held_up_by_what_nobody_sees(qapp):
    """Whatever unseen work does, or waits for."""
    runner, go, order = QtRunner(), threading.Event(), []

    def unseen(progress, cancelled):
        go.wait(30.0)
        order.append("unseen")

    for _ in range(4):
        runner.run("unseen", unseen, order.append, order.append, visible=False)
    QTest.qWait(4 * BEHIND_THE_PICTURE_MS)
    for _ in range(2):
        runner.run("seen", lambda p, c: order.append("seen"), lambda _: None, order.append)
    try:
        for _ in range(500):
            if len(order) == 2:
                break
            QTest.qWait(20)
        assert order == ["seen", "seen"]
    finally:
        go.set()
        runner.wait()
    assert order.count("unseen") == 4
    runner.stop()
    assert not runner.at_work()
