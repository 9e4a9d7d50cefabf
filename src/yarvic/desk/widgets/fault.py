"""The line of a page that says why an act was not done."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel

from yarvic.core.errors import YarvicError


class FaultLine(QLabel):
    """Hidden while nothing is wrong."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("fault")
        self.setWordWrap(True)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.hide()

    def say(self, error: YarvicError | None) -> None:
        """Show why an act was not done; nothing where it was."""
        self.setText(str(error) if error is not None else "")
        self.setVisible(error is not None)

    def attempt(self, doing: Callable[[], object]) -> bool:
        """Whether an act was done; if not, why is shown."""
        try:
            doing()
        except YarvicError as error:
            self.say(error)
            return False
        return True
