"""The keys that are known at this desk: whose they are, what they are compared by, and what was taken back."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TypeVar

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from yarvic.core.errors import YarvicError, in_plain, name_of
from yarvic.core.formats.files import file_name
from yarvic.core.release.keys import KnownKey, KnownKeys, PublicKey, read_public_key
from yarvic.desk.views.release.sign import passphrase_line
from yarvic.desk.widgets.words import act, label, row, word
from yarvic.state.keys import add_key, known_keys, new_key, revoke_key, said_of_name, write_public
from yarvic.state.session import Session
from yarvic.state.settings import kept_path, path_to_keep, save_settings
from yarvic.state.witnesses import check_witness

T = TypeVar("T")
COLUMNS = ("Name", "Fingerprint", "Known since", "State")


class KeysDialog(QDialog):
    """A list, and what can be done with it; each act is one strip under the list."""

    def __init__(self, parent: QWidget, session: Session, name: str) -> None:
        super().__init__(parent)
        self.session, self.name = session, name.strip()
        self.setWindowTitle("Keys")
        self.setModal(True)
        self.resize(760, 460)
        self.known = KnownKeys()
        self._closed = False
        self._do: Callable[[], None] = lambda: None
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 20, 24, 18)
        column.setSpacing(10)
        column.addWidget(label("Keys", "title"))
        text = (
            "A release is signed with a key of its signer. Others give you their public key as a file: compare its"
            " fingerprint with them, by voice, before you add it. What a key signed is then said to be theirs."
        )
        column.addWidget(label(text, "quiet", wrap=True))
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setHorizontalHeaderLabels(COLUMNS)
        self.table.setAccessibleName("Known keys")
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        header, numbers = self.table.horizontalHeader(), self.table.verticalHeader()
        if header is not None and numbers is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
            header.setSectionResizeMode(3, QHeaderView.ResizeMode.Stretch)
            numbers.hide()
        self.table.itemSelectionChanged.connect(self._show_acts)
        column.addWidget(self.table, 1)
        self.write = word("Write my public key", self.ask_to_write)
        self.add = word("Add a key", self.ask_to_add)
        self.revoke = word("Mark as revoked", self.begin_revoking)
        self.renew = word("Make me a new key", self.begin_renewing)
        column.addLayout(row(self.write, self.add, self.revoke, self.renew, None, spacing=10))
        column.addWidget(self._strip())
        column.addLayout(self._witness_row())
        self.said = label("", "quiet", wrap=True)
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        column.addWidget(self.said)
        column.addWidget(self.fault)
        column.addLayout(row(None, word("Close", self.reject, "Esc")))
        self._work("reading the keys", known_keys, self._show)

    def _strip(self) -> QFrame:
        self.strip = QFrame()
        self.strip.setObjectName("card")
        column = QVBoxLayout(self.strip)
        column.setContentsMargins(10, 8, 10, 8)
        self.asked = label("", wrap=True)
        self.line, self.secret = QLineEdit(), passphrase_line("Passphrase", "passphrase, may stay empty")
        self.again = passphrase_line("Passphrase again", "the same again")
        self.go = act("Add", lambda: self._do())
        self.line.returnPressed.connect(lambda: self._do())
        column.addWidget(self.asked)
        column.addLayout(row(self.line, self.secret, self.again, self.go, word("Cancel", self._end), spacing=8))
        self.strip.hide()
        return self.strip

    def _witness_row(self) -> QHBoxLayout:
        self.witness = label("", "quiet", wrap=True)
        self.choose_witness = word("Choose a witness file", self.ask_for_witness)
        self.no_witness = word("Use none", lambda: self.set_witness(None))
        self._show_witness()
        found = row(self.witness, self.choose_witness, self.no_witness, spacing=10)
        found.setStretch(0, 1)
        return found

    # -- showing

    def _show(self, known: KnownKeys) -> None:
        self.known = known
        self.table.setRowCount(len(known.keys))
        for at, key in enumerate(known.keys):
            for column, text in enumerate((_named(key), key.fingerprint, key.added, _state(key))):
                self.table.setItem(at, column, QTableWidgetItem(in_plain(text)))
        if not known.keys:
            self.said.setText("No key is known yet. Yours is made when you sign for the first time, or here.")
        self._show_acts()

    def chosen(self) -> KnownKey | None:
        """The key whose line is selected."""
        at = self.table.currentRow()
        return self.known.keys[at] if self.table.selectedItems() and 0 <= at < len(self.known.keys) else None

    def _show_acts(self) -> None:
        key = self.chosen()
        self.revoke.setEnabled(key is not None and key.revoked is None)
        for button in (self.write, self.renew):
            button.setEnabled(bool(self.name))

    # -- acting

    def ask_to_write(self) -> None:
        """Let a person choose where their public key is written for others."""
        name = f"{file_name(self.name) or 'signer'}.pub.toml"
        chosen, _ = QFileDialog.getSaveFileName(self, "Write my public key", name, "Public key (*.toml)")
        if chosen:
            path = Path(chosen)
            self._work("writing the key", partial(write_public, self.name, path), partial(self._written, path))

    def _written(self, path: Path, public: PublicKey) -> None:
        self._changed(f"{path} is written. Tell those who get it its fingerprint: {public.fingerprint}")

    def ask_to_add(self) -> None:
        """Let a person choose somebody's public key."""
        chosen, _ = QFileDialog.getOpenFileName(self, "Add a key", "", "Public key (*.toml);;All files (*)")
        if chosen:
            path = Path(chosen)
            self._work("reading the key", partial(read_public_key, path), partial(self._confirm, path))

    def _confirm(self, path: Path, public: PublicKey) -> None:
        # The fingerprint is not shown: it is to come from the key's owner, not from the file.
        self._begin(
            f"{name_of(path)} says that it is the key of {in_plain(public.name)}. Ask them for its fingerprint, by voice,"
            " and type it here." + "".join(f" {said}" for said in said_of_name(public, self.known)),
            "Add",
            "Fingerprint as its owner told it",
            lambda: self._work(
                "adding the key",
                partial(add_key, path, self.line.text()),
                lambda added: self._changed(f"{added.fingerprint} of {in_plain(added.name)} is known from now on."),
            ),
        )

    def ask_for_witness(self) -> None:
        """Let a person choose the file in which each signature is noted: best on another disk than the jobs."""
        chosen, _ = QFileDialog.getSaveFileName(
            self, "Choose a witness file", "yarvic-witness.txt", "Witness file (*.txt)",
            options=QFileDialog.Option.DontConfirmOverwrite,
        )  # fmt: skip
        if chosen:
            self.set_witness(Path(chosen))

    def set_witness(self, path: Path | None) -> None:
        """Note each signature in a file from now on, or in none. One that is there must be a witness file."""

        def keep(_: object) -> None:
            settings = self.session.settings
            settings.witness = path_to_keep(path) if path is not None else ""
            self._work("keeping the settings", partial(save_settings, settings.model_copy()), lambda _: None)
            self._show_witness()

        self._work("choosing the witness file", partial(check_witness, path), keep)

    def _show_witness(self) -> None:
        chosen = self.session.settings.witness
        said = (
            f"Each signature is noted in {in_plain(str(kept_path(chosen)))}."
            if chosen
            else "No witness file is chosen."
        )
        self.witness.setText(f"{said} One on another disk shows whether lines were cut from the end of a job.")
        self.no_witness.setEnabled(bool(chosen))

    def begin_revoking(self) -> None:
        """Ask why a key is taken back."""
        key = self.chosen()
        if key is None:
            return
        self._begin(
            f"The key {key.fingerprint} of {in_plain(key.name)} is not relied on from today. Whatever it signed is said"
            " to be so, with your reason; packages stay as they are. This cannot be undone.",
            "Revoke",
            "What happened: lost, stolen, left the shop",
            lambda: self._work(
                "revoking the key",
                partial(revoke_key, key.fingerprint, self.line.text()),
                lambda _: self._changed(f"The key {key.fingerprint} is revoked. Tell those who know it."),
            ),
        )

    def begin_renewing(self) -> None:
        """Ask for the passphrase of a new key."""
        self._begin(
            f"A new key is made for {self.name}. The one before signs no more; what it signed still"
            " holds. Give the new fingerprint to those who verify your packages.",
            "Make it",
            "",
            self._renew,
        )

    def _renew(self) -> None:
        if self.secret.text() != self.again.text():
            self._fail(YarvicError("the two passphrases differ", remedy="Enter the same twice, or leave both empty."))
            return
        self._work(
            "making the key",
            partial(new_key, self.name, self.secret.text()),
            lambda made: self._changed(f"The new key of {self.name} has the fingerprint {made.public.fingerprint}."),
        )

    def _begin(self, asked: str, go: str, hint: str, do: Callable[[], None]) -> None:
        self._end()
        self.asked.setText(asked)
        self.go.setText(go)
        self.line.setPlaceholderText(hint)
        self.line.setAccessibleName(hint)
        self.line.setVisible(bool(hint))
        self.secret.setVisible(not hint)
        self.again.setVisible(not hint)
        self._do = do
        self.strip.show()
        (self.line if hint else self.secret).setFocus(Qt.FocusReason.OtherFocusReason)

    def _end(self) -> None:
        self._do = lambda: None
        for line in (self.line, self.secret, self.again):
            line.clear()
        self.strip.hide()
        self.fault.hide()

    def _changed(self, said: str) -> None:
        self._end()
        self._work("reading the keys", known_keys, self._show)
        self.said.setText(said)

    def _work(self, kind: str, do: Callable[[], T], then: Callable[[T], None]) -> None:
        self.fault.hide()
        s = self.session
        s.requests.submit(
            s.request(kind),
            "Keys",
            lambda progress, cancelled: do(),
            lambda outcome: None if self._closed else then(outcome),
            failed=self._fail,
        )

    def done(self, result: int) -> None:
        """Close; what is still under way is heard no more."""
        self._closed = True
        super().done(result)

    def _fail(self, error: YarvicError) -> None:
        if self._closed:
            self.session.failed.emit(error)
            return
        self.fault.setText(str(error))
        self.fault.show()


def _named(key: KnownKey) -> str:
    return f"{key.name}, own" if key.own else key.name


def _state(key: KnownKey) -> str:
    if key.revoked is not None:
        return f"revoked on {key.revoked}: {key.reason}"
    return f"in use until {key.until}"
