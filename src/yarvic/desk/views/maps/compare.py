"""The page of what differs: working against reference, another slot or an image; taken over by cell, table or all."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from yarvic.core.errors import YarvicError
from yarvic.desk.widgets.headed import NAME_PX, plain_rows
from yarvic.desk.widgets.words import act, chooser, label, row, show_choice, word
from yarvic.state.compared import Weighed
from yarvic.state.maps import MapsState

HEADS = ("Table or value", "Cells", "Change", "Of its greatest", "Role")
IMAGES = "Images (*.hex *.s19 *.srec *.mot *.bin);;All files (*)"
MOST_ROWS = 3000


class ComparePage(QWidget):
    """The list, what matters most first. `taken` brings the key of one that is opened; `merge_asked`: the image that the
    maps are compared with is to be merged.
    """

    taken = pyqtSignal(str)
    merge_asked = pyqtSignal()

    def __init__(self, maps: MapsState) -> None:
        super().__init__()
        self.maps = maps
        self.against = chooser("What the maps are held against", self._against)
        self.headline = label("", "quiet")
        self.shown_as = chooser("How differences are shown", self._ways)
        self.table = plain_rows(HEADS, "Tables and values that differ", {1: 90, 2: 190, 3: 110, 4: 120}, NAME_PX)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.table.doubleClicked.connect(lambda index: self._open(index.row()))
        self.table.activated.connect(lambda index: self._open(index.row()))
        self.take = word("Take over selected", self._take_selected)
        self.take_all = act("Take over all", self._take_all)
        self.merge = word("Merge it into the draft", self.merge_asked.emit)
        self._listed: list[Weighed] = []
        column_ = QVBoxLayout(self)
        column_.setContentsMargins(0, 0, 0, 0)
        column_.setSpacing(6)
        column_.addLayout(row(label("Against", "quiet"), self.against, self.shown_as, None, spacing=6))
        column_.addLayout(row(self.headline, None, self.merge, self.take, self.take_all, spacing=8))
        column_.addWidget(self.table, 1)

    def refresh(self) -> None:
        """What differs now."""
        compared = self.maps.compared
        show_choice(self.against, compared.name() or "nothing")
        show_choice(self.shown_as, "As values" if compared.shown_as == "value" else "In per cent")
        self._listed = compared.differences()[:MOST_ROWS]
        self.table.setRowCount(len(self._listed))
        for n, each in enumerate(self._listed):
            d = each.difference
            change = d.sentence().removeprefix(f"{d.title}: ")
            cells = f"{d.cells} of {each.size}"
            for column, text in enumerate((d.title, cells, change, f"{each.share * 100:.0f} %", each.role)):
                self.table.setItem(n, column, QTableWidgetItem(text))
        count, cells_ = len(self._listed), sum(w.difference.cells for w in self._listed)
        name = compared.name()
        if not name:
            self.headline.setText("Choose what the maps are held against.")
        else:
            tables = "1 table or value differs" if count == 1 else f"{count} tables and values differ"
            self.headline.setText(
                f"{tables} from {name}, {cells_} cells" if count else f"Nothing differs from {name}"
            )
        self.merge.setVisible(compared.outside is not None)
        for button in (self.take, self.take_all):
            button.setEnabled(bool(self._listed))

    def _against(self) -> list[tuple[str, Callable[[], None]]]:
        session, compared = self.maps.session, self.maps.compared
        found: list[tuple[str, Callable[[], None]]] = []
        for revision in reversed(session.revisions()):
            if revision.id != session.working:
                found.append((f"Revision {revision.name}", partial(self._revision, revision.id)))
        if session.job is not None:
            found += [
                (f"Slot {s} of the same maps", partial(compared.against_slot, s))
                for s in session.job.layout.slots
                if s != session.slot
            ]
        return [*found, ("An image file", self.choose_file)]

    def _revision(self, revision_id: int) -> None:
        self.maps.compared.against_reference()
        self.maps.session.choose_reference(revision_id)

    def choose_file(self) -> None:
        """Let a person choose an image of the same unit."""
        path, _ = QFileDialog.getOpenFileName(self, "Hold the maps against an image", "", IMAGES)
        if path:
            try:
                self.maps.compared.against_file(Path(path))
            except YarvicError as error:
                self.maps.session.say(str(error), trouble=True)

    def _ways(self) -> list[tuple[str, Callable[[], None]]]:
        compared = self.maps.compared
        return [
            ("As values", partial(compared.show_as, "value")),
            ("In per cent of the reference", partial(compared.show_as, "percent")),
        ]

    def _open(self, line: int) -> None:
        if 0 <= line < len(self._listed):
            self.taken.emit(self._listed[line].difference.key)

    def _take_selected(self) -> None:
        lines = sorted({index.row() for index in self.table.selectedIndexes()})
        self._take([self._listed[n].difference.key for n in lines if n < len(self._listed)])

    def _take_all(self) -> None:
        self._take([w.difference.key for w in self._listed])

    def _take(self, keys: list[str]) -> None:
        if not keys:
            self.maps.session.say("Select the tables that are to be taken over.", trouble=True)
            return
        try:
            self.maps.compared.take_over(keys)
        except YarvicError as error:
            self.maps.session.say(str(error), trouble=True)
        self.refresh()
