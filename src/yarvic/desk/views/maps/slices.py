"""The same table as slices: each row a curve over the column axis, the row in hand strong, the reference a ghost."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt, QTimer, pyqtSignal

from yarvic.desk.theme import tokens
from yarvic.desk.widgets.plot import add_chart, dress, faint, inked, line_pen, penned
from yarvic.state.maps import MapsState

GRAB_PX = 12.0


def _ink_row(curve: pg.PlotDataItem) -> None:
    curve.setPen(line_pen("working", 2.6))
    curve.setSymbolPen(line_pen("working", 1.8))
    curve.setSymbolBrush(pg.mkBrush(faint("working", 0.0)))


class Slices(pg.GraphicsLayoutWidget):
    """A chart whose points can be dragged up and down; `dragged` carries new values by cell."""

    dragged = pyqtSignal(object)

    def __init__(self, maps: MapsState) -> None:
        super().__init__()
        self.maps = maps
        dress(self)
        self.plot = add_chart(self, width=46)
        self.plot.getViewBox().setMouseEnabled(x=False, y=False)
        self.setAccessibleName("Slices of the table")
        self._grabbed: int | None = None
        self._others = inked(
            self.plot.plot(connect="finite"), lambda c: c.setPen(pg.mkPen(faint("working", 0.30), width=1))
        )
        self._ghost = penned(self.plot.plot(), "reference", 1.8, dashed=True)
        self._row = inked(self.plot.plot(symbol="o", symbolSize=8), _ink_row)
        self._label = inked(pg.TextItem("", anchor=(1, 1)), lambda label: label.setColor(tokens().color("working")))
        self.plot.addItem(self._label, ignoreBounds=True)
        # A selection moves many times within one gesture: the chart is drawn once after it.
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self.redraw)

    def refresh(self) -> None:
        """Draw soon."""
        self._soon.start(0)

    def redraw(self) -> None:
        """Draw all rows now."""
        table, reference = self.maps.table(), self.maps.reference()
        if table is None:
            return
        values = self.maps.shown(table)
        row = min(self.maps.row, values.shape[0] - 1)
        x = table.x.values
        gap = np.full((values.shape[0], 1), np.nan)
        others = np.hstack([values, gap])
        others[row] = np.nan
        self._others.setData(np.tile(np.append(x, np.nan), values.shape[0]), others.ravel())
        ghost = np.empty(0)
        if reference is not None and reference.values.shape == table.values.shape:
            shown = self.maps.shown(reference)[row]
            ghost = shown if not np.array_equal(shown, values[row]) else ghost
        self._ghost.setData(x[: ghost.size], ghost)
        self._row.setData(x, values[row])
        there = values[np.isfinite(values)]
        low, high = (float(there.min()), float(there.max())) if there.size else (0.0, 1.0)
        pad = 0.06 * (high - low) or 1.0
        left, last = (float(x[0]), float(x[-1])) if x.size > 1 else (x[0] - 1.0, x[0] + 1.0)
        self.plot.setRange(xRange=(left, last), yRange=(low - pad, high + pad), padding=0.03)
        self.plot.setLabel("left", self.maps.display_unit(table.unit))
        self._label.setText("" if table.is_curve else f"row {table.y.values[row]:g} {table.y.unit}".rstrip())
        (_, right), (bottom, _) = self.plot.viewRange()
        self._label.setPos(right, bottom)

    def _at(self, position: QPointF) -> QPointF:
        scene = self.mapToScene(position.toPoint())
        return self.plot.getViewBox().mapSceneToView(scene)

    def mousePressEvent(self, event) -> None:
        """Take hold of the nearest point of the row in hand."""
        table = self.maps.table()
        if table is None or event.button() != Qt.MouseButton.LeftButton:
            return
        row = min(self.maps.row, table.values.shape[0] - 1)
        values = self.maps.shown(table)[row]
        box = self.plot.getViewBox()
        for column, (x, y) in enumerate(zip(table.x.values, values, strict=True)):
            at = self.mapFromScene(box.mapViewToScene(QPointF(float(x), float(y))))
            if (at - event.position().toPoint()).manhattanLength() < GRAB_PX:
                self._grabbed = column
                self.setCursor(Qt.CursorShape.SizeVerCursor)
                return

    def mouseMoveEvent(self, event) -> None:
        """Show where the point would go."""
        if self._grabbed is None:
            return
        table = self.maps.table()
        if table is None:
            return
        values = self.maps.shown(table)[min(self.maps.row, table.values.shape[0] - 1)].copy()
        values[self._grabbed] = self._at(event.position()).y()
        self._row.setData(table.x.values, values)

    def mouseReleaseEvent(self, event) -> None:
        """Let go: that is one edit."""
        if self._grabbed is None:
            return
        column, self._grabbed = self._grabbed, None
        self.unsetCursor()
        self.dragged.emit({(self.maps.row, column): float(self._at(event.position()).y())})

    def wheelEvent(self, event) -> None:
        """The chart always shows the whole table."""
        event.ignore()
