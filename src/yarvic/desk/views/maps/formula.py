"""The strip in which arithmetic on the cells in hand is typed, with what would come of it."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFrame, QLineEdit, QVBoxLayout

from yarvic.core.errors import YarvicError
from yarvic.desk.widgets.fault import FaultLine
from yarvic.desk.widgets.words import Elided, label, row, word

SAY = "12    + 2    - 5 %    times 1.05    at most 30    = (value + reference) / 2"


class FormulaStrip(QFrame):
    """A line for arithmetic; `given` brings what was typed, `left` says that nothing is to be done.

    `preview` says in words what would come of it, and raises YarvicError where that cannot be.
    """

    given = pyqtSignal(str)
    left = pyqtSignal()

    def __init__(self, preview: Callable[[str], str]) -> None:
        super().__init__()
        self.setObjectName("card")
        self._preview = preview
        self.line = QLineEdit()
        self.line.setPlaceholderText(SAY)
        self.line.setAccessibleName("Arithmetic on the selected cells")
        self.line.setToolTip(f"Write for example: {SAY}")
        self.line.returnPressed.connect(self._apply)
        self.line.textChanged.connect(lambda _: self._show())
        self.said = Elided()
        self.said.setAccessibleName("What would come of it")
        self.fault = FaultLine()
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 5, 12, 5)
        column.setSpacing(3)
        ends = word("Apply", self._apply, "Enter"), word("Cancel", self.left.emit, "Esc")
        column.addLayout(row(label("Cells"), self.line, *ends, spacing=8))
        column.addWidget(self.said)
        column.addWidget(self.fault)
        self.hide()

    def ask(self, text: str) -> None:
        """Ask what is to be done, beginning with what was typed already."""
        self.line.setText(text)
        self._show()
        self.show()
        self.line.setFocus()
        self.line.deselect()
        self.line.setCursorPosition(len(text))

    def refuse(self, error: YarvicError) -> None:
        """Say why it was not done."""
        self.said.hide()
        self.fault.say(error)

    def _show(self) -> None:
        text = self.line.text().strip()
        self.fault.say(None)
        self.said.setText("")
        self.said.show()
        if text.strip("=+-*/ "):
            try:
                self.said.setText(self._preview(text))
            except YarvicError as error:
                # While it is written it is unfinished, not wrong: said quietly until it is to be done.
                self.said.setText(str(error))

    def _apply(self) -> None:
        self.given.emit(self.line.text())
