"""The question before a signature, with the key that will make it."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QLineEdit, QVBoxLayout, QWidget

from yarvic.desk.widgets.words import act, label, row, word
from yarvic.state.keys import KeyState, keys_folder

FIELD_PX = 260


def passphrase_line(name: str, hint: str) -> QLineEdit:
    """A line whose letters nobody sees."""
    line = QLineEdit()
    line.setEchoMode(QLineEdit.EchoMode.Password)
    line.setAccessibleName(name)
    line.setPlaceholderText(hint)
    line.setFixedWidth(FIELD_PX)
    return line


class SignDialog(QDialog):
    """The last question before a signature; signing cannot be taken back."""

    def __init__(self, parent: QWidget, text: str, key: KeyState) -> None:
        super().__init__(parent)
        self.setWindowTitle("Sign the release")
        self.setModal(True)
        self.setMinimumWidth(500)
        self.key = key
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 20, 24, 18)
        column.setSpacing(12)
        column.addWidget(label("Sign the release", "title"))
        column.addWidget(label(text, wrap=True))
        self.key_words = label(_words(key), "quiet" if key.fault is None else "fault", wrap=True)
        column.addWidget(self.key_words)
        new = key.public is None and key.fault is None
        self.passphrase = passphrase_line(
            "Passphrase", "passphrase, may stay empty" if new else "passphrase of the key"
        )
        self.again = passphrase_line("Passphrase again", "the same again")
        self.passphrase.setVisible(new or key.locked)
        self.again.setVisible(new)
        column.addWidget(self.passphrase)
        column.addWidget(self.again)
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        column.addWidget(self.fault)
        self.sign = act("Sign", self._sign)
        self.sign.setEnabled(key.fault is None)
        self.back = word("Not yet", self.reject, "Esc")
        column.addLayout(row(None, self.back, self.sign, spacing=12))
        (self.passphrase if key.locked else self.back).setFocus()

    def _sign(self) -> None:
        fault = ""
        if self.key.locked and not self.passphrase.text():
            fault = "The key is locked: enter its passphrase."
        elif not self.key.locked and self.passphrase.text() != self.again.text():
            fault = "The two passphrases differ: enter the same twice, or leave both empty."
        if fault:
            self.fault.setText(fault)
            self.fault.show()
            return
        self.accept()


def _words(key: KeyState) -> str:
    if key.fault is not None:
        return str(key.fault)
    if key.public is not None:
        return f"With the key {key.public.fingerprint} of {key.public.name}, in use until {key.public.until}."
    return (
        f"{key.name} has no key at this desk yet: one is made now and kept in {keys_folder()}, for your account only."
        " Give its fingerprint to those who verify your packages, and keep a copy: a lost key cannot be replaced, only"
        " revoked."
    )
