"""The readings: Yarvic's judgement as cards, ranked; a click jumps to the place."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetrics, QPainter, QPen
from PyQt6.QtWidgets import QAbstractButton, QScrollArea, QVBoxLayout, QWidget

from yarvic.core.checks.finding import VERDICT_WORDS
from yarvic.desk.theme import CAPTION_PX, font, mix, tokens
from yarvic.desk.widgets.glyphs import draw_glyph
from yarvic.desk.widgets.soon import Soon
from yarvic.desk.widgets.words import Elided, label
from yarvic.state.reading import Reading
from yarvic.state.readings import readings
from yarvic.state.results import simulated_mark
from yarvic.state.selection import DRAFT
from yarvic.state.session import Session

WIDTH = 300
_TEXT_LEFT = 30


class Card(QAbstractButton):
    """One reading. The bar runs from nothing to the stop limit (the long tick); the short tick is the watch limit."""

    def __init__(self, reading: Reading, width: int) -> None:
        super().__init__()
        self.reading = reading
        self.setFixedWidth(width)
        self._text_width = width - _TEXT_LEFT - 12
        bold, small = QFontMetrics(font(bold=True)), QFontMetrics(font(CAPTION_PX))
        flags = int(Qt.TextFlag.TextWordWrap)
        self._head = bold.boundingRect(0, 0, self._text_width, 400, flags, reading.sentence).height()
        body = small.boundingRect(0, 0, self._text_width, 400, flags, reading.numbers).height()
        self._body = body if reading.numbers else 0
        bar = 16 if reading.share is not None else 0
        self.setFixedHeight(10 + self._head + (4 + self._body if self._body else 0) + bar + 10)
        leads = reading.where is not None or bool(reading.step)
        self.setEnabled(leads)
        if leads:
            self.setCursor(Qt.CursorShape.PointingHandCursor)
            self.setToolTip("Go to the place" if reading.where else "Go there")
        self.setAccessibleName(f"{VERDICT_WORDS[reading.severity]}: {reading.sentence}. {reading.numbers}")

    def sizeHint(self) -> QSize:
        """As its text needs."""
        return QSize(self.width(), self.height())

    def paintEvent(self, event) -> None:
        """Frame, glyph, sentence, numbers, bar."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t, r = tokens(), self.reading
        focus = self.hasFocus() or (self.underMouse() and self.isEnabled())
        painter.setPen(QPen(t.color("working" if focus else "line"), 2 if self.hasFocus() else 1))
        painter.setBrush(t.color("sheet"))
        painter.drawRoundedRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1), 4, 4)
        draw_glyph(painter, r.severity, 10, 11)
        flags = int(Qt.TextFlag.TextWordWrap)
        painter.setPen(t.color("ink"))
        painter.setFont(font(bold=True))
        painter.drawText(QRectF(_TEXT_LEFT, 9, self._text_width, self._head + 2), flags, r.sentence)
        y = 9 + self._head + 4
        if self._body:
            painter.setPen(t.color("quiet"))
            painter.setFont(font(CAPTION_PX))
            painter.drawText(QRectF(_TEXT_LEFT, y, self._text_width, self._body + 2), flags, r.numbers)
            y += self._body + 7
        if r.share is not None:
            self._bar(painter, y)

    def _bar(self, painter: QPainter, y: float) -> None:
        t, r = tokens(), self.reading
        assert r.share is not None
        # The stop limit stands at five sixths of the way, so that going past it can be seen.
        full = self._text_width * 5.0 / 6.0
        painter.fillRect(QRectF(_TEXT_LEFT, y, self._text_width, 5), mix(t.color("sheet"), t.color("line"), 0.9))
        used = min(full * r.share, float(self._text_width))
        painter.fillRect(QRectF(_TEXT_LEFT, y, used, 5), t.severity(r.severity))
        painter.fillRect(QRectF(_TEXT_LEFT + full - 1, y - 3, 2, 11), t.color("ink"))
        if r.watch_share is not None and 0.0 < r.watch_share < 1.0:
            painter.fillRect(QRectF(_TEXT_LEFT + full * r.watch_share, y - 1, 1, 7), t.color("ink"))


class Readings(QWidget):
    """The column of cards for the step in hand."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("ground")
        self.setFixedWidth(WIDTH)
        self.setAccessibleName("Readings")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 14, 6, 8)
        layout.setSpacing(8)
        self._title = label("Readings", "title")
        self._about = Elided()
        layout.addWidget(self._title)
        layout.addWidget(self._about)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setFrameShape(self._area.Shape.NoFrame)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        layout.addWidget(self._area, 1)
        self.cards: list[Card] = []
        for signal in (
            session.job_changed,
            session.sheet_changed,
            session.selection_changed,
            session.results_changed,
            session.bench_changed,
            session.link.changed,
            session.units_changed,
            session.theme_changed,
        ):
            signal.connect(self.refresh)
        self._soon = Soon(self, self.refresh)
        session.draft_changed.connect(self._soon.ask)
        session.step_changed.connect(lambda step: self.refresh())

    def refresh(self) -> None:
        """Make the cards anew."""
        s = self.session
        revision = s.evidence_revision()
        about = ""
        if s.job is not None and revision is not None:
            about = f"evidence of {revision.name}" if s.working == DRAFT else s.working_name()
            reference = s.name_of(s.reference)
            about += f", against {reference}" if reference and reference != revision.name else ""
        if about:
            about = f"{simulated_mark(s.working_results())}{about}"
        self._about.setText(about)
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 4, 0)
        column.setSpacing(8)
        self.cards = []
        for reading in readings(s, s.settings.step):
            card = Card(reading, WIDTH - 32)
            card.clicked.connect(lambda _=False, r=reading: self._follow(r))
            column.addWidget(card)
            self.cards.append(card)
        if not self.cards and s.job is None:
            column.addWidget(label("Readings appear here once a job is open.", "quiet", wrap=True))
        column.addStretch(1)
        old = self._area.takeWidget()
        self._area.setWidget(inner)
        if old is not None:
            # Not at once: Tab may be on its way to one of the old cards while leaving a field changes the state.
            old.hide()
            old.deleteLater()

    def _follow(self, reading: Reading) -> None:
        if reading.where is not None:
            self.session.go(reading.step or "logs")
            self.session.place_changed.emit(reading.where)
        elif reading.step:
            self.session.go(reading.step)
            if reading.panel:
                self.session.panel_asked.emit(reading.panel)
