"""What the pictures of a table have in common: its axes to scale, the cell in hand, one drawing after many changes."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QFontMetricsF, QPainter, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from yarvic.core.calibration.cells import Mask
from yarvic.core.calibration.table import Axis, Table
from yarvic.core.physics import FloatArray
from yarvic.desk.theme import CAPTION_PX, font, tokens
from yarvic.desk.widgets.soon import Soon
from yarvic.state.maps import MapsState

MARGINS = (52.0, 10.0, 14.0, 22.0)  # left, top, right, bottom


class Pane(QWidget):
    """A picture of the table in hand. `chosen` says which cell was clicked."""

    chosen = pyqtSignal(int, int)

    def __init__(self, maps: MapsState, name: str) -> None:
        super().__init__()
        self.maps = maps
        self.setAccessibleName(name)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._soon = Soon(self, self.redraw)
        self.table: Table | None = None
        self.values = np.zeros((0, 0))
        self.in_hand: Mask = np.zeros((0, 0), dtype=bool)  # the cells in hand
        self.ghost: FloatArray | None = None

    def refresh(self) -> None:
        """Draw soon."""
        if self.isVisible():
            self._soon.ask()

    def showEvent(self, event) -> None:
        """What changed while it was out of sight is drawn now."""
        self.redraw()

    def redraw(self) -> None:
        """Take the table up and draw it."""
        self.table = self.maps.table()
        if self.table is not None:
            self.values = self.maps.shown(self.table)
            self.in_hand = self.maps.cells_in_hand()
            reference = self.maps.reference()
            same = reference is not None and reference.values.shape == self.table.values.shape
            self.ghost = self.maps.shown(reference) if same and reference is not None else None
        self.take_up()
        self.update()

    def take_up(self) -> None:
        """Work out what follows from the values."""

    def cell_in_hand(self) -> tuple[int, int]:
        """Row and column of the first selected cell."""
        chosen = np.argwhere(self.in_hand)
        return (
            (int(chosen[0][0]), int(chosen[0][1])) if len(chosen) else (min(self.maps.row, len(self.values) - 1), 0)
        )

    def paintEvent(self, event) -> None:
        """The sheet, and the picture on it."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), tokens().color("sheet"))
        if self.table is not None and self.values.size:
            self.picture(painter, self.table)
        painter.end()

    def picture(self, painter: QPainter, table: Table) -> None:
        """Draw the table."""

    def say(self, painter: QPainter, text: str) -> None:
        """A sentence in place of a picture."""
        painter.setPen(tokens().color("quiet"))
        painter.setFont(font())
        painter.drawText(self.rect(), int(Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap), text)


def plain_font() -> QFont:
    """The font of captions."""
    return font(CAPTION_PX)


def shares(axis: Axis) -> FloatArray:
    """Where break points stand between the ends of their axis, 0 to 1."""
    v = axis.values
    return np.asarray((v - v[0]) / (v[-1] - v[0]), dtype=np.float64) if v.size > 1 else np.zeros(1)


def steps_between(low: float, high: float, about: int) -> FloatArray:
    """Round numbers between two: steps of 1, 2 or 5 times a power of ten, about so many."""
    span = high - low
    if not span > 0.0 or not np.isfinite(span):
        return np.zeros(0)
    rough = span / max(about, 1)
    power = 10.0 ** np.floor(np.log10(rough))
    step = power * next(s for s in (1.0, 2.0, 5.0, 10.0) if s * power >= rough * (1 - 1e-9))
    return np.asarray(
        np.arange(np.ceil(low / step - 1e-9), np.floor(high / step + 1e-9) + 1) * step + 0.0, dtype=np.float64
    )


def draw_ticks(painter: QPainter, box: QRectF, x: Axis, y: Axis | None) -> None:
    """Axis values along the foot and the left side of a box: break points as ticks, as many named as there is room for."""
    line, quiet = QPen(tokens().color("line"), 1), tokens().color("quiet")
    painter.setFont(plain_font())
    metrics = QFontMetricsF(plain_font())
    free = -1e9
    for value, share in zip(x.values, shares(x), strict=True):
        at = box.left() + share * box.width()
        painter.setPen(line)
        painter.drawLine(QPointF(at, box.bottom()), QPointF(at, box.bottom() + 4))
        text = f"{value:g}"
        wide = metrics.horizontalAdvance(text)
        if at - wide / 2 > free:
            painter.setPen(quiet)
            painter.drawText(QPointF(at - wide / 2, box.bottom() + 16), text)
            free = at + wide / 2 + 6
    free = 1e9
    for value, share in zip(y.values, shares(y), strict=True) if y is not None else ():
        at = box.bottom() - share * box.height()
        painter.setPen(line)
        painter.drawLine(QPointF(box.left() - 4, at), QPointF(box.left(), at))
        text = f"{value:g}"
        if at < free:
            painter.setPen(quiet)
            painter.drawText(QPointF(box.left() - 8 - metrics.horizontalAdvance(text), at + 4), text)
            free = at - metrics.height()
