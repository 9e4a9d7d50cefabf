"""The route: the eight steps in the order of the work, each with its state."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QAbstractButton, QVBoxLayout, QWidget

from yarvic.core.checks.finding import NO_DATA, VERDICT_WORDS
from yarvic.desk.theme import CAPTION_PX, font, tokens
from yarvic.desk.widgets.glyphs import draw_glyph
from yarvic.desk.widgets.soon import Soon
from yarvic.state.readings import route_state
from yarvic.state.session import STEP_TITLES, STEPS, Session

WIDTH = 124


class Stop(QAbstractButton):
    """One step."""

    def __init__(self, title: str, number: int) -> None:
        super().__init__()
        self.title = title
        self.number = number
        self.severity = NO_DATA
        self.setCheckable(True)
        self.setText(title)
        self.setFixedHeight(36)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip(f"{title} (Alt+{number})")

    def sizeHint(self) -> QSize:
        """As wide as the route."""
        return QSize(WIDTH - 12, 36)

    def paintEvent(self, event) -> None:
        """Glyph, title, number."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = tokens()
        if self.isChecked():
            painter.setPen(QPen(t.color("line"), 1))
            painter.setBrush(t.color("sheet"))
            painter.drawRoundedRect(QRectF(0.5, 1.5, self.width() - 1, self.height() - 3), 4, 4)
            painter.fillRect(QRectF(0, 2, 3, self.height() - 4), t.color("working"))
        elif self.underMouse():
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("sheet"))
            painter.drawRoundedRect(QRectF(0.5, 1.5, self.width() - 1, self.height() - 3), 4, 4)
        if self.hasFocus():
            painter.setPen(QPen(t.color("working"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(1, 2, self.width() - 2, self.height() - 4), 4, 4)
        draw_glyph(painter, self.severity, 11, self.height() / 2 - 6)
        painter.setFont(font(bold=self.isChecked()))
        painter.setPen(t.color("ink"))
        painter.drawText(QPointF(33, self.height() / 2 + 5), self.title)
        painter.setFont(font(CAPTION_PX))
        painter.setPen(t.color("quiet"))
        painter.drawText(QPointF(self.width() - 16, self.height() / 2 + 4), str(self.number))


class Route(QWidget):
    """The column of steps."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setFixedWidth(WIDTH)
        self.setObjectName("ground")
        self.setAccessibleName("Route")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 10, 4, 8)
        layout.setSpacing(4)
        self.stops: dict[str, Stop] = {}
        for number, step in enumerate(STEPS, 1):
            stop = Stop(STEP_TITLES[step], number)
            stop.clicked.connect(lambda _=False, step=step: session.go(step))
            self.stops[step] = stop
            layout.addWidget(stop)
        layout.addStretch(1)
        for signal in (
            session.job_changed,
            session.sheet_changed,
            session.selection_changed,
            session.results_changed,
            session.bench_changed,
        ):
            signal.connect(self.refresh)
        self._soon = Soon(self, self.refresh)
        session.draft_changed.connect(self._soon.ask)
        session.step_changed.connect(lambda step: self.refresh())
        session.theme_changed.connect(self.refresh)

    def refresh(self) -> None:
        """Show state and choice."""
        for step, stop in self.stops.items():
            stop.severity = route_state(self.session, step)
            stop.setChecked(step == self.session.settings.step)
            stop.setAccessibleName(f"{stop.title}, step {stop.number}, {VERDICT_WORDS[stop.severity]}")
            stop.update()
