"""The strip under a draft: why the maps changed, by whom, and the two ways out."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QLineEdit, QVBoxLayout

from yarvic.core.errors import YarvicError
from yarvic.desk.views.maps.expect import ExpectLine
from yarvic.desk.widgets.words import act, label, row, word
from yarvic.state.draft import DraftState
from yarvic.state.session import Session


class CommitStrip(QFrame):
    """Reason and author, to commit the draft that is shown, or to throw it away, which is asked twice."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._draft: DraftState | None = None  # the one that it is about
        self._discard_asked = False
        self.setObjectName("card")
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("Why did the maps change? One sentence.")
        self.reason.setAccessibleName("Reason")
        self.reason.returnPressed.connect(self.commit)
        self.author = QLineEdit()
        self.author.setPlaceholderText("Your name")
        self.author.setAccessibleName("Author")
        self.author.setFixedWidth(116)
        self.commit_act = act("Commit", self.commit)
        self.discard = word("Discard draft", self._discard)
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 7, 12, 7)
        column.setSpacing(4)
        said = (label("Reason", "quiet"), self.reason, label("by", "quiet"), self.author)
        self.expect_word = word("Expect", self._toggle_expect, checkable=True)
        self.expect = ExpectLine(session)
        self.expect.hide()
        column.addLayout(row(*said, self.expect_word, self.commit_act, self.discard))
        column.addWidget(self.expect)
        column.addWidget(self.fault)

    def show_draft(self, shown: bool) -> None:
        """Show it for the draft in hand."""
        s = self.session
        if s.draft is not self._draft:
            # A reason is for the draft that it was written for, and so is the first word of throwing it away.
            self._draft = s.draft
            self.reason.clear()
            self.expect.clear()
            self._ask_discard(False)
        self.setVisible(shown)
        if shown and not self.author.text():
            self.author.setText(s.settings.author)

    def commit(self) -> None:
        """Make a revision of the draft that the reason was written for."""
        try:
            expected = self.expect.expected() if self.expect_word.isChecked() else ()
            self.session.commit_draft(self.reason.text(), self.author.text(), self._draft, expected)
        except YarvicError as error:
            self.fault.setText(str(error))
            self.fault.show()
            (self.reason if not self.reason.text().strip() else self.author).setFocus()
            return
        self.reason.clear()
        self.expect.clear()
        self.fault.hide()

    def _toggle_expect(self) -> None:
        """What the revision is to bring about can be said, and is answered by its pulls."""
        self.expect.setVisible(self.expect_word.isChecked())

    def ask_to_discard(self) -> None:
        """Ask, as the word itself does, and take the focus to the answer."""
        self._ask_discard(True)
        self.discard.setFocus(Qt.FocusReason.OtherFocusReason)

    def _discard(self) -> None:
        # Throwing work away is asked twice, in place.
        if not self._discard_asked:
            self._ask_discard(True)
            return
        self._ask_discard(False)
        if self.session.draft is self._draft:
            self.session.discard_draft()

    def _ask_discard(self, asked: bool) -> None:
        self._discard_asked = asked
        self.discard.setText("Discard the draft?" if asked else "Discard draft")

    def leave(self) -> None:
        """Take back what was asked and what was said to be wrong; what is written stays."""
        self._ask_discard(False)
        self.fault.hide()
