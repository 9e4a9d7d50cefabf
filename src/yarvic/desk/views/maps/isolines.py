"""The table as lines of one value, named in its unit; the reference's as ghosts."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPainterPath, QPen, QTransform

from yarvic.core.calibration.table import Table
from yarvic.core.physics import FloatArray
from yarvic.desk.theme import mix, tokens
from yarvic.desk.views.maps.pane import MARGINS, Pane, draw_ticks, plain_font, shares, steps_between
from yarvic.state.maps import MapsState

LEVELS = 9
Lines = list[tuple[float, list[FloatArray]]]  # a level, and its lines as places on the axes, 0 to 1


def lines_of(table: Table, values: FloatArray, levels: FloatArray) -> Lines:
    """The lines along which a table has each level, as shares of its axes; none through cells without a number."""
    import contourpy  # not before somebody looks at it

    z = np.ma.masked_invalid(values)
    made = contourpy.contour_generator(shares(table.x), shares(table.y), z, line_type=contourpy.LineType.Separate)
    return [(float(level), [np.asarray(line) for line in made.lines(level)]) for level in levels]


class Isolines(Pane):
    """Click takes the nearest cell in hand."""

    def __init__(self, maps: MapsState) -> None:
        super().__init__(maps, "Isolines of the table")
        self._lines: Lines = []
        self._ghosts: Lines = []

    def take_up(self) -> None:
        """The lines of the table and of the reference, at the same levels."""
        self._lines, self._ghosts = [], []
        if self.table is None or min(self.values.shape) < 2:
            return
        there = self.values[np.isfinite(self.values)]
        if not there.size:
            return
        levels = steps_between(float(there.min()), float(there.max()), LEVELS)
        self._lines = lines_of(self.table, self.values, levels)
        if self.ghost is not None and not np.array_equal(self.ghost, self.values):
            self._ghosts = lines_of(self.table, self.ghost, levels)

    def _box(self) -> QRectF:
        left, top, right, bottom = MARGINS
        return QRectF(left, top, self.width() - left - right, self.height() - top - bottom)

    def picture(self, painter: QPainter, table: Table) -> None:
        """Ticks, ghosts, lines with their names, the selection."""
        if min(self.values.shape) < 2:
            self.say(painter, "A curve has no isolines: it is drawn under Slices.")
            return
        t, box = tokens(), self._box()
        painter.setPen(QPen(mix(t.color("sheet"), t.color("line"), 0.7), 1))
        painter.drawRect(box)
        draw_ticks(painter, box, table.x, table.y)
        if not self._lines:
            self.say(painter, "All cells have one value.")
        place = QTransform(box.width(), 0, 0, -box.height(), box.left(), box.bottom())
        painter.setPen(QPen(t.color("reference"), 1.2, Qt.PenStyle.DashLine))
        for _, lines in self._ghosts:
            for line in lines:
                painter.drawPath(place.map(_path(line)))
        named: list[QRectF] = []
        unit = self.maps.display_unit(table.unit)
        for n, (level, lines) in enumerate(self._lines):
            strong = n % 2 == 0
            painter.setPen(
                QPen(mix(t.color("sheet"), t.color("working"), 0.95 if strong else 0.6), 1.6 if strong else 1.1)
            )
            for line in lines:
                painter.drawPath(place.map(_path(line)))
            if lines:
                self._name(painter, place, max(lines, key=len), f"{level:g} {unit}".rstrip(), named)
        self._selection(painter, box, table)

    def _name(self, painter: QPainter, place: QTransform, line: FloatArray, text: str, named: list[QRectF]) -> None:
        """A level's name where it stands in no other's way."""
        metrics = QFontMetricsF(plain_font())
        wide, high = metrics.horizontalAdvance(text) + 6, metrics.height()
        room = self._box()
        for share in (0.5, 0.3, 0.7, 0.15, 0.85):
            x, y = line[int(share * (len(line) - 1))]
            at = place.map(QPointF(float(x), float(y)))
            box = QRectF(at.x() - wide / 2, at.y() - high / 2, wide, high)
            if room.contains(box) and not any(box.intersects(other) for other in named):
                named.append(box)
                painter.fillRect(box, tokens().color("sheet"))
                painter.setFont(plain_font())
                painter.setPen(tokens().color("ink"))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
                return

    def _selection(self, painter: QPainter, box: QRectF, table: Table) -> None:
        mask = self.in_hand
        if not mask.any():
            return
        rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
        x, y = shares(table.x)[columns[[0, -1]]], shares(table.y)[rows[[0, -1]]]
        corner = QPointF(box.left() + x[0] * box.width(), box.bottom() - y[1] * box.height())
        other = QPointF(box.left() + x[1] * box.width(), box.bottom() - y[0] * box.height())
        painter.setPen(QPen(tokens().color("ink"), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(corner, other).adjusted(-4, -4, 4, 4))

    def mousePressEvent(self, event) -> None:
        """The nearest cell."""
        if self.table is None:
            return
        box, at = self._box(), event.position()
        column = int(np.argmin(np.abs(shares(self.table.x) - (at.x() - box.left()) / box.width())))
        row = int(np.argmin(np.abs(shares(self.table.y) - (box.bottom() - at.y()) / box.height())))
        self.chosen.emit(row, column)


def _path(line: FloatArray) -> QPainterPath:
    path = QPainterPath(QPointF(float(line[0, 0]), float(line[0, 1])))
    for x, y in line[1:].tolist():
        path.lineTo(x, y)
    return path
