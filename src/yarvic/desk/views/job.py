"""Job: the vehicle as a schematic strip from filter to tailpipe and from crank to tyre, and its build history."""

from __future__ import annotations

from functools import partial
from itertools import pairwise
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from yarvic.core.checks.finding import amount
from yarvic.core.job.model import Station
from yarvic.core.units import UNITS, to_canonical
from yarvic.desk.names import DEMO_NAMES
from yarvic.desk.overlays import Command
from yarvic.desk.theme import CAPTION_PX, font, tokens
from yarvic.desk.views.view import View
from yarvic.desk.widgets.words import act, label, row, word
from yarvic.state.session import Session

if TYPE_CHECKING:
    from yarvic.desk.window import Window


class Strip(QWidget):
    """The stations as boxes: air comes in at the top left, exhaust leaves at the top right, the drive runs below."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.chosen = ""
        self.setMinimumHeight(264)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Vehicle, station by station")
        self.on_choice = lambda: None

    def stations(self) -> list[Station]:
        """All stations of the job."""
        return list(self.session.job.sheet.stations) if self.session.job else []

    def places(self) -> list[tuple[Station, QRectF]]:
        """Where each station's box stands."""
        upper = [s for s in self.stations() if s.line in ("air", "engine", "exhaust")]
        lower = [s for s in self.stations() if s.line == "drive"]
        found = []
        tall = min(max((self.height() - 66) / 2, 96.0), 150.0)
        width = (self.width() - 24) / max(len(upper), 1)
        for i, station in enumerate(upper):
            found.append((station, QRectF(12 + i * width + 4, 26, width - 8, tall)))
        engine = [b for s, b in found if s.line == "engine"]
        start = engine[-1].left() if engine else 12
        room = (self.width() - 12 - start) / max(len(lower), 1)
        for i, station in enumerate(lower):
            found.append((station, QRectF(start + i * room, 26 + tall + 34, min(room - 8, width * 1.25), tall)))
        return found

    def paintEvent(self, event) -> None:
        """Lines first, then boxes."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = tokens()
        places = self.places()
        painter.setPen(QPen(t.color("quiet"), 2))
        upper = [(s, b) for s, b in places if s.line != "drive"]
        lower = [(s, b) for s, b in places if s.line == "drive"]
        for (_, box), (_, other) in pairwise(upper):
            painter.drawLine(QPointF(box.right(), box.center().y()), QPointF(other.left(), other.center().y()))
        engine = [b for s, b in upper if s.line == "engine"]
        if engine and lower:
            x = engine[-1].center().x()
            first = lower[0][1]
            painter.drawLine(QPointF(x, engine[-1].bottom()), QPointF(x, first.top()))
        for (_, box), (_, other) in pairwise(lower):
            painter.drawLine(QPointF(box.right(), box.center().y()), QPointF(other.left(), other.center().y()))
        painter.setFont(font(CAPTION_PX))
        painter.setPen(t.color("quiet"))
        for text, line in (("air in", "air"), ("fuel and fire", "engine"), ("exhaust out", "exhaust")):
            first_box = next((b for s, b in upper if s.line == line), None)
            if first_box is not None:
                painter.drawText(QPointF(first_box.left() + 2, 18), text)
        if lower:
            painter.drawText(QPointF(lower[0][1].center().x() + 10, lower[0][1].top() - 9), "crank to tyre")
        for station, box in places:
            self._station(painter, station, box)

    def _station(self, painter: QPainter, station: Station, box: QRectF) -> None:
        t, job = tokens(), self.session.job
        assert job is not None
        fitted = job.fitted().get(station.key, station.fitted)
        changed = fitted != station.fitted
        chosen = station.key == self.chosen
        painter.setBrush(t.color("ground"))
        painter.setPen(QPen(t.color("working" if chosen else "line"), 2 if chosen else 1))
        painter.drawRoundedRect(box, 4, 4)
        if chosen and self.hasFocus():
            painter.setPen(QPen(t.color("ink"), 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(box.adjusted(3, 3, -3, -3), 3, 3)
        inner = box.adjusted(7, 6, -5, -5)
        painter.setFont(font(12, bold=True))
        painter.setPen(t.color("ink"))
        painter.drawText(inner, int(Qt.AlignmentFlag.AlignTop), station.title)
        painter.setFont(font(CAPTION_PX, bold=changed))
        painter.setPen(t.color("working" if changed else "ink"))
        text = inner.adjusted(0, 19, 0, 0)
        painter.drawText(text, int(Qt.TextFlag.TextWordWrap), fitted)
        limits = self.limits_of(station)
        if limits:
            painter.setFont(font(CAPTION_PX))
            painter.setPen(t.color("quiet"))
            painter.drawText(inner, int(Qt.AlignmentFlag.AlignBottom | Qt.TextFlag.TextWordWrap), limits[0][0])

    def limits_of(self, station: Station) -> list[tuple[str, str]]:
        """Limits of a station: short, and in full with source."""
        job = self.session.job
        assert job is not None
        found = []
        for limit in job.sheet.limits:
            if limit.key not in station.limit_keys:
                continue
            shown = self.session.settings.units.get(UNITS[limit.unit].quantity, limit.unit)
            safe, most = (amount(float(to_canonical(v, limit.unit)), shown) for v in (limit.safe, limit.stretch))
            found.append(
                (f"{safe} safe", f"{limit.component}: {safe} safe, {most} at most ({limit.basis}; {limit.source})")
            )
        return found

    def _choose(self, key: str) -> None:
        self.chosen = key
        self.update()
        self.on_choice()

    def mousePressEvent(self, event) -> None:
        """A click chooses a station."""
        for station, box in self.places():
            if box.contains(event.position()):
                self._choose(station.key)

    def keyPressEvent(self, event) -> None:
        """Left and right move between stations."""
        keys = [s.key for s in self.stations()]
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right) and keys:
            at = keys.index(self.chosen) if self.chosen in keys else -1
            self._choose(keys[(at + (1 if event.key() == Qt.Key.Key_Right else -1)) % len(keys)])
        else:
            super().keyPressEvent(event)


class JobView(View):
    """The strip, the station in hand, the build history."""

    def __init__(self, session: Session, window: Window) -> None:
        super().__init__(session, "Job")
        self.window_ = window
        self.empty = self._welcome(window)
        self.strip = Strip(session)
        self.strip.on_choice = self._describe
        self.station = label("", "quiet", wrap=True)
        self.history = QTableWidget(0, 5)
        self.history.setHorizontalHeaderLabels(["Build", "Fitted", "Since", "Revisions made on it", "Pulls"])
        self.history.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.history.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.history.setAccessibleName("Build history")
        self.history.setShowGrid(False)
        vertical, horizontal = self.history.verticalHeader(), self.history.horizontalHeader()
        assert vertical is not None and horizontal is not None
        vertical.hide()
        horizontal.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        horizontal.setStretchLastSection(True)
        horizontal.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.facts = label("", wrap=True)
        self.full = QFrame()
        self.full.setObjectName("sheet")
        column = QVBoxLayout(self.full)
        column.setContentsMargins(10, 8, 10, 10)
        column.addWidget(self.facts)
        column.addWidget(self.strip, 3)
        column.addWidget(self.station)
        column.addWidget(label("Build history", "title"))
        column.addWidget(self.history, 2)
        self.column.addWidget(self.full, 1)
        self.column.addWidget(self.empty, 1)
        self.refresh_on(
            session.job_changed, session.results_changed, session.units_changed, session.selection_changed
        )

    def _welcome(self, window: Window) -> QFrame:
        frame = QFrame()
        frame.setObjectName("sheet")
        column = QVBoxLayout(frame)
        column.setContentsMargins(40, 40, 40, 40)
        column.addWidget(label("No job is open", "big"))
        text = (
            "A job holds one vehicle: its maps, every revision with its reason, every pull, and what the checks said."
            " Open one, or build a demo: a rescue buggy with a map that falls short, a supply carrier whose gearbox is"
            " the weak link, or an ice-race twin that came with somebody's map."
        )
        column.addWidget(label(text, "quiet", wrap=True))
        column.addLayout(
            row(
                *(
                    act(f"Open the demo: {title}", partial(window.open_demo, name))
                    if name == "ptarmigan"
                    else word(title, partial(window.open_demo, name))
                    for name, title in DEMO_NAMES
                ),
                word("Open a job", window.ask_for_job, "Ctrl+O"),
                None,
                spacing=12,
            )
        )
        column.addStretch(1)
        return frame

    def refresh(self) -> None:
        """Show what the job says."""
        job = self.session.job
        self.full.setVisible(job is not None)
        self.empty.setVisible(job is None)
        if job is None:
            self.about.setText("")
            return
        v, sheet = job.sheet.vehicle, job.sheet
        self.about.setText(f"{sheet.shop} · {sheet.purpose}, {sheet.use} · {sheet.altitude_m:.0f} m altitude")
        self.facts.setText(
            f"{v.kind.capitalize()}: {v.cylinders} cylinders, {v.bore_mm:g} x {v.stroke_mm:g} mm,"
            f" {v.displacement_m3 * 1e6:,.0f} cm³, compression {v.compression_ratio:g}, red line {v.redline_rpm:,.0f} rpm,"
            f" {v.mass_kg:,.0f} kg. Fuel slots: {', '.join(v.fuels)}."
        )
        builds = job.builds()
        self.history.setRowCount(len(builds))
        for line, build in enumerate(builds):
            names = ", ".join(r.name for r in self.session.revisions() if r.build == build.number)
            pulls = sum(p.evidence.build == build.number for r in self.session.results.values() for p in r.pulls)
            since = build.time[:16].replace("T", " ") + " UTC"
            for at, text in enumerate((str(build.number), build.title, since, names or "none", str(pulls))):
                self.history.setItem(line, at, QTableWidgetItem(text))
        self.strip.update()
        self._describe()

    def _describe(self) -> None:
        station = next((s for s in self.strip.stations() if s.key == self.strip.chosen), None)
        job = self.session.job
        if station is None or job is None:
            self.station.setText(
                "Choose a station to read what is fitted and what it stands. Blue: fitted since the job came in."
            )
            return
        fitted = job.fitted().get(station.key, station.fitted)
        limits = "; ".join(full for _, full in self.strip.limits_of(station)) or "no limit is stated"
        self.station.setText(f"{station.title}: {fitted}. {limits[0].upper()}{limits[1:]}.")

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        return [("Left, Right", "previous, next station")]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        return []

    def main_widget(self) -> QWidget:
        """The strip takes the keys."""
        return self.strip


def make(session: Session, window: Window) -> JobView:
    """The view of this step."""
    return JobView(session, window)
