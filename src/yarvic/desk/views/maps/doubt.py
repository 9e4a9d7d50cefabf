"""The line that says what is unlikely about the table as it was changed."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFrame

from yarvic.core.checks.finding import WATCH
from yarvic.core.checks.plausibility import Doubt
from yarvic.desk.widgets.glyphs import Glyph
from yarvic.desk.widgets.words import Elided, row, tip, word


class DoubtLine(QFrame):
    """Hidden while there is nothing to say. `shown` brings row and column of the cell where it is most so."""

    shown = pyqtSignal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("card")
        self._doubts: list[Doubt] = []
        self._at = 0
        self.text = Elided("watch")
        self.text.setAccessibleName("What is unlikely about this edit")
        self.next = word("Next", self._next)
        self.show_cell = word("Show", self._show)
        layout = row(Glyph(WATCH), self.text, self.show_cell, self.next, spacing=8)
        layout.setContentsMargins(8, 2, 4, 2)
        layout.setStretch(1, 1)
        self.setLayout(layout)
        self.hide()

    def say(self, doubts: list[Doubt]) -> None:
        """Say these; the first is shown, the others one after the other."""
        if [d.sentence for d in doubts] != [d.sentence for d in self._doubts]:
            self._at = 0
        self._doubts = doubts
        self.setVisible(bool(doubts))
        if doubts:
            self._tell()

    def _tell(self) -> None:
        doubt = self._doubts[self._at]
        count = f"{self._at + 1} of {len(self._doubts)}: " if len(self._doubts) > 1 else ""
        self.text.setText(f"{count}{doubt.sentence}. {doubt.source[0].upper()}{doubt.source[1:]}.")
        tip(self, f"{doubt.sentence}. {doubt.source}.")
        self.next.setVisible(len(self._doubts) > 1)
        self.show_cell.setVisible(doubt.cell is not None)

    def _next(self) -> None:
        self._at = (self._at + 1) % len(self._doubts)
        self._tell()

    def _show(self) -> None:
        cell = self._doubts[self._at].cell
        if cell is not None:
            self.shown.emit(*cell)
