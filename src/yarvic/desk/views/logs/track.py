"""One trace of the log: its curves are made once and given new numbers, so that changing pulls is quick."""

from __future__ import annotations

import html
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from weakref import WeakSet

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGraphicsItem

from yarvic.core.evidence.channels import MOST_CYLINDERS, SPARK_CORRECTION
from yarvic.core.evidence.overview import Overview, Seen
from yarvic.core.physics import FloatArray
from yarvic.desk.theme import CAPTION_PX, tokens
from yarvic.desk.widgets.plot import add_chart, inked, line_pen, penned, shaded

READOUT_PX = 148


@dataclass(frozen=True)
class Lane:
    """One trace: what is drawn strongly, and what faintly beside it (a target)."""

    title: str
    keys: tuple[str, ...]
    beside: tuple[str, ...] = ()
    limit_key: str = ""
    beside_word: str = "target"


# In the order in which a log is read; a log shows those that it has, as many as there is room for.
LANES = (
    Lane("Engine speed", ("engine_speed",)),
    Lane("Speed over ground", ("gps_speed",)),
    Lane("Acceleration", ("acceleration",)),
    Lane("Boost", ("boost_pressure",), ("boost_target",), "boost"),
    Lane("Airbox", ("airbox_pressure",)),
    Lane("Charge temperature", ("charge_temperature",)),
    Lane("Rail", ("rail_pressure",), ("rail_target",)),
    Lane("Quantity", ("injected_quantity",), ("quantity_limit",), "", "allowed"),
    Lane("Lambda", ("lambda_measured",), ("lambda_target",)),
    Lane("Smoke", ("smoke",)),
    Lane("Injection time", ("injection_time",)),
    Lane("Spark", ("spark_advance",)),
    Lane("Spark correction", (SPARK_CORRECTION,)),
    Lane("Knock sensor 1", ("knock_signal_1",)),
    Lane("Knock sensor 2", ("knock_signal_2",)),
    Lane("Exhaust gas", ("exhaust_temperature",), (), "exhaust_temperature"),
    Lane("Brake torque", ("roller_torque",)),
    Lane("Gearbox", ("gearbox_temperature",)),
)
MOST_LANES = 7
# As many cylinders as are named one by one beside a lane.
FEW_CYLINDERS = 4
NO_VALUE = "no value"
# What gives way first when a log has more than there is room for: in the cell, and on the road.
LEAST_WANTED = (
    "gearbox_temperature", "spark_advance", "roller_torque", "rail_pressure", "knock_signal_1", "charge_temperature",
)  # fmt: skip
LEAST_WANTED_ON_ROAD = ("spark_advance", "airbox_pressure", "rail_pressure", "charge_temperature", "acceleration")


def lanes_of(keys: Iterable[str]) -> tuple[Lane, ...]:
    """The lanes that a log with these channels fills; its unit's own spark is left out where corrections are shown."""
    there = set(keys)
    cylinders = tuple(k for n in range(1, MOST_CYLINDERS + 1) if (k := f"{SPARK_CORRECTION}_{n}") in there)
    found = []
    for lane in LANES:
        if lane.keys == (SPARK_CORRECTION,) and cylinders:
            found.append(Lane(_of_cylinders(cylinders), cylinders))
        elif lane.keys[0] in there and not (lane.keys[0] == "spark_advance" and cylinders):
            found.append(lane)
    for key in LEAST_WANTED_ON_ROAD if "gps_speed" in there else LEAST_WANTED:
        if len(found) > MOST_LANES:
            found = [lane for lane in found if lane.keys[0] != key]
    return tuple(found)


def _ends(points: Points) -> tuple[float, float]:
    if isinstance(points, Seen):
        return points.ends
    y = points[1]
    return (float(np.nanmin(y)), float(np.nanmax(y))) if np.isfinite(y).any() else (float("nan"), float("nan"))


def _together(parts: list[str]) -> str:
    """Values of one unit on one line, the unit once; of many the least and the most."""
    unit = next((p.rpartition(" ")[2] for p in parts if p != NO_VALUE and " " in p), "")
    values = [p.removesuffix(f" {unit}") for p in parts]
    if len(values) > FEW_CYLINDERS:
        known = sorted((v for v in values if v != NO_VALUE), key=float)
        return f"{known[0]} to {known[-1]} {unit}" if known else NO_VALUE
    return f"{' / '.join(values)} {unit}".rstrip()


def _of_cylinders(keys: tuple[str, ...]) -> str:
    numbers = [k.removeprefix(f"{SPARK_CORRECTION}_") for k in keys]
    named = " / ".join(numbers) if len(keys) <= FEW_CYLINDERS else f"{numbers[0]} to {numbers[-1]}"
    return f"Spark correction {named}"


# Cylinders differ by dash and by tint, not by hue: (dash, token, width).
_CYLINDERS = (
    (Qt.PenStyle.DotLine, "quiet", 1.5),
    (Qt.PenStyle.SolidLine, "working", 2.2),
    (Qt.PenStyle.DashLine, "ink", 1.5),
)
Points = tuple[FloatArray, FloatArray] | Seen  # the samples themselves, or a long trace as it is seen from here
MOST_MARKS = 40
# A trace of more samples than this has a line of one pixel: a wider one takes three times as long and shows no more.
DENSE, THIN = 200_000, 1
_DENSE: WeakSet[pg.PlotDataItem] = WeakSet()
# Fewer samples than this are drawn as they are, whatever is in sight; a chart that has no width yet is taken for this.
SHORT, LEAST_PX = 4000, 400
NOTHING: tuple[FloatArray, FloatArray] = (np.empty(0), np.empty(0))


class Track:
    """A chart with its curves, cursor, shading and limit, and the values at the cursor beside it."""

    def __init__(self, sheet: pg.GraphicsLayoutWidget, row: int, lane: Lane, *, last: bool) -> None:
        self.lane = lane
        self.plot = add_chart(sheet, row, bottom="Time from the start of the pull, s" if last else "", width=62)
        if not last:
            self.plot.hideAxis("bottom")  # each costs as much at every move as a trace
        for name in ("left", "bottom"):
            self.plot.getAxis(name).setStyle(maxTickLevel=0)
        # It stays as it is while the traces are moved sideways.
        self.plot.getAxis("left").setCacheMode(QGraphicsItem.CacheMode.DeviceCoordinateCache)
        self._drawn: dict[pg.PlotDataItem, Overview | Seen] = {}
        self.plot.getViewBox().sigXRangeChanged.connect(lambda *_: self._refine())
        self.readout = pg.LabelItem(justify="left")
        self.readout.setFixedWidth(READOUT_PX)
        sheet.addItem(self.readout, row=row, col=1)
        self._region = shaded(pg.LinearRegionItem((0.0, 1.0), movable=False), "working", 0.07)
        self._region.setZValue(-20)
        self.plot.addItem(self._region, ignoreBounds=True)
        self._marks: list[pg.LinearRegionItem] = []
        self._ghosts = [penned(self._curve(), "reference", 1, dashed=True)]
        self._beside = [penned(self._curve(), "ink", 1, dashed=True) for _ in lane.beside]
        self._main = [self._main_curve(n) for n in range(len(lane.keys))]
        self._limit = penned(pg.InfiniteLine(angle=0), "stop", 1.4)
        self._limit.hide()
        self.cursor = penned(pg.InfiniteLine(angle=90), "ink", 1)
        self.plot.addItem(self.cursor, ignoreBounds=True)
        self.anchor = penned(pg.InfiniteLine(angle=90), "working", 1, dashed=True)
        self.anchor.hide()
        # What is not in sight is not in the chart either: each item costs at every move.
        self._flags: list[pg.InfiniteLine] = []

    def _curve(self) -> pg.PlotDataItem:
        # Noisy traces of many points: smoothed edges cost five times the time and show nothing more.
        return self.plot.plot(connect="finite", antialias=False)

    def _main_curve(self, n: int) -> pg.PlotDataItem:
        if len(self.lane.keys) == 1:
            return inked(self._curve(), lambda c: c.setPen(line_pen("working", THIN if c in _DENSE else 2)))
        dash, token, width = _CYLINDERS[n % len(_CYLINDERS)]
        return inked(self._curve(), lambda c: c.setPen(pg.mkPen(tokens().color(token), width=width, style=dash)))

    @property
    def ghost_key(self) -> str:
        """The channel that the reference shows; of several cylinders the second, which sits between the others."""
        return self.lane.keys[1] if len(self.lane.keys) > 1 else self.lane.keys[0]

    def show(
        self,
        main: list[Points],
        beside: list[Points],
        ghosts: Sequence[Points],
        unit: str,
        region: tuple[float, float] | None,
        limit: float | None,
    ) -> None:
        """New numbers, in the unit that stands at the axis."""
        self.plot.setLabel("left", unit)
        while len(self._ghosts) < len(ghosts):
            self._ghosts.append(penned(self._curve(), "reference", 1, dashed=True))
        unused = [NOTHING] * (len(self._ghosts) - len(ghosts))
        for curves, points in ((self._main, main), (self._beside, beside), (self._ghosts, [*ghosts, *unused])):
            for curve, each in zip(curves, points, strict=True):
                self._take(curve, each)
        self._region.setVisible(region is not None)
        if region is not None:
            self._region.setRegion(region)
        self._in_sight(self._limit, limit is not None)
        shown = [ends for each in (*main, *beside, *ghosts) if np.isfinite(ends := _ends(each)).all()]
        if not shown:
            return
        if limit is not None:
            self._limit.setPos(limit)
            shown.append((limit, limit))
        low, high = min(least for least, _ in shown), max(most for _, most in shown)
        pad = 0.08 * (high - low) or 1.0
        self.plot.setYRange(low - pad, high + pad, padding=0)

    def _take(self, curve: pg.PlotDataItem, points: Points) -> None:
        """Draw a trace: a long one on a rising axis by what is in sight, anything else as it is."""
        self._drawn.pop(curve, None)
        long = points if isinstance(points, Seen) else Overview(*points)
        trace = long.of if isinstance(long, Seen) else long
        if isinstance(long, Seen) or (trace.x.size > SHORT and trace.rises):
            self._drawn[curve] = long
            if trace.x.size > DENSE and curve in self._main and len(self.lane.keys) == 1:
                _DENSE.add(curve)
                curve.setPen(line_pen("working", THIN))
            self._refine_one(curve, self._drawn[curve])
        else:
            curve.setData(trace.x, trace.y)

    def _refine(self) -> None:
        for curve, overview in self._drawn.items():
            self._refine_one(curve, overview)

    def _refine_one(self, curve: pg.PlotDataItem, overview: Overview | Seen) -> None:
        box = self.plot.getViewBox()
        (start, end), _ = box.viewRange()
        curve.setData(*overview.within(start, end, max(int(box.width()), LEAST_PX)))

    def _in_sight(self, line: pg.InfiniteLine, shown: bool) -> None:
        if shown and line.scene() is None:
            self.plot.addItem(line, ignoreBounds=True)
        elif not shown and line.scene() is not None:
            self.plot.removeItem(line)
        line.setVisible(shown)

    def mark(self, spans: Sequence[tuple[float, float]]) -> None:
        """Show where something is wrong with what was recorded."""
        while len(self._marks) < min(len(spans), MOST_MARKS):
            made = shaded(pg.LinearRegionItem((0.0, 1.0), movable=False), "watch", 0.28)
            made.setZValue(-10)
            self.plot.addItem(made, ignoreBounds=True)
            self._marks.append(made)
        for n, region in enumerate(self._marks):
            region.setVisible(n < len(spans))
            if n < len(spans):
                start, end = spans[n]
                region.setRegion((start, max(end, start + 0.02)))

    def flag(self, places: Sequence[tuple[float, str]]) -> None:
        """Show the places that a person marked, with their words."""
        for line in self._flags:
            self.plot.removeItem(line)
        self._flags = []
        for x, text in places[:MOST_MARKS]:
            options = {"position": 0.9, "color": tokens().quiet, "rotateAxis": (1, 0)}
            line = pg.InfiniteLine(
                pos=x, angle=90, pen=pg.mkPen(tokens().quiet), label=text or None, labelOpts=options
            )
            self.plot.addItem(line, ignoreBounds=True)
            self._flags.append(line)

    def read_out(
        self,
        x: float,
        parts: list[str],
        beside: list[str],
        span: Sequence[str] = (),
        anchor: float | None = None,
        most_lines: int = 9,
    ) -> None:
        """Put the cursor at a place and say what stands there: values, then what stands beside them, or what lies
        between it and the second one; no more lines than there is room for, the rest where the mouse rests.
        """
        t = tokens()
        self.cursor.setPos(x)
        self._in_sight(self.anchor, anchor is not None)
        if anchor is not None:
            self.anchor.setPos(anchor)
        lines = [f"<b style='color:{t.ink}'>{html.escape(self.lane.title)}</b>"]
        if len(self.lane.keys) > 1:
            lines.append(f"<span style='color:{t.working}'>{html.escape(_together(parts))}</span>")
        elif parts:
            lines.append(f"<span style='color:{t.working}'>{parts[0]}</span>")
        lines += [f"<span style='color:{t.quiet}'>{html.escape(text)}</span>" for text in span]
        for text in beside if not span else ():
            lines.append(f"<span style='color:{t.quiet}'>{self.lane.beside_word} {text}</span>")
        if span and most_lines < 3 and len(lines) > 2:
            # What lies between the cursors was asked for: name and value share a line.
            lines = [f"{lines[0]} {lines[1]}", *lines[2:]]
        self.readout.setText("<br>".join(lines[:most_lines]), size=f"{CAPTION_PX}px")
        self.readout.setToolTip("<br>".join(lines) if len(lines) > most_lines else "")

    def clear(self) -> None:
        """Show nothing."""
        self._drawn.clear()
        for curve in (*self._main, *self._beside, *self._ghosts):
            curve.setData(*NOTHING)
        self.mark(())
        self._region.hide()
        self._in_sight(self._limit, False)
        self.readout.setText("")
