"""Dyno: torque and power of working and reference on one speed axis, the gain under it, conditions in a table."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHeaderView,
    QSpinBox,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from yarvic.core.checks.finding import Where, amount
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.dyno import Curve
from yarvic.core.evidence.repeatability import MeanCurve, mean_curve
from yarvic.core.physics.correction import STANDARDS, title
from yarvic.core.units import UNITS, from_canonical
from yarvic.desk.overlays import Command
from yarvic.desk.views.dyno_rows import COLUMNS, factor_words, row_of
from yarvic.desk.views.selected_run import SelectedRun
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.plot import BandedCurve, add_chart, penned, shaded, sheet
from yarvic.desk.widgets.words import Empty, act, chooser, label, row, show_choice, word
from yarvic.state.gains import gain_between
from yarvic.state.readings import NO_NUMBER, peaks, reduction_words, throttle_of
from yarvic.state.results import PullResult, RevisionResults, simulated_mark
from yarvic.state.session import Session

# Throttles of a sweep, as bikes and street use are judged by.
THROTTLES = (0.25, 0.5, 0.75, 1.0)
NAME_PX = 20.0  # the height of a name on a chart


class DynoView(View):
    """Curves, gain, table, and the words that run pulls."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Dyno")
        self.add_bench(window.open_bench)
        self.standard = chooser(
            "Correction standard", lambda: [(title(n), partial(session.choose_standard, n)) for n in STANDARDS]
        )
        self.cool = QSpinBox()
        self.cool.setRange(0, 3600)
        self.cool.setValue(60)
        self.cool.setSuffix(" s")
        self.cool.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.cool.setFixedWidth(64)
        self.cool.setAccessibleName("Cool-down before each pull")
        self.cool.valueChanged.connect(self._set_cool)
        self.three = act("Pull three times", lambda: session.pull(3))
        self.cool_name = label("cool-down", "quiet")
        self.window_ = window
        self.import_act = act("Import a dyno sheet", window.ask_for_logs)
        self.one = word("Pull once", lambda: session.pull(1), "P")
        self.sweep = word("At four throttles", lambda: session.sweep_throttles(THROTTLES))
        self.sweep.setToolTip("Pull once each at 25, 50, 75 and 100 % throttle")
        self.throttle = chooser("Throttle of the curves", self._throttles)
        self.peaks = label("", wrap=True)
        self.factor = label("", "caption", wrap=True)
        self.caution = label(
            "On a real dyno: straps checked, fan and extraction on, nobody in line with roller or tyres. Local rules and the"
            " cell's own come first.",
            "caption",
            wrap=True,
        )
        self.head.insertWidget(2, self.throttle)
        self.head.insertWidget(3, self.standard)
        self.column.addLayout(
            row(self.import_act, self.three, self.one, self.sweep, None, self.cool_name, self.cool, spacing=8)
        )
        self.frame = QFrame()
        self.frame.setObjectName("sheet")
        inner = QVBoxLayout(self.frame)
        inner.setContentsMargins(6, 6, 6, 6)
        inner.setSpacing(4)
        inner.addWidget(self.peaks)
        self.plots = sheet()
        self._make_plots()
        inner.addWidget(self.plots, 1)
        inner.addWidget(self.factor)
        self.column.addWidget(self.frame, 3)
        self.empty = Empty("Go to Flash", partial(session.go, "flash"))
        self.column.addWidget(self.empty, 3)
        self.table = self._make_table()
        self.column.addWidget(self.table, 1)
        self.chosen = SelectedRun(window, self.selected)
        last = row(self.caution, self.chosen, spacing=8)
        last.setStretch(0, 1)
        self.column.addLayout(last)
        self._kept = ("", 0)  # what is selected stays so when the table is filled anew: its run and its pull
        self.table.itemSelectionChanged.connect(self._select)
        self.refresh_on(
            session.job_changed,
            session.selection_changed,
            session.results_changed,
            session.bench_changed,
            session.units_changed,
        )
        session.place_changed.connect(self._jump)

    def _make_plots(self) -> None:
        self.power = add_chart(self.plots, row=0)
        self.torque = add_chart(self.plots, row=1)
        self.gained = add_chart(self.plots, row=2, bottom="Engine speed, rpm")
        layout = self.plots.ci.layout
        for line, stretch in enumerate((5, 4, 3)):
            layout.setRowStretchFactor(line, stretch)
        for plot in (self.power, self.torque):
            plot.getAxis("bottom").setStyle(showValues=False)
        self._bounds: dict[pg.PlotItem, tuple[float, float]] = dict.fromkeys((self.power, self.torque), (0.0, 1.0))
        for plot in self._bounds:
            plot.getViewBox().sigResized.connect(lambda _, plot=plot: self._make_room(plot))
        self.torque.setXLink(self.power)
        self.gained.setXLink(self.power)
        self.curves = {
            (plot, token): BandedCurve(plot, token, dashed=token == "reference")
            for token in ("reference", "working")
            for plot in (self.power, self.torque)
        }
        self.gain_curve = BandedCurve(self.gained, "working", width=2)
        penned(self.gained.addLine(y=0), "ink", 1)
        self.band = shaded(pg.LinearRegionItem(movable=False), "quiet", 0.10)
        self.band.setZValue(-20)
        self.gained.addItem(self.band, ignoreBounds=True)
        self.marks = []
        for plot in (self.power, self.torque, self.gained):
            mark = penned(pg.InfiniteLine(angle=90), "ink", 1, dashed=True)
            mark.hide()
            plot.addItem(mark, ignoreBounds=True)
            self.marks.append(mark)

    def _make_table(self) -> QTableWidget:
        table = QTableWidget(0, len(COLUMNS))
        table.setHorizontalHeaderLabels(list(COLUMNS))
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        table.setAccessibleName("Pulls in order with their conditions")
        table.setShowGrid(False)
        table.setObjectName("small")
        table.setMinimumHeight(112)
        vertical, horizontal = table.verticalHeader(), table.horizontalHeader()
        assert vertical is not None and horizontal is not None
        vertical.hide()
        vertical.setDefaultSectionSize(24)
        horizontal.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        horizontal.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        return table

    def _set_cool(self, seconds: int) -> None:
        bench = self.session.bench
        if bench is not None:
            bench.set_run(cool_down_s=float(seconds))

    def _throttles(self) -> list[tuple[str, Callable[[], None]]]:
        results = self.session.working_results()
        return [
            (f"at {t * 100:.0f} %", partial(self.choose_throttle, t)) for t in (results.throttles if results else [])
        ]

    @property
    def at_throttle(self) -> float:
        """The throttle of the curves; full where the working map has none at the one that was chosen."""
        return throttle_of(self.session, self.session.working_results())

    def choose_throttle(self, throttle: float) -> None:
        """Show the curves of another throttle."""
        self.session.choose_throttle(throttle)

    def _at(self, results: RevisionResults | None) -> list[Curve]:
        """The curves of working or reference; those of the reference that compare with working, where there are some."""
        like = self.session.working_results()
        return results.curves(self.session.standard, self.at_throttle, like) if results is not None else []

    def refresh(self) -> None:
        """Draw curves, gain and table."""
        s = self.session
        ready = s.job is not None and s.working_revision() is not None and s.busy is None
        for widget in (self.three, self.one, self.sweep, self.cool_name, self.cool):
            widget.setVisible(not s.from_outside)
        self.import_act.setVisible(s.from_outside)
        self.three.setEnabled(ready)
        self.one.setEnabled(ready)
        self.sweep.setEnabled(ready)
        show_choice(self.standard, title(s.standard))
        if s.bench is not None and not self.cool.hasFocus():
            self.cool.blockSignals(True)
            self.cool.setValue(round(s.bench.settings.cool_down_s))
            self.cool.blockSignals(False)
        for curve in (*self.curves.values(), self.gain_curve):
            curve.clear()
        for item in (self.band, *self.marks):
            item.hide()
        power, torque = s.settings.units.get("power", "kW"), s.settings.units.get("torque", "N m")
        self.power.setLabel("left", f"Power, {power}")
        self.torque.setLabel("left", f"Torque, {torque}")
        self.gained.setLabel("left", f"Gain, {power}")
        working, reference = s.working_results(), s.reference_results()
        if reference is working:
            reference = None
        throttles = working.throttles if working is not None else []
        show_choice(self.throttle, f"at {self.at_throttle * 100:.0f} %")
        self.throttle.setVisible(len(throttles) > 1)
        has_curves = working is not None and any(p.curves or p.held for p in working.pulls)
        self.frame.setVisible(has_curves)
        self.table.setVisible(has_curves)
        self.empty.setVisible(not has_curves)
        if not has_curves:
            held, revision = s.bench.holds() if s.bench is not None else None, s.working_revision()
            heading, text, way = self.nothing_yet("Torque, power and gain")
            # Once the unit holds it, the way on is the button above: pull it.
            held_already = bool(held and revision and held.image == revision.image)
            action = ("Import", self.window_.ask_for_logs) if s.from_outside else None
            self.empty.say(heading, text, may_act=way and not held_already, action=action)
        self._sentence(working, reference)
        for results, token in ((reference, "reference"), (working, "working")):
            curves = self._at(results)
            if results is not None and curves:
                self._curves(mean_curve(curves), token, s.name_of(results.revision_id), power, torque)
        why = self._gain(working, reference, power)
        if why and self.factor.text():
            self.factor.setText(f"{self.factor.text()} No gain is drawn: {why}.")
        self._fill_table(working)
        self.chosen.refresh()
        self.power.enableAutoRange()
        for plot in (self.power, self.torque, self.gained):
            plot.autoRange(padding=0.04)
        for plot in (self.power, self.torque):
            self._bounds[plot] = tuple(plot.viewRange()[1])
            self._make_room(plot)

    def _make_room(self, plot: pg.PlotItem) -> None:
        """Room above the curves for their names, however low the chart is."""
        low, high = self._bounds[plot]
        share = NAME_PX / max(plot.getViewBox().height() - NAME_PX, NAME_PX)
        plot.setYRange(low, high + share * (high - low), padding=0)

    def _sentence(self, working: RevisionResults | None, reference: RevisionResults | None) -> None:
        s = self.session
        parts = []
        for results, letter in ((working, "working"), (reference, "reference")):
            both = peaks(s, results, self.at_throttle)
            if both is None and results is not None and any(p.curves for p in results.pulls):
                parts.append(
                    f"{s.name_of(results.revision_id)} ({letter}): no number by {title(s.standard)}, {NO_NUMBER}"
                )
            if both is not None and results is not None:
                parts.append(f"{s.name_of(results.revision_id)} ({letter}): {both[0]}, {both[1]}")
        held = working is not None and any(p.held for p in working.pulls)
        nothing = "No curve: speeds were held, their power is in the table." if held else "No pulls yet."
        self.peaks.setText("\n".join(parts) or nothing)
        curves = self._at(working)
        if not curves:
            self.factor.setText("")
            return
        factors = ", ".join(factor_words(c) for c in curves)
        label_ = s.settings.units.get("power", "kW")
        text = (
            f"At the {curves[0].basis}. {curves[0].correction.title}: factor {factors}."
            f" {reduction_words(curves, label_)} Band: one standard deviation from pull to pull."
        )
        plain = working.as_measured(s.standard, self.at_throttle, working) if working is not None else []
        if s.standard != "none" and plain:
            raw = mean_curve(plain)
            text += f" Uncorrected peak {amount(raw.peak_power[0], label_)}."
        self.factor.setText(text)

    def _curves(self, mean: MeanCurve, token: str, name: str, power: str, torque: str) -> None:
        for plot, values, deviation, unit in (
            (self.power, mean.power_w, mean.power_sd_w, power),
            (self.torque, mean.torque_nm, mean.torque_sd_nm, torque),
        ):
            shown = from_canonical(values, unit)
            spread = deviation / UNITS[unit].factor
            self.curves[plot, token].show(mean.speed_rpm, shown, shown - spread, shown + spread, name)

    def _gain(self, working: RevisionResults | None, reference: RevisionResults | None, power: str) -> str:
        """Draw the gain; else why there is none."""
        s = self.session
        if working is None or reference is None or s.job is None:
            return "there is no other reference with pulls"
        a = working.together(self.at_throttle, standard=s.standard)
        b = reference.together(self.at_throttle, working, s.standard)
        if not a or not b:
            return "working and reference have no curves alike by this standard"
        try:
            g, _ = gain_between(a, b, s.standard, s.job.sheet.band_rpm)
        except EvidenceError as error:
            return error.what
        factor = UNITS[power].factor
        self.gain_curve.show(g.speed_rpm, g.power_w / factor, g.low_w / factor, g.high_w / factor)
        self.band.setRegion(g.band_rpm)
        self.band.show()
        return ""

    def _fill_table(self, results: RevisionResults | None) -> None:
        s = self.session
        pulls = results.pulls if results else ()
        kept = next((n for n, p in enumerate(pulls) if (p.evidence.id, p.number) == self._kept), -1)
        self.table.setRowCount(len(pulls))
        for line, p in enumerate(pulls):
            for at, text in enumerate(row_of(p, s.standard, s.settings.units)):
                self.table.setItem(line, at, QTableWidgetItem(text))
        if kept >= 0:
            self.table.selectRow(kept)
        else:
            self.table.scrollToBottom()  # the newest run is the one that is looked for
        revision = s.evidence_revision()
        runs = f"{simulated_mark(results)}{len(pulls)} runs of {revision.name}" if revision else ""
        faults = s.bench.faults_text() if s.bench is not None else ""
        self.about.setText(f"{runs} · injected faults: {faults}" if faults else runs)

    def selected(self) -> PullResult | None:
        """The run that is selected in the table."""
        results, at = self.session.working_results(), self.table.currentRow()
        chosen = bool(self.table.selectedItems())
        return results.pulls[at] if results is not None and chosen and 0 <= at < len(results.pulls) else None

    def _select(self) -> None:
        run = self.selected()
        if run is not None:
            self._kept = run.evidence.id, run.number
        self.chosen.refresh()

    def _jump(self, where: Where) -> None:
        if not self.isVisible() or where.speed_rpm is None:
            return
        for mark in self.marks:
            mark.setPos(where.speed_rpm)
            mark.show()

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        return [
            ("P", "pull once"),
            ("B", "bench: weather, run, fuel, faults"),
            ("Wheel", "zoom along engine speed"),
            ("Drag", "move along engine speed"),
        ]

    def keyPressEvent(self, event) -> None:
        """P pulls once."""
        if event.key() == Qt.Key.Key_P and self.one.isEnabled():
            self.session.pull(1)
        else:
            super().keyPressEvent(event)

    def commands(self) -> list[Command]:
        """Commands of this view."""
        return [
            Command("Pull three times", "", lambda: self.session.pull(3)),
            Command("Pull once", "P", lambda: self.session.pull(1)),
            Command("Pull at 25, 50, 75 and 100 % throttle", "", lambda: self.session.sweep_throttles(THROTTLES)),
        ]

    def main_widget(self) -> QWidget:
        """The action takes the focus."""
        return self.import_act if self.session.from_outside else self.three


def make(session: Session, window: Desk) -> DynoView:
    """The view of this step."""
    return DynoView(session, window)
