"""Sizing: small live sheets. Inputs begin with the job's; each answer shows how it moves and can go into the plan."""

from __future__ import annotations

from datetime import UTC, datetime
from functools import partial

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from yarvic.core.errors import YarvicError
from yarvic.core.plan.plan import Answer
from yarvic.core.plan.sizing import SHEETS, Context, Input, Output, Sizing
from yarvic.core.plan.sizing.sheet import chosen_unit
from yarvic.core.units import from_canonical
from yarvic.desk.theme import tokens
from yarvic.desk.widgets.entry import Line, Sheet
from yarvic.desk.widgets.plot import add_chart, name_axes
from yarvic.desk.widgets.plot import sheet as chart_sheet
from yarvic.desk.widgets.words import act, label, row, word
from yarvic.state.plan import PlanState
from yarvic.state.session import Session

NAME_PX = 206


class SizingPanel(QWidget):
    """The sheets by name, the one in hand, its chart."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setMinimumWidth(780)  # where the window is narrower, it scrolls
        self.session = session
        self.plan = PlanState(session)
        self.key = ""
        self.values: dict[str, float] = {}
        self.own: frozenset[str] = frozenset()
        self._changed: set[str] = set()
        self._built_for: tuple[str, dict[str, str]] = ("", {})
        self.names: dict[str, QPushButton] = {}
        self.fields: dict[str, Line] = {}
        names = QVBoxLayout()
        names.setSpacing(0)
        names.setContentsMargins(0, 0, 0, 0)
        for key, sheet in SHEETS.items():
            self.names[key] = word(sheet.title, partial(self.choose, key), checkable=True)
            names.addWidget(self.names[key])
        names.addStretch(1)
        self.title = label("", "title")
        self.formula = label("", "caption", wrap=True)
        self.inputs = QVBoxLayout()
        self.answer = label("", "big", wrap=True)
        self.outputs = label("", "", wrap=True)
        self.caution = label("", "caption", wrap=True)
        self.into = act("Put into the plan", self.put)
        self.again = word("Reset to default", self.begin_again)
        self.kept = label("", "quiet", wrap=True)
        self.chart = chart_sheet()
        self.plot = add_chart(self.chart)
        self.chart.setMinimumSize(220, 170)
        self.chart.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Ignored)
        self.curve = self.plot.plot([], [])
        self.point = pg.ScatterPlotItem(size=9)
        self.plot.addItem(self.point)
        self._arrange(names)

    def _arrange(self, names: QVBoxLayout) -> None:
        left = QWidget()
        left.setLayout(names)
        left.setFixedWidth(216)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        inner.setObjectName("plain")
        middle = QVBoxLayout(inner)
        middle.setContentsMargins(0, 0, 10, 0)
        middle.addWidget(self.title)
        middle.addWidget(self.formula)
        middle.addLayout(self.inputs)
        middle.addStretch(1)
        area.setWidget(inner)
        right = QVBoxLayout()
        right.addWidget(self.answer)
        right.addWidget(self.outputs)
        right.addWidget(self.chart, 1)
        right.addWidget(self.caution)
        right.addLayout(row(self.into, self.again, None))
        right.addWidget(self.kept)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(12)
        whole.addWidget(left)
        area.setFixedWidth(306)
        whole.addWidget(area)
        whole.addLayout(right, 1)

    def context(self) -> Context:
        """What the job gives."""
        job = self.session.job
        assert job is not None
        s = self.session
        hand = s.evidence_revision()
        peaks = self.plan.measured_peaks(s.results.get(hand.id)) if hand is not None else None
        return Context(
            job.sheet.vehicle, job.sheet.plan.target, job.sheet.altitude_m, peaks[0] if peaks is not None else None
        )

    def refresh(self) -> None:
        """Show the sheets that apply; numbers of the job are taken anew, those that were written stay."""
        job = self.session.job
        if job is None:
            return
        applies = [k for k, s in SHEETS.items() if s.for_engine(job.sheet.vehicle)]
        for key, button in self.names.items():
            button.setVisible(key in applies)
        if self.key not in applies:
            self.choose(applies[0])
            return
        fresh, self.own = SHEETS[self.key].begin(self.context())
        sizing, mine = self.sizing(), {k: self.values[k] for k in self._changed}
        self.values = sizing.followed({**fresh, **mine}, self.own | set(mine))
        if self._built_for != (self.key, self.session.settings.units):
            self._build()
        self._show()

    def choose(self, key: str) -> None:
        """Show another sheet."""
        self.key = key
        self._changed = set()
        sheet = SHEETS[key]
        self.values, self.own = sheet.begin(self.context())
        self._build()
        self._show()

    def asked(self) -> dict[str, Input]:
        """What the sheet in hand asks for, in the units that were chosen."""
        units = self.session.settings.units
        job = self.session.job
        assert job is not None
        vehicle = job.sheet.vehicle
        return {i.key: i.in_units(units) for i in self.sizing().inputs if i.for_engine(vehicle)}

    def _build(self) -> None:
        self._built_for = (self.key, dict(self.session.settings.units))
        for name, button in self.names.items():
            button.setChecked(name == self.key)
        while self.inputs.count():
            item = self.inputs.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        holder = QWidget()
        form = Sheet("", NAME_PX)
        form.setHorizontalSpacing(6)
        holder.setLayout(form)
        self.fields = {}
        for each in self.asked().values():
            field = Line(each.title, partial(self._enter, each.key), 70)
            form.line(_named(each.title, each.unit), field)
            self.fields[each.key] = field
        self.inputs.addWidget(holder)

    def begin_again(self) -> None:
        """Forget what was written."""
        self.choose(self.key)

    def _enter(self, key: str, text: str) -> None:
        value = self.asked()[key].read(text)
        before = self._changed | set(self.own)
        self.values, kept = self.sizing().entered(self.values, before, key, value)
        self.own -= before - kept  # what follows from it is not the job's any more
        self._changed = set(kept) - set(self.own) | {key}
        self._show()

    def sizing(self) -> Sizing:
        """The sheet in hand."""
        return SHEETS[self.key]

    def computed(self) -> list[Output]:
        """What comes out."""
        return self.sizing().compute(self.values)

    def _show(self) -> None:
        sheet, job = self.sizing(), self.session.job
        assert job is not None
        units = self.session.settings.units
        self.title.setText(sheet.title)
        moves = " What follows from another entry moves with it." if any(i.follows for i in sheet.inputs) else ""
        self.formula.setText(f"{sheet.formula}\n{sheet.source}. Bold: from the job.{moves}")
        for each in self.asked().values():
            field = self.fields[each.key]
            field.show_text(f"{each.shown(self.values[each.key]):.5g}")
            field.setProperty("own", each.key in self.own and each.key not in self._changed)
            field_style = field.style()
            if field_style is not None:
                field_style.polish(field)
        outputs = self.computed()
        first = outputs[0]
        self.answer.setText(f"{first.title}: {first.in_words(units)}")
        self.outputs.setText("\n".join(f"{o.title}: {o.in_words(units)}" for o in outputs[1:]))
        self.caution.setText(sheet.caution)
        self.caution.setVisible(bool(sheet.caution))
        self.into.setEnabled(bool(np.isfinite(first.value)) and not job.read_only)
        self.into.setToolTip(
            "Adds a limit to the ledger" if sheet.limit is not None else "Saves the answer in the plan"
        )
        kept = next((a for a in job.sheet.plan.answers if a.sheet == sheet.title), None)
        self.kept.setText(f"In the plan: {kept.sentence}" if kept is not None else "")
        self._draw(outputs)

    def _draw(self, outputs: list[Output]) -> None:
        sheet, t = self.sizing(), tokens()
        along, first = self.asked()[sheet.along], outputs[0]
        unit = chosen_unit(first.unit, self.session.settings.units) if first.unit else ""
        x, y = sheet.curve(self.values)
        shown_x = np.array([along.shown(float(v)) for v in x])
        shown_y = np.asarray(from_canonical(y, unit)) if unit else y
        self.curve.setData(shown_x, shown_y)
        self.curve.setPen(pg.mkPen(t.color("working"), width=2))
        here = float(from_canonical(first.value, unit)) if unit else first.value
        spots = [along.shown(self.values[sheet.along])], [here]
        self.point.setData(*spots) if np.isfinite(here) else self.point.setData([], [])
        self.point.setBrush(pg.mkBrush(t.color("ink")))
        bottom, left = _named(along.title, along.unit), _named(first.title, unit)
        name_axes(self.plot, left=left, bottom=bottom)

    def put(self) -> None:
        """Keep the answer in the plan; a sheet with a limit puts that into the ledger."""
        state, sheet = self.session.sheet, self.sizing()
        if state is None:
            return
        sentence = sheet.say(self.values, self.computed())
        when = datetime.now(UTC).isoformat(timespec="seconds")
        try:
            state.save_answer(Answer(sheet=sheet.title, sentence=sentence, source=sheet.source, when=when))
            if sheet.limit is not None:
                limit = sheet.limit(self.values)
                same = next((m.name for m in state.sheet.limits if m.name == limit.name), None)
                state.save_limit(limit, same)
                self.session.say(
                    f"The ledger holds {limit.component}: {limit.safe:g} to {limit.stretch:g} {limit.unit}."
                )
            else:
                self.session.say(f"Into the plan: {sentence}.")
        except YarvicError as error:
            self.session.failed.emit(error)
        self._show()


def _named(title: str, unit: str) -> str:
    """A title with its unit; lambda is both."""
    return f"{title}, {unit}" if unit and unit.lower() != title.lower() else title
