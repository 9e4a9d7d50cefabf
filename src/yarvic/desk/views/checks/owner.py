"""The page for the owner, in place of the trace: read, and saved to be printed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QFrame, QScrollArea, QVBoxLayout, QWidget

from yarvic.core.checks.for_owner import CAUTION, OwnersPage
from yarvic.core.errors import YarvicError
from yarvic.core.formats.files import write_whole
from yarvic.core.release.owner import owners_pdf
from yarvic.desk.widgets.words import label, row, word
from yarvic.state.causes import owners_page_of
from yarvic.state.session import Session


class OwnerPanel(QFrame):
    """It is about the working revision as it is judged now, and names it."""

    def __init__(self, session: Session, shown: Callable[[bool], None]) -> None:
        super().__init__()
        self.session, self._shown = session, shown
        self.page: OwnersPage | None = None
        self.setObjectName("card")
        self.about = label("", "caption")
        self.headline = label("", "title", wrap=True)
        self.words = label("", wrap=True)
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.caution = label(CAUTION, "caption", wrap=True)
        self.save = word("Save as PDF", self.ask_where)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 6, 10, 6)
        column.addLayout(row(self.about, None, self.save, word("Close", self.leave)))
        column.addWidget(self.headline)
        inside = QWidget()
        lines = QVBoxLayout(inside)
        lines.setContentsMargins(0, 0, 0, 0)
        lines.addWidget(self.words)
        lines.addWidget(self.caution)
        lines.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(area.Shape.NoFrame)
        area.setWidget(inside)
        for each in (area, inside):
            each.setStyleSheet("background: transparent;")  # it lies on the card
        column.addWidget(area, 1)
        self.hide()

    def open(self) -> None:
        """Show the page of the working revision."""
        self.refresh()
        if self.page is not None:
            self.show()
            self._shown(True)

    def leave(self) -> None:
        """Give the room back to the trace."""
        self.hide()
        self._shown(False)

    def refresh(self) -> None:
        """The page as the evidence is judged now."""
        self.page = owners_page_of(self.session)
        if self.page is None:
            self.hide()
            return
        page = self.page
        self.about.setText(f"For the owner: {page.title}, map {page.revision}")
        self.headline.setText(page.headline)
        self.words.setText(
            "\n".join(f"{heading}: {' '.join(lines)}" if len(lines) == 1 else "\n".join([f"{heading}:", *lines])
                      for heading, lines in page.parts)
        )  # fmt: skip

    def ask_where(self) -> None:
        """Let a person choose the file: the page that is read is the one that is saved."""
        page = self.page
        if page is None:
            return
        name = f"{page.title.lower().replace(' ', '-')}-{page.revision}-owner.pdf"
        chosen, _ = QFileDialog.getSaveFileName(self, "Save the page for the owner", name, "PDF (*.pdf)")
        if chosen:
            self.save_as(Path(chosen), page)

    def save_as(self, path: Path, page: OwnersPage) -> None:
        """Write the page, whole or not at all."""
        try:
            write_whole(path, owners_pdf(page))
        except YarvicError as error:
            self.session.failed.emit(error)
            return
        self.session.say(f"The page for the owner is in {path}.")
