"""The table in relief: a surface over its axes, turned by keys, drawn without a graphics card."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from yarvic.core.calibration.table import Table
from yarvic.core.physics import FloatArray
from yarvic.desk.theme import mix, tokens
from yarvic.desk.views.maps.pane import Pane, plain_font, shares
from yarvic.state.maps import MapsState

TURN_DEG, TILT_DEG, STEP_DEG = 35.0, 30.0, 5.0
LEAST_TILT, MOST_TILT = 5.0, 90.0
WIDE = 1.9  # it stretches across the sheet
HEIGHT = 0.55  # of the surface, as a share of its side


class Relief(Pane):
    """Left and right turn it, up and down tilt it, Home puts it back; dragging does both."""

    def __init__(self, maps: MapsState) -> None:
        super().__init__(maps, "Relief of the table")
        self.turn_deg, self.tilt_deg = TURN_DEG, TILT_DEG
        self._dragged: QPointF | None = None

    def turn(self, by_deg: float, tilt_deg: float = 0.0) -> None:
        """Turn and tilt the surface."""
        self.turn_deg = (self.turn_deg + by_deg) % 360.0
        self.tilt_deg = min(max(self.tilt_deg + tilt_deg, LEAST_TILT), MOST_TILT)
        self.update()

    def _projected(self, values: FloatArray, low: float, high: float) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Where the break points stand on the sheet, in pixels, and how far away each is."""
        assert self.table is not None
        x, y = np.meshgrid(shares(self.table.x) - 0.5, shares(self.table.y) - 0.5)
        z = HEIGHT * (
            np.nan_to_num((values - low) / (high - low) if high > low else np.full(values.shape, 0.5)) - 0.5
        )
        a, b = math.radians(self.turn_deg), math.radians(self.tilt_deg)
        across = x * math.cos(a) - y * math.sin(a)
        away = x * math.sin(a) + y * math.cos(a)
        scale = min(self.width() / (1.5 * WIDE), self.height() / 1.15)
        px = self.width() / 2 + scale * WIDE * across
        py = self.height() / 2 - scale * (z * math.cos(b) + away * math.sin(b))
        return px, py, away

    def picture(self, painter: QPainter, table: Table) -> None:
        """The surface from the back to the front, the reference as a ghost of lines, the cell in hand."""
        if min(self.values.shape) < 2:
            self.say(painter, "A curve has no relief: it is drawn under Slices.")
            return
        both = self.values if self.ghost is None else np.stack([self.values, self.ghost])
        there = both[np.isfinite(both)]
        low, high = (float(there.min()), float(there.max())) if there.size else (0.0, 1.0)
        px, py, away = self._projected(self.values, low, high)
        self._surface(painter, px, py, away, low, high)
        if self.ghost is not None and not np.array_equal(self.ghost, self.values):
            self._wires(painter, *self._projected(self.ghost, low, high)[:2])
        self._corners(painter, table, px, py)
        row, column = self.cell_in_hand()
        if np.isfinite(self.values[row, column]):
            painter.setPen(QPen(tokens().color("ink"), 1.6))
            painter.setBrush(tokens().color("sheet"))
            painter.drawEllipse(QPointF(px[row, column], py[row, column]), 4.5, 4.5)

    def _surface(
        self, painter: QPainter, px: FloatArray, py: FloatArray, away: FloatArray, low: float, high: float
    ) -> None:
        t = tokens()
        rows, columns = self.values.shape
        # Straight lines to the eye: whole rows and columns lie one behind the other.
        row_order = range(rows - 1) if away[0, 0] > away[-1, 0] else range(rows - 2, -1, -1)
        column_order = range(columns - 1) if away[0, 0] > away[0, -1] else range(columns - 2, -1, -1)
        v = self.values
        mean = (v[:-1, :-1] + v[1:, :-1] + v[:-1, 1:] + v[1:, 1:]) / 4.0
        share = (mean - low) / (high - low) if high > low else np.full(mean.shape, 0.4)
        tints = [t.ramp(n / 31.0) for n in range(32)]
        painter.setPen(QPen(mix(t.color("sheet"), t.color("working"), 0.55), 0.8))
        xs, ys = px.tolist(), py.tolist()
        whole = np.isfinite(mean)
        tone = np.clip(np.nan_to_num(share) * 31.0, 0, 31).astype(int).tolist()
        for r in row_order:
            for c in column_order:
                if whole[r, c]:
                    painter.setBrush(tints[tone[r][c]])
                    painter.drawPolygon(
                        QPolygonF(
                            [
                                QPointF(xs[r][c], ys[r][c]),
                                QPointF(xs[r][c + 1], ys[r][c + 1]),
                                QPointF(xs[r + 1][c + 1], ys[r + 1][c + 1]),
                                QPointF(xs[r + 1][c], ys[r + 1][c]),
                            ]
                        )
                    )

    def _wires(self, painter: QPainter, px: FloatArray, py: FloatArray) -> None:
        """The reference where it differs, as lines along the rows and columns."""
        assert self.ghost is not None
        painter.setPen(QPen(tokens().color("reference"), 1.1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        differs = ~np.isclose(self.ghost, self.values, equal_nan=True) & np.isfinite(self.ghost)
        for r in np.flatnonzero(differs.any(axis=1)):
            painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in zip(px[r], py[r], strict=True)]))
        for c in np.flatnonzero(differs.any(axis=0)):
            painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in zip(px[:, c], py[:, c], strict=True)]))

    def _corners(self, painter: QPainter, table: Table, px: FloatArray, py: FloatArray) -> None:
        """The axis values at the four corners, so that nobody loses his way."""
        painter.setFont(plain_font())
        painter.setPen(tokens().color("quiet"))
        middle = QPointF(self.width() / 2, self.height() / 2)
        for r, c in ((0, 0), (0, -1), (-1, 0), (-1, -1)):
            text = f"{table.x.values[c]:g} {table.x.unit}, {table.y.values[r]:g} {table.y.unit}"
            at = QPointF(px[r, c], py[r, c])
            wide = painter.fontMetrics().horizontalAdvance(text)
            left = at.x() + 8 if at.x() > middle.x() else at.x() - 8 - wide
            left = min(max(left, 4.0), self.width() - wide - 4.0)
            top = min(max(at.y() + (12 if at.y() > middle.y() else -8), 12.0), self.height() - 6.0)
            painter.drawText(QRectF(left, top - 10, wide + 2, 14), int(Qt.AlignmentFlag.AlignLeft), text)

    def keyPressEvent(self, event) -> None:
        """Arrows turn and tilt."""
        by = {
            Qt.Key.Key_Left: (-STEP_DEG, 0.0),
            Qt.Key.Key_Right: (STEP_DEG, 0.0),
            Qt.Key.Key_Up: (0.0, STEP_DEG),
            Qt.Key.Key_Down: (0.0, -STEP_DEG),
        }.get(event.key())
        if by is not None:
            self.turn(*by)
        elif event.key() == Qt.Key.Key_Home:
            self.turn_deg, self.tilt_deg = TURN_DEG, TILT_DEG
            self.update()
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event) -> None:
        """Take hold of the surface, or of the nearest break point."""
        self._dragged = event.position()
        self._moved = False

    def mouseMoveEvent(self, event) -> None:
        """Turn it with the hand."""
        if self._dragged is not None:
            by = event.position() - self._dragged
            if self._moved or by.manhattanLength() > 3:
                self._moved = True
                self._dragged = event.position()
                self.turn(by.x() * 0.5, by.y() * 0.4)

    def mouseReleaseEvent(self, event) -> None:
        """A click that turned nothing takes the nearest cell in hand."""
        held, self._dragged = self._dragged, None
        if held is None or self._moved or self.table is None or min(self.values.shape) < 2:
            return
        there = self.values[np.isfinite(self.values)]
        px, py, _ = (
            self._projected(self.values, float(there.min()), float(there.max())) if there.size else (None,) * 3
        )
        if px is not None and py is not None:
            at = event.position()
            row, column = np.unravel_index(int(np.argmin((px - at.x()) ** 2 + (py - at.y()) ** 2)), px.shape)
            self.chosen.emit(int(row), int(column))
