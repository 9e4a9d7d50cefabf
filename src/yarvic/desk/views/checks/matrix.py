"""The matrix: rows are checks in the order in which evidence is read, columns are pulls, bars the way to the limit."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QWidget

from yarvic.core.checks.finding import ORDER, VERDICT_WORDS, Finding, amount
from yarvic.core.checks.run import FAMILIES
from yarvic.desk.theme import CAPTION_PX, font, mix, tokens
from yarvic.desk.widgets.glyphs import draw_glyph
from yarvic.state.results import PullResult
from yarvic.state.session import Session

ROW, HEAD = 21, 24
# Where the names of checks begin and end: closer together where the view is narrow.
WIDE, NARROW, NARROW_PX = (118, 236), (97, 206), 640
# The least width of a pull, and of its number.
LEAST_CELL, NUMBER_PX = 118, 58
# Families whose names have no room in a narrow view.
SHORT_FAMILY = {
    "Power and torque": "Power",
    "Ignition and supply": "Ignition",
    "Charge air": "Charge",
    "Fuel pressure": "Fuel",
}
# The checks within their family, short.
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
    "knock_heard": "raw signal",
    "boost_reach": "before it is there",
    "boost_swing": "swing",
    "duty_on_end": "duty on its end",
    "trim_sum": "sum of the trims",
    "bank_difference": "between banks",
    "exhaust_time": "exhaust stays hot",
    "torque_step": "torque in 100 rpm",
    "feed_loss": "feed, baseline",
    "power": "power",
    "torque": "torque",
    "power_loss": "loss of power",
    "boost_delay": "comes later",
    "duty_rise": "duty over baseline",
    "charge_shift": "over baseline",
    "mixture_shift": "off baseline",
    "trim_shift": "trims off baseline",
    "restriction_shift": "over baseline",
    "exhaust_shift": "exhaust, baseline",
    "cruise_trim": "trims at cruise",
    "heat_soak": "soaked since first",
    "rail_slope": "rail over rpm",
    "rail_low": "rail stays low",
    "restriction_manifold": "lost to manifold",
    "runner_step": "intake switch",
    "past_best": "past best torque",
    "barometer_off": "barometer",
    "rest_apart": "manifold at rest",
    "charge_under_ambient": "charge, ambient",
    "energy_high": "power over fuel",
    "energy_low": "power under fuel",
    "exhaust_heat_low": "exhaust, mixture",
    "exhaust_heat_high": "exhaust, mixture",
    "mixture_by_fuel": "lambda, air, fuel",
    "rail_by_duration": "rail, opening time",
    "torque_hole": "hole in torque",
    "torque_wobble": "wobble of torque",
    "sensor_still": "one number",
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
        """Show these pulls. What is in hand stays there where it still is; else the worst finding is."""
        held = self.held()
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
        places = {self.held((r, c)): (r, c) for r, c, _ in self._all()} if held is not None else {}
        self.at = places.get(held, (worst[2], worst[3]))
        self.update()

    def held(self, at: tuple[int, int] | None = None) -> tuple[str, str, int] | None:
        """What is in hand, or at a place: check, run and pull; None where there is nothing."""
        r, c = at if at is not None else self.at
        if self.finding(r, c) is None:
            return None
        return self.rows[r], self.pulls[c].evidence.id, self.pulls[c].number

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
                narrow = self._names() == NARROW
                painter.drawText(QPointF(6, y + 15), SHORT_FAMILY.get(family, family) if narrow else family)
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
