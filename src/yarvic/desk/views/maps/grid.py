"""The table as cells: value, tint, difference to the reference, and the evidence at the foot of each cell."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from PyQt6.QtCore import (
    QItemSelection,
    QItemSelectionModel,
    Qt,
    pyqtSignal,
)
from PyQt6.QtGui import QFontMetrics, QPainter
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView

from yarvic.desk.theme import BODY_PX, CAPTION_PX, font
from yarvic.desk.views.maps.cells import CELL_MARGIN_PX, LEAST_CELL_PX, CellPainter, PaintedTable
from yarvic.desk.views.maps.table_model import MOST_WORD, TableModel
from yarvic.state.maps import MapsState

LEAST_HEADER_PX, HEADER_MARGIN_PX = 48, 14


class Grid(PaintedTable):
    """The cells. Typing a digit begins a Set; the letters of the words work here."""

    typed = pyqtSignal(str)
    chosen = pyqtSignal()

    def __init__(self, maps: MapsState, *, other: bool = False) -> None:
        super().__init__()
        self.maps = maps
        self.cells = TableModel(maps, other=other)
        self.setModel(self.cells)
        self._painter = CellPainter()
        self.setShowGrid(False)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setAccessibleName("Cells of the reference" if other else "Table cells")
        self.setTabKeyNavigation(False)
        horizontal, vertical = self.horizontalHeader(), self.verticalHeader()
        assert horizontal is not None and vertical is not None
        horizontal.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        vertical.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        vertical.setMinimumSectionSize(22)
        vertical.setDefaultAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.cells.modelReset.connect(self._widen)
        self.cells.dataChanged.connect(self._widen)
        self._widen()
        self._watch()

    def _widen(self) -> None:
        """As wide as the widest number and break point: what is cut off would be read as another."""
        horizontal, vertical, decimals = self.horizontalHeader(), self.verticalHeader(), self.cells.decimals
        assert horizontal is not None and vertical is not None
        there = self.cells.shown[np.isfinite(self.cells.shown)]
        ends = (there.min(), there.max()) if there.size else ()
        widest = max((f"{v:.{decimals}f}" for v in ends), key=len, default="")
        if self.cells.named is not None:
            widest = max((w.text[:MOST_WORD] for w in self.cells.named.words), key=len, default=widest)
        numbers = QFontMetrics(font(BODY_PX, bold=True)).horizontalAdvance(widest) + CELL_MARGIN_PX
        across, down = (self._widest(way) for way in (Qt.Orientation.Horizontal, Qt.Orientation.Vertical))
        horizontal.setMinimumSectionSize(max(LEAST_CELL_PX, numbers, across))
        vertical.setFixedWidth(max(LEAST_HEADER_PX, down))

    def _widest(self, way: Qt.Orientation) -> int:
        """The width of the widest break point of an axis."""
        metrics = QFontMetrics(font(CAPTION_PX, bold=True))
        count = self.cells.columnCount() if way == Qt.Orientation.Horizontal else self.cells.rowCount()
        widths = (metrics.horizontalAdvance(str(self.cells.headerData(n, way) or "")) for n in range(count))
        return max(widths, default=0) + HEADER_MARGIN_PX

    def _watch(self) -> None:
        model = self.selectionModel()
        assert model is not None
        model.selectionChanged.connect(lambda *_: self._follow())
        model.currentChanged.connect(lambda *_: self._follow())

    def _follow(self) -> None:
        if self.cells.table is None or self.cells.other:
            return
        mask = np.zeros(self.cells.table.values.shape, dtype=bool)
        for index in self.selectedIndexes():
            mask[index.row(), index.column()] = True
        self.maps.select(mask, max(self.currentIndex().row(), 0), max(self.currentIndex().column(), 0))
        viewport = self.viewport()
        if viewport is not None:
            viewport.update()
        self.chosen.emit()

    def reload(self) -> None:
        """Another table: the selection begins anew at its first cell. Where it is the same one, its cells stay in hand."""
        kept, at = self.maps.cells_in_hand(), (self.maps.row, self.maps.column)
        self.cells.reload()
        if self.cells.table is None or self.cells.other:
            return
        if kept.any():
            rows, columns = (np.flatnonzero(kept.any(axis=a)) for a in (1, 0))
            self.select_block(int(rows[0]), int(columns[0]), int(rows[-1]), int(columns[-1]), at)
        else:
            self.setCurrentIndex(self.cells.index(0, 0))
            self._follow()

    def select_block(
        self, top: int, left: int, bottom: int, right: int, current: tuple[int, int] | None = None
    ) -> None:
        """Select a rectangle of cells; `current` is the one in it that the keys go on from, else the first."""
        row, column = current if current is not None else (top, left)
        model = self.selectionModel()
        assert model is not None
        block = QItemSelection(self.cells.index(top, left), self.cells.index(bottom, right))
        model.setCurrentIndex(self.cells.index(row, column), QItemSelectionModel.SelectionFlag.NoUpdate)
        model.select(block, QItemSelectionModel.SelectionFlag.ClearAndSelect)

    def select_cells(self, cells: Iterable[tuple[int, int]]) -> None:
        """Select cells, whatever shape they make."""
        model, chosen = self.selectionModel(), QItemSelection()
        assert model is not None
        listed = list(cells)
        for r, c in listed:
            chosen.select(self.cells.index(r, c), self.cells.index(r, c))
        if listed:
            model.setCurrentIndex(self.cells.index(*listed[0]), QItemSelectionModel.SelectionFlag.NoUpdate)
            model.select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)

    def paintEvent(self, event) -> None:
        """The cells in sight, all at once."""
        painter = QPainter(self.viewport())
        self._painter.paint(painter, self, event.rect())
        painter.end()

    def keyPressEvent(self, event) -> None:
        """A digit, point or sign begins arithmetic with it; the rest moves and selects."""
        text = event.text()
        plain = not event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier)
        if text and plain and not self.cells.other and (text.isdigit() or text in "+-*/=.,"):
            self.typed.emit(f"{text} " if text in "+-*/=" else text)
            return
        super().keyPressEvent(event)
