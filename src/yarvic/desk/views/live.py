"""A log as it comes from the unit: what is logged and how often, the traces, and how many moments were missed."""

from __future__ import annotations

from functools import partial

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout, QWidget

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.link.live import LEAST_HZ
from yarvic.core.units import from_canonical
from yarvic.desk.overlays import Command
from yarvic.desk.views.logs.track import LANES, MOST_LANES, Lane, lanes_of
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.fields import Number, Switch, show_switch
from yarvic.desk.widgets.plot import add_chart, penned, sheet
from yarvic.desk.widgets.words import act, label, row, sideways, word
from yarvic.state.live import Live
from yarvic.state.session import STEP_TITLES, Session

# Slow enough that drawing takes a small part of the window's time, and the axis of time grows in steps.
DRAW_MS, STEP_S = 250, 10.0
LIST_PX, LEAST_LANE_PX, MOST_HZ_HERE = 220, 64, 100.0
CAUTION = "On the road a second person reads the screen; on the dyno nobody stands in line with roller or chain."


class LiveView(View):
    """A page in place of a step; it leads back to where it was opened."""

    came_from = "logs"

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Live log")
        self.live = Live(session)
        self.back = word("Back", self.escape, "Esc")
        self.head.insertWidget(0, self.back)
        self.start = act("Log a run", self.live.start)
        self.stop = act("Stop and keep", self.live.stop)
        self.rate = Number("Times a second", LEAST_HZ, MOST_HZ_HERE, 1, "Hz", self.live.set_rate)
        self.summary = label("", wrap=True)
        self.show_logs = word("Show in Logs", partial(session.go, "logs"))
        self.sheet = sheet()
        self.boxes: dict[str, Switch] = {}
        self.list = QVBoxLayout()
        self.column.addWidget(self._sheet(), 1)
        self._lanes: list[tuple[Lane, pg.PlotItem, list[pg.PlotDataItem]]] = []
        self._drawn = QTimer(self)
        self._drawn.timeout.connect(self._draw)
        self.live.changed.connect(self.changed)
        self.refresh_on(session.job_changed, session.selection_changed, session.bench_changed, session.link.changed)

    def _sheet(self) -> QFrame:
        frame = QFrame()
        frame.setObjectName("sheet")
        column = QVBoxLayout(frame)
        column.setContentsMargins(12, 10, 12, 10)
        column.setSpacing(6)
        column.addLayout(
            row(
                self.start,
                self.stop,
                self.rate,
                label("channels by identifier", "quiet"),
                None,
                self.show_logs,
                spacing=10,
            )
        )
        column.addWidget(label(CAUTION, "caption", wrap=True))
        column.addWidget(self.summary)
        inner = QWidget()
        inner.setLayout(self.list)
        self.list.setContentsMargins(0, 0, 0, 0)
        self.list.setSpacing(1)
        listed = sideways(inner)
        listed.setFixedWidth(LIST_PX)
        both = QHBoxLayout()
        both.addWidget(self.sheet, 1)
        both.addWidget(listed)
        column.addLayout(both, 1)
        return frame

    # -- showing

    def refresh(self) -> None:
        """The unit that would be logged from, its channels, and what came."""
        s, live = self.session, self.live
        self.back.setText(f"Back to {STEP_TITLES[self.came_from]}")
        reach = s.link.reached()
        simulated = reach is not None and s.bench is not None and reach is s.bench.link
        self.about.setText(
            "no unit is on a link: it is written by file"
            if reach is None
            else "the simulated vehicle is run as the bench is set, while its unit is asked"
            if simulated
            else f"from the unit on {reach.over}, for as long as you want"
        )
        self.start.setText("Log a run" if simulated else "Log")
        self.start.setEnabled(reach is not None and s.busy is None)
        self.stop.setVisible(live.running)
        self.rate.show_value(live.rate_hz)
        self.rate.setEnabled(not live.running)
        self.show_logs.setVisible(bool(live.said))
        self._list_channels()
        self.summary.setText(self._sentence())
        if live.running:
            self._drawn.start(DRAW_MS)
        else:
            self._drawn.stop()
            self._draw()

    def _sentence(self) -> str:
        live = self.live
        if live.running:
            if not live.moments:
                return "Waiting for the first values."
            return f"{live.moments[-1].time_s:.1f} s, {len(live.moments):,} moments with all values."
        return (
            live.said
            or "What comes is drawn here, and becomes a run of the job. Moments that do not come are counted."
        )

    def _list_channels(self) -> None:
        channels = self.live.channels()
        if tuple(self.boxes) != channels:
            while (item := self.list.takeAt(0)) is not None:
                if (old := item.widget()) is not None:
                    old.deleteLater()
            self.boxes = {}
            for key in channels:
                title = CHANNELS[key].title if key in CHANNELS else key
                self.boxes[key] = Switch(title, partial(self.live.choose, key))
                self.list.addWidget(self.boxes[key])
            if not channels:
                self.list.addWidget(
                    label("Which channels the unit gives is asked when it is logged from.", "quiet", wrap=True)
                )
            self.list.addStretch(1)
        for key, box in self.boxes.items():
            show_switch(box, key not in self.live.left_out)
            box.setEnabled(not self.live.running)

    def _lay(self, keys: tuple[str, ...]) -> None:
        """A trace for what has a usual place in a log, then for what else there is room for."""
        lanes = list(lanes_of(keys))
        shown = {k for lane in LANES for k in (*lane.keys, *lane.beside)}
        lanes += [Lane(CHANNELS[k].title if k in CHANNELS else k, (k,)) for k in keys if k not in shown]
        lanes = lanes[: min(max(self.sheet.height() // LEAST_LANE_PX, 1), MOST_LANES)]
        if [lane for lane, _, _ in self._lanes] == lanes:
            return
        self.sheet.clear()
        self._lanes = []
        for n, lane in enumerate(lanes):
            last = n == len(lanes) - 1
            plot = add_chart(self.sheet, n, bottom="Time from the start, s" if last else "", width=62)
            plot.getAxis("bottom").setStyle(showValues=last)
            plot.getAxis("left").setStyle(maxTickLevel=0)
            plot.setTitle(self._titled(lane), size="8pt")
            curves = [penned(plot.plot(antialias=False), "working", 1) for _ in lane.keys]
            self._lanes.append((lane, plot, curves))
            if n:
                plot.setXLink(self._lanes[0][1])

    def _titled(self, lane: Lane) -> str:
        if lane.keys[0] not in CHANNELS or self._unit(lane.keys[0]) == lane.title.lower():
            return lane.title
        return f"{lane.title}, {self._unit(lane.keys[0])}"

    def _unit(self, key: str) -> str:
        kind = CHANNELS[key]
        return self.session.settings.units.get(kind.shown_as or kind.quantity, kind.unit)

    def _draw(self) -> None:
        """What has come until now; a moment's values are drawn as they are, nothing between."""
        moments = self.live.moments
        if not moments:
            self.sheet.clear()
            self._lanes = []
            return
        self._lay(tuple(moments[0].values))
        self.summary.setText(self._sentence())
        t = np.array([m.time_s for m in moments])
        until = (t[-1] // STEP_S + 1.0) * STEP_S if self.live.running else max(float(t[-1]), 1.0)
        self._lanes[0][1].setXRange(0.0, until, padding=0.0)
        for lane, _, curves in self._lanes:
            for key, curve in zip(lane.keys, curves, strict=True):
                values = np.array([m.values.get(key, np.nan) for m in moments])
                curve.setData(t, np.asarray(from_canonical(values, self._unit(key))) if key in CHANNELS else values)

    # -- keys

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this page."""
        return [("Tab, Space", "reach and press Log a run, Stop and keep"), ("Esc", "back")]

    def commands(self) -> list[Command]:
        """Commands of this page."""
        return [Command("Log from the unit", "", self.live.start), Command(self.back.text(), "Esc", self.escape)]

    def main_widget(self) -> QWidget:
        """The act takes the focus."""
        return self.start

    def escape(self) -> None:
        """Back; a log that runs goes on."""
        self.session.go(self.came_from)


def make(session: Session, window: Desk) -> LiveView:
    """The page of the live log."""
    return LiveView(session)
