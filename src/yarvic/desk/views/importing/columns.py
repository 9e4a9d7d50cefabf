"""The columns of a recording in one list: name, a small trace, what it is read as, and what is in doubt."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QStyledItemDelegate, QStyleOptionViewItem, QTableView

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.dictionary import TIME
from yarvic.core.evidence.mapping import Column
from yarvic.desk.theme import tokens
from yarvic.state.arrival import TIME_PLACE, Arrival, glance

HEADS = ("Column", "Trace", "Read as", "Unit", "Doubt or reason")
NAME, TRACE, READ_AS, UNIT, DOUBT = range(5)
WIDTHS = (170, 110, 160, 108)
ROW_PX = 26
# The doubt has this width where there is room, and the other columns keep this share of theirs.
DOUBT_PX, LEAST_SHARE = 240, 0.66
STATES = {"used": "known", "guessed": "guess", "confirmed": "confirmed", "not_understood": "left aside"}


def read_as(column: Column) -> str:
    """What a column is read as, in words."""
    if column.channel == TIME:
        return "Time"
    kind = CHANNELS.get(column.channel)
    return kind.title if kind is not None else "left aside"


def doubt_of(column: Column, beside: str = "") -> str:
    """What is asked of a column, or has to be known beside it; else how it was come by, and why."""
    asked = column.question or beside
    if asked:
        return f"{asked[:1].upper()}{asked[1:]}"
    words = STATES[column.how]
    return f"{words}: {column.reason}" if column.reason and column.how != "confirmed" else words


class ColumnModel(QAbstractTableModel):
    """The columns of the arrival that is looked at, those in doubt first."""

    def __init__(self) -> None:
        super().__init__()
        self.arrival: Arrival | None = None
        self.order: list[int] = []
        self.beside: dict[int, str] = {}

    def show_arrival(self, arrival: Arrival | None) -> None:
        """Show another arrival, or the same with other answers; the order stays while one is answered."""
        self.beside = arrival.beside() if arrival is not None else {}
        if arrival is not self.arrival:
            self.beginResetModel()
            self.arrival = arrival
            self.order = arrival.order() if arrival is not None else []
            self.endResetModel()
        elif self.order:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.order) - 1, DOUBT))

    def column_at(self, row: int) -> tuple[int, Column] | None:
        """Place and meaning of the column in a row."""
        if self.arrival is None or not 0 <= row < len(self.order):
            return None
        place = self.order[row]
        return place, self.arrival.answers.column(place)

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """A row for each column."""
        return len(self.order)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        """What is said of each."""
        return len(HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """The heads."""
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return HEADS[section]
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """The words of a cell."""
        found = self.column_at(index.row())
        if found is None:
            return None
        c = found[1]
        beside = self.beside.get(found[0], "")
        if role == Qt.ItemDataRole.ForegroundRole:
            token = "stop" if c.question or beside else "watch" if c.doubtful else "quiet" if not c.channel else "ink"
            return tokens().color(token if index.column() in (READ_AS, UNIT, DOUBT) or not c.channel else "ink")
        if role not in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return None
        unit = f"{c.unit_in_words or ('?' if c.channel else '')}{', turned' if c.sign == -1 else ''}"
        unit = f"{unit} {c.scale_in_words}".strip()
        counted = found[0] == TIME_PLACE and self.arrival is not None and self.arrival.rows_counted
        name = "(rows, counted)" if counted else f"{c.name} [{c.header_unit}]" if c.header_unit else c.name
        return (name, "", read_as(c), unit, doubt_of(c, beside))[index.column()]


class TraceDelegate(QStyledItemDelegate):
    """Draws the numbers of a column as a small line."""

    def __init__(self, model: ColumnModel) -> None:
        super().__init__()
        self.model = model

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        """As high as a row."""
        return QSize(WIDTHS[TRACE], ROW_PX)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        """The ground of the row, and the line on it; gaps stay open."""
        super().paint(painter, option, index)
        found = self.model.column_at(index.row())
        if painter is None or found is None or self.model.arrival is None:
            return
        raw = self.model.arrival.recording.raw
        column = raw.time if found[0] == TIME_PLACE else raw.columns[found[0]]
        if column is None:
            return
        values = glance(column)
        good = np.isfinite(values)
        if np.count_nonzero(good) < 2:
            return
        box = QRectF(option.rect).adjusted(6, 5, -6, -5)
        low, high = float(values[good].min()), float(values[good].max())
        x = box.left() + np.arange(values.size) / max(values.size - 1, 1) * box.width()
        y = box.bottom() - (values - low) / (high - low if high > low else 1.0) * box.height()
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(tokens().color("working"), 1.2))
        edges = np.flatnonzero(np.diff(np.concatenate(([False], good, [False])).astype(np.int8)))
        for first, last in zip(edges[::2], edges[1::2], strict=True):
            painter.drawPolyline(
                QPolygonF([QPointF(float(a), float(b)) for a, b in zip(x[first:last], y[first:last], strict=True)])
            )
        painter.restore()


class ColumnTable(QTableView):
    """The list, with one row in hand."""

    def __init__(self) -> None:
        super().__init__()
        self.columns = ColumnModel()
        self.setModel(self.columns)
        self.traces = TraceDelegate(self.columns)
        self.setItemDelegateForColumn(TRACE, self.traces)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.setTabKeyNavigation(False)
        self.setAccessibleName("Columns of the file, those in doubt first")
        vertical, horizontal = self.verticalHeader(), self.horizontalHeader()
        assert vertical is not None and horizontal is not None
        vertical.hide()
        vertical.setDefaultSectionSize(ROW_PX)
        horizontal.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        horizontal.setStretchLastSection(True)
        horizontal.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self._wide = 0

    def resizeEvent(self, event) -> None:
        """Where the list is narrow the other columns give way, so that the doubt can be read."""
        super().resizeEvent(event)
        viewport = self.viewport()
        if viewport is None or viewport.width() == self._wide:
            return
        self._wide = viewport.width()
        share = min(1.0, max(LEAST_SHARE, (self._wide - DOUBT_PX) / sum(WIDTHS)))
        for section, width in enumerate(WIDTHS):
            self.setColumnWidth(section, int(width * share))
