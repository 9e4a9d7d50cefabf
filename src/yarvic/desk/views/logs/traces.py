"""The traces themselves: charts above each other on one axis, two cursors, what stands at them and lies between them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QVBoxLayout

from yarvic.core.evidence.between import Between, between
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel
from yarvic.core.evidence.overview import Seen
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, from_canonical
from yarvic.desk.views.logs.axis import LABELS, SPEED, TIME, Laid
from yarvic.desk.views.logs.doubted import amount_words, axis_words, in_unit
from yarvic.desk.views.logs.track import NO_VALUE, NOTHING, SHORT, Lane, Points, Track
from yarvic.desk.widgets.plot import sheet
from yarvic.state.results import PullResult

MOST_GHOSTS = 8
LINE_PX, LEAST_LINES, AXIS_PX = 17, 2, 45


def _in_unit(channel: Channel, unit: str, values: FloatArray) -> FloatArray:
    return in_unit(channel, values, unit)


@dataclass(frozen=True)
class Shown:
    """A pull on the axis, with its log as it is drawn (its computed channels in it)."""

    pull: PullResult
    laid: Laid


class Traces(QFrame):
    """Lanes of one pull, with others as ghosts. `unit_of` gives the unit that a person chose for a channel."""

    def __init__(self, unit_of: Callable[[str], str]) -> None:
        super().__init__()
        self.setObjectName("sheet")
        inner = QVBoxLayout(self)
        inner.setContentsMargins(2, 2, 2, 2)
        self.sheet = sheet()
        self.sheet.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        inner.addWidget(self.sheet)
        self.unit_of = unit_of
        self.tracks: list[Track] = []
        self.shown: Shown | None = None
        self.place: float | None = None  # on the axis
        self.anchor: float | None = None

    def lay(self, lanes: tuple[Lane, ...]) -> None:
        """Lay out the charts for these lanes, unless they stand already."""
        if tuple(track.lane for track in self.tracks) == lanes:
            return
        self.sheet.clear()
        self.tracks = [Track(self.sheet, i, lane, last=i == len(lanes) - 1) for i, lane in enumerate(lanes)]
        for track in self.tracks[1:]:
            track.plot.setXLink(self.tracks[0].plot)

    def clear(self) -> None:
        """Show nothing."""
        self.shown = None
        for track in self.tracks:
            track.clear()

    def draw(
        self, shown: Shown, ghosts: Sequence[Shown], limit_of: Callable[[Lane, str], float | None], label: str
    ) -> None:
        """Draw a pull with others behind it."""
        self.shown = shown
        region = shown.laid.pull_ends() if not shown.pull.whole else None
        for track in self.tracks:
            lane = track.lane
            unit = self._unit(shown, lane.keys[0])
            track.show(
                [self._points(shown, key, unit) for key in lane.keys],
                [self._points(shown, key, unit) for key in lane.beside],
                [self._points(g, track.ghost_key, unit) for g in ghosts[:MOST_GHOSTS]],
                self._axis(shown, lane.keys[0], unit),
                region,
                limit_of(lane, unit),
            )
        if self.tracks:
            self.tracks[-1].plot.setLabel("bottom", label or LABELS[shown.laid.axis])

    def whole(self) -> None:
        """All of the axis in sight."""
        if self.shown is not None and self.tracks:
            low, high = self.shown.laid.ends()
            self.tracks[0].plot.setXRange(low, high, padding=0.02 if self.shown.laid.axis == SPEED else 0.01)

    def show_span(self, start_s: float, end_s: float) -> None:
        """Only what lies between two times of the log in sight."""
        if self.shown is not None and self.tracks:
            places = self.shown.laid.at(np.array([start_s, end_s]))
            if np.isfinite(places).all():
                self.tracks[0].plot.setXRange(float(places[0]), float(places[1]), padding=0.0)

    @staticmethod
    def _axis(shown: Shown, key: str, unit: str) -> str:
        channel = shown.laid.log.channels.get(key)
        return axis_words(channel, unit) if channel is not None else unit

    def _unit(self, shown: Shown, key: str) -> str:
        if key in CHANNELS:
            return self.unit_of(key)
        channel = shown.laid.log.channels.get(key)
        return channel.unit if channel is not None else ""

    def _points(self, shown: Shown, key: str, unit: str) -> Points:
        channel = shown.laid.log.channels.get(key)
        if channel is None or not channel.time_s.size:
            return NOTHING
        if shown.laid.axis == TIME and channel.time_s.size > SHORT and channel.overview.rises:
            return Seen(channel.overview, shown.laid.zero_s, partial(_in_unit, channel, unit))
        values = in_unit(channel, channel.values, unit)
        places = shown.laid.at(channel.time_s)
        if shown.laid.axis == SPEED:
            inside = np.isfinite(places)
            return places[inside], values[inside]
        return places, values

    # -- the cursors

    def move_to(self, x: float) -> float | None:
        """Put the cursor at a place of the axis and read all traces there; gives the time in the log."""
        shown = self.shown
        if shown is None:
            return None
        self.place = x
        time = shown.laid.time(x)
        since = shown.laid.time(self.anchor) if self.anchor is not None else None
        high = (self.sheet.height() - AXIS_PX) / max(len(self.tracks), 1)
        room = max(int(high // LINE_PX), LEAST_LINES)
        for track in self.tracks:
            there = [k for k in track.lane.keys if k in shown.laid.log.channels]
            parts = [self._amount(shown, key, time) for key in there]
            beside = [self._amount(shown, k, time) for k in track.lane.beside if k in shown.laid.log.channels]
            spans = [self._between(shown, there[0], since, time)] if since is not None and there else []
            track.read_out(x, parts, beside, spans[0] if spans else (), self.anchor, room)
        return time

    def resizeEvent(self, event) -> None:
        """There is room for more, or for less, beside the traces."""
        super().resizeEvent(event)
        if self.place is not None:
            self.move_to(self.place)

    def set_anchor(self, x: float | None) -> None:
        """Put the second cursor at a place, or take it away."""
        self.anchor = x
        if self.place is not None:
            self.move_to(self.place)

    def _amount(self, shown: Shown, key: str, time: float) -> str:
        channel = shown.laid.log.channels[key]
        value = float(shown.laid.log.at(key, np.array([time]))[0])
        if not np.isfinite(value):
            return NO_VALUE
        return amount_words(channel, value, self._unit(shown, key))

    def _between(self, shown: Shown, key: str, start_s: float, end_s: float) -> tuple[str, ...]:
        """What lies between the two cursors, from the earlier to the later one."""
        found = between(shown.laid.log, key, start_s, end_s)
        return tuple(self._span_words(key, self._unit(shown, key), found))

    @staticmethod
    def _span_words(key: str, unit: str, found: Between) -> list[str]:
        known = key in CHANNELS and unit in UNITS

        def shown(value: float, digits: int | None = None) -> str:
            if not np.isfinite(value):
                return NO_VALUE
            number = float(from_canonical(value, unit)) if known else value
            return f"{number:.{UNITS[unit].decimals if digits is None else digits}f}" if known else f"{number:.4g}"

        short = unit.removesuffix(" diff")
        offset = float(from_canonical(0.0, unit)) if known else 0.0
        change = found.difference
        words = NO_VALUE
        if np.isfinite(change):
            number = float(from_canonical(change, unit)) - offset if known else change
            words = f"{number:+.{UNITS[unit].decimals}f}" if known else f"{number:+.4g}"
        lines = [f"\u0394 {words}, mean {shown(found.mean)} {short}".rstrip()]
        # An area over a scale whose zero is chosen (a temperature) means nothing in another.
        if not (known and UNITS[unit].offset):
            area = found.area / UNITS[unit].factor if known else found.area
            lines.append(f"area {area:.4g} {short} s")
        if found.missing:
            lines.append(f"{found.missing * 100.0:.0f} % not logged")
        return lines
