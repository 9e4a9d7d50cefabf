"""Verdict glyphs: they differ in shape, so that they read without colour."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QWidget

from yarvic.core.checks.finding import PASS, STOP, VERDICT_WORDS, WATCH
from yarvic.desk.theme import tokens

SIZE = 12.0


def draw_glyph(painter: QPainter, severity: str, x: float, y: float, size: float = SIZE) -> None:
    """Pass: a ring. Watch: a half-filled ring. Stop: a filled square. No data: a dash. (x, y) is the corner."""
    color = tokens().severity(severity)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    pen = QPen(color, 1.8)
    box = QRectF(x + 1, y + 1, size - 2, size - 2)
    if severity == STOP:
        painter.fillRect(box, color)
    elif severity in (PASS, WATCH):
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(box)
        if severity == WATCH:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(color)
            painter.drawPie(box, 90 * 16, 180 * 16)
    else:
        painter.setPen(pen)
        painter.drawLine(QPointF(x + 1, y + size / 2), QPointF(x + size - 1, y + size / 2))
    painter.restore()


class Glyph(QWidget):
    """A glyph as a widget of its own, named for those who cannot see it."""

    def __init__(self, severity: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedSize(16, 16)
        self.show_severity(severity)

    def show_severity(self, severity: str) -> None:
        """Show another verdict."""
        self._severity = severity
        self.setAccessibleName(VERDICT_WORDS[severity])
        self.setToolTip(VERDICT_WORDS[severity])
        self.update()

    def paintEvent(self, event) -> None:
        """Draw it."""
        draw_glyph(QPainter(self), self._severity, 2, 2)
