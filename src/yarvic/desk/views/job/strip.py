"""The strip: air comes in above and goes down into the cylinders, exhaust leaves to the left, the drive runs below."""

from __future__ import annotations

from itertools import pairwise

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.checks.finding import NO_DATA, ORDER, amount
from yarvic.core.job.model import parts_on
from yarvic.core.plan.stations import Station, stations
from yarvic.desk.theme import CAPTION_PX, font, tokens
from yarvic.desk.widgets.glyphs import draw_glyph
from yarvic.state.session import Session

COLUMNS = 7
# The column of the cylinders: air ends above it, exhaust and drive run from it to the left.
ENGINE = 5
GAP, TOP, EDGE = 20.0, 18.0, 8.0
WRAPPED = int(Qt.TextFlag.TextWordWrap)


class Strip(QWidget):
    """The stations as boxes. A click or the arrow keys choose one; `chose` tells which."""

    chose = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.chosen = ""
        self.setMinimumHeight(200)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Vehicle, station by station")
        self._fitted: dict[str, str] = {}
        self._parts: frozenset[str] = frozenset()

    def bring_up_to_date(self) -> None:
        """Read what is fitted."""
        job = self.session.job
        self._fitted = job.fitted() if job is not None else {}
        self._parts = parts_on(job.builds()) if job is not None else frozenset()
        keys = [s.key for s in self.stations()]
        if self.chosen not in keys:
            self.chosen = ""
        chosen = next((s for s in self.stations() if s.key == self.chosen), None)
        if chosen is not None:
            self.setAccessibleDescription(f"{chosen.title}: {self._fitted.get(chosen.key, 'not stated')}")
        self.update()

    def stations(self) -> tuple[Station, ...]:
        """The stations that the vehicle has."""
        job = self.session.job
        return stations(job.sheet.vehicle) if job is not None else ()

    def places(self) -> dict[str, tuple[Station, QRectF]]:
        """Where each station's box stands, by key, in the order in which the keys walk."""
        by_line: dict[str, list[Station]] = {"air": [], "fuel": [], "engine": [], "exhaust": [], "drive": []}
        for station in self.stations():
            by_line[station.line].append(station)
        tall = (self.height() - TOP - 2 * GAP - 4) / 3.0
        wide = (self.width() - 2 * EDGE + 10) / COLUMNS

        def box(column: float, row: int, width: float = 1.0) -> QRectF:
            return QRectF(EDGE + column * wide, TOP + row * (tall + GAP), width * wide - 10, tall)

        found = {}
        # Air spreads over the columns up to the engine's, the last of it right above the cylinders.
        air = by_line["air"]
        share = (ENGINE + 1.0) / max(len(air), 1)
        for i, station in enumerate(air):
            found[station.key] = (station, box(i * share, 0, share))
        for station in by_line["fuel"]:
            found[station.key] = (station, box(ENGINE + 1, 1))
        for station in by_line["engine"]:
            found[station.key] = (station, box(ENGINE, 1))
        exhaust = by_line["exhaust"]
        share = ENGINE / max(len(exhaust), 1)
        for i, station in enumerate(exhaust):
            found[station.key] = (station, box(ENGINE - (i + 1) * share, 1, share))
        share = min(ENGINE / 4.0, 1.4)
        for i, station in enumerate(by_line["drive"]):
            place = box(ENGINE, 2) if i == 0 else box(ENGINE - i * share, 2, share)
            found[station.key] = (station, place)
        return found

    def paintEvent(self, event) -> None:
        """Lines first, then boxes."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        places = self.places()
        self._lines(painter, places)
        for station, box in places.values():
            self._station(painter, station, box)

    def _lines(self, painter: QPainter, places: dict[str, tuple[Station, QRectF]]) -> None:
        t = tokens()
        painter.setPen(QPen(t.color("quiet"), 2))
        lines = {name: [b for s, b in places.values() if s.line == name] for name in ("air", "exhaust", "drive")}
        cylinders, fuel = places.get("cylinders"), places.get("fuel")
        for boxes in lines.values():
            for one, other in pairwise(boxes):
                y = one.center().y()
                left, right = (one, other) if one.left() < other.left() else (other, one)
                painter.drawLine(QPointF(left.right(), y), QPointF(right.left(), y))
        if cylinders is not None:
            engine = cylinders[1]
            x, y = engine.center().x(), engine.center().y()
            if lines["air"]:
                painter.drawLine(QPointF(x, lines["air"][-1].bottom()), QPointF(x, engine.top()))
            if lines["exhaust"]:
                painter.drawLine(QPointF(lines["exhaust"][0].right(), y), QPointF(engine.left(), y))
            if lines["drive"]:
                painter.drawLine(QPointF(x, engine.bottom()), QPointF(x, lines["drive"][0].top()))
            if fuel is not None:
                painter.drawLine(QPointF(engine.right(), y), QPointF(fuel[1].left(), y))
        self._shaft(painter, places)
        painter.setFont(font(CAPTION_PX))
        painter.setPen(t.color("quiet"))
        if lines["air"]:
            painter.drawText(QPointF(lines["air"][0].left() + 2, 12), "air in, left to right")
        if lines["exhaust"]:
            last = lines["exhaust"][-1]
            painter.drawText(QPointF(last.left() + 2, last.top() - 5), "exhaust out, right to left")
        if lines["drive"]:
            last = lines["drive"][-1]
            painter.drawText(QPointF(last.left() + 2, last.top() - 5), "crank to ground, right to left")

    def _shaft(self, painter: QPainter, places: dict[str, tuple[Station, QRectF]]) -> None:
        """Turbine and compressor sit on one shaft."""
        if "compressor" not in places or "turbine" not in places:
            return
        above, below = places["compressor"][1], places["turbine"][1]
        painter.setPen(QPen(tokens().color("quiet"), 2, Qt.PenStyle.DashLine))
        middle = (above.bottom() + below.top()) / 2.0
        x, y = above.center().x(), below.center().x()
        for start, end in (
            (QPointF(x, above.bottom()), QPointF(x, middle)),
            (QPointF(x, middle), QPointF(y, middle)),
            (QPointF(y, middle), QPointF(y, below.top())),
        ):
            painter.drawLine(start, end)

    def _station(self, painter: QPainter, station: Station, box: QRectF) -> None:
        t, job = tokens(), self.session.job
        assert job is not None
        received = job.sheet.fitted.get(station.key, "")
        fitted = self._fitted.get(station.key, "")
        changed, chosen = fitted != received, station.key == self.chosen
        painter.setBrush(t.color("ground"))
        painter.setPen(QPen(t.color("working" if chosen else "line"), 2 if chosen else 1))
        painter.drawRoundedRect(box, 4, 4)
        if chosen and self.hasFocus():
            painter.setPen(QPen(t.color("ink"), 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(box.adjusted(3, 3, -3, -3), 3, 3)
        inner = box.adjusted(6, 5, -4, -5)
        draw_glyph(painter, self.severity(station), inner.right() - 10, inner.top() + 2, 10.0)
        painter.setFont(font(12, bold=True))
        painter.setPen(t.color("ink"))
        title = painter.fontMetrics().elidedText(station.title, Qt.TextElideMode.ElideRight, int(inner.width() - 12))
        painter.drawText(inner, int(Qt.AlignmentFlag.AlignTop), title)
        # A low box has room for what is fitted only.
        limits = self.limits_of(station) if box.height() >= 60 else []
        room = inner.adjusted(0, 18, 0, -14 if limits else 0)
        painter.setFont(font(CAPTION_PX, bold=changed))
        painter.setPen(t.color("working" if changed else "ink" if fitted else "quiet"))
        line = painter.fontMetrics().lineSpacing()
        room.setHeight(max(room.height() // line, 1.0) * line)  # whole lines only
        painter.drawText(room, WRAPPED, _fitting(painter.fontMetrics(), room, fitted or "not stated"))
        if limits:
            painter.setFont(font(CAPTION_PX))
            painter.setPen(t.color("quiet"))
            text = painter.fontMetrics().elidedText(
                self._short(limits[0]), Qt.TextElideMode.ElideRight, int(inner.width())
            )
            painter.drawText(inner, int(Qt.AlignmentFlag.AlignBottom), text)

    def severity(self, station: Station) -> str:
        """The worst that was seen at a station; none for one without items."""
        job = self.session.job
        items = [i for i in job.sheet.readiness if i.station == station.key] if job is not None else []
        return min((i.severity for i in items), key=lambda s: ORDER[s], default=NO_DATA)

    def limits_of(self, station: Station) -> list[ComponentLimit]:
        """The ledger's limits of a station, with what is fitted."""
        job = self.session.job
        if job is None:
            return []
        return [m.with_parts(self._parts) for m in job.sheet.limits if m.station == station.key]

    def _short(self, limit: ComponentLimit) -> str:
        units = self.session.settings.units
        shown = units.get(limit.limited.unit_choice, limit.unit)
        return f"{amount(limit.canonical('safe'), shown)} safe"

    def choose(self, key: str) -> None:
        """Choose a station and tell so."""
        self.chosen = key
        self.bring_up_to_date()
        self.chose.emit(key)

    def mousePressEvent(self, event) -> None:
        """A click chooses a station."""
        for station, box in self.places().values():
            if box.contains(event.position()):
                self.choose(station.key)

    def keyPressEvent(self, event) -> None:
        """The arrows move to the station that lies that way."""
        ways = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        way = ways.get(event.key())
        places = self.places()
        if way is None or not places:
            super().keyPressEvent(event)
            return
        if self.chosen not in places:
            self.choose(next(iter(places)))
            return
        here = places[self.chosen][1].center()
        best, nearest = self.chosen, float("inf")
        for key, (_, box) in places.items():
            step = box.center() - here
            along = step.x() * way[0] + step.y() * way[1]
            across = abs(step.x() * way[1]) + abs(step.y() * way[0])
            if along > 4 and (along + 2.5 * across) < nearest:
                best, nearest = key, along + 2.5 * across
        if best != self.chosen:
            self.choose(best)


def _fitting(metrics: QFontMetrics, room: QRectF, text: str) -> str:
    """As many words as there is room for; an ellipsis says that there are more."""
    words, shown = text.split(), text
    while len(words) > 1 and metrics.boundingRect(room.toRect(), WRAPPED, shown).height() > room.height() + 1.0:
        words.pop()
        shown = " ".join(words).rstrip(",;") + "…"
    return metrics.elidedText(shown, Qt.TextElideMode.ElideRight, int(room.width())) if len(words) == 1 else shown
