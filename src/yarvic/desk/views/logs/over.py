"""One channel over another, tinted by a third: the points of the pull, of the span between the cursors, or of the run."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QRect
from PyQt6.QtWidgets import QFrame, QVBoxLayout

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.against import Points, against
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Log
from yarvic.core.physics import FloatArray
from yarvic.desk.theme import mix, tokens
from yarvic.desk.views.logs.doubted import amount_words, axis_words, in_unit
from yarvic.desk.views.logs.finder import HEIGHT, WIDTH
from yarvic.desk.views.logs.pull_view import PullView
from yarvic.desk.widgets.plot import add_chart, inked, penned, sheet
from yarvic.desk.widgets.typed_list import Fitting, TypedList
from yarvic.desk.widgets.words import label, row, show_choice, word
from yarvic.state.log_panes import Over, title_of

# Tints from faint to deep; the last stand on top.
TINTS = 8
USUAL = (("engine_speed", "boost_pressure", "wastegate_duty"), ("engine_speed", "lambda_measured", "throttle"))
NEAR_PX, MOST_LETTERS = 30.0, 26


class OverPicture(QFrame):
    """What stands across, upright and as tint is chosen by typing, and kept with the job."""

    def __init__(self, view: PullView) -> None:
        super().__init__()
        self._view = view
        self.setObjectName("sheet")
        self.points: Points | None = None
        self._log: Log | None = None
        self.over = Over()
        self.words = {
            "x": word("Across", partial(self._open, "x")),
            "y": word("Upright", partial(self._open, "y")),
            "shade": word("Tint", partial(self._open, "shade")),
        }
        for name, title in (("x", "Channel across"), ("y", "Channel upright"), ("shade", "Channel that tints")):
            self.words[name].setAccessibleName(title)
        self.whole = word("Whole run", self.refresh, checkable=True)
        self.caption, self.at = label("", "caption", wrap=True), label("", "caption")
        self.sheet = sheet()
        self.plot = add_chart(self.sheet, width=62)
        self.plot.getViewBox().setMouseEnabled(x=True, y=True)
        self.tints = [inked(pg.ScatterPlotItem(size=5, pen=None), partial(_tint, n)) for n in range(TINTS)]
        for item in self.tints:
            self.plot.addItem(item)
        self.near = penned(pg.ScatterPlotItem(size=12, brush=None), "ink", 1.4)
        self.plot.addItem(self.near)
        self.sheet.scene().sigMouseMoved.connect(self._mouse)
        self.sheet.scene().sigMouseClicked.connect(lambda _: self._follow())
        self._picked: int | None = None
        self._asking = "x"
        self.list = TypedList(view, "Channels", "a channel", self._found)
        column = QVBoxLayout(self)
        column.setContentsMargins(6, 4, 6, 4)
        column.addLayout(row(self.words["y"], self.words["x"], self.words["shade"], self.whole, None))
        column.addWidget(self.sheet, 1)
        column.addWidget(self.caption)
        column.addWidget(self.at)

    def refresh(self) -> None:
        """Take up the pull that is drawn."""
        view, shown = self._view, self._view.shown()
        laid = view.traces.shown
        if shown is None or laid is None or shown.evidence.is_sheet:
            self._clear("There is no log to draw.")
            return
        log = self._log = laid.laid.log
        self.over = view.finder.panes().over or self.over
        if not {self.over.x, self.over.y} <= set(log.channels):
            self.over = _usual(log)
        if not {self.over.x, self.over.y} <= set(log.channels):
            self._clear("Nothing that could stand over something else was logged.")
            return
        shade = self.over.shade if self.over.shade in log.channels else ""
        span = view.span() or (shown.pull.start_s, shown.pull.end_s)
        start, end = log.span() if self.whole.isChecked() else span
        try:
            self.points = against(log, self.over.x, self.over.y, shade, start, end)
        except EvidenceError as error:
            self._clear(error.what)
            return
        self._draw(
            log, shade, "the run" if self.whole.isChecked() else "between the cursors" if view.span() else "the pull"
        )

    def _clear(self, why: str) -> None:
        self.points = None
        for item in (*self.tints, self.near):
            item.setData([], [])
        self.caption.setText(why)
        self.at.setText("")

    def _draw(self, log: Log, shade: str, of: str) -> None:
        points = self.points
        assert points is not None
        for name, key in (("x", self.over.x), ("y", self.over.y), ("shade", shade)):
            head = {"x": "over ", "y": "", "shade": "tint "}[name]
            title = title_of(key, log) if key else "none"
            show_choice(
                self.words[name], f"{head}{title if len(title) <= MOST_LETTERS else f'{title[:MOST_LETTERS]}...'}"
            )
        x, y = self._in_unit(points.x, self.over.x), self._in_unit(points.y, self.over.y)
        known = points.shade[np.isfinite(points.shade)]
        low, high = (float(known.min()), float(known.max())) if known.size else (0.0, 0.0)
        share = (points.shade - low) / (high - low) if high > low else np.full(x.shape, 0.6)
        level = np.nan_to_num(np.clip(share * TINTS, 0, TINTS - 1), nan=0.0).astype(int)
        for n, item in enumerate(self.tints):
            item.setData(x[level == n], y[level == n])
        self.near.setData([], [])
        self._picked = None
        self.plot.setLabel("bottom", f"{title_of(self.over.x, log)}, {self._axis(self.over.x)}".rstrip(", "))
        self.plot.setLabel("left", self._axis(self.over.y))
        self.plot.autoRange(padding=0.04)
        thin = f" of {points.of:,}, the lowest and highest of each stretch" if points.of > x.size else ""
        tint = ""
        if shade and known.size:
            ends = f"{self._words(low, shade)} (faint) to {self._words(high, shade)} (deep)"
            tint = f" Tint: {title_of(shade, log).lower()}, {ends}."
        self.caption.setText(
            f"{title_of(self.over.y, log)} over {title_of(self.over.x, log).lower()}, {of}: {x.size:,} points{thin}.{tint}"
            " A click puts the cursor of the traces there."
        )
        self.at.setText("")

    def _in_unit(self, values: FloatArray, key: str) -> FloatArray:
        return in_unit(self._log.channels[key], values, self._unit(key)) if self._log is not None else values

    def _unit(self, key: str) -> str:
        if key in CHANNELS:
            return self._view.unit_of(key)
        return self._log.channels[key].unit if self._log is not None and key in self._log.channels else ""

    def _words(self, value: float, key: str) -> str:
        return amount_words(self._log.channels[key], value, self._unit(key)) if self._log is not None else ""

    def _axis(self, key: str) -> str:
        return axis_words(self._log.channels[key], self._unit(key)) if self._log is not None else ""

    # -- choosing

    def _open(self, name: str) -> None:
        self._asking = name
        view = self._view
        self.list.show_at(QRect(20, 66, min(WIDTH, view.width() - 40), min(HEIGHT, view.height() - 80)))

    def _found(self, text: str) -> tuple[Fitting, str]:
        log, words = self._log, text.casefold().split()
        if log is None:
            return (), ""
        keys = [k for k in log.channels if all(w in f"{title_of(k, log)} {k}".casefold() for w in words)]
        keys = [k for k in keys if not (k in CHANNELS and CHANNELS[k].waveform)]
        named = sorted(keys, key=lambda k: title_of(k, log).casefold())
        found: list[tuple[str, Callable[[], object]]] = [(title_of(k, log), partial(self.choose, k)) for k in named]
        if self._asking == "shade" and not words:
            found.insert(0, ("No tint", partial(self.choose, "")))
        return found, f"{len(keys)} channels"

    def choose(self, key: str) -> None:
        """Put a channel where it was asked for; it is kept with the job."""
        self.over = self.over.changed(**{self._asking: key})
        self._view.finder.keep_over(self.over)

    # -- reading

    def _mouse(self, position) -> None:
        points, box = self.points, self.plot.getViewBox()
        if points is None or not points.x.size or not self.plot.sceneBoundingRect().contains(position):
            return
        place = box.mapSceneToView(position)
        wide, high = box.viewPixelSize()
        x, y = self._in_unit(points.x, self.over.x), self._in_unit(points.y, self.over.y)
        away = np.hypot((x - place.x()) / wide, (y - place.y()) / high)
        self.pick(int(np.argmin(away))) if away.min() <= NEAR_PX else None

    def pick(self, at: int) -> None:
        """Say what stands at a point."""
        points, shown = self.points, self._view.shown()
        if points is None or shown is None or not 0 <= at < points.x.size:
            return
        self._picked = at
        x, y = self._in_unit(points.x[at : at + 1], self.over.x), self._in_unit(points.y[at : at + 1], self.over.y)
        self.near.setData(x, y)
        parts = [self._words(float(points.y[at]), self.over.y), self._words(float(points.x[at]), self.over.x)]
        if np.isfinite(points.shade[at]):
            parts.append(self._words(float(points.shade[at]), self.over.shade))
        self.at.setText(f"{', '.join(parts)}, at {points.time_s[at] - shown.pull.start_s:.2f} s")

    def _follow(self) -> None:
        if self.points is not None and self._picked is not None:
            self._view.move_to_time(float(self.points.time_s[self._picked]))


def _usual(log: Log) -> Over:
    """What is looked at where nobody chose."""
    for x, y, shade in USUAL:
        if {x, y} <= set(log.channels):
            return Over(x=x, y=y, shade=shade if shade in log.channels else "")
    keys = [k for k, c in log.channels.items() if not c.states and not (k in CHANNELS and CHANNELS[k].waveform)]
    return Over(x=keys[0], y=keys[-1]) if len(keys) > 1 else Over()


def _tint(n: int, item: pg.ScatterPlotItem) -> None:
    item.setBrush(mix(tokens().color("sheet"), tokens().color("working"), 0.22 + 0.78 * n / (TINTS - 1)))
