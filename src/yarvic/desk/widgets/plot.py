"""Charts in the house's look, around pyqtgraph."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen

from yarvic.desk.theme import CAPTION_PX, font, mix, tokens

pg.setConfigOptions(antialias=True)


def sheet() -> pg.GraphicsLayoutWidget:
    """An empty sheet for one or more charts."""
    widget = pg.GraphicsLayoutWidget()
    widget.setFrameShape(widget.Shape.NoFrame)
    widget.setBackground(tokens().color("sheet"))
    widget.ci.setContentsMargins(6, 6, 10, 4)
    widget.ci.setSpacing(4)
    return widget


def style(plot: pg.PlotItem, *, left: str = "", bottom: str = "", width: int = 52) -> None:
    """Quiet axes, a light grid, no menus; the wheel zooms along x only."""
    t = tokens()
    plot.setMenuEnabled(False)
    plot.hideButtons()
    plot.getViewBox().setMouseEnabled(x=True, y=False)
    plot.showGrid(x=True, y=True, alpha=0.18)
    for name in ("left", "bottom"):
        axis = plot.getAxis(name)
        axis.setPen(pg.mkPen(t.line))
        axis.setTextPen(pg.mkPen(t.quiet))
        axis.setStyle(tickFont=font(CAPTION_PX), tickLength=-4, hideOverlappingLabels=True)
        axis.label.setFont(font(CAPTION_PX))
        axis.enableAutoSIPrefix(False)
    plot.getAxis("left").setWidth(width)
    if left:
        plot.setLabel("left", left, color=t.quiet)
    if bottom:
        plot.setLabel("bottom", bottom, color=t.quiet)


def line_pen(token: str, width: float = 2.0, *, dashed: bool = False) -> QPen:
    """A pen in a token's colour."""
    return pg.mkPen(
        tokens().color(token), width=width, style=Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine
    )


def faint(token: str, share: float) -> QColor:
    """A token mixed into the sheet."""
    return mix(tokens().color("sheet"), tokens().color(token), share)


def band(x: np.ndarray, low: np.ndarray, high: np.ndarray, token: str, share: float = 0.22) -> pg.FillBetweenItem:
    """A filled band between two curves."""
    none = pg.mkPen(None)
    one, other = pg.PlotDataItem(x, low, pen=none), pg.PlotDataItem(x, high, pen=none)
    return pg.FillBetweenItem(one, other, brush=pg.mkBrush(faint(token, share)))


def tag(text: str, token: str, anchor: tuple[float, float] = (0.0, 1.0)) -> pg.TextItem:
    """A word beside a curve."""
    item = pg.TextItem(text, color=tokens().color(token), anchor=anchor)
    item.setFont(font(CAPTION_PX, bold=True))
    return item
