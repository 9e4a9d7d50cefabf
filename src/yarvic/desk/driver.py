"""Presses keys and clicks in the real window, waits for its work, and takes pictures."""

# The stubs of QtTest take its functions for methods of an object.
# mypy: disable-error-code="call-arg, arg-type, call-overload, misc"

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit, QWidget

from yarvic.core.errors import YarvicError
from yarvic.desk.window import Window
from yarvic.state.session import STEPS

Say = Callable[[str], None]


class TourStopped(YarvicError):
    """A step did not lead where it should."""


class Driver:
    """Presses keys and clicks in a window, waits for its work, takes pictures."""

    def __init__(self, window: Window, folder: Path, say: Say) -> None:
        self.window = window
        self.folder = folder
        self.say = say
        self.count = 0

    def key(self, key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        """A key on whatever has the focus."""
        target = QApplication.focusWidget() or self.window
        QTest.keyClick(target, key, modifier)
        self.settle()

    def type(self, text: str) -> None:
        """Text into whatever has the focus."""
        target = QApplication.focusWidget() or self.window
        QTest.keyClicks(target, text)
        self.settle()

    def step(self, number: int) -> None:
        """Alt and the number of a step."""
        # A dialog that closed may have left no window active, and then no shortcut is heard.
        self.window.activateWindow()
        self.settle()
        QTest.keyClick(self.window, Qt.Key(Qt.Key.Key_0.value + number), Qt.KeyboardModifier.AltModifier)
        self.settle()
        if self.window.session.settings.step != STEPS[number - 1]:
            raise TourStopped(f"Alt+{number} did not lead to {STEPS[number - 1]}")

    def click(
        self,
        widget: QWidget,
        at: QPoint | None = None,
        modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier,
    ) -> None:
        """A click in the middle of a widget, or at a place of it."""
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, modifier, at or widget.rect().center())
        self.settle()

    def fill(self, field: QLineEdit, text: str) -> None:
        """Click into a field and type."""
        self.click(field)
        field.selectAll()
        self.type(text)

    def command(self, words: str) -> None:
        """Ctrl+K, the words, Enter."""
        QTest.keyClick(self.window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        self.settle()
        self.type(words)
        self.key(Qt.Key.Key_Return)

    def settle(self, milliseconds: int = 10) -> None:
        """Let events pass."""
        QTest.qWait(milliseconds)

    def wait(self, what: str, done: Callable[[], bool], seconds: float = 120.0) -> None:
        """Wait until something is so, with the window alive."""
        end = time.monotonic() + seconds
        while not done():
            if time.monotonic() > end:
                raise TourStopped(f"waited {seconds:.0f} s for: {what}")
            QTest.qWait(20)
        self.settle()

    def idle(self) -> None:
        """Wait until no work is under way."""
        self.wait("work to end", lambda: not self.window.runner.busy())

    def open(self, path: Path, *, read_only: bool = False) -> None:
        """Open a job, and wait until it is shown and judged."""
        self.window.open_job(path, read_only=read_only)
        self.idle()
        job = self.window.session.job
        if job is None or job.path != path:
            raise TourStopped(f"{path.name} did not open")

    def picture(self, name: str) -> Path:
        """Leave a picture of the window."""
        self.idle()
        self.settle(150)
        self.count += 1
        path = self.folder / f"{self.count:02d}-{name}.png"
        self.window.grab().save(str(path))
        return path

    def rung(self, name: str, *, reference: bool = False) -> None:
        """Click a rung on the ladder."""
        ladder = self.window.ladder
        place = next(ladder.place(r) for r in ladder.rungs() if r.name == name)
        shift = Qt.KeyboardModifier.ShiftModifier if reference else Qt.KeyboardModifier.NoModifier
        self.click(ladder, place.center().toPoint(), shift)
