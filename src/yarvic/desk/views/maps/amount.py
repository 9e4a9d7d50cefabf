"""The strip that asks for the number of an edit."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFrame, QLineEdit

from yarvic.core.errors import YarvicError
from yarvic.core.units import parse_number
from yarvic.desk.widgets.words import label, row, word


class AmountStrip(QFrame):
    """A number with its unit; `given` brings the operation that it was asked for, `left` says that none is given."""

    given = pyqtSignal(str, float)
    left = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("card")
        self._operation = ""
        self._asked = label("")
        self.number = QLineEdit()
        self.number.setFixedWidth(110)
        self.number.setAccessibleName("Number for the edit")
        self.number.returnPressed.connect(self._apply)
        self._unit = label("", "quiet")
        self.fault = label("", "fault", wrap=True)
        layout = row(self._asked, self.number, self._unit, spacing=8)
        layout.setContentsMargins(12, 5, 12, 5)
        layout.addWidget(self.fault, 1)
        layout.addWidget(word("Apply", self._apply, "Enter"))
        layout.addWidget(word("Cancel", self.left.emit, "Esc"))
        self.setLayout(layout)
        self.hide()

    def ask(self, operation: str, asked: str, unit: str, text: str) -> None:
        """Ask for the number of an operation, beginning with what was typed already."""
        self._operation = operation
        self._asked.setText(asked)
        self._unit.setText(unit)
        self.fault.setText("")
        self.number.setText(text)
        self.show()
        self.number.setFocus()
        self.number.deselect()
        self.number.setCursorPosition(len(text))

    def _apply(self) -> None:
        try:
            amount = parse_number(self.number.text())
        except YarvicError as error:
            self.fault.setText(str(error))
            return
        self.given.emit(self._operation, amount)
