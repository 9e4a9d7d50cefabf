"""The lanes: one axis of power or torque, a lane for each component with its bands, and what is asked of it.

What it shows is worked out in `state.lanes`.
"""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.checks.finding import amount
from yarvic.core.units import UNITS, from_canonical
from yarvic.desk.theme import CAPTION_PX, font, mix, tokens
from yarvic.state.lanes import Lane, LanesState, measured
from yarvic.state.session import Session

LEFT, RIGHT, AXIS, LANE = 216, 18, 34, 50
GRIP = 7.0


class Lanes(QWidget):
    """The figure. The target's line and the stages' can be dragged; arrows move the target."""

    moved = pyqtSignal(float)  # the target is being dragged: its value, W or N m on its own basis
    dropped = pyqtSignal(float)
    stage_dropped = pyqtSignal(int, float)  # stage by number, kW it was moved by

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.shown = LanesState(session)
        self._dragged: tuple[str, int] | None = None
        self._preview: float | None = None  # of what is dragged, on the axis
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Limits, component by component, and the target")

    # -- what is drawn

    def x_of(self, value: float) -> float:
        """Pixel of a value on the axis."""
        return LEFT + (self.width() - LEFT - RIGHT) * value / self._top

    def value_at(self, x: float) -> float:
        """The value under a pixel."""
        return max(x - LEFT, 0.0) / (self.width() - LEFT - RIGHT) * self._top

    _top = 1.0

    def bring_up_to_date(self) -> None:
        """Take up what changed; the axis stays while something is dragged."""
        if self._dragged is None:
            self._top = self.shown.top()
        lanes = self.shown.lanes()
        count = len(lanes) + len(self.shown.others())
        self.setMinimumHeight(AXIS + 20 + LANE * max(count, 1))
        self.setAccessibleDescription("; ".join(self._in_words(lane) for lane in lanes))
        self.update()

    def _in_words(self, lane: Lane) -> str:
        share = f", {lane.share * 100:.0f} % used" if lane.share is not None else ""
        return f"{lane.limit.component}{share}"

    def sizeHint(self) -> QSize:
        """As tall as its lanes."""
        return QSize(600, self.minimumHeight())

    # -- drawing

    def unit(self) -> str:
        """The axis' unit."""
        return self.session.settings.units.get(self.shown.quantity, "kW" if self.shown.quantity == "power" else "N m")

    def paintEvent(self, event) -> None:
        """Axis, lanes, markers."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.session.job is None:
            return
        lanes, others = self.shown.lanes(), self.shown.others()
        self._axis(painter, len(lanes))
        y = float(AXIS)
        for place, lane in enumerate(lanes):
            self._lane(painter, y, lane, weakest=place == 0 and lane.share is not None)
            y += LANE
        end = y
        if others:
            painter.setFont(font(CAPTION_PX))
            painter.setPen(tokens().color("quiet"))
            painter.drawText(QPointF(8, y + 12), "each on its own axis, as measured")
            y += 18
        for limit in others:
            self._other(painter, y, limit)
            y += LANE
        self._marks(painter, end)

    def _axis(self, painter: QPainter, lanes: int) -> None:
        t, unit = tokens(), self.unit()
        end = float(from_canonical(self._top, unit))
        raw = end / 6.0
        size = 10.0 ** np.floor(np.log10(raw))
        step = next(size * m for m in (1, 2, 2.5, 5, 10) if size * m >= raw)
        painter.setFont(font(CAPTION_PX))
        for k in range(int(end / step) + 1):
            value = k * step
            x = self.x_of(value * UNITS[unit].factor)
            painter.setPen(QPen(t.color("line"), 1))
            painter.drawLine(QPointF(x, AXIS - 8), QPointF(x, AXIS + LANE * lanes - 6))
            painter.setPen(t.color("quiet"))
            painter.drawText(QRectF(x - 30, AXIS - 22, 60, 14), int(Qt.AlignmentFlag.AlignHCenter), f"{value:g}")
        painter.drawText(QPointF(8, AXIS - 12), f"{self.shown.quantity}, {self.shown.basis}, {unit}")

    def _lane(self, painter: QPainter, y: float, lane: Lane, *, weakest: bool) -> None:
        t = tokens()
        bar = QRectF(LEFT, y + 11, self.width() - LEFT - RIGHT, 15)
        edges = (0.0, lane.safe, lane.stretch, self._top)
        self._bands(painter, bar, [self.x_of(min(e, self._top)) for e in edges])
        painter.setPen(QPen(t.color("working" if weakest else "line"), 2 if weakest else 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(bar)
        limit = lane.limit
        shown = self.session.settings.units.get(limit.limited.unit_choice, limit.unit)
        bounds = [amount(limit.canonical(b), shown) for b in ("safe", "stretch")]
        name = limit.component if not weakest else f"{limit.component}: weakest"
        self._name(
            painter, y, name, f"{bounds[0]} safe, {bounds[1]} at most", f"{limit.limited.title}, {limit.basis}"
        )
        for token, text, value in lane.ticks:
            self._tick(painter, bar, self.x_of(value), token, text)

    def _bands(self, painter: QPainter, bar: QRectF, x: list[float]) -> None:
        t = tokens()
        for start, end, token, strength in ((0, 1, "holds", 0.28), (1, 2, "watch", 0.38), (2, 3, "stop", 0.30)):
            part = QRectF(x[start], bar.top(), max(x[end] - x[start], 0.0), bar.height())
            painter.fillRect(part, mix(t.color("sheet"), t.color(token), strength))
        for at in (x[1], x[2]):
            painter.fillRect(QRectF(at - 0.5, bar.top(), 1, bar.height() + 3), t.color("ink"))

    def _name(self, painter: QPainter, y: float, name: str, bounds: str, what: str) -> None:
        t = tokens()
        painter.setPen(t.color("ink"))
        painter.setFont(font(12, bold=True))
        fits = painter.fontMetrics().elidedText(name[:1].upper() + name[1:], Qt.TextElideMode.ElideRight, LEFT - 16)
        painter.drawText(QPointF(8, y + 14), fits)
        painter.setFont(font(CAPTION_PX))
        painter.setPen(t.color("quiet"))
        painter.drawText(QPointF(8, y + 28), what)
        painter.drawText(QPointF(8, y + 41), bounds)

    def _tick(self, painter: QPainter, bar: QRectF, x: float, token: str, text: str) -> None:
        """Working stands above the bar, the reference below: told apart by place and letter, not by colour alone."""
        t = tokens()
        up = token == "working"
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color(token))
        tip, base = (bar.top() + 1, bar.top() - 7) if up else (bar.bottom() - 1, bar.bottom() + 7)
        painter.drawPolygon(QPolygonF([QPointF(x, tip), QPointF(x - 4.5, base), QPointF(x + 4.5, base)]))
        painter.fillRect(QRectF(x - 1, bar.top(), 2, bar.height()), t.color(token))
        painter.setPen(t.color(token))
        painter.setFont(font(CAPTION_PX, bold=True))
        wide = painter.fontMetrics().horizontalAdvance(text)
        spans = {"right": (x + 7, x + 7 + wide), "left": (x - 7 - wide, x - 7)}
        marks = self._mark_places()
        crossed = {side: sum(a - 3 < m < b + 3 for m in marks) for side, (a, b) in spans.items()}
        right = spans["right"][1] < bar.right() and crossed["right"] <= crossed["left"]
        left = spans["right" if right or spans["left"][0] < bar.left() else "left"][0]
        painter.drawText(QPointF(left, bar.top() - 2 if up else bar.bottom() + 11), text)

    def _mark_places(self) -> list[float]:
        """Where the lines of stages and target cross the lanes of this axis."""
        mark = self.shown.target_mark()
        stages = [self.x_of(value) for _, _, value in self.shown.stage_marks()]
        return [*stages, *([self.x_of(min(mark, self._top))] if mark is not None else [])]

    def _other(self, painter: QPainter, y: float, limit: ComponentLimit) -> None:
        zero = 293.15 if limit.limited.quantity == "temperature" else 0.0
        span = max((limit.canonical("stretch") - zero) * 1.15, 1e-9)
        bar = QRectF(LEFT, y + 11, self.width() - LEFT - RIGHT, 11)

        def x_of(value: float) -> float:
            return bar.left() + bar.width() * min(max((value - zero) / span, 0.0), 1.0)

        self._bands(
            painter,
            bar,
            [bar.left(), x_of(limit.canonical("safe")), x_of(limit.canonical("stretch")), bar.right()],
        )
        painter.setPen(QPen(tokens().color("line"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(bar)
        shown = self.session.settings.units.get(limit.limited.unit_choice, limit.unit)
        bounds = [amount(limit.canonical(b), shown) for b in ("safe", "stretch")]
        self._name(
            painter,
            y,
            limit.component,
            f"{bounds[0]} safe, {bounds[1]} at most",
            f"{limit.limited.title}, {limit.basis}",
        )
        job = self.session.job
        stroke = job.sheet.vehicle.stroke_mm if job is not None else None
        hand, other = self.session.working_results(), self.session.reference_results()
        for results, token in ((other if other is not hand else None, "reference"), (hand, "working")):
            value = measured(results, limit, stroke)
            if results is not None and value is not None:
                name = self.session.name_of(results.revision_id)
                self._tick(painter, bar, x_of(value), token, f"{name} {amount(value, shown)}")

    def _marks(self, painter: QPainter, end: float) -> None:
        """Lines through the lanes: stages thin and dashed, the target strong with a grip."""
        t, mark = tokens(), self.shown.target_mark()
        painter.setFont(font(CAPTION_PX))
        for number, _, value in self.shown.stage_marks():
            if self._dragged == ("stage", number) and self._preview is not None:
                value = self._preview
            x = self.x_of(value)
            painter.setPen(QPen(t.color("ink"), 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(x, 14), QPointF(x, end - 6))
            painter.setPen(t.color("ink"))
            # Beside the target's grip there is room on the left only.
            near = mark is not None and -2.0 < self.x_of(min(mark, self._top)) - x < GRIP + 14.0
            painter.drawText(QPointF(x - 9 if near else x + 3, 11), f"{number + 1}")
        if mark is None:
            return
        x = self.x_of(min(mark, self._top))
        painter.setPen(QPen(t.color("ink"), 2))
        painter.drawLine(QPointF(x, 4), QPointF(x, end - 4))
        painter.setBrush(t.color("ink"))
        painter.drawPolygon(QPolygonF([QPointF(x, 16), QPointF(x - GRIP, 8), QPointF(x, 0), QPointF(x + GRIP, 8)]))
        painter.setFont(font(CAPTION_PX, bold=True))
        text = f"target {amount(mark, self.unit())}"
        wide = painter.fontMetrics().horizontalAdvance(text)
        left = x + 11 if x + 11 + wide < self.width() else x - 11 - wide
        painter.setPen(t.color("ink"))
        painter.drawText(QPointF(left, 12), text)
        if self.hasFocus():
            painter.setPen(QPen(t.color("working"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(0.5, 0.5, self.width() - 1, end))

    # -- dragging

    def _at(self, x: float) -> tuple[str, int] | None:
        mark = self.shown.target_mark()
        if mark is not None and abs(self.x_of(min(mark, self._top)) - x) <= GRIP:
            return "target", 0
        for number, _, value in self.shown.stage_marks():
            if abs(self.x_of(value) - x) <= GRIP - 2:
                return "stage", number
        return None

    def _may(self) -> bool:
        job = self.session.job
        return job is not None and not job.read_only

    def mousePressEvent(self, event) -> None:
        """Take hold of a line."""
        if event.button() == Qt.MouseButton.LeftButton and self._may():
            self._dragged = self._at(event.position().x())
            self._preview = None

    def mouseMoveEvent(self, event) -> None:
        """Drag it; the cursor says where a line can be taken."""
        x = event.position().x()
        if self._dragged is None:
            over = self._at(x) is not None and self._may()
            self.setCursor(Qt.CursorShape.SplitHCursor if over else Qt.CursorShape.ArrowCursor)
            return
        self._preview = self.value_at(min(x, self.width() - RIGHT))
        if self._dragged[0] == "target":
            self._show_target(self._preview)
        self.update()

    def _show_target(self, on_axis: float) -> None:
        kept = self.session.job.sheet.plan.target if self.session.job is not None else None
        value = self.shown.own(on_axis)
        if kept is None or value is None:
            return
        unit = UNITS[kept.unit]
        shown = round(value / unit.factor, unit.decimals)
        if shown > 0.0:
            self.shown.dragged = kept.model_copy(update={"value": shown})
            self.moved.emit(value)

    def mouseReleaseEvent(self, event) -> None:
        """Let go: the new place is kept."""
        dragged, preview = self._dragged, self._preview
        marks = {n: v for n, _, v in self.shown.stage_marks()}
        self._dragged = self._preview = None
        self.shown.dragged = None
        if dragged is None or preview is None:
            return
        if dragged[0] == "target":
            value = self.shown.own(preview)
            if value is not None:
                self.dropped.emit(value)
        elif dragged[1] in marks:
            moved = self.shown.plan.at_basis(preview - marks[dragged[1]], self.shown.basis, "wheel")
            if moved is not None:
                self.stage_dropped.emit(dragged[1], moved / 1e3)
        self.bring_up_to_date()

    def event(self, event) -> bool:
        """Esc belongs to the figure while something is dragged."""
        held = self._dragged is not None
        if held and event.type() == QEvent.Type.ShortcutOverride and event.key() == Qt.Key.Key_Escape:
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event) -> None:
        """Left and right move the target by a unit, with Shift by ten; Esc lets go."""
        if event.key() == Qt.Key.Key_Escape and self._dragged is not None:
            self._dragged = self._preview = self.shown.dragged = None
            self.bring_up_to_date()
            self.moved.emit(-1.0)
            return
        kept = self.session.job.sheet.plan.target if self.session.job is not None else None
        way = {Qt.Key.Key_Left: -1.0, Qt.Key.Key_Right: 1.0}.get(event.key())
        if way is None or kept is None or not self._may():
            super().keyPressEvent(event)
            return
        step = 10.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        value = kept.value + way * step
        if value > 0.0:
            self.dropped.emit(value * UNITS[kept.unit].factor)
