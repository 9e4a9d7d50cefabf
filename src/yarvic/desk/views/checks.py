"""Checks: a matrix, check by pull, each cell the margin as a bar from its limit; the trace of the one in hand below."""

from __future__ import annotations

from functools import partial

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QFrame, QScrollArea, QSplitter, QVBoxLayout, QWidget

from yarvic.core.checks.finding import ORDER, VERDICT_WORDS, Finding, Where, amount
from yarvic.core.checks.run import FAMILIES
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.units import from_canonical
from yarvic.desk.overlays import Command
from yarvic.desk.theme import CAPTION_PX, font, mix, tokens
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.glyphs import draw_glyph
from yarvic.desk.widgets.plot import add_chart, faint, line_pen, sheet
from yarvic.desk.widgets.words import Empty, label, row, word
from yarvic.state.results import PullResult, simulated_mark
from yarvic.state.session import Session

ROW, HEAD = 21, 24
# Where the names of checks begin and end: closer together where the view is narrow.
WIDE, NARROW, NARROW_PX = (118, 236), (97, 206), 640
# The least width of a pull, and of its number.
LEAST_CELL, NUMBER_PX = 118, 58
# The checks within their family, short.
OVER_TIME, OVER_SPEED = "Time from the start of the pull, s", "Engine speed, rpm"
SHORT = {
    "boost_overshoot": "overshoot",
    "boost_shortfall": "short of target",
    "boost_limit": "highest",
    "charge_rise": "rise in the pull",
    "charge_over_ambient": "over ambient",
    "rail_sag": "rail sag",
    "injector_window": "injector window",
    "lambda_lean": "leaner than target",
    "lambda_rich": "richer than target",
    "knock_retard": "deepest retard",
    "knock_spread": "between cylinders",
    "exhaust_temperature": "exhaust gas",
    "coolant_temperature": "coolant",
    "oil_temperature": "oil",
    "gearbox_temperature": "gearbox",
    "feed_sag": "feed sag",
    "feed_sag_rail": "feed sag",
    "restriction": "lost in the intake",
    "slip": "slip",
    "misfires": "misfires",
    "supply_voltage": "supply",
    "smoke_lambda": "air for the fuel",
    "smoke_opacity": "smoke opacity",
}
# The target drawn beside a channel, where it has one.
TARGETS = {
    "boost_pressure": "boost_target",
    "lambda_measured": "lambda_target",
    "rail_pressure": "rail_target",
}


class Matrix(QWidget):
    """Rows are checks in the order in which evidence is read, columns are pulls."""

    chosen = pyqtSignal(object, object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.pulls: tuple[PullResult, ...] = ()
        self.rows: list[str] = []
        self.at: tuple[int, int] = (0, 0)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Checks by pull")

    def show_pulls(self, pulls: tuple[PullResult, ...]) -> None:
        """Show these pulls; the worst finding is in hand."""
        self.pulls = pulls
        order: list[str] = []
        for family, _ in FAMILIES:
            for p in pulls:
                order += [f.check for f in p.findings if f.family == family and f.check not in order]
        self.rows = order
        self.setFixedHeight(HEAD + ROW * max(len(order), 1) + 4)
        # Where there are more pulls than room, it scrolls sideways: a bar that nobody sees says nothing.
        self.setMinimumWidth(NARROW[1] + LEAST_CELL * max(len(pulls), 1) + 8)
        worst = min(
            ((ORDER[f.severity], -(f.share_of_limit() or 0.0), r, c) for r, c, f in self._all()),
            default=(0, 0.0, 0, 0),
        )
        self.at = (worst[2], worst[3])
        self.update()

    def _all(self) -> list[tuple[int, int, Finding]]:
        found = []
        for c, _ in enumerate(self.pulls):
            for r, _ in enumerate(self.rows):
                finding = self.finding(r, c)
                if finding is not None:
                    found.append((r, c, finding))
        return found

    def finding(self, r: int, c: int) -> Finding | None:
        """The finding in a cell."""
        if not (0 <= c < len(self.pulls) and 0 <= r < len(self.rows)):
            return None
        return next((f for f in self.pulls[c].findings if f.check == self.rows[r]), None)

    def _names(self) -> tuple[int, int]:
        return WIDE if self.width() >= NARROW_PX else NARROW

    def cell(self, r: int, c: int) -> QRectF:
        """Where a cell stands."""
        name = self._names()[1]
        width = (self.width() - name - 8) / max(len(self.pulls), 1)
        return QRectF(name + c * width, HEAD + r * ROW, width - 6, ROW)

    def paintEvent(self, event) -> None:
        """Heads, names, bars."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = tokens()
        painter.setFont(font(CAPTION_PX))
        for c, p in enumerate(self.pulls):
            box = self.cell(0, c)
            painter.setPen(t.color("quiet"))
            title = painter.fontMetrics().elidedText(p.title, Qt.TextElideMode.ElideRight, int(box.width() - 4))
            painter.drawText(QPointF(box.left(), 16), title)
        family = ""
        for r, _ in enumerate(self.rows):
            first = next((self.finding(r, c) for c in range(len(self.pulls)) if self.finding(r, c)), None)
            if first is None:
                continue
            y = HEAD + r * ROW
            if first.family != family:
                family = first.family
                painter.setPen(QPen(t.color("line"), 1))
                painter.drawLine(QPointF(0, y), QPointF(self.width(), y))
                painter.setFont(font(CAPTION_PX, bold=True))
                painter.setPen(t.color("ink"))
                painter.drawText(QPointF(6, y + 15), family)
            painter.setFont(font(CAPTION_PX))
            painter.setPen(t.color("ink"))
            painter.drawText(QPointF(self._names()[0], y + 15), SHORT.get(first.check, first.check.replace("_", " ")))
            for c in range(len(self.pulls)):
                self._cell(painter, r, c)

    def _cell(self, painter: QPainter, r: int, c: int) -> None:
        finding, t = self.finding(r, c), tokens()
        if finding is None:
            return
        box = self.cell(r, c)
        if (r, c) == self.at:
            painter.setPen(QPen(t.color("ink"), 2 if self.hasFocus() else 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(box.adjusted(-3, 1, 3, -1), 3, 3)
        draw_glyph(painter, finding.severity, box.left(), box.top() + 5, 11)
        share = finding.share_of_limit()
        left = box.left() + 18
        painter.setFont(font(CAPTION_PX))
        painter.setPen(t.color("ink"))
        if share is None or finding.value is None or finding.rule is None:
            text = painter.fontMetrics().elidedText("no data", Qt.TextElideMode.ElideRight, int(box.width() - 20))
            painter.drawText(QPointF(left, box.top() + 15), text)
            return
        unit = self.session.settings.units.get(finding.rule.quantity, finding.rule.unit)
        words = amount(finding.value, unit)
        wide = painter.fontMetrics().horizontalAdvance(words)
        room = box.width() - 18 - max(wide, NUMBER_PX) - 8
        full = room * 5.0 / 6.0
        painter.fillRect(QRectF(left, box.top() + 8, room, 5), mix(t.color("sheet"), t.color("line"), 0.9))
        painter.fillRect(QRectF(left, box.top() + 8, min(full * share, room), 5), t.severity(finding.severity))
        painter.fillRect(QRectF(left + full - 1, box.top() + 5, 2, 11), t.color("ink"))
        painter.drawText(
            QRectF(box.right() - wide - 4, box.top(), wide, ROW),
            int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter),
            words,
        )

    def choose(self, r: int, c: int) -> None:
        """Take a cell in hand."""
        finding = self.finding(r, c)
        if finding is None:
            return
        self.at = (r, c)
        numbers = finding.numbers(self.session.settings.units)
        self.setAccessibleDescription(
            f"{finding.statement}, {self.pulls[c].title}: {VERDICT_WORDS[finding.severity]}, {numbers}"
        )
        self.update()
        self.chosen.emit(finding, self.pulls[c])

    def mousePressEvent(self, event) -> None:
        """A click takes a cell in hand."""
        for r in range(len(self.rows)):
            for c in range(len(self.pulls)):
                if self.cell(r, c).contains(event.position()):
                    self.choose(r, c)
                    return

    def keyPressEvent(self, event) -> None:
        """Arrows move."""
        moves = {Qt.Key.Key_Up: (-1, 0), Qt.Key.Key_Down: (1, 0), Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1)}
        if event.key() in moves:
            dr, dc = moves[event.key()]
            self.choose(self.at[0] + dr, self.at[1] + dc)
        else:
            super().keyPressEvent(event)


class ChecksView(View):
    """Matrix, sentence, trace."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Checks")
        self.matrix = Matrix(session)
        self.matrix.chosen.connect(self._show)
        self.sentence = label("", wrap=True)
        self.source = label("", "caption", wrap=True)
        self.to_logs = word("See it in Logs", self._follow, "Enter")
        self.to_dyno = word("See it in Dyno", self._follow_dyno)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(area.Shape.NoFrame)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        holder = QFrame()
        holder.setObjectName("sheet")
        inside = QVBoxLayout(holder)
        inside.setContentsMargins(8, 2, 8, 4)
        inside.addWidget(self.matrix)
        inside.addStretch(1)
        area.setWidget(holder)
        below = QFrame()
        below.setObjectName("sheet")
        column = QVBoxLayout(below)
        column.setContentsMargins(10, 6, 10, 4)
        column.setSpacing(3)
        column.addWidget(self.sentence)
        line = row(self.to_dyno, self.to_logs)
        line.insertWidget(0, self.source, 1)
        column.addLayout(line)
        self.sheet = sheet()
        self.plot = add_chart(self.sheet, bottom=OVER_TIME, width=56)
        column.addWidget(self.sheet, 1)
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(area)
        split.addWidget(below)
        split.setStretchFactor(0, 3)
        split.setStretchFactor(1, 2)
        split.setSizes([400, 230])
        split.setChildrenCollapsible(False)
        self.column.addWidget(split, 1)
        self.split = split
        self.empty = Empty("Go to Dyno", partial(session.go, "dyno"))
        self.column.addWidget(self.empty, 1)
        self._finding: Finding | None = None
        self.refresh_on(
            session.job_changed, session.selection_changed, session.results_changed, session.units_changed
        )

    def refresh(self) -> None:
        """Take up the pulls of the working revision."""
        results, revision = self.session.working_results(), self.session.evidence_revision()
        pulls = results.pulls[-6:] if results else ()
        self.matrix.show_pulls(pulls)
        more = (
            f", the last {len(pulls)} of {len(results.pulls)}" if results and len(results.pulls) > len(pulls) else ""
        )
        where = f" on {results.on_builds}" if results is not None and results.on_builds else ""
        self.about.setText(
            f"{simulated_mark(results)}{revision.name}{where}{more}: long tick is the limit" if revision else ""
        )
        self.plot.clear()
        self.split.setVisible(bool(pulls))
        self.empty.setVisible(not pulls)
        if pulls:
            self.matrix.choose(*self.matrix.at)
        else:
            self._finding = None
            self.empty.say(*self.nothing_yet("The checks of every pull")[:2])
        for button in (self.to_logs, self.to_dyno):
            button.setEnabled(bool(pulls))

    def _show(self, finding: Finding, p: PullResult) -> None:
        self._finding = finding
        units = self.session.settings.units
        numbers = finding.numbers(units)
        self.sentence.setText(
            f"{p.title}. {finding.statement}: {numbers}" if numbers else f"{p.title}. {finding.statement}"
        )
        kind_shown = CHANNELS.get(finding.where.channel or "")
        alone = p.evidence.is_sheet
        self.to_logs.setVisible(not alone)
        traced = f"Trace: {kind_shown.title.lower()}. " if kind_shown is not None and not alone else ""
        self.source.setText(f"{traced}Limit by: {finding.rule.source}" if finding.rule else "")
        self.plot.clear()
        key = finding.where.channel
        self.plot.setLabel("bottom", OVER_SPEED if p.evidence.is_sheet else OVER_TIME)
        if p.evidence.is_sheet:
            self._show_curve(finding, p)
            return
        if key is None or key not in p.log.channels:
            return
        kind = CHANNELS[key]
        unit = units.get(kind.unit_choice, kind.unit)
        self.plot.setLabel("left", unit)
        log = p.log.cut(p.pull.start_s - 0.5, p.pull.end_s + 0.5)
        for name, pen in ((TARGETS.get(key), line_pen("ink", 1, dashed=True)), (key, line_pen("working", 2))):
            if name is not None and name in log.channels:
                channel = log.channels[name]
                shown = np.asarray(from_canonical(channel.values, unit))
                self.plot.plot(channel.time_s - p.pull.start_s, shown, pen=pen, connect="finite")
        self._mark(finding, p, unit, kind.quantity)
        self.plot.autoRange(padding=0.06)

    def _show_curve(self, finding: Finding, p: PullResult) -> None:
        """A curve without a log: what was judged stands over engine speed."""
        if not p.curves:
            return
        curve, quantity = next(iter(p.curves.values())), "torque" if "torque" in finding.check else "power"
        unit = self.session.settings.units.get(quantity, "N m" if quantity == "torque" else "kW")
        values = curve.torque_nm if quantity == "torque" else curve.power_w
        self.plot.setLabel("left", unit)
        self.plot.plot(curve.speed_rpm, np.asarray(from_canonical(values, unit)), pen=line_pen("working", 2))
        if finding.where.speed_rpm is not None:
            pen = line_pen("stop", 1.4, dashed=True)
            self.plot.addItem(pg.InfiniteLine(pos=finding.where.speed_rpm, angle=90, pen=pen))
        self.plot.autoRange(padding=0.06)

    def _mark(self, finding: Finding, p: PullResult, unit: str, quantity: str) -> None:
        time = finding.where.time_s
        if time is not None:
            self.plot.addItem(
                pg.InfiniteLine(pos=time - p.pull.start_s, angle=90, pen=line_pen("stop", 1.4, dashed=True))
            )
        region = pg.LinearRegionItem((0.0, p.pull.length_s), movable=False, brush=faint("working", 0.06))
        for line in region.lines:
            line.setPen(line_pen("line", 1))
        region.setZValue(-20)
        self.plot.addItem(region, ignoreBounds=True)
        # A limit on the channel itself is a line in the trace; one on an error or a rise is in the sentence.
        rule = finding.rule
        if rule is None or rule.quantity != quantity or finding.value is None:
            return
        limit = rule.stop_canonical
        if finding.check.startswith("knock"):
            limit = -limit
        absolute = finding.check in ("boost_limit", "exhaust_temperature", "coolant_temperature", "oil_temperature")
        if absolute or finding.check in ("knock_retard", "injector_window", "engine_speed"):
            level = float(from_canonical(limit, unit))
            self.plot.addItem(pg.InfiniteLine(pos=level, angle=0, pen=line_pen("stop", 1.6)))

    def _go(self, step: str) -> None:
        where: Where | None = self._finding.where if self._finding else None
        if where is not None:
            self.session.go(step)
            self.session.place_changed.emit(where)

    def _follow(self) -> None:
        self._go("logs")

    def _follow_dyno(self) -> None:
        self._go("dyno")

    def keyPressEvent(self, event) -> None:
        """Enter follows."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._follow()
        else:
            super().keyPressEvent(event)

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        return [("Arrows", "move between findings"), ("Enter", "see the finding in Logs")]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        return [
            Command("See the finding in Logs", "Enter", self._follow),
            Command("See the finding in Dyno", "", self._follow_dyno),
        ]

    def main_widget(self) -> QWidget:
        """The matrix takes the keys."""
        return self.matrix


def make(session: Session, window: Desk) -> ChecksView:
    """The view of this step."""
    return ChecksView(session, window)
