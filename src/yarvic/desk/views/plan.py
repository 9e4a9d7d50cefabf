"""Plan: what gives way first. A lane per component with its bands; stock and working as markers."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QFrame, QVBoxLayout, QWidget

from yarvic.core.checks.finding import amount
from yarvic.core.checks.limits import ComponentLimit
from yarvic.core.units import UNITS, to_canonical
from yarvic.desk.theme import CAPTION_PX, font, mix, tokens
from yarvic.desk.views.view import View
from yarvic.desk.widgets.words import label
from yarvic.state.results import RevisionResults, simulated_mark
from yarvic.state.session import Session

if TYPE_CHECKING:
    from yarvic.desk.window import Window

_CHECK = {"boost": "boost_limit"}
# The rev limit sets engine speed, not the load: it is shown, but it is never what gives way to more power.
_SET_BY_HAND = ("engine_speed",)


def measured(results: RevisionResults | None, limit: ComponentLimit) -> float | None:
    """The highest value that the pulls put on a component, canonical unit; None when it was not measured."""
    if results is None:
        return None
    check = _CHECK.get(limit.key, limit.key)
    values = [f.value for p in results.pulls for f in p.findings if f.check == check and f.value is not None]
    return max(values, default=None)


class Lanes(QWidget):
    """The lanes, each on its own axis from nothing to a quarter past its last limit."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setMinimumHeight(320)
        self.setAccessibleName("Limits, component by component")

    def shares(self) -> list[tuple[ComponentLimit, float | None, float | None]]:
        """Each limit with what working and reference used of its stretch limit."""
        job = self.session.job
        if job is None:
            return []
        found = []
        for limit in job.sheet.limits:
            zero = 293.15 if UNITS[limit.unit].quantity == "temperature" else 0.0
            span = float(to_canonical(limit.stretch, limit.unit)) - zero
            values = [measured(r, limit) for r in (self.session.working_results(), self.session.reference_results())]
            a, b = ((v - zero) / span if v is not None else None for v in values)
            found.append((limit, a, b))
        return found

    def paintEvent(self, event) -> None:
        """Lanes from the most used to the least."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        lanes = sorted(self.shares(), key=lambda lane: (lane[0].key in _SET_BY_HAND, -(lane[1] or 0.0)))
        if not lanes:
            return
        height = min(104.0, (self.height() - 10) / len(lanes))
        for i, (limit, working, reference) in enumerate(lanes):
            self._lane(
                painter, QRectF(8, 6 + i * height, self.width() - 16, height - 8), limit, working, reference, i == 0
            )

    def _lane(
        self,
        painter: QPainter,
        box: QRectF,
        limit: ComponentLimit,
        working: float | None,
        reference: float | None,
        weakest: bool,
    ) -> None:
        t = tokens()
        left, width = box.left() + 196, box.width() - 212
        bar = QRectF(left, box.top() + 24, width, 16)
        full = width / 1.15
        zero = 293.15 if UNITS[limit.unit].quantity == "temperature" else 0.0
        safe = (float(to_canonical(limit.safe, limit.unit)) - zero) / (
            float(to_canonical(limit.stretch, limit.unit)) - zero
        )
        bands = ((0.0, safe, "holds", 0.28), (safe, 1.0, "watch", 0.38), (1.0, 1.15, "stop", 0.30))
        for start, end, token, strength in bands:
            part = QRectF(bar.left() + start * full, bar.top(), (end - start) * full, bar.height())
            painter.fillRect(part, mix(t.color("sheet"), t.color(token), strength))
        painter.setPen(QPen(t.color("working" if weakest else "line"), 2 if weakest else 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(bar)
        painter.setPen(t.color("ink"))
        painter.setFont(font(bold=True))
        painter.drawText(QPointF(box.left(), bar.top() + 9), limit.component.capitalize())
        painter.setFont(font(CAPTION_PX))
        painter.setPen(t.color("quiet"))
        painter.drawText(QPointF(box.left(), bar.top() + 24), f"{limit.key.replace('_', ' ')}, {limit.basis}")
        shown = self.session.settings.units.get(UNITS[limit.unit].quantity, limit.unit)
        bounds = [amount(float(to_canonical(v, limit.unit)), shown) for v in (limit.safe, limit.stretch)]
        painter.drawText(QPointF(box.left(), bar.top() + 40), f"{bounds[0]} safe, {bounds[1]} at most")
        for at in (safe, 1.0):
            painter.fillRect(QRectF(bar.left() + at * full - 0.5, bar.top(), 1, bar.height() + 4), t.color("ink"))
        for share, results, token in (
            (reference, self.session.reference_results(), "reference"),
            (working, self.session.working_results(), "working"),
        ):
            value = measured(results, limit)
            if share is not None and results is not None and value is not None:
                name = self.session.name_of(results.revision_id)
                self._marker(painter, bar, full, share, f"{name} {amount(value, shown)}", token)

    def _marker(self, painter: QPainter, bar: QRectF, full: float, share: float, text: str, token: str) -> None:
        t = tokens()
        x = bar.left() + min(share, 1.14) * full
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color(token))
        up = token == "working"
        tip, base = (bar.top() + 1, bar.top() - 8) if up else (bar.bottom() - 1, bar.bottom() + 8)
        half = 5
        painter.drawPolygon(QPolygonF([QPointF(x, tip), QPointF(x - half, base), QPointF(x + half, base)]))
        painter.fillRect(QRectF(x - 1, bar.top(), 2, bar.height()), t.color(token))
        painter.setPen(t.color(token))
        painter.setFont(font(CAPTION_PX, bold=True))
        width = painter.fontMetrics().horizontalAdvance(text)
        if up:
            painter.drawText(QPointF(min(x + 8, bar.right() - width), bar.top() - 3), text)
        else:
            painter.drawText(QPointF(max(x - width - 8, bar.left()), bar.bottom() + 13), text)


class PlanView(View):
    """The lanes, and which is the weakest link."""

    def __init__(self, session: Session, window: Window) -> None:
        super().__init__(session, "Plan")
        self.lanes = Lanes(session)
        self.weakest = label("", "big", wrap=True)
        self.note = label(
            "Blue marker above: working. Ochre marker below: reference. Most used first. Green: safe; amber: works at the"
            " cost of its life; red: not. Limits are the job's own and name their source under Job.",
            "caption",
            wrap=True,
        )
        frame = QFrame()
        frame.setObjectName("sheet")
        column = QVBoxLayout(frame)
        column.setContentsMargins(12, 10, 12, 10)
        column.addWidget(self.weakest)
        column.addWidget(self.lanes, 1)
        column.addWidget(self.note)
        self.column.addWidget(frame, 1)
        self.refresh_on(
            session.job_changed, session.results_changed, session.units_changed, session.selection_changed
        )

    def refresh(self) -> None:
        """Name the weakest link."""
        shares = [
            (m, share) for m, share, _ in self.lanes.shares() if share is not None and m.key not in _SET_BY_HAND
        ]
        revision = self.session.evidence_revision()
        if self.session.job is None:
            self.weakest.setText("The limits of a job's components stand here once one is open.")
        elif not shares or revision is None:
            self.weakest.setText("Not known yet which part gives way first: pull this revision.")
        else:
            limit, share = max(shares, key=lambda s: s[1])
            self.weakest.setText(
                f"Weakest link on {revision.name}: {limit.component}, {share * 100:.0f} % of what it stands"
            )
        mark = simulated_mark(self.session.working_results())
        self.about.setText(f"{mark}what the pulls put on each component, against what it carries")
        self.lanes.update()


def make(session: Session, window: Window) -> PlanView:
    """The view of this step."""
    return PlanView(session, window)
