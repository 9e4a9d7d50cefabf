"""Painting the cells of a table, all that are in sight at once: thousands of single ones would take too long."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRect, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QFontMetrics, QImage, QPainter, QPen, QPixmap, QPolygonF
from PyQt6.QtWidgets import QTableView
from pyqtgraph.functions import arrayToQPath

from yarvic.desk.theme import BODY_PX, font, mix, tokens
from yarvic.desk.views.maps.table_model import TableModel
from yarvic.state.maps import MapsState

LEAST_CELL_PX, CELL_MARGIN_PX, WEDGE_PX, SMALL_PX = 40, 9, 5, 9
TINTS = 256
MOST_TEXTS = 6000  # pictures of numbers that are kept


class PaintedTable(QTableView):
    """A view whose cells are painted here."""

    cells: TableModel
    maps: MapsState


class CellPainter:
    """Tint, value, difference, evidence, and the edge of the selection."""

    def __init__(self) -> None:
        self._texts: dict[tuple[str, int, bool, str], QPixmap] = {}
        self._theme: object = None
        self._tints = np.zeros(0, dtype=np.uint32)
        self._line = np.uint32(0)

    def paint(self, painter: QPainter, grid: PaintedTable, rect: QRect) -> None:
        """Paint the cells that a rectangle of the grid's viewport shows."""
        cells = grid.cells
        if cells.table is None:
            return
        self._take_theme(grid.devicePixelRatioF())
        columns, rows = _in_sight(grid, rect)
        if not columns or not rows:
            return
        self._ground(painter, grid, rows, columns)
        block = np.ix_([r for r, _, _ in rows], [c for c, _, _ in columns])
        plain = cells.instead is None
        differs = self._differs(grid)[block] if cells.difference is not None and plain else None
        self._numbers(painter, grid, rows, columns, differs)
        if plain:
            self._evidence(painter, grid, rows, columns)
        else:
            self._unknown(painter, grid, rows, columns)
        self._edges(painter, grid, rows, columns)
        if cells.overlaid:
            self._over(painter, grid)

    def _take_theme(self, ratio: float) -> None:
        t = tokens()
        if self._theme == (t, ratio):
            return
        self._theme = (t, ratio)
        self._texts.clear()
        self._tints = np.array([t.ramp(n / (TINTS - 1)).rgb() for n in range(TINTS)], dtype=np.uint32)
        self._line = np.uint32(mix(t.color("sheet"), t.color("line"), 0.8).rgb())

    def _ground(self, painter: QPainter, grid: PaintedTable, rows: Strips, columns: Strips) -> None:
        """The tints of all cells and the lines between them, as one picture."""
        share = grid.cells.share[np.ix_([r for r, _, _ in rows], [c for c, _, _ in columns])]
        tone = self._tints[np.clip(share * (TINTS - 1), 0, TINTS - 1).astype(np.intp)]
        heights, widths = [h for _, _, h in rows], [w for _, _, w in columns]
        pixels = np.repeat(np.repeat(tone, heights, axis=0), widths, axis=1)
        pixels[np.cumsum(heights) - 1, :] = self._line
        pixels[:, np.cumsum(widths) - 1] = self._line
        pixels = np.ascontiguousarray(pixels)
        high, wide = pixels.shape
        image = QImage(pixels.tobytes(), wide, high, 4 * wide, QImage.Format.Format_RGB32)
        painter.drawImage(QRect(columns[0][1], rows[0][1], wide, high), image)

    def _differs(self, grid: PaintedTable) -> np.ndarray:
        difference = grid.cells.difference
        assert difference is not None
        return np.asarray(np.abs(difference) > 1e-9)

    def _text(self, grid: PaintedTable, text: str, px: int, bold: bool, token: str) -> QPixmap:
        """A picture of a text, made once."""
        key = (text, px, bold, token)
        found = self._texts.get(key)
        if found is None:
            if len(self._texts) > MOST_TEXTS:
                self._texts.clear()
            face, ratio = font(px, bold=bold), grid.devicePixelRatioF()
            metrics = QFontMetrics(face)
            wide, high = metrics.horizontalAdvance(text) + 1, metrics.height()
            found = QPixmap(max(round(wide * ratio), 1), max(round(high * ratio), 1))
            found.setDevicePixelRatio(ratio)
            found.fill(QColor(0, 0, 0, 0))
            pen = QPainter(found)
            pen.setFont(face)
            pen.setPen(tokens().color(token))
            pen.drawText(QPointF(0, metrics.ascent()), text)
            pen.end()
            self._texts[key] = found
        return found

    def _numbers(
        self, painter: QPainter, grid: PaintedTable, rows: Strips, columns: Strips, differs: np.ndarray | None
    ) -> None:
        cells, ratio = grid.cells, grid.devicePixelRatioF()
        for i, (r, top, height) in enumerate(rows):
            for j, (c, left, width) in enumerate(columns):
                changed = differs is not None and bool(differs[i, j])
                picture = self._text(grid, cells.number(r, c), BODY_PX, changed, "ink")
                high, wide = picture.height() / ratio, picture.width() / ratio
                painter.drawPixmap(QPointF(left + width - wide - 6, top + (height - high) // 2), picture)
                if changed:
                    self._difference(painter, grid, QRectF(left, top, width, height), r, c, wide)

    def _difference(self, painter: QPainter, grid: PaintedTable, box: QRectF, r: int, c: int, taken: float) -> None:
        """The difference with its sign; ochre down, deep water up. A wedge that points the way where it has no room."""
        value = float(grid.cells.difference[r, c])  # type: ignore[index]
        token = "working" if value > 0 else "reference"
        picture = self._text(grid, grid.cells.difference_text(r, c), SMALL_PX, False, token)
        if picture.width() / grid.devicePixelRatioF() <= box.width() - taken - CELL_MARGIN_PX:
            painter.drawPixmap(QPointF(box.left() + 3, box.top() + 1), picture)
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(tokens().color(token))
        x, y = box.left() + 1, box.top() + 1
        tip, foot = (y, y + WEDGE_PX) if value > 0 else (y + WEDGE_PX, y)
        ends = [QPointF(x, foot), QPointF(x + WEDGE_PX, foot), QPointF(x + WEDGE_PX / 2, tip)]
        painter.drawPolygon(QPolygonF(ends))

    def _evidence(self, painter: QPainter, grid: PaintedTable, rows: Strips, columns: Strips) -> None:
        """A bar at the foot: its length is time spent there, thicker where a cylinder was retarded past what the job's
        checks watch, and red past what they stop.
        """
        e = grid.cells.evidence
        if e is None:
            return
        most = max(float(e.seconds.max()), 1e-9)
        watch_deg, stop_deg = grid.maps.retard_limits_deg()
        holds, watch, stop = (tokens().color(name) for name in ("holds", "watch", "stop"))
        for r, top, height in rows:
            for c, left, width in columns:
                if e.seconds[r, c] > 0.0:
                    length = (width - 6) * min(1.0, (e.seconds[r, c] / most) ** 0.5)
                    deg = float(e.retard_deg[r, c])
                    thick = 4 if deg > watch_deg else 2
                    color = stop if deg > stop_deg else watch if deg > watch_deg else holds
                    bar = QRectF(left + 3, top + height - thick - 1, length, thick)
                    painter.fillRect(bar, color)

    def _unknown(self, painter: QPainter, grid: PaintedTable, rows: Strips, columns: Strips) -> None:
        """Cells of which nobody knows anything are hatched: nothing is not nought."""
        instead = grid.cells.instead
        assert instead is not None
        brush = QBrush(tokens().color("line"), Qt.BrushStyle.BDiagPattern)
        for r, top, height in rows:
            for c, left, width in columns:
                if not np.isfinite(instead[r, c]):
                    box = QRect(left, top, width - 1, height - 1)
                    painter.fillRect(box, tokens().color("sheet"))
                    painter.fillRect(box, brush)

    def _over(self, painter: QPainter, grid: PaintedTable) -> None:
        """Where the engine ran as lines over the cells, and where the cursor under Logs stands."""
        table, facts = grid.cells.table, grid.maps.cells.facts()
        if table is None:
            return
        across, down = _middles(grid)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if grid.maps.cells.trace_shown and facts is not None:
            painter.setPen(QPen(tokens().color("ink"), 1.1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for x, y in facts.trace:
                px = np.interp(x, table.x.values, across)
                py = np.interp(y, table.y.values, down) if not table.is_curve else np.full(px.size, down[0])
                painter.drawPath(arrayToQPath(np.where(np.isfinite(x), px, np.nan), py, connect="finite"))
        reading = grid.maps.cells.reading()
        if reading is not None:
            at = QPointF(
                float(sum(across[c] * w for _, c, w in reading.cells)),
                float(sum(down[r] * w for r, _, w in reading.cells)),
            )
            painter.setPen(QPen(tokens().color("reference"), 2))
            painter.setBrush(tokens().color("sheet"))
            painter.drawEllipse(at, 5.0, 5.0)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _edges(self, painter: QPainter, grid: PaintedTable, rows: Strips, columns: Strips) -> None:
        """A line around the selection as a whole, so that the tints stay readable; dots around the cell in hand."""
        mask = grid.maps.cells_in_hand()
        if not mask.any():
            return
        wide = np.pad(mask, 1)
        lines: list[QLineF] = []
        for r, top, height in rows:
            for c, left, width in columns:
                if mask[r, c]:
                    x0, y0, x1, y1 = left + 1.0, top + 1.0, left + width - 1.0, top + height - 1.0
                    for inside, line in (
                        (wide[r, c + 1], (x0, y0, x1, y0)),
                        (wide[r + 2, c + 1], (x0, y1, x1, y1)),
                        (wide[r + 1, c], (x0, y0, x0, y1)),
                        (wide[r + 1, c + 2], (x1, y0, x1, y1)),
                    ):
                        if not inside:
                            lines.append(QLineF(*line))
        painter.setPen(QPen(tokens().color("ink"), 2))
        for edge in lines:
            painter.drawLine(edge)
        if grid.hasFocus():
            current = grid.currentIndex()
            box = grid.visualRect(current)
            painter.setPen(QPen(tokens().color("working"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(box).adjusted(3, 3, -3, -3))


Strips = list[tuple[int, int, int]]  # number of a row or column, where it begins in the viewport, how wide it is


def _middles(grid: PaintedTable) -> tuple[list[float], list[float]]:
    """The middles of all columns and rows, in the viewport: there stands a break point."""
    horizontal, vertical = grid.horizontalHeader(), grid.verticalHeader()
    assert horizontal is not None and vertical is not None
    across = [
        horizontal.sectionViewportPosition(c) + horizontal.sectionSize(c) / 2 for c in range(grid.cells.columnCount())
    ]
    down = [vertical.sectionViewportPosition(r) + vertical.sectionSize(r) / 2 for r in range(grid.cells.rowCount())]
    return across, down


def _in_sight(grid: PaintedTable, rect: QRect) -> tuple[Strips, Strips]:
    horizontal, vertical = grid.horizontalHeader(), grid.verticalHeader()
    assert horizontal is not None and vertical is not None
    first, last = grid.columnAt(max(rect.left(), 0)), grid.columnAt(rect.right())
    top, bottom = grid.rowAt(max(rect.top(), 0)), grid.rowAt(rect.bottom())
    columns = range(max(first, 0), (last if last >= 0 else grid.cells.columnCount() - 1) + 1)
    rows = range(max(top, 0), (bottom if bottom >= 0 else grid.cells.rowCount() - 1) + 1)
    return (
        [(c, horizontal.sectionViewportPosition(c), horizontal.sectionSize(c)) for c in columns],
        [(r, vertical.sectionViewportPosition(r), vertical.sectionSize(r)) for r in rows],
    )
