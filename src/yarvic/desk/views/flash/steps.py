"""The sequence of a write as one line of steps, with where it stands."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.desk.theme import CAPTION_PX, font, tokens
from yarvic.desk.widgets.glyphs import draw_glyph

# What the sequence says of itself while it is at a step, and the step's name on the line.
NAMES = {
    "Identifying": "Identify",
    "Reading": "Read and keep",
    "Unlocking": "Unlock",
    "Writing": "Write",
    "Comparing": "Read back",
    "Clearing codes": "Clear codes",
    "Key off": "Key off",
    "Starting": "Start",
}
ORDER = tuple(NAMES)
GLYPH, GAP, HEIGHT = 12.0, 6.0, 26
WORDS = {PASS: "done", WATCH: "under way", STOP: "broken off", NO_DATA: "to come"}


class StepsLine(QWidget):
    """Steps done, the one under way, the one at which it broke off, and those to come; by shape and word."""

    def __init__(self) -> None:
        super().__init__()
        self.states = [NO_DATA] * len(ORDER)
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName("Steps of the write")

    def sizeHint(self) -> QSize:
        """As wide as there is room."""
        return QSize(600, HEIGHT)

    def show_at(self, phase: str, *, stopped: bool = False) -> None:
        """Stand at a step; behind the last for an empty one."""
        at = ORDER.index("Writing" if phase == "Restoring" else phase) if phase else len(ORDER)
        here = STOP if stopped else WATCH
        self._show([PASS if n < at else here if n == at else NO_DATA for n in range(len(ORDER))])

    def show_nothing(self) -> None:
        """No write has begun."""
        self._show([NO_DATA] * len(ORDER))

    def _show(self, states: list[str]) -> None:
        self.states = states
        said = ", ".join(f"{NAMES[phase]} {WORDS[state]}" for phase, state in zip(ORDER, states, strict=True))
        self.setAccessibleDescription(said)
        self.update()

    def paintEvent(self, event) -> None:
        """A glyph and a name each, joined by a line."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = tokens()
        plain, strong = font(CAPTION_PX), font(CAPTION_PX, bold=True)
        widths = [QFontMetricsF(strong).horizontalAdvance(NAMES[phase]) for phase in ORDER]
        used = sum(widths) + len(ORDER) * (GLYPH + GAP)
        between = max((self.width() - used) / max(len(ORDER) - 1, 1), GAP)
        x, middle = 0.0, self.height() / 2.0
        for phase, state, width in zip(ORDER, self.states, widths, strict=True):
            draw_glyph(painter, state, x, middle - GLYPH / 2.0, GLYPH)
            at = state in (WATCH, STOP)
            painter.setFont(strong if at else plain)
            painter.setPen(t.color("ink" if state != NO_DATA else "quiet"))
            painter.drawText(QPointF(x + GLYPH + GAP, middle + CAPTION_PX * 0.36), NAMES[phase])
            end = x + GLYPH + GAP + width
            x = end + between
            if phase != ORDER[-1] and between > 3 * GAP:
                painter.setPen(QPen(t.color("line"), 1, Qt.PenStyle.SolidLine))
                painter.drawLine(QPointF(end + GAP, middle), QPointF(x - GAP, middle))
