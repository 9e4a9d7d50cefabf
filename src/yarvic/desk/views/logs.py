"""Logs: stacked traces on one axis, the pull shaded, limits in the trace they limit, values at the cursor."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPen
from PyQt6.QtWidgets import QFrame, QVBoxLayout, QWidget

from yarvic.core.checks.finding import Where, amount
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.physics import FloatArray
from yarvic.core.units import from_canonical, to_canonical
from yarvic.desk.overlays import Command
from yarvic.desk.theme import CAPTION_PX, tokens
from yarvic.desk.views.view import View
from yarvic.desk.widgets.plot import faint, line_pen, sheet, style
from yarvic.desk.widgets.words import chooser, label, row, show_choice, word
from yarvic.state.results import PullResult
from yarvic.state.session import Session

if TYPE_CHECKING:
    from yarvic.desk.window import Window


@dataclass(frozen=True)
class Lane:
    """One trace: what is drawn strongly, and what faintly beside it (a target, the other cylinders)."""

    title: str
    keys: tuple[str, ...]
    beside: tuple[str, ...] = ()
    limit_key: str = ""


# In the order in which a log is read.
READOUT_PX = 148
LANES = (
    Lane("Engine speed", ("engine_speed",)),
    Lane("Boost", ("boost_pressure",), ("boost_target",), "boost"),
    Lane("Charge temperature", ("charge_temperature",)),
    Lane("Rail", ("rail_pressure",), ("rail_target",)),
    Lane("Lambda", ("lambda_measured",), ("lambda_target",)),
    Lane("Spark off 1 / 2 / 3", ("spark_correction_1", "spark_correction_2", "spark_correction_3")),
    Lane("Exhaust gas", ("exhaust_temperature",), (), "exhaust_temperature"),
)
# Cylinders differ by dash and by tint, not by hue.
_CYLINDERS = (
    (Qt.PenStyle.DotLine, "quiet"),
    (Qt.PenStyle.SolidLine, "working"),
    (Qt.PenStyle.DashLine, "ink"),
)


class LogsView(View):
    """The traces of one pull of working, with the same pull of the reference as a ghost."""

    def __init__(self, session: Session, window: Window) -> None:
        super().__init__(session, "Logs")
        self.at = 0
        self.pull = chooser("Pull shown", self._choices)
        self.ghost = word("Reference", self._redraw, "G", checkable=True)
        self.ghost.setChecked(True)
        self.by_speed = word("Over engine speed", self._redraw, "X", checkable=True)
        self.whole = word("Whole pull", self._whole, "W")
        self.reading = label("", "quiet")
        self.column.addLayout(row(self.pull, self.by_speed, self.ghost, self.whole, None, self.reading, spacing=8))
        frame = QFrame()
        frame.setObjectName("sheet")
        inner = QVBoxLayout(frame)
        inner.setContentsMargins(2, 2, 2, 2)
        self.sheet = sheet()
        inner.addWidget(self.sheet)
        self.column.addWidget(frame, 1)
        self.caption = label("", "caption", wrap=True)
        self.column.addWidget(self.caption)
        self.plots: list[pg.PlotItem] = []
        self.cursors: list[pg.InfiniteLine] = []
        self.values: list[pg.LabelItem] = []
        self._cursor: float | None = None
        self._make_plots()
        self.sheet.scene().sigMouseMoved.connect(self._mouse)
        self.sheet.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        for signal in (
            session.job_changed,
            session.selection_changed,
            session.results_changed,
            session.units_changed,
        ):
            self.listen(signal, self.refresh)
        self.listen(session.place_changed, self._jump)
        self.refresh()

    def _make_plots(self) -> None:
        for i in range(len(LANES)):
            plot = self.sheet.addPlot(row=i, col=0)
            last = i == len(LANES) - 1
            style(plot, bottom="Time from the start of the pull, s" if last else "", width=62)
            plot.getAxis("bottom").setStyle(showValues=last)
            plot.getAxis("left").setStyle(maxTickLevel=0)
            plot.getViewBox().setMouseEnabled(x=True, y=False)
            if i:
                plot.setXLink(self.plots[0])
            plot.setClipToView(True)
            plot.setDownsampling(auto=True, mode="peak")
            self.plots.append(plot)
            self.cursors.append(pg.InfiniteLine(angle=90, pen=line_pen("ink", 1)))
            value = pg.LabelItem(justify="left")
            value.setFixedWidth(READOUT_PX)
            self.sheet.addItem(value, row=i, col=1)
            self.values.append(value)

    # -- showing

    def refresh(self) -> None:
        """Take up the pulls of the working revision."""
        results, revision = self.session.working_results(), self.session.evidence_revision()
        count = len(results.pulls) if results else 0
        self.at = min(max(self.at, 0), max(count - 1, 0))
        simulated = "simulated bench · " if count else ""
        self.about.setText(f"{simulated}evidence of {revision.name}" if revision else "")
        for button in (self.pull, self.ghost, self.by_speed, self.whole):
            button.setEnabled(count > 0)
        self._redraw()

    def shown(self) -> PullResult | None:
        """The pull that is drawn."""
        results = self.session.working_results()
        return results.pulls[self.at] if results and self.at < len(results.pulls) else None

    def _choices(self) -> list[tuple[str, Callable[[], None]]]:
        results = self.session.working_results()
        return [(p.title, partial(self.choose, i)) for i, p in enumerate(results.pulls if results else ())]

    def choose(self, at: int) -> None:
        """Show another pull."""
        self.at = at
        self._redraw()

    def _reference(self) -> PullResult | None:
        results = self.session.reference_results()
        if (
            results is None
            or not results.pulls
            or not self.ghost.isChecked()
            or results is self.session.working_results()
        ):
            return None
        return results.pulls[min(self.at, len(results.pulls) - 1)]

    def _redraw(self) -> None:
        shown, reference = self.shown(), self._reference()
        show_choice(self.pull, shown.title if shown is not None else "")
        for value in self.values:
            value.setText("")
        for i, (plot, lane) in enumerate(zip(self.plots, LANES, strict=True)):
            plot.clear()
            if shown is None:
                continue
            unit = self._unit(lane.keys[0])
            plot.setLabel("left", unit)
            self._shade(plot, shown)
            if reference is not None:
                self._trace(
                    plot, reference, lane.keys[-1 if i == 5 else 0], unit, line_pen("reference", 1.4, dashed=True)
                )
            for key in lane.beside:
                self._trace(plot, shown, key, unit, line_pen("ink", 1, dashed=True))
            for n, key in enumerate(lane.keys):
                pen = line_pen("working", 2)
                if len(lane.keys) > 1:
                    dash, token = _CYLINDERS[n % 3]
                    pen = pg.mkPen(line_pen(token).color(), width=2.2 if n == 1 else 1.5, style=dash)
                self._trace(plot, shown, key, unit, pen)
            self._limit(plot, lane, unit)
            plot.addItem(self.cursors[i], ignoreBounds=True)
        speed = self.by_speed.isChecked()
        self.plots[-1].setLabel("bottom", "Engine speed, rpm" if speed else "Time from the start of the pull, s")
        if shown is None:
            self.caption.setText("No log yet. Flash this revision and pull it under Dyno.")
            self.reading.setText("")
            return
        name = f" Dashed ochre: {reference.title}." if reference is not None else ""
        self.caption.setText(
            f"Shaded: the pull. Dashed ink: target.{name} Cylinder 1 dotted, 2 solid blue, 3 dashed. Move the mouse,"
            " or Left and Right, to read values; the wheel zooms."
        )
        self._whole()

    def _unit(self, key: str) -> str:
        kind = CHANNELS[key]
        return self.session.settings.units.get(kind.unit_choice, kind.unit)

    def _xy(self, p: PullResult, key: str) -> tuple[FloatArray, FloatArray]:
        channel = p.log.channel(key)
        if not self.by_speed.isChecked():
            return channel.time_s - p.pull.start_s, channel.values
        inside = (channel.time_s >= p.pull.start_s) & (channel.time_s <= p.pull.end_s)
        return p.log.at("engine_speed", channel.time_s[inside]), channel.values[inside]

    def _trace(self, plot: pg.PlotItem, p: PullResult, key: str, unit: str, pen: QPen) -> None:
        if key not in p.log.channels:
            return
        x, y = self._xy(p, key)
        plot.plot(x, np.asarray(from_canonical(y, unit)), pen=pen, connect="finite")

    def _shade(self, plot: pg.PlotItem, p: PullResult) -> None:
        if self.by_speed.isChecked():
            return
        region = pg.LinearRegionItem((0.0, p.pull.length_s), movable=False, brush=faint("working", 0.07))
        for line in region.lines:
            line.setPen(line_pen("line", 1))
        region.setZValue(-20)
        plot.addItem(region, ignoreBounds=True)

    def _limit(self, plot: pg.PlotItem, lane: Lane, unit: str) -> None:
        job = self.session.job
        if job is None or not lane.limit_key:
            return
        for limit in job.sheet.limits:
            if limit.key == lane.limit_key:
                level = float(from_canonical(to_canonical(limit.stretch, limit.unit), unit))
                line = pg.InfiniteLine(pos=level, angle=0, pen=line_pen("stop", 1.4))
                plot.addItem(line)

    def _whole(self) -> None:
        shown = self.shown()
        if shown is None:
            return
        if self.by_speed.isChecked():
            self.plots[0].setXRange(shown.pull.from_rpm, shown.pull.to_rpm, padding=0.02)
        else:
            start, end = shown.log.span()
            self.plots[0].setXRange(start - shown.pull.start_s, end - shown.pull.start_s, padding=0.01)
        for plot in self.plots:
            plot.enableAutoRange(axis="y")
        self.move_cursor(self._cursor if self._cursor is not None else shown.pull.length_s / 2)

    # -- the cursor

    def move_cursor(self, x: float) -> None:
        """Put the cursor at a place of the axis and read all traces there."""
        shown = self.shown()
        if shown is None:
            return
        self._cursor = x
        time = self._time_at(shown, x)
        rpm = float(shown.log.at("engine_speed", np.array([time]))[0])
        self.reading.setText(
            f"{time - shown.pull.start_s:.2f} s, {rpm:,.0f} rpm" if np.isfinite(rpm) else "outside the log"
        )
        for line, text, lane in zip(self.cursors, self.values, LANES, strict=True):
            line.setPos(x)
            parts = []
            for key in (*lane.keys, *lane.beside):
                if key in shown.log.channels:
                    value = float(shown.log.at(key, np.array([time]))[0])
                    parts.append(amount(value, self._unit(key)) if np.isfinite(value) else "no value")
            self._read_out(text, lane, parts)

    def _read_out(self, text: pg.LabelItem, lane: Lane, parts: list[str]) -> None:
        """Title, value and target beside a trace."""
        t = tokens()
        lines = [f"<b style='color:{t.ink}'>{lane.title}</b>"]
        if len(lane.keys) > 1:
            lines.append(
                f"<span style='color:{t.working}'>{' / '.join(p.removesuffix(' deg') for p in parts)} deg</span>"
            )
        else:
            lines.append(f"<span style='color:{t.working}'>{parts[0]}</span>")
            if lane.beside:
                lines.append(f"<span style='color:{t.quiet}'>target {parts[-1]}</span>")
        text.setText("<br>".join(lines), size=f"{CAPTION_PX}px")

    def _time_at(self, p: PullResult, x: float) -> float:
        if not self.by_speed.isChecked():
            return x + p.pull.start_s
        speed = p.log.channel("engine_speed")
        inside = (speed.time_s >= p.pull.start_s) & (speed.time_s <= p.pull.end_s)
        return float(speed.time_s[inside][np.argmin(np.abs(speed.values[inside] - x))])

    def _mouse(self, position) -> None:
        for plot in self.plots:
            if plot.sceneBoundingRect().contains(position):
                self.move_cursor(float(plot.getViewBox().mapSceneToView(position).x()))
                return

    def _jump(self, where: Where) -> None:
        """A reading was followed: show its pull and put the cursor there."""
        results = self.session.working_results()
        if results is None or not self.showing():
            return
        for i, p in enumerate(results.pulls):
            if p.evidence.id == where.evidence:
                self.at = i
                self.by_speed.setChecked(False)
                self._redraw()
                if where.time_s is not None:
                    self.move_cursor(where.time_s - p.pull.start_s)
                return

    def keyPressEvent(self, event) -> None:
        """Left and right move the cursor; Shift moves it further."""
        shown = self.shown()
        if shown is None or self._cursor is None:
            super().keyPressEvent(event)
            return
        step = 50.0 if self.by_speed.isChecked() else 0.05
        step *= 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.move_cursor(self._cursor + (step if key == Qt.Key.Key_Right else -step))
        elif key == Qt.Key.Key_G:
            self.ghost.click()
        elif key == Qt.Key.Key_X:
            self.by_speed.click()
        elif key == Qt.Key.Key_W:
            self._whole()
        else:
            super().keyPressEvent(event)

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        return [
            ("Left, Right", "move the cursor; with Shift further"),
            ("X", "over time or over engine speed"),
            ("G", "reference on or off"),
            ("W", "whole pull"),
        ]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        return [
            Command("Show traces over engine speed", "X", self.by_speed.click),
            Command("Show the reference in the traces", "G", self.ghost.click),
        ]

    def main_widget(self) -> QWidget:
        """The view itself takes the keys."""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        return self


def make(session: Session, window: Window) -> LogsView:
    """The view of this step."""
    return LogsView(session, window)
