"""Two images byte by byte, where no description says what lies in them."""

from __future__ import annotations

import os
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QFileDialog, QFrame, QPlainTextEdit, QVBoxLayout, QWidget

from yarvic.core.calibration.undescribed.checksum_search import FoundChecksum
from yarvic.core.errors import Cancelled, YarvicError
from yarvic.core.formats.image_comparison import ImageComparison, checksums_of_files, compare_images_of_files
from yarvic.core.formats.images import read_image
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.entry import Line
from yarvic.desk.widgets.words import label, row, word
from yarvic.state.session import Session
from yarvic.state.work import Asked, Progress

FIELD_PX, NAME_PX = 400, 52
KIND, SUMS = "comparing two images", "looking for checksums in two images"
NO_SUM = (
    "No checksum was told by these two. It may be of another rule, or too short: CRCs and sums of 16 bits are told where"
    " their range begins or ends at the word itself or at a round address, those of 8 bits hardly ever."
)


class ComparingView(View):
    """Two files, how they differ, and every range with its bytes."""

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Compare images")
        self.about.setText("byte by byte; no description is needed")
        self.head.insertWidget(0, word("Back", self.escape, "Esc"))
        self.paths: list[Path | None] = [None, None]
        self.lines = [Line(f"{which} image", partial(self._entered, n), FIELD_PX, "Intel HEX, S-record or raw bytes")
                      for n, which in enumerate(("First", "Second"))]  # fmt: skip
        self.headline = label("", "title", wrap=True)
        self.fault = label("", "fault", wrap=True)
        self.search = word("Look for what a checksum covers", self.look_for_sums)
        self.copy = word("Copy for a layout", self._copy)
        self.sums = label("", wrap=True)
        self.sums.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.found: tuple[FoundChecksum, ...] = ()
        self.listed = QPlainTextEdit()
        self.listed.setReadOnly(True)
        self.listed.setObjectName("mono")
        self.listed.setAccessibleName("Ranges that differ")
        frame = QFrame()
        frame.setObjectName("sheet")
        column = QVBoxLayout(frame)
        column.setContentsMargins(16, 12, 16, 12)
        column.setSpacing(8)
        for n, line in enumerate(self.lines):
            name = label(("First", "Second")[n], "quiet")
            name.setMinimumWidth(NAME_PX)
            column.addLayout(row(name, line, word("Choose", partial(self._choose, n)), None))
            column.addWidget(line.fault)
        column.addWidget(self.headline)
        column.addWidget(self.fault)
        column.addLayout(row(self.search, self.copy, None))
        column.addWidget(self.sums)
        column.addWidget(self.listed, 1)
        self.column.addWidget(frame, 1)
        self._clear()

    def compare(self, *paths: Path) -> None:
        """Compare files, the second chosen later where one is given."""
        for n, path in enumerate(paths[:2]):
            self.paths[n] = path
            self.lines[n].show_text(str(path))
        self._look()

    def _entered(self, n: int, text: str) -> None:
        text = text.strip()
        self.paths[n] = Path(os.path.expanduser(text)) if text else None
        self._look()

    def _choose(self, n: int) -> None:
        chosen, _ = QFileDialog.getOpenFileName(self, "Choose an image", "", "All files (*)")
        if chosen:
            self._entered(n, chosen)
            self.lines[n].show_text(chosen)

    def _clear(self) -> None:
        """Show nothing of what two others were."""
        self.found = ()
        self.headline.setText("")
        self.listed.setPlainText("")
        for widget in (self.fault, self.search, self.copy, self.sums):
            widget.hide()

    def _look(self) -> None:
        one, other = self.paths
        self._clear()
        if one is None or other is None:
            return

        def work(progress: Progress, cancelled: Asked) -> ImageComparison:
            progress(0.1, one.name)
            first = read_image(one)
            progress(0.5, other.name)
            return compare_images_of_files(first, read_image(other))

        def show(found: ImageComparison) -> None:
            if [one, other] == self.paths:
                self._show(found)

        request = self.session.request(KIND)
        self.session.requests.submit(request, f"Comparing {one.name}", work, show, failed=self._fail)

    def _show(self, found: ImageComparison) -> None:
        self.headline.setText(found.headline())
        alone = [f"0x{a:X} to 0x{b - 1:X}, {b - a:,} bytes: in {name} alone" for name, a, b in found.only]
        self.listed.setPlainText("\n".join([*(r.sentence() for r in found.differs), *alone]))
        self.search.setVisible(bool(found.differs))

    def look_for_sums(self) -> None:
        """Look for the checksums that hold in both, and the bytes that they cover."""
        one, other = self.paths
        if one is None or other is None:
            return

        def work(progress: Progress, cancelled: Asked) -> tuple[FoundChecksum, ...]:
            found = checksums_of_files(read_image(one), read_image(other), lambda n: progress(n, one.name), cancelled)
            if cancelled():
                raise Cancelled(f"looking for checksums in {one.name} was cancelled")
            return found

        def show(found: tuple[FoundChecksum, ...]) -> None:
            if [one, other] == self.paths:
                self._show_sums(found)

        request = self.session.request(SUMS)
        self.session.requests.submit(request, f"Looking for checksums in {one.name}", work, show, failed=self._fail)

    def _show_sums(self, found: tuple[FoundChecksum, ...]) -> None:
        self.found = found
        self.sums.setText("\n".join(each.sentence() for each in found) or NO_SUM)
        self.sums.show()
        self.copy.setVisible(bool(found))

    def _copy(self) -> None:
        """Put what was found on the clipboard, as a layout states it."""
        clipboard = QApplication.clipboard()
        assert clipboard is not None
        clipboard.setText("\n\n".join(each.toml() for each in self.found) + "\n")
        self.session.say("Copied: paste it into the layout, and confirm it on a third image where you have one.")

    def _fail(self, error: YarvicError) -> None:
        self._clear()
        self.fault.setText(str(error))
        self.fault.show()

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this page."""
        return [("Esc", "back to the step")]

    def escape(self) -> None:
        """Back to the step that it came from."""
        self.session.go(self.came_from or "maps")

    def main_widget(self) -> QWidget:
        """The first file."""
        return self.lines[0]


def make(session: Session, window: Desk) -> ComparingView:
    """The page."""
    return ComparingView(session)
