"""Checks: a matrix, check by pull, each cell the margin as a bar from its limit; the trace of the one in hand below."""

from __future__ import annotations

from functools import partial

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QScrollArea, QSplitter, QVBoxLayout, QWidget

from yarvic.core.checks.confidence import in_words
from yarvic.core.checks.finding import Finding, Where
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.units import from_canonical
from yarvic.desk.overlays import Command
from yarvic.desk.views.checks.limit_form import LimitForm
from yarvic.desk.views.checks.matrix import Matrix
from yarvic.desk.views.checks.owner import OwnerPanel
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.plot import add_chart, faint, line_pen, sheet
from yarvic.desk.widgets.words import Elided, Empty, label, row, word
from yarvic.state.causes import causes_in_words
from yarvic.state.results import PullResult, simulated_mark
from yarvic.state.session import Session

MOST_PULLS = 6  # beside each other; the last ones
OVER_TIME, OVER_SPEED = "Time from the start of the pull, s", "Engine speed, rpm"
# The target drawn beside a channel, where it has one.
TARGETS = {
    "boost_pressure": "boost_target",
    "lambda_measured": "lambda_target",
    "rail_pressure": "rail_target",
}


class ChecksView(View):
    """Matrix, sentence, trace."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Checks")
        self.matrix = Matrix(session)
        self.matrix.chosen.connect(self._show)
        self.sentence = label("", wrap=True)
        self.source = Elided("caption")
        self.points_at = Elided("caption")
        self.points_at.setAccessibleName("What the findings of this pull point at")
        self.limit = LimitForm(session, self._make_room)
        self.owner = OwnerPanel(session, self._make_room)
        self.to_owner = word("For the owner", self.owner.open, "O")
        self.to_limit = word("Change the limit", self._change_limit, "L")
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
        column.addWidget(self.points_at)
        column.addWidget(self.source)
        column.addLayout(row(None, self.to_owner, self.to_limit, self.to_dyno, self.to_logs))
        column.addWidget(self.limit)
        column.addWidget(self.owner, 1)
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
        every = (*results.pulls, *(p for p in results.beside if p.findings)) if results else ()
        pulls = every[-MOST_PULLS:]
        self.matrix.show_pulls(pulls)
        more = f", the last {len(pulls)} of {len(every)}" if len(every) > len(pulls) else ""
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
        self.to_limit.setEnabled(self.limit.can_change(self._finding))
        if not pulls:
            self.limit.leave()
        if self.owner.isVisible():
            self.owner.refresh()
        self.to_owner.setEnabled(bool(pulls))

    def _show(self, finding: Finding, p: PullResult) -> None:
        self._finding = finding
        self.to_limit.setEnabled(self.limit.can_change(finding))
        units = self.session.settings.units
        numbers = finding.numbers(units)
        said = f"{p.title}. {finding.statement}: {numbers}" if numbers else f"{p.title}. {finding.statement}"
        self.sentence.setText(f"{said.removesuffix('.')}. {self._how_sure(finding)}".rstrip())
        self.points_at.setText(self._pointed_at(p))
        self.points_at.setVisible(bool(self.points_at.text()) and self.sheet.isVisibleTo(self))
        kind_shown = CHANNELS.get(finding.where.channel or "")
        alone = p.evidence.is_sheet
        self.to_logs.setVisible(not alone)
        traced = f"Trace: {kind_shown.title.lower()}. " if kind_shown is not None and not alone else ""
        read = f"Read: {finding.read_in_words()}. " if finding.read else ""
        self.source.setText(f"{traced}{read}{f'Limit by: {finding.rule.source}' if finding.rule else ''}")
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

    def _how_sure(self, finding: Finding) -> str:
        """How the pulls together stand to the limit of a check; empty where they are too few to tell."""
        results = self.session.working_results()
        of = next((s for s in results.summaries if s.check == finding.check), None) if results is not None else None
        return in_words(of.chance_past) if of is not None and finding.value is not None else ""

    def _pointed_at(self, p: PullResult) -> str:
        job = self.session.job
        return causes_in_words(p.causes(job.sheet.vehicle.asked)) if job is not None else ""

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

    def _make_room(self, taken: bool) -> None:
        """One of the limit's form, the owner's page and the trace has the room."""
        if taken and self.limit.isVisible() and self.owner.isVisible():
            self.owner.hide()
        self.sheet.setVisible(not (taken or self.owner.isVisible()))
        busy = taken or self.owner.isVisible()
        self.sentence.setVisible(not self.owner.isVisible())
        self.source.setVisible(not busy)
        self.points_at.setVisible(bool(self.points_at.text()) and not busy)

    def _change_limit(self) -> None:
        if self._finding is not None and self.limit.can_change(self._finding):
            self.limit.open(self._finding)

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
        elif event.key() == Qt.Key.Key_L:
            self._change_limit()
        elif event.key() == Qt.Key.Key_O and self.to_owner.isEnabled():
            self.owner.open()
        else:
            super().keyPressEvent(event)

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        return [
            ("Arrows", "move between findings"),
            ("Enter", "see the finding in Logs"),
            ("L", "change the limit of this check"),
            ("O", "the page for the owner"),
        ]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        return [
            Command("See the finding in Logs", "Enter", self._follow),
            Command("See the finding in Dyno", "", self._follow_dyno),
            Command("Change the limit of this check", "L", self._change_limit),
            Command("The page for the owner", "O", self.owner.open),
        ]

    def main_widget(self) -> QWidget:
        """The matrix takes the keys."""
        return self.matrix


def make(session: Session, window: Desk) -> ChecksView:
    """The view of this step."""
    return ChecksView(session, window)
