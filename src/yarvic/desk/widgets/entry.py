"""A line to write in that says beside it what cannot be; what is wrong is not kept, and stays to be mended."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtWidgets import QGridLayout, QLabel, QLineEdit, QPushButton, QWidget

from yarvic.core.errors import YarvicError
from yarvic.desk.widgets.words import chooser, label, tip


class Line(QLineEdit):
    """A text that counts once it is done. `enter` raises YarvicError or ValueError for what cannot be."""

    def __init__(self, name: str, enter: Callable[[str], None], width: int = 0, hint: str = "") -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setPlaceholderText(hint)
        if width:
            self.setFixedWidth(width)
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        self._enter = enter
        self._shown = ""
        self.editingFinished.connect(self.done)

    def show_text(self, text: str) -> None:
        """Show what is kept; nobody wrote it. What is being written, or waits to be mended, stays."""
        if text != self._shown or not self.isModified():
            self._shown = text
            if not (self.hasFocus() and self.isModified()):
                self.setText(text)
                self.setCursorPosition(0)
                self.setModified(False)
                self._say("")

    def done(self) -> None:
        """Take what was written; show why not."""
        text = self.text()
        if not self.isModified() or text == self._shown:
            self.setModified(False)
            if text == self._shown:
                self._say("")
            return
        try:
            self._enter(text)
        except (YarvicError, ValueError) as error:
            self._say(error.what if isinstance(error, YarvicError) else str(error))
            return
        self._shown = self.text()
        self.setModified(False)
        self._say("")

    def event(self, event) -> bool:
        """While something in it is not kept, Esc and Ctrl+Z belong to the line; after that to the window."""
        if event.type() == QEvent.Type.ShortcutOverride:
            if self.isModified() and event.key() == Qt.Key.Key_Escape:
                event.accept()
                return True
            steps_back = (QKeySequence.StandardKey.Undo, QKeySequence.StandardKey.Redo)
            if not self.isModified() and any(event.matches(k) for k in steps_back):
                event.ignore()
                return True
        return super().event(event)

    def keyPressEvent(self, event) -> None:
        """Esc puts back what is kept."""
        if event.key() == Qt.Key.Key_Escape and self.isModified():
            self.setText(self._shown)
            self.setModified(False)
            self._say("")
            return
        super().keyPressEvent(event)

    def _say(self, fault: str) -> None:
        self.fault.setText(fault)
        self.fault.setVisible(bool(fault))
        tip(self, fault)
        self.setAccessibleDescription(fault)
        self.setProperty("wrong", bool(fault))
        style = self.style()
        if style is not None:
            style.polish(self)


def choice(name: str, values: Callable[[], list[tuple[str, str]]], enter: Callable[[str], None]) -> QPushButton:
    """A word that shows what is chosen; `values` are (kept, shown), `enter` is given what is chosen."""
    return chooser(name, lambda: [(shown, lambda kept=kept: enter(kept)) for kept, shown in values()])  # type: ignore[misc]


class Sheet(QGridLayout):
    """Names left, fields right; what follows from a field, and its fault, stand under it. All under a title."""

    def __init__(self, title: str, name_px: int = 0) -> None:
        super().__init__()
        self._name_px = name_px  # names are as wide as this and break into lines; 0: as wide as the longest
        self.setContentsMargins(0, 0, 0, 0)
        self.setHorizontalSpacing(8)
        self.setVerticalSpacing(3)
        self.setColumnStretch(1, 1)
        self._next = 0
        self._names: dict[QWidget, QLabel] = {}
        if title:
            self.addWidget(label(title, "title"), 0, 0, 1, 2)
            self._next = 1

    def line(self, name: str, field: QWidget) -> QLabel:
        """Add a field with its name; gives the label for what follows from it."""
        text, beside = label(name, "quiet", wrap=self._name_px > 0), label("", "caption", wrap=True)
        if self._name_px:
            text.setFixedWidth(self._name_px)
        text.setBuddy(field)
        self.addWidget(text, self._next, 0)
        self.addWidget(field, self._next, 1, Qt.AlignmentFlag.AlignLeft)
        self.addWidget(beside, self._next + 1, 1)
        beside.hide()
        self._names[field] = text
        self._next += 2
        if isinstance(field, Line):
            self.addWidget(field.fault, self._next, 0, 1, 2)
            self._next += 1
        return beside

    def long_line(self, name: str, field: Line) -> QLabel:
        """Add a field for words that take the whole width, under its name."""
        text, beside = label(name, "quiet"), label("", "caption", wrap=True)
        text.setBuddy(field)
        for widget in (text, field, field.fault, beside):
            self.addWidget(widget, self._next, 0, 1, 2)
            self._next += 1
        beside.hide()
        self._names[field] = text
        return beside

    def wide(self, widget: QWidget) -> None:
        """Add something as wide as the sheet."""
        self.addWidget(widget, self._next, 0, 1, 2)
        self._next += 1

    def show_line(self, field: QWidget, shown: bool) -> None:
        """Show or hide a field with its name."""
        field.setVisible(shown)
        self._names[field].setVisible(shown)

    def close(self) -> None:
        """Keep what stands above together."""
        self.setRowStretch(self._next, 1)
