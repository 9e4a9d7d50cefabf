"""The ladder: revisions from left to right along the job's life; click is working, Shift-click or R is reference."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from yarvic.core.checks.finding import NO_DATA, VERDICT_WORDS
from yarvic.desk.theme import BODY_PX, CAPTION_PX, font, tokens
from yarvic.desk.widgets.glyphs import draw_glyph
from yarvic.desk.widgets.soon import Soon
from yarvic.desk.widgets.words import tip
from yarvic.state.selection import DRAFT, rung_of
from yarvic.state.session import Session

HEIGHT = 62
LEAST_PITCH, MOST_PITCH = 176, 264
LANES = (10, 36)
LEFT = 20


@dataclass(frozen=True)
class Rung:
    """One place on the ladder: a revision or the draft, its lane (0, or 1 for a branch) and column."""

    rung: int
    name: str
    reason: str
    detail: str
    severity: str
    column: int
    lane: int
    parent: int | None
    parts: str
    merged: int | None = None  # what was merged into it


class Ladder(QWidget):
    """Paints the rungs and takes clicks and keys."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setFixedHeight(HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Ladder of revisions")
        self.setMouseTracking(True)
        self._cursor: int | None = None
        self._first = 0
        self._rungs: list[Rung] = []
        for signal in (
            session.job_changed,
            session.sheet_changed,
            session.selection_changed,
            session.results_changed,
        ):
            signal.connect(self.refresh)
        self._soon = Soon(self, self.refresh)
        session.draft_changed.connect(self._soon.ask)
        session.theme_changed.connect(self.refresh)

    def sizeHint(self) -> QSize:
        """Wide and low."""
        return QSize(900, HEIGHT)

    def refresh(self) -> None:
        """Take up what changed and keep the working rung in sight."""
        self._rungs = self._read_rungs()
        rungs = self._rungs
        column = next((r.column for r in rungs if r.rung == self.session.working), 0)
        fit = self._fits()
        last = max((r.column for r in rungs), default=0)
        self._first = max(0, min(max(column - fit + 2, 0), last - fit + 1)) if last >= fit else 0
        self._cursor = self.session.working
        words = [f"{r.name}: {r.reason}, {r.detail}, {VERDICT_WORDS[r.severity]}" for r in rungs]
        reference = self.session.name_of(self.session.reference) or "none"
        self.setAccessibleDescription(
            f"Working {self.session.working_name()}, reference {reference}. " + ". ".join(words)
        )
        self.update()

    def pitch(self) -> float:
        """Width of a column: as wide as the rungs leave it."""
        return min(max((self.width() - LEFT - 8) / max(len(self._rungs), 1), LEAST_PITCH), MOST_PITCH)

    def _fits(self) -> int:
        return max(1, (self.width() - LEFT) // LEAST_PITCH)

    def resizeEvent(self, event) -> None:
        """Keep the working rung in sight."""
        self.refresh()

    def rungs(self) -> list[Rung]:
        """All rungs in order, as they were at the last refresh."""
        return self._rungs

    def _read_rungs(self) -> list[Rung]:
        s = self.session
        if s.job is None:
            return []
        titles = {b.number: b.title for b in s.job.builds()}
        found: list[Rung] = []
        lanes: dict[int, int] = {}
        tips: set[int] = set()
        build = 1
        released = {r.revision_id for r in s.job.releases()}
        for revision in s.revisions():
            results = s.results.get(revision.id)
            lane = lanes.get(revision.parent_id, 0) if revision.parent_id is not None else 0
            # The first child goes on along its parent's line; a second one drops to the line below.
            if revision.parent_id in tips:
                lane = 1
            tips.add(revision.parent_id if revision.parent_id is not None else 0)
            lanes[revision.id] = lane
            parts = titles[revision.build] if revision.build != build else ""
            build = revision.build
            detail = f"{results.counted if results else '0 pulls'}, build {revision.build}"
            marks: list[str] = [t.tag for t in s.job.tags_of(revision.id)]
            marks += ["released"] if revision.id in released else []
            detail = ", ".join([*marks, detail])
            severity = results.verdict if results and results.pulls else NO_DATA
            found.append(
                Rung(revision.id, revision.name, revision.reason, detail, severity, len(found), lane,
                     revision.parent_id, parts, revision.merged_id)
            )  # fmt: skip
        for other in s.other_drafts():
            lane = 1 if other.parent_id in tips else lanes.get(other.parent_id, 0)
            below = s.revision(other.parent_id)
            name = other.name or f"number {other.id}" + (f", on {below.name}" if below is not None else "")
            found.append(
                Rung(rung_of(other), "draft", name, "click to select it", NO_DATA, len(found), lane, other.parent_id, "",
                     other.merged_id)
            )  # fmt: skip
        if s.draft is not None:
            parent = s.draft.parent.id
            cells = sum(d.cells for _, d in s.draft.differences())
            lane = 1 if parent in tips else lanes[parent]
            newest = max(titles)
            parts = titles[newest] if newest != build else ""
            found.append(
                Rung(
                    DRAFT,
                    s.name_of(DRAFT),
                    f"draft: {s.draft.name}" if s.draft.name else "draft",
                    "1 cell differs" if cells == 1 else f"{cells} cells differ",
                    NO_DATA,
                    len(found),
                    lane,
                    parent,
                    parts,
                    s.draft.merged_id,
                )
            )
        return found

    def place(self, rung: Rung) -> QRectF:
        """Where a rung's box stands."""
        metrics = QFontMetricsF(font(BODY_PX, bold=True))
        width = max(30.0, metrics.horizontalAdvance(rung.name) + 14)
        return QRectF(LEFT + (rung.column - self._first) * self.pitch(), LANES[rung.lane], width, 24)

    def paintEvent(self, event) -> None:
        """Line and rungs."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = tokens()
        painter.fillRect(self.rect(), t.color("ground"))
        painter.setPen(QPen(t.color("line"), 1))
        painter.drawLine(0, HEIGHT - 1, self.width(), HEIGHT - 1)
        # Only what is in sight: a job may have hundreds.
        last = self._first + int(self.width() / self.pitch()) + 1
        by_id = {r.rung: r for r in self.rungs()}
        rungs = [r for r in self.rungs() if self._first <= r.column <= last]
        for rung in rungs:
            if rung.parent is not None and rung.parent in by_id:
                self._join(painter, by_id[rung.parent], rung)
            if rung.merged is not None and rung.merged in by_id:
                self._join_merged(painter, by_id[rung.merged], rung)
        for rung in rungs:
            self._rung(painter, rung)

    def _join(self, painter: QPainter, parent: Rung, child: Rung) -> None:
        a, b = self.place(parent), self.place(child)
        painter.setPen(QPen(tokens().color("line"), 1.4))
        y = b.center().y()
        start = a.left() + 10 if parent.lane != child.lane else a.right()
        if parent.lane != child.lane:
            painter.drawLine(QPointF(start, a.bottom()), QPointF(start, y))
        painter.drawLine(QPointF(start, y), QPointF(b.left(), y))
        if child.parts:
            self._parts(painter, b, child.parts)

    def _join_merged(self, painter: QPainter, other: Rung, child: Rung) -> None:
        """A dashed line from what was merged into it."""
        a, b = self.place(other), self.place(child)
        painter.setPen(QPen(tokens().color("quiet"), 1.2, Qt.PenStyle.DashLine))
        if other.lane == child.lane:
            y = b.bottom() + 3
            painter.drawLine(QPointF(a.center().x(), a.bottom()), QPointF(a.center().x(), y))
            painter.drawLine(QPointF(a.center().x(), y), QPointF(b.center().x(), y))
            painter.drawLine(QPointF(b.center().x(), y), QPointF(b.center().x(), b.bottom()))
        else:
            painter.drawLine(QPointF(a.right(), a.center().y()), QPointF(b.left(), b.center().y()))

    def _parts(self, painter: QPainter, box: QRectF, parts: str) -> None:
        """Parts fitted since the rung before: a tick across the line with its label under it."""
        t = tokens()
        x = box.left() - 9
        painter.setPen(QPen(t.color("quiet"), 1.6))
        painter.drawLine(QPointF(x, box.top() - 3), QPointF(x, box.bottom() + 10))
        painter.setFont(font(CAPTION_PX))
        painter.drawText(QPointF(x + 4, box.bottom() + 13), f"fitted: {parts}")

    def _rung(self, painter: QPainter, rung: Rung) -> None:
        t, s = tokens(), self.session
        box = self.place(rung)
        if box.right() < 0 or box.left() > self.width():
            return
        working, reference = rung.rung == s.working, rung.rung == s.reference
        text_left = box.right() + 7
        room = self.pitch() - box.width() - 30
        color = t.color("working" if working else "reference" if reference else "line")
        pen = QPen(color, 2.2 if working or reference else 1.2)
        if rung.rung <= DRAFT and not working:
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.setBrush(t.color("sheet"))
        painter.drawRoundedRect(box, 4, 4)
        if self.hasFocus() and rung.rung == self._cursor:
            painter.setPen(QPen(t.color("ink"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box.adjusted(-3, -3, 3, 3), 5, 5)
        painter.setPen(t.color("ink"))
        painter.setFont(font(BODY_PX, bold=True))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, rung.name)
        if working or reference:
            self._flag(painter, box, "W" if working else "R", "working" if working else "reference")
        painter.setFont(font(CAPTION_PX))
        metrics = painter.fontMetrics()
        reason = metrics.elidedText(rung.reason, Qt.TextElideMode.ElideRight, int(room))
        shown = metrics.elidedText(rung.detail, Qt.TextElideMode.ElideRight, int(room) - 16)
        wide = max(metrics.horizontalAdvance(reason), metrics.horizontalAdvance(shown) + 16)
        painter.fillRect(QRectF(text_left - 3, box.top() - 1, wide + 8, box.height() + 3), t.color("ground"))
        painter.setPen(t.color("ink"))
        painter.drawText(QPointF(text_left, box.top() + 10), reason)
        painter.setPen(t.color("quiet"))
        painter.drawText(QPointF(text_left + 16, box.top() + 23), shown)
        draw_glyph(painter, rung.severity, text_left, box.top() + 14, 11)

    def _flag(self, painter: QPainter, box: QRectF, letter: str, token: str) -> None:
        """A pennant for working, a disc for reference, each with its letter."""
        t = tokens()
        painter.save()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color(token))
        x, y = box.left() - 6, box.top() - 7
        if letter == "W":
            shape = [
                QPointF(x, y),
                QPointF(x + 16, y),
                QPointF(x + 12, y + 6),
                QPointF(x + 16, y + 12),
                QPointF(x, y + 12),
            ]
            painter.drawPolygon(QPolygonF(shape))
        else:
            painter.drawEllipse(QRectF(x, y, 13, 13))
        painter.setPen(t.color("sheet"))
        painter.setFont(font(9, bold=True))
        painter.drawText(QRectF(x, y, 13, 12.5), Qt.AlignmentFlag.AlignCenter, letter)
        painter.restore()

    def rung_at(self, point: QPointF) -> Rung | None:
        """The rung under a point, its label included."""
        for rung in self.rungs():
            box = self.place(rung)
            if QRectF(box.left() - 6, box.top() - 6, self.pitch() - 12, box.height() + 10).contains(point):
                return rung
        return None

    def mousePressEvent(self, event) -> None:
        """Click is working, Shift-click reference."""
        rung = self.rung_at(event.position())
        if rung is None:
            return
        self._cursor = rung.rung
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.session.choose_reference(rung.rung)
        else:
            self.session.choose_working(rung.rung)

    def mouseMoveEvent(self, event) -> None:
        """The whole reason stands in the tooltip."""
        rung = self.rung_at(event.position())
        words = f"{rung.name}: {rung.reason} ({VERDICT_WORDS[rung.severity]})" if rung else ""
        if rung and rung.parts:
            words += f". Parts fitted before it: {rung.parts}"
        tip(self, words)

    def keyPressEvent(self, event) -> None:
        """Left and right move, Enter is working, R reference."""
        rungs = self.rungs()
        at = next((i for i, r in enumerate(rungs) if r.rung == self._cursor), 0)
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right) and rungs:
            at = min(max(at + (1 if event.key() == Qt.Key.Key_Right else -1), 0), len(rungs) - 1)
            self._cursor = rungs[at].rung
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space) and rungs:
            self.session.choose_working(rungs[at].rung)
        elif event.key() == Qt.Key.Key_R and rungs:
            self.session.choose_reference(rungs[at].rung)
        else:
            super().keyPressEvent(event)
