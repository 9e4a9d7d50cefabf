"""The question before a signature."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QVBoxLayout, QWidget

from yarvic.desk.widgets.words import act, label, row, word


class SignDialog(QDialog):
    """The last question before a signature; signing cannot be taken back."""

    def __init__(self, parent: QWidget, text: str) -> None:
        super().__init__(parent)
        self.setWindowTitle("Sign the release")
        self.setModal(True)
        self.setMinimumWidth(460)
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 20, 24, 18)
        column.setSpacing(14)
        column.addWidget(label("Sign the release", "title"))
        column.addWidget(label(text, wrap=True))
        self.sign = act("Sign", self.accept)
        self.back = word("Not yet", self.reject, "Esc")
        column.addLayout(row(None, self.back, self.sign, spacing=12))
        self.back.setFocus()
