"""The same table as slices: each row a curve over the column axis, the row in hand strong, the reference a ghost."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt, pyqtSignal

from yarvic.desk.widgets.plot import faint, line_pen, sheet, style
from yarvic.state.maps import MapsState

GRAB_PX = 12.0


class Slices(pg.GraphicsLayoutWidget):
    """A chart whose points can be dragged up and down; `dragged` carries row, column and the new value."""

    dragged = pyqtSignal(int, int, float)

    def __init__(self, maps: MapsState) -> None:
        super().__init__()
        self.maps = maps
        made = sheet()  # for its settings: the same look as all charts
        self.setBackground(made.backgroundBrush())
        self.setFrameShape(self.Shape.NoFrame)
        self.ci.setContentsMargins(6, 6, 10, 2)
        made.deleteLater()
        self.plot = self.addPlot()
        style(self.plot, width=46)
        self.plot.getViewBox().setMouseEnabled(x=False, y=False)
        self.setAccessibleName("Slices of the table")
        self._grabbed: int | None = None
        self._points: pg.ScatterPlotItem | None = None
        self._label: pg.TextItem | None = None

    def refresh(self) -> None:
        """Draw all rows."""
        self.plot.clear()
        table, reference = self.maps.table(), self.maps.reference()
        if table is None:
            return
        values = self.maps.shown(table)
        row = min(self.maps.row, values.shape[0] - 1)
        x = table.x.values
        for i in range(values.shape[0]):
            if i != row:
                self.plot.plot(x, values[i], pen=pg.mkPen(faint("working", 0.30), width=1))
        if reference is not None and reference.values.shape == table.values.shape:
            ghost = self.maps.shown(reference)[row]
            if not np.array_equal(ghost, values[row]):
                self.plot.plot(x, ghost, pen=line_pen("reference", 1.8, dashed=True))
        self.plot.plot(x, values[row], pen=line_pen("working", 2.6))
        self._points = pg.ScatterPlotItem(
            x, values[row], size=8, pen=line_pen("working", 1.8), brush=pg.mkBrush(faint("working", 0.0))
        )
        self.plot.addItem(self._points)
        self.plot.enableAutoRange()
        unit = self.maps.display_unit(table.unit)
        self.plot.setLabel("left", unit)
        self._label = pg.TextItem(
            f"row {table.y.values[row]:g} {table.y.unit}", color=line_pen("working").color(), anchor=(1, 1)
        )
        self.plot.addItem(self._label, ignoreBounds=True)
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
        if self._grabbed is None or self._points is None:
            return
        table = self.maps.table()
        if table is None:
            return
        values = self.maps.shown(table)[min(self.maps.row, table.values.shape[0] - 1)].copy()
        values[self._grabbed] = self._at(event.position()).y()
        self._points.setData(table.x.values, values)

    def mouseReleaseEvent(self, event) -> None:
        """Let go: that is one edit."""
        if self._grabbed is None:
            return
        column, self._grabbed = self._grabbed, None
        self.unsetCursor()
        self.dragged.emit(self.maps.row, column, float(self._at(event.position()).y()))

    def wheelEvent(self, event) -> None:
        """The chart always shows the whole table."""
        event.ignore()
