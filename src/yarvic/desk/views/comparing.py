"""Two images byte by byte, where no description says what lies in them."""

from __future__ import annotations

import os
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QFrame, QPlainTextEdit, QVBoxLayout, QWidget

from yarvic.core.errors import YarvicError
from yarvic.core.formats.image_comparison import ImageComparison, compare_images_of_files
from yarvic.core.formats.images import read_image
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.entry import Line
from yarvic.desk.widgets.words import label, row, word
from yarvic.state.session import Session
from yarvic.state.work import Asked, Progress

FIELD_PX, NAME_PX = 460, 52
KIND = "comparing two images"


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
        column.addWidget(self.listed, 1)
        self.column.addWidget(frame, 1)
        self.fault.hide()

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

    def _look(self) -> None:
        one, other = self.paths
        self.fault.hide()
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

    def _fail(self, error: YarvicError) -> None:
        self.headline.setText("")
        self.listed.setPlainText("")
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
