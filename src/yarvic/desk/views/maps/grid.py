"""The table as cells: value, tint, difference to the reference, and the evidence at the foot of each cell."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QItemSelection, QItemSelectionModel, QModelIndex, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QPainter, QPen
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QStyledItemDelegate, QTableView

from yarvic.core.checks.limits import default_limits
from yarvic.desk.theme import BODY_PX, font, mix, tokens
from yarvic.state.maps import MapsState

# Deeper retard than the knock check allows tints the bar at a cell's foot.
KNOCK_DEG = default_limits().rules["knock_retard"].stop

LEAST_CELL_PX, CELL_MARGIN_PX = 40, 9


class TableModel(QAbstractTableModel):
    """The table in hand, in the display unit."""

    def __init__(self, maps: MapsState) -> None:
        super().__init__()
        self.maps = maps
        self.reload()

    def reload(self) -> None:
        """Take the table up anew."""
        self.beginResetModel()
        self.table = self.maps.table()
        self._values()
        self.endResetModel()

    def revalue(self) -> None:
        """The numbers moved; shape and selection stay."""
        self.table = self.maps.table()
        self._values()
        if self.table is not None:
            rows, columns = self.table.values.shape
            self.dataChanged.emit(self.index(0, 0), self.index(rows - 1, columns - 1))

    def _values(self) -> None:
        table = self.table
        self.shown = self.maps.shown(table) if table is not None else np.zeros((0, 0))
        self.difference = self.maps.difference()
        self.evidence = self.maps.evidence()
        self.decimals = self.maps.decimals(table) if table is not None else 0
        there = self.shown[np.isfinite(self.shown)]
        low, high = (there.min(), there.max()) if there.size else (0.0, 1.0)
        share = (self.shown - low) / (high - low) if high > low else np.full(self.shown.shape, 0.4)
        self.share = np.nan_to_num(share, nan=0.0, posinf=1.0, neginf=0.0)

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        """Rows of the table."""
        return 0 if self.table is None else self.table.values.shape[0]

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        """Columns of the table."""
        return 0 if self.table is None else self.table.values.shape[1]

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        """The value as text; in words for those who listen."""
        if self.table is None or not index.isValid():
            return None
        r, c = index.row(), index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return self._number(r, c)
        if role in (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
            return self.words(r, c)
        return None

    def _number(self, r: int, c: int) -> str:
        value = self.shown[r, c]
        return f"{value:.{self.decimals}f}" if np.isfinite(value) else "none"

    def words(self, r: int, c: int) -> str:
        """A cell in words: value, place, difference, evidence."""
        assert self.table is not None
        unit = self.maps.display_unit(self.table.unit)
        text = f"{self._number(r, c)} {unit}".rstrip() + f" at {self.table.place(r, c)}"
        if self.difference is not None and abs(self.difference[r, c]) > 1e-9:
            text += f"; {self.difference[r, c]:+.{self.decimals}f} against the reference"
        if self.evidence is not None and self.evidence.seconds[r, c] > 0:
            text += f"; {self.evidence.seconds[r, c]:.1f} s of evidence"
            if self.evidence.retard_deg[r, c] > 0:
                text += f", retarded up to {self.evidence.retard_deg[r, c]:.1f} deg"
        return text

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole):
        """Axis values."""
        if self.table is None or role != Qt.ItemDataRole.DisplayRole:
            return None
        axis = self.table.x if orientation == Qt.Orientation.Horizontal else self.table.y
        return "" if axis is self.table.y and self.table.is_curve else f"{axis.values[section]:g}"


class CellPainter(QStyledItemDelegate):
    """Paints one cell."""

    def paint(self, painter: QPainter | None, option, index) -> None:
        """Tint, value, difference, evidence, and the edge of the selection."""
        model = index.model()
        if painter is None or not isinstance(model, TableModel) or model.table is None:
            return
        t = tokens()
        r, c = index.row(), index.column()
        box = QRectF(option.rect)
        painter.save()
        painter.fillRect(box, t.ramp(float(model.share[r, c])))
        differs = bool(model.difference is not None and abs(model.difference[r, c]) > 1e-9)
        painter.setPen(t.color("ink"))
        painter.setFont(font(BODY_PX, bold=differs))
        painter.drawText(
            box.adjusted(0, 2, -6, -3),
            int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter),
            str(index.data()),
        )
        if differs and model.difference is not None:
            self._difference(painter, box, float(model.difference[r, c]), model.decimals)
        self._evidence(painter, box, model, r, c)
        painter.setPen(QPen(mix(t.color("sheet"), t.color("line"), 0.8), 1))
        painter.drawLine(box.topRight(), box.bottomRight())
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        self._edge(painter, box, option.widget, index)
        painter.restore()

    def _difference(self, painter: QPainter, box: QRectF, value: float, decimals: int) -> None:
        """The difference with its sign; ochre down, deep water up."""
        painter.setPen(tokens().color("working" if value > 0 else "reference"))
        painter.setFont(font(9))
        painter.drawText(box.adjusted(3, 1, 0, 0), int(Qt.AlignmentFlag.AlignLeft), f"{value:+.{decimals}f}")

    def _evidence(self, painter: QPainter, box: QRectF, model: TableModel, r: int, c: int) -> None:
        """A bar at the foot: its length is time spent there, red and thicker where a cylinder was retarded deeply."""
        e = model.evidence
        if e is None or e.seconds[r, c] <= 0.0:
            return
        length = (box.width() - 6) * min(1.0, (e.seconds[r, c] / max(float(e.seconds.max()), 1e-9)) ** 0.5)
        knocked = bool(e.retard_deg[r, c] > KNOCK_DEG)
        height = 4 if knocked else 2
        painter.fillRect(
            QRectF(box.left() + 3, box.bottom() - height - 1, length, height),
            tokens().color("stop" if knocked else "holds"),
        )

    def _edge(self, painter: QPainter, box: QRectF, view, index) -> None:
        """A line around the selection as a whole, so that the tints stay readable."""
        if not isinstance(view, QTableView):
            return
        chosen, model = view.selectionModel(), view.model()
        if chosen is None or model is None or not chosen.isSelected(index):
            return
        r, c = index.row(), index.column()
        painter.setPen(QPen(tokens().color("ink"), 2))
        inner = box.adjusted(1, 1, -1, -1)
        if not chosen.isSelected(model.index(r - 1, c)):
            painter.drawLine(inner.topLeft(), inner.topRight())
        if not chosen.isSelected(model.index(r + 1, c)):
            painter.drawLine(inner.bottomLeft(), inner.bottomRight())
        if not chosen.isSelected(model.index(r, c - 1)):
            painter.drawLine(inner.topLeft(), inner.bottomLeft())
        if not chosen.isSelected(model.index(r, c + 1)):
            painter.drawLine(inner.topRight(), inner.bottomRight())
        if index == view.currentIndex() and view.hasFocus():
            painter.setPen(QPen(tokens().color("working"), 1, Qt.PenStyle.DotLine))
            painter.drawRect(inner.adjusted(2, 2, -2, -2))


class Grid(QTableView):
    """The cells. Typing a digit begins a Set; the letters of the words work here."""

    typed = pyqtSignal(str)
    chosen = pyqtSignal()

    def __init__(self, maps: MapsState) -> None:
        super().__init__()
        self.maps = maps
        self.cells = TableModel(maps)
        self.setModel(self.cells)
        self.setItemDelegate(CellPainter(self))
        self.setShowGrid(False)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setAccessibleName("Table cells")
        self.setTabKeyNavigation(False)
        horizontal, vertical = self.horizontalHeader(), self.verticalHeader()
        assert horizontal is not None and vertical is not None
        horizontal.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        vertical.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        vertical.setMinimumSectionSize(22)
        vertical.setFixedWidth(52)
        vertical.setDefaultAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.cells.modelReset.connect(self._widen)
        self.cells.dataChanged.connect(self._widen)
        self._widen()
        self._watch()

    def _widen(self) -> None:
        """Columns as wide as their widest number: what is cut off would be read as another."""
        header, decimals = self.horizontalHeader(), self.cells.decimals
        assert header is not None
        there = self.cells.shown[np.isfinite(self.cells.shown)]
        ends = (there.min(), there.max()) if there.size else ()
        widest = max((f"{v:.{decimals}f}" for v in ends), key=len, default="")
        header.setMinimumSectionSize(
            max(LEAST_CELL_PX, QFontMetrics(font(BODY_PX, bold=True)).horizontalAdvance(widest) + CELL_MARGIN_PX)
        )

    def _watch(self) -> None:
        model = self.selectionModel()
        assert model is not None
        model.selectionChanged.connect(lambda *_: self._follow())
        model.currentChanged.connect(lambda *_: self._follow())

    def _follow(self) -> None:
        if self.cells.table is None:
            return
        mask = np.zeros(self.cells.table.values.shape, dtype=bool)
        for index in self.selectedIndexes():
            mask[index.row(), index.column()] = True
        self.maps.select(mask, max(self.currentIndex().row(), 0))
        viewport = self.viewport()
        if viewport is not None:
            viewport.update()
        self.chosen.emit()

    def reload(self) -> None:
        """Another table: the selection begins anew at its first cell."""
        self.cells.reload()
        if self.cells.table is not None:
            self.setCurrentIndex(self.cells.index(0, 0))
            self._follow()

    def select_block(self, top: int, left: int, bottom: int, right: int) -> None:
        """Select a rectangle of cells."""
        model = self.selectionModel()
        assert model is not None
        block = QItemSelection(self.cells.index(top, left), self.cells.index(bottom, right))
        model.setCurrentIndex(self.cells.index(top, left), QItemSelectionModel.SelectionFlag.NoUpdate)
        model.select(block, QItemSelectionModel.SelectionFlag.ClearAndSelect)

    def keyPressEvent(self, event) -> None:
        """A digit, point or sign begins arithmetic with it; the rest moves and selects."""
        text = event.text()
        plain = not event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier)
        if text and plain and (text.isdigit() or text in "+-*/=.,"):
            self.typed.emit(f"{text} " if text in "+-*/=" else text)
            return
        super().keyPressEvent(event)
