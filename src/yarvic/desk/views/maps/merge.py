"""The page of a merge: what is taken, and cell by cell whose value stands where both sides changed it."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QTableWidgetItem, QVBoxLayout, QWidget

from yarvic.core.calibration.merging import Conflict, Side
from yarvic.desk.widgets.fault import FaultLine
from yarvic.desk.widgets.headed import NAME_PX, plain_rows
from yarvic.desk.widgets.words import act, label, row, word
from yarvic.state.maps import MapsState

HEADS = ("Table or value", "Where", "Before", "Here", "There", "Stands")
MOST_CONFLICTS = 5000


class MergePage(QWidget):
    """`left`: the merge was done, or given up."""

    left = pyqtSignal()

    def __init__(self, maps: MapsState) -> None:
        super().__init__()
        self.maps = maps
        maps.merging.changed.connect(self._changed)
        self.headline = label("", "title", wrap=True)
        self.said = label("", "quiet", wrap=True)
        self.table = plain_rows(HEADS, "Cells that both sides changed", {1: 170, 2: 80, 3: 80, 4: 80, 5: 90}, NAME_PX)
        self.fault = FaultLine()
        self.ours = word("Selected: here", partial(self._decide, "ours"), "H")
        self.theirs = word("Selected: there", partial(self._decide, "theirs"), "T")
        all_ours = word("All: here", partial(self._decide_all, "ours"))
        all_theirs = word("All: there", partial(self._decide_all, "theirs"))
        self.do = act("Merge", self._do)
        column_ = QVBoxLayout(self)
        column_.setContentsMargins(0, 0, 0, 0)
        column_.setSpacing(6)
        column_.addWidget(self.headline)
        column_.addWidget(self.said)
        column_.addLayout(row(self.ours, self.theirs, all_ours, all_theirs, None, spacing=6))
        column_.addWidget(self.table, 1)
        column_.addWidget(self.fault)
        column_.addLayout(row(None, word("Give up", self._give_up, "Esc"), self.do, spacing=8))

    def _changed(self) -> None:
        if self.isVisible():
            self.refresh()

    def refresh(self) -> None:
        """The merge as it stands."""
        merging = self.maps.merging
        found = merging.merge
        self.fault.say(None)
        if found is None:
            self.headline.setText("Nothing is being merged")
            self.said.setText(
                "Choose a revision under History, or an image that came back, to merge it into the draft."
            )
            self.table.setRowCount(0)
            self.do.setEnabled(False)
            return
        open_ = len(merging.open_conflicts())
        taken = "1 cell is" if found.taken == 1 else f"{found.taken} cells are"
        self.headline.setText(
            f"{merging.other} into the draft: {taken} taken, {len(found.conflicts)} changed on both sides"
        )
        said = f"From {merging.base} on. Here: {merging.ours_reason()}. There: {merging.other_reason}."
        if found.undescribed:
            said += f" {found.undescribed:,} bytes that no description names differ too: they are not merged."
        if open_:
            said += f" {open_} {'is' if open_ == 1 else 'are'} to be decided."
        self.said.setText(said)
        self.do.setEnabled(open_ == 0)
        self.table.setRowCount(min(len(found.conflicts), MOST_CONFLICTS))
        for n, conflict in enumerate(found.conflicts[:MOST_CONFLICTS]):
            for column, text in enumerate(self._words(conflict)):
                self.table.setItem(n, column, QTableWidgetItem(text))

    def _words(self, c: Conflict) -> tuple[str, ...]:
        side = self.maps.merging.sides.get((c.slot, c.key, c.cell))
        stands = {"ours": "here", "theirs": "there"}.get(side or "", "open")
        if c.texts is not None:
            return c.title, "text", *c.texts, stands
        if c.cell is None:
            return c.title, "break points", "", "", "", stands
        before, ours, theirs = (f"{v:.{c.decimals}f}" for v in (c.base, c.ours, c.theirs))
        return c.title, c.where, before, ours, theirs, stands

    def _decide(self, side: Side) -> None:
        found = self.maps.merging.merge
        if found is None:
            return
        lines = sorted({index.row() for index in self.table.selectedIndexes()})
        kept = self.table.currentRow()
        self.maps.merging.decide([found.conflicts[n] for n in lines], side)
        self.table.setCurrentCell(min(kept + 1, self.table.rowCount() - 1), 0)

    def _decide_all(self, side: Side) -> None:
        found = self.maps.merging.merge
        if found is not None:
            self.maps.merging.decide(found.conflicts, side)

    def _do(self) -> None:
        if self.fault.attempt(self.maps.merging.do):
            self.left.emit()

    def _give_up(self) -> None:
        self.maps.merging.cancel()
        self.left.emit()

    def keyPressEvent(self, event) -> None:
        """H and T decide what is selected."""
        if event.key() == Qt.Key.Key_H:
            self._decide("ours")
        elif event.key() == Qt.Key.Key_T:
            self._decide("theirs")
        else:
            super().keyPressEvent(event)
