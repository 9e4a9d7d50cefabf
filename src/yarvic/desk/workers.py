"""Runs work of the session on a thread and brings the answer back into the interface's thread."""

from __future__ import annotations

import threading
import time
import traceback
from collections.abc import Callable
from typing import Any

from PyQt6 import sip
from PyQt6.QtCore import QCoreApplication, QEvent, QObject, QRunnable, QThreadPool, QTimer, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QWindow

from yarvic.core.errors import YarvicError
from yarvic.state.work import Handle, Heard, Work

BEHIND_THE_PICTURE_MS = 15
STOPS_WITHIN_MS = 1000  # so long a window that is closed waits for work that was asked to stop
# How long after a key or a click unseen work stands aside, and how often it looks, s.
STANDS_ASIDE_S = 0.25
LOOKS_EVERY_S = 0.02
_ACTS = (QEvent.Type.KeyPress, QEvent.Type.MouseButtonPress, QEvent.Type.MouseButtonRelease, QEvent.Type.Wheel)


class _Answers(QObject):
    done = pyqtSignal(object)
    failed = pyqtSignal(object)
    progress = pyqtSignal(float, str)
    heard = pyqtSignal(object)


class Task:
    """Work under way; it can be asked to stop."""

    def __init__(self, title: str, visible: bool) -> None:
        self.title = title
        self.visible = visible
        self.answers = _Answers()
        self._asked = threading.Event()

    def cancel(self) -> None:
        """Ask it to stop."""
        self._asked.set()

    @property
    def asked(self) -> bool:
        """Whether it was asked to stop."""
        return self._asked.is_set()


class _Job(QRunnable):
    def __init__(self, task: Task, work: Work[Any], acting: Callable[[], bool]) -> None:
        super().__init__()
        self._task = task
        self._work = work
        self._acting = acting

    def run(self) -> None:
        task = self._task

        def progress(share: float, what: str, detail: object = None, /) -> None:
            while not task.visible and not task.asked and self._acting():
                time.sleep(LOOKS_EVERY_S)
            task.answers.progress.emit(share, what)
            if detail is not None:
                task.answers.heard.emit(detail)

        try:
            result = self._work(progress, lambda: task.asked)
        except YarvicError as error:
            task.answers.failed.emit(error)
        except Exception as error:  # noqa: BLE001 - the thread's last resort: nothing may vanish in silence
            task.answers.failed.emit(
                YarvicError(
                    f"{task.title} failed: {error}",
                    remedy="Nothing of it was saved. Please report this with the details.",
                    details=traceback.format_exc(),
                )
            )
        else:
            task.answers.done.emit(result)


class QtRunner(QObject):
    """A Runner on Qt's thread pool. `started` and `ended` carry the Task when it is visible."""

    started = pyqtSignal(object)
    ended = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        # What somebody waits for finds a thread free, however much unseen work stands aside or goes on.
        self._seen, self._unseen = QThreadPool(self), QThreadPool(self)
        for pool in (self._seen, self._unseen):
            pool.setMaxThreadCount(2)
        self._running: set[Task] = set()
        self._over = False  # nobody listens any more
        self._acted_at = -STANDS_ASIDE_S
        app = QGuiApplication.instance()
        assert isinstance(app, QGuiApplication)
        app.focusWindowChanged.connect(self._listen)
        self._listen(app.focusWindow())

    def _listen(self, window: QWindow | None) -> None:
        # To the window as the system knows it, not to the application: else every event of every widget comes here.
        if window is not None:
            window.installEventFilter(self)

    def eventFilter(self, watched, event) -> bool:
        """Note when somebody does something: what nobody waits for stands aside then."""
        if event.type() in _ACTS:
            self._acted_at = time.monotonic()
        return False

    def _acting(self) -> bool:
        return time.monotonic() - self._acted_at < STANDS_ASIDE_S

    def run(
        self,
        title: str,
        work: Work[Any],
        done: Callable[[Any], None],
        failed: Callable[[YarvicError], None],
        *,
        visible: bool = True,
        heard: Heard | None = None,
    ) -> Handle:
        """Start work on a thread; `done` or `failed` is called in this object's thread."""
        task = Task(title, visible)
        self._running.add(task)

        def end(call: Callable[[Any], None], value: Any) -> None:
            # Its window may be gone by the time it answers.
            if self._over or sip.isdeleted(self):
                return
            self._running.discard(task)
            if visible:
                self.ended.emit(task)
            call(value)

        task.answers.done.connect(lambda value: end(done, value))
        task.answers.failed.connect(lambda error: end(failed, error))
        if heard is not None:
            hear = heard
            task.answers.heard.connect(lambda detail: None if self._over or sip.isdeleted(self) else hear(detail))
        if visible:
            self.started.emit(task)
            self._seen.start(_Job(task, work, self._acting))
        else:
            # What nobody waits for begins behind the picture that is due, so as not to hold it up.
            self._start_soon(_Job(task, work, self._acting))
        return task

    def _start_soon(self, job: _Job) -> None:
        # A timer of its own, so that it ends with this runner: nothing starts behind a window that is gone.
        timer = QTimer(self)
        timer.setSingleShot(True)
        timer.timeout.connect(lambda: self._unseen.start(job))
        timer.timeout.connect(timer.deleteLater)
        timer.start(BEHIND_THE_PICTURE_MS)

    def busy(self) -> bool:
        """Whether any work is under way."""
        return bool(self._running)

    def at_work(self) -> bool:
        """Whether a thread is at work, heard or not."""
        return any(pool.activeThreadCount() > 0 for pool in (self._seen, self._unseen))

    def wait(self) -> None:
        """Wait for all work, however long it takes."""
        for pool in (self._seen, self._unseen):
            pool.waitForDone(-1)

    def stop(self) -> None:
        """Ask all work to stop and wait for it; what is answered until then is heard, and nothing after it."""
        for task in list(self._running):
            task.cancel()
        end = time.monotonic() + STOPS_WITHIN_MS / 1000.0
        for pool in (self._seen, self._unseen):
            pool.waitForDone(max(round((end - time.monotonic()) * 1000.0), 0))
        QCoreApplication.sendPostedEvents(None, QEvent.Type.MetaCall.value)
        self._over = True
