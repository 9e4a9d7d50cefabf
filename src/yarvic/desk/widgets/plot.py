"""Charts in the house's look, around pyqtgraph."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar
from weakref import WeakKeyDictionary

import numpy as np
import pyqtgraph as pg
from PyQt6 import sip
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen

from yarvic.desk.theme import CAPTION_PX, font, mix, tokens

pg.setConfigOptions(antialias=True)

T = TypeVar("T")
# How each chart and item that carries colours takes them from the theme; it goes with the item.
_INKS: WeakKeyDictionary[Any, Callable[[Any], object]] = WeakKeyDictionary()


def inked(item: T, ink: Callable[[T], object]) -> T:
    """The item in the theme's colours, now and after each change of theme; `ink` must not hold the item itself."""
    ink(item)
    _INKS[item] = ink
    return item


def restyle() -> None:
    """All charts in the theme that is in force now."""
    for item, ink in list(_INKS.items()):
        if not sip.isdeleted(item):
            ink(item)


def sheet() -> pg.GraphicsLayoutWidget:
    """An empty sheet for one or more charts."""
    widget = pg.GraphicsLayoutWidget()
    dress(widget)
    return widget


def dress(widget: pg.GraphicsLayoutWidget) -> None:
    """The ground and margins of a sheet."""
    widget.setFrameShape(widget.Shape.NoFrame)
    inked(widget, lambda w: w.setBackground(tokens().color("sheet")))
    widget.ci.setContentsMargins(6, 6, 10, 4)
    widget.ci.setSpacing(4)


def add_chart(
    layout: pg.GraphicsLayoutWidget, row: int = 0, col: int = 0, *, left: str = "", bottom: str = "", width: int = 52
) -> pg.PlotItem:
    """A chart at a place of a sheet: quiet axes, a light grid, no menus; the wheel zooms along x only."""
    # Menus that nobody opens would take most of the time to build it.
    plot = layout.addPlot(row=row, col=col, enableMenu=False)
    plot.hideButtons()
    plot.getViewBox().setMouseEnabled(x=True, y=False)
    plot.showGrid(x=True, y=True, alpha=0.18)
    for name in ("left", "bottom"):
        axis = plot.getAxis(name)
        axis.setStyle(tickFont=font(CAPTION_PX), tickLength=-4, hideOverlappingLabels=True)
        axis.label.setFont(font(CAPTION_PX))
        axis.enableAutoSIPrefix(False)
    plot.getAxis("left").setWidth(width)
    name_axes(plot, left=left, bottom=bottom)
    inked(plot, _ink_axes)
    return plot


def name_axes(plot: pg.PlotItem, *, left: str = "", bottom: str = "") -> None:
    """Write what an axis shows beside it; empty leaves it as it is."""
    if left:
        plot.setLabel("left", left)
    if bottom:
        plot.setLabel("bottom", bottom)


def _ink_axes(plot: pg.PlotItem) -> None:
    for name in ("left", "bottom"):
        axis = plot.getAxis(name)
        axis.setPen(pg.mkPen(tokens().line))
        axis.setTextPen(pg.mkPen(tokens().quiet))


def penned(item: T, token: str, width: float = 2.0, *, dashed: bool = False) -> T:
    """An item with a pen in a token's colour."""
    return inked(item, lambda i: i.setPen(line_pen(token, width, dashed=dashed)))  # type: ignore[attr-defined]


def shaded(region: pg.LinearRegionItem, token: str, share: float) -> pg.LinearRegionItem:
    """A region filled with a token mixed into the sheet, between thin lines."""
    for line in region.lines:
        penned(line, "line", 1)
    return inked(region, lambda r: r.setBrush(faint(token, share)))


def line_pen(token: str, width: float = 2.0, *, dashed: bool = False) -> QPen:
    """A pen in a token's colour."""
    return pg.mkPen(
        tokens().color(token), width=width, style=Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine
    )


def faint(token: str, share: float) -> QColor:
    """A token mixed into the sheet."""
    return mix(tokens().color("sheet"), tokens().color(token), share)


class BandedCurve:
    """A curve with the band of its spread and its name, made once and given new numbers."""

    def __init__(self, plot: pg.PlotItem, token: str, *, dashed: bool = False, width: float = 2.2) -> None:
        none = pg.mkPen(None)
        self._low, self._high = plot.plot(pen=none), plot.plot(pen=none)
        band = pg.FillBetweenItem(self._low, self._high)
        self._band = inked(band, lambda b: b.setBrush(pg.mkBrush(faint(token, 0.22))))
        self._line = penned(plot.plot(), token, width, dashed=dashed)
        name = pg.TextItem("", anchor=(0.5, -0.15 if dashed else 1.05))
        self._name = inked(name, lambda n: n.setColor(tokens().color(token)))
        self._name.setFont(font(CAPTION_PX, bold=True))
        # Two names stand at two places, so that they do not lie on each other.
        self._name_at = 1.0 / 3.0 if dashed else 2.0 / 3.0
        plot.addItem(self._band)
        plot.addItem(self._name, ignoreBounds=True)
        self.clear()

    def show(self, x: np.ndarray, y: np.ndarray, low: np.ndarray, high: np.ndarray, name: str = "") -> None:
        """New numbers; bounds that are not known (NaN) leave the band out."""
        known = bool(np.all(np.isfinite(low)) and np.all(np.isfinite(high)))
        self._low.setData(x, low if known else y)
        self._high.setData(x, high if known else y)
        self._line.setData(x, y)
        at = int(self._name_at * (len(x) - 1))
        self._name.setText(name)
        self._name.setPos(float(x[at]), float(y[at]))
        for item in (self._band, self._line, self._name):
            item.show()

    def clear(self) -> None:
        """Show nothing."""
        for curve in (self._low, self._high, self._line):
            curve.setData([], [])
        for item in (self._band, self._line, self._name):
            item.hide()
