"""Fields for numbers with their unit: what is typed counts once it is done, not at every key."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QDoubleSpinBox, QGridLayout, QLabel, QWidget

from yarvic.desk.widgets.words import label

FIELD_PX = 88


class Number(QDoubleSpinBox):
    """A number with a unit; `changed` is called with what a person entered, never with what was shown."""

    def __init__(
        self, name: str, low: float, high: float, decimals: int, suffix: str, changed: Callable[[float], None]
    ) -> None:
        super().__init__()
        self.setRange(low, high)
        self.setDecimals(decimals)
        self.setSuffix(f" {suffix}" if suffix else "")
        self.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        self.setKeyboardTracking(False)
        self.setFixedWidth(FIELD_PX)
        self.setAccessibleName(name)
        self.valueChanged.connect(changed)

    def show_value(self, value: float, suffix: str | None = None) -> None:
        """Show a value, in another unit if one is given; nobody entered it."""
        self.blockSignals(True)
        if suffix is not None:
            self.setSuffix(f" {suffix}" if suffix else "")
        self.setValue(value)
        self.blockSignals(False)


class Switch(QCheckBox):
    """A box to tick; `pointed` when the mouse or the focus comes to it."""

    pointed = pyqtSignal()

    def __init__(self, text: str, changed: Callable[[bool], None]) -> None:
        super().__init__(text)
        self.setAccessibleName(text)
        self.toggled.connect(changed)

    def enterEvent(self, event) -> None:
        """The mouse comes."""
        self.pointed.emit()
        super().enterEvent(event)

    def focusInEvent(self, event) -> None:
        """The focus comes."""
        self.pointed.emit()
        super().focusInEvent(event)


def show_switch(box: QCheckBox, on: bool) -> None:
    """Show a state that nobody ticked."""
    box.blockSignals(True)
    box.setChecked(on)
    box.blockSignals(False)


class Form(QGridLayout):
    """Names left, fields right, under a title; a line can be hidden with its name."""

    def __init__(self, title: str) -> None:
        super().__init__()
        self.setContentsMargins(0, 0, 0, 0)
        self.setHorizontalSpacing(8)
        self.setVerticalSpacing(4)
        self.setColumnStretch(2, 1)
        self.addWidget(label(title, "title"), 0, 0, 1, 3)
        self._names: dict[QWidget, QWidget] = {}
        self._next = 1

    def line(self, name: str, field: QWidget) -> None:
        """Add a field with its name."""
        text = label(name, "quiet")
        text.setBuddy(field)
        self.addWidget(text, self._next, 0)
        self.addWidget(field, self._next, 1)
        self._names[field] = text
        self._next += 1

    def wide(self, widget: QWidget) -> None:
        """Add something that needs no name; a switch or a word is as wide as its text, for that is where it is hit."""
        side = Qt.AlignmentFlag(0) if isinstance(widget, QLabel) else Qt.AlignmentFlag.AlignLeft
        self.addWidget(widget, self._next, 0, 1, 3, side)
        self._next += 1

    def show_line(self, field: QWidget, shown: bool) -> None:
        """Show or hide a field with its name."""
        field.setVisible(shown)
        self._names[field].setVisible(shown)

    def close(self) -> None:
        """Keep what stands above together: the rest of the height goes below."""
        self.setRowStretch(self._next, 1)
