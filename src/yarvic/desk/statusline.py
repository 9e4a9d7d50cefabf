"""The status line: unit and battery, what is under way with progress and cancel, what was said, units."""

from __future__ import annotations

import time

from PyQt6.QtWidgets import QHBoxLayout, QMenu, QProgressBar, QWidget

from yarvic.core.errors import in_plain
from yarvic.core.units import units_of
from yarvic.desk.widgets.soon import Soon
from yarvic.desk.widgets.words import Elided, label, tip, word
from yarvic.desk.workers import QtRunner, Task
from yarvic.state.selection import DRAFT
from yarvic.state.session import Session

# What a person chooses a unit for; fuel pressure is a pressure with a choice of its own.
QUANTITIES = ("pressure", "fuel pressure", "temperature", "torque", "power", "speed")


class StatusLine(QWidget):
    """One row at the foot of the window."""

    def __init__(self, session: Session, runner: QtRunner) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("ground")
        self.setFixedHeight(32)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 0, 10, 2)
        layout.setSpacing(10)
        self.unit = label("", "quiet")
        self.message = Elided("")
        self.progress = QProgressBar()
        self.progress.setRange(0, 1000)
        self.progress.setFixedWidth(230)
        self.progress.setAccessibleName("Progress")
        self.cancel = word("Cancel", self._cancel)
        self.draft = label("", "quiet")
        self.units = word("", self._choose_units)
        self.units.setAccessibleName("Units")
        self.units.setToolTip("Change units")
        for widget in (self.unit, self.progress, self.cancel):
            layout.addWidget(widget)
        layout.addWidget(self.message, 1)
        layout.addWidget(self.draft)
        layout.addWidget(self.units)
        self._task: Task | None = None
        self._began = 0.0
        runner.started.connect(self._started)
        runner.ended.connect(self._ended)
        session.told.connect(self.say)
        for signal in (
            session.job_changed,
            session.bench_changed,
            session.link.changed,
            session.selection_changed,
            session.units_changed,
        ):
            signal.connect(self.refresh)
        self._soon = Soon(self, self.refresh)
        session.draft_changed.connect(self._soon.ask)
        self._show_progress(False)

    def refresh(self) -> None:
        """Unit, draft and units."""
        s = self.session
        if not s.bench_ready:
            self.unit.setText("Simulated unit")
        elif s.link.elsewhere:
            self.unit.setText(f"Unit by {s.settings.interface} {s.settings.channel}: {self._elsewhere()}")
        elif s.link.way.make is None and s.job is not None and s.job.has_maps:
            found = s.unit_holds()
            self.unit.setText(f"Unit by file: {found.name}" if found is not None else "Unit by file: unknown")
        elif s.bench is not None:
            held = s.bench.holds()
            name = held.name if held else "a half written image" if s.bench.link.half_written else "another image"
            half = "half a pair, " if s.link.half_a_pair() else ""
            self.unit.setText(f"Simulated unit: {half}holds {name}, {s.bench.unit.supply_voltage():.1f} V")
        else:
            self.unit.setText("No unit")
        kept = s.draft is not None and s.working == DRAFT and s.draft.edits
        self.draft.setText(f"Draft {s.name_of(DRAFT)} is saved" if kept else "")
        self.units.setText(" · ".join(s.settings.units.get(q, "") for q in QUANTITIES))

    def _elsewhere(self) -> str:
        looked, held = self.session.link.looked, self.session.link.holds()
        if looked is None or looked.now is None:
            return "not asked yet" if looked is None else "does not answer"
        name = held.name if held is not None else looked.now.identity.running or "nothing that starts"
        return f"holds {name}, {looked.now.supply.voltage_v:.1f} V"

    def say(self, sentence: str, trouble: bool = False) -> None:
        """Show a sentence until the next."""
        self.message.setObjectName("fault" if trouble else "")
        self.message.setStyleSheet("")
        style = self.message.style()
        if style is not None:
            style.unpolish(self.message)
            style.polish(self.message)
        sentence = in_plain(sentence)
        self.message.setText(sentence)
        tip(self.message, sentence)

    def _started(self, task: Task) -> None:
        self._task = task
        self._began = time.monotonic()
        self.say(f"{task.title} …")
        self.progress.setValue(0)
        self.cancel.setEnabled(True)
        self._show_progress(True)
        task.answers.progress.connect(self._advance)

    def _advance(self, share: float, what: str) -> None:
        self.progress.setValue(int(share * 1000))
        passed = time.monotonic() - self._began
        left = f", {passed * (1 - share) / share:.0f} s left" if share > 0.05 and passed > 0.5 else ""
        self.progress.setFormat(f"{share * 100:.0f} %{left}")
        if self._task is not None and not self._task.asked:
            self.message.setText(in_plain(what))

    def _ended(self, task: Task) -> None:
        if task is self._task:
            self._task = None
            self._show_progress(False)
            self.message.setText("")

    def _cancel(self) -> None:
        if self._task is not None:
            self._task.cancel()
            self.cancel.setEnabled(False)
            self.say("Cancelling …")

    def _show_progress(self, on: bool) -> None:
        self.progress.setVisible(on)
        self.cancel.setVisible(on)

    def unit_menu(self) -> QMenu:
        """A menu of units by quantity."""
        menu = QMenu(self)
        for quantity in QUANTITIES:
            sub = menu.addMenu(quantity.capitalize())
            assert sub is not None
            for name in units_of("pressure" if quantity == "fuel pressure" else quantity):
                action = sub.addAction(name)
                assert action is not None
                action.setCheckable(True)
                action.setChecked(self.session.settings.units.get(quantity) == name)
                action.triggered.connect(lambda _=False, q=quantity, n=name: self.session.choose_unit(q, n))
        return menu

    def _choose_units(self) -> None:
        menu = self.unit_menu()
        menu.popup(self.units.mapToGlobal(self.units.rect().topLeft()))
