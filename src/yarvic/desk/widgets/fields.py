"""Fields for numbers with their unit: what is typed counts once it is done, not at every key."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPoint, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QValidator
from PyQt6.QtWidgets import QCheckBox, QDoubleSpinBox, QGridLayout, QLabel, QToolTip, QWidget

from yarvic.core.errors import UnitError
from yarvic.core.typed_numbers import parse_number
from yarvic.desk.widgets.words import label

FIELD_PX = 88


class Number(QDoubleSpinBox):
    """A number with a unit; `changed` is called with what a person entered, never with what was shown."""

    def __init__(
        self, name: str, low: float, high: float, decimals: int, suffix: str, changed: Callable[[float], None]
    ) -> None:
        super().__init__()
        self._why = ""  # what was typed last is not what stands there
        self.setRange(low, high)
        self.setDecimals(decimals)
        self.setSuffix(f" {suffix}" if suffix else "")
        self.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
        self.setKeyboardTracking(False)
        self.setFixedWidth(FIELD_PX)
        self.setAccessibleName(name)
        self.valueChanged.connect(changed)

    # What is typed is read as in every other field, whatever the language of the system writes before a fraction.

    def validate(self, text: str | None, pos: int) -> tuple[QValidator.State, str, int]:
        """Whatever is typed stays until it is done."""
        try:
            fits = self.minimum() <= self._typed(text or "") <= self.maximum()
        except UnitError:
            fits = False
        return (QValidator.State.Acceptable if fits else QValidator.State.Intermediate), text or "", pos

    def fixup(self, text: str | None) -> str:
        """What is no number that fits is put back to the last one, and why is said beside the field."""
        try:
            self._typed(text or "")
            self._why = f"{self.accessibleName()}: from {self.minimum():g} to {self.maximum():g}{self.suffix()}."
        except UnitError as error:
            self._why = str(error)
        # A focus that leaves takes what is shown with it: said once it has left.
        QTimer.singleShot(0, self._say_why)
        return self.textFromValue(self.value()) + self.suffix()

    def valueFromText(self, text: str | None) -> float:
        """The number that was typed; the last one where it is none."""
        try:
            return self._typed(text or "")
        except UnitError:
            return self.value()

    def textFromValue(self, value: float) -> str:
        """The number as numbers stand everywhere in the window."""
        return f"{value:.{self.decimals()}f}"

    def _say_why(self) -> None:
        QToolTip.showText(self.mapToGlobal(QPoint(0, self.height())), self._why)

    def _typed(self, text: str) -> float:
        unit = self.suffix().strip()
        words = text.strip().removesuffix(unit).strip()  # the field's own, and one that a person wrote before it
        return parse_number(words.removesuffix(unit), lambda v: self.minimum() <= v <= self.maximum())

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
