"""The same table as slices: each row over the column axis or each column over the row axis, the one in hand strong, the
reference a ghost. Points of the one in hand are dragged up and down.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen
from pyqtgraph.functions import arrayToQPath

from yarvic.core.calibration.table import Axis, Table
from yarvic.core.physics import FloatArray
from yarvic.desk.theme import mix, tokens
from yarvic.desk.views.maps.pane import MARGINS, Pane, draw_ticks, plain_font, shares, steps_between
from yarvic.state.maps import MapsState

GRAB_PX, POINT_PX = 12.0, 4.0
PAD = 0.06  # room above and below the values, as a share of their span
LINES, MOST_SMOOTH = 5, 14


class Slices(Pane):
    """A chart whose points can be dragged; `dragged` carries new values by cell, in the display unit."""

    dragged = pyqtSignal(object)

    def __init__(self, maps: MapsState) -> None:
        super().__init__(maps, "Slices of the table")
        self.setMinimumHeight(90)
        self.other_way = False
        self._grabbed: tuple[int, int] | None = None  # line and place
        self._wanted: dict[tuple[int, int], float] = {}  # where the points in hand would go

    def turn(self) -> None:
        """Draw the columns over the row axis instead of the rows over the column axis, or back."""
        self.other_way = not self.other_way
        self.redraw()

    def _turned(self) -> bool:
        return self.other_way and self.table is not None and not self.table.is_curve

    def _lines(self, values: NDArray[Any]) -> NDArray[Any]:
        return values.T if self._turned() else values

    def _axis(self, table: Table) -> Axis:
        return table.y if self._turned() else table.x

    def _line_in_hand(self) -> int:
        """The row or column that is drawn strongly."""
        rows, columns = self.values.shape
        return min(self.maps.column, columns - 1) if self._turned() else min(self.maps.row, rows - 1)

    def _cell(self, line: int, place: int) -> tuple[int, int]:
        """Row and column of a point."""
        return (place, line) if self._turned() else (line, place)

    def take_up(self) -> None:
        """The span of the values."""
        there = self.values[np.isfinite(self.values)]
        low, high = (float(there.min()), float(there.max())) if there.size else (0.0, 1.0)
        pad = PAD * (high - low) or 1.0
        self._span = low - pad, high + pad

    def _box(self) -> QRectF:
        left, top, right, bottom = MARGINS
        return QRectF(left, top, self.width() - left - right, self.height() - top - bottom)

    def place(self, row: int, column: int, value: float) -> QPointF:
        """Where a cell's point stands, in pixels of the chart, with a value in the display unit."""
        assert self.table is not None
        box, (low, high) = self._box(), self._span
        share = shares(self._axis(self.table))[row if self._turned() else column]
        return QPointF(box.left() + share * box.width(), box.bottom() - (value - low) / (high - low) * box.height())

    def _value(self, y: float) -> float:
        box, (low, high) = self._box(), self._span
        return low + (box.bottom() - y) / box.height() * (high - low)

    # -- drawing

    def picture(self, painter: QPainter, table: Table) -> None:
        """Lines of the value, all slices, the reference's, the one in hand with its points."""
        t, box = tokens(), self._box()
        axis = self._axis(table)
        self._levels(painter, box)
        draw_ticks(painter, box, axis, None)
        values, line = self._lines(self.values), self._line_in_hand()
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(mix(t.color("sheet"), t.color("working"), 0.30), 1))
        # Many faint lines look the same without smoothed edges, and take a tenth of the time.
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, values.shape[0] <= MOST_SMOOTH)
        others = np.hstack([np.delete(values, line, axis=0), np.full((values.shape[0] - 1, 1), np.nan)])
        self._draw(painter, box, np.tile(np.append(shares(axis), 0.0), values.shape[0] - 1), others.ravel())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.ghost is not None:
            ghost = self._lines(self.ghost)[line]
            if not np.array_equal(ghost, values[line], equal_nan=True):
                painter.setPen(QPen(t.color("reference"), 1.8, Qt.PenStyle.DashLine))
                self._draw(painter, box, shares(axis), ghost)
        shown = values[line].copy()
        for (row, column), value in self._wanted.items():
            at, place = (column, row) if self._turned() else (row, column)
            if at == line:
                shown[place] = value
        painter.setPen(QPen(t.color("working"), 2.6))
        self._draw(painter, box, shares(axis), shown)
        self._points(painter, line, shown)
        self._name(painter, box, table, line)

    def _levels(self, painter: QPainter, box: QRectF) -> None:
        t = tokens()
        painter.setFont(plain_font())
        metrics = QFontMetricsF(plain_font())
        low, high = self._span
        for level in steps_between(low, high, LINES):
            y = box.bottom() - (level - low) / (high - low) * box.height()
            painter.setPen(QPen(mix(t.color("sheet"), t.color("line"), 0.5), 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            text = f"{level:g}"
            painter.setPen(t.color("quiet"))
            painter.drawText(QPointF(box.left() - 8 - metrics.horizontalAdvance(text), y + 4), text)
        painter.setPen(QPen(t.color("line"), 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())

    def _draw(self, painter: QPainter, box: QRectF, share: FloatArray, values: FloatArray) -> None:
        """Values over their places along the foot; a cell without a number breaks the line."""
        low, high = self._span
        xs = box.left() + share * box.width()
        painter.drawPath(
            arrayToQPath(xs, box.bottom() - (values - low) / (high - low) * box.height(), connect="finite")
        )

    def _points(self, painter: QPainter, line: int, shown: FloatArray) -> None:
        """The points of the slice in hand; those that would move together are filled."""
        t = tokens()
        mask = self._lines(self.in_hand)[line]
        several = int(self.in_hand.sum()) > 1
        painter.setPen(QPen(t.color("working"), 1.8))
        for strong in (False, True):
            painter.setBrush(t.color("working" if strong else "sheet"))
            for n in np.flatnonzero(np.isfinite(shown) & ((mask & several) == strong)).tolist():
                painter.drawEllipse(self.place(*self._cell(line, n), float(shown[n])), POINT_PX, POINT_PX)

    def _name(self, painter: QPainter, box: QRectF, table: Table, line: int) -> None:
        t = tokens()
        unit = self.maps.display_unit(table.unit)
        painter.setFont(plain_font())
        painter.setPen(t.color("quiet"))
        painter.drawText(QPointF(4, box.top() + 2), unit)
        if table.is_curve:
            return
        across = table.x if self._turned() else table.y
        word = "column" if self._turned() else "row"
        text = f"{word} {across.values[line]:g} {across.unit}".rstrip()
        # Where the lines leave room: above where they end low, else below.
        last = self._lines(self.values)[:, -1]
        low, high = self._span
        upper = bool(np.nanmean((last - low) / (high - low)) < 0.5) if np.isfinite(last).any() else True
        rect = box.adjusted(0, 2, -4, -4)
        where = Qt.AlignmentFlag.AlignTop if upper else Qt.AlignmentFlag.AlignBottom
        painter.setPen(t.color("working"))
        painter.drawText(rect, int(Qt.AlignmentFlag.AlignRight | where), text)

    # -- dragging

    def mousePressEvent(self, event) -> None:
        """Take hold of the nearest point of the slice in hand."""
        if self.table is None or event.button() != Qt.MouseButton.LeftButton or not self.values.size:
            return
        line = self._line_in_hand()
        for n, value in enumerate(self._lines(self.values)[line].tolist()):
            if not np.isfinite(value):
                continue
            at = self.place(*self._cell(line, n), value)
            if (at - event.position()).manhattanLength() < GRAB_PX:
                self._grabbed = line, n
                self.setCursor(Qt.CursorShape.SizeVerCursor)
                return

    def _moved_to(self, value: float) -> dict[tuple[int, int], float]:
        """What the cells would be: the one that is held; all selected ones with it where it is one of them."""
        assert self._grabbed is not None
        cell = self._cell(*self._grabbed)
        mask = self.in_hand
        if not (mask[cell] and mask.sum() > 1):
            return {cell: value}
        by = value - self.values[cell]
        moved = ((int(r), int(c)) for r, c in np.argwhere(mask))
        return {at: float(self.values[at] + by) for at in moved if np.isfinite(self.values[at])}

    def mouseMoveEvent(self, event) -> None:
        """Show where the points would go."""
        if self._grabbed is not None:
            self._wanted = self._moved_to(self._value(event.position().y()))
            self.update()

    def mouseReleaseEvent(self, event) -> None:
        """Let go: that is one edit."""
        if self._grabbed is None:
            return
        wanted = self._moved_to(self._value(event.position().y()))
        self._grabbed, self._wanted = None, {}
        self.unsetCursor()
        self.update()
        self.dragged.emit(wanted)
