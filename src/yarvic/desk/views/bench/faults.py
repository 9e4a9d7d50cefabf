"""Fault injection: a switch and a severity each, and what the one in hand leaves in the evidence."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QGridLayout, QVBoxLayout

from yarvic.bench.faults import FAULTS, Fault
from yarvic.desk.widgets.fields import Number, Switch, show_switch
from yarvic.desk.widgets.words import label
from yarvic.state.bench import BenchState

USUAL_SEVERITY = 0.5


class FaultList(QFrame):
    """The faults that this engine can have."""

    def __init__(self, changed: Callable[[str, float], None]) -> None:
        super().__init__()
        self.setAccessibleName("Fault injection")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(label("Fault injection", "title"))
        self.grid = QGridLayout()
        self.grid.setHorizontalSpacing(8)
        self.grid.setColumnStretch(0, 1)
        self.grid.setVerticalSpacing(2)
        column.addLayout(self.grid)
        self.about = label("", "caption", wrap=True)
        column.addWidget(self.about)
        column.addStretch(1)
        self._changed = changed
        self.lines: dict[str, tuple[Switch, Number]] = {}
        self._severity: dict[str, float] = {}
        self._kind = ""

    def show_faults(self, bench: BenchState) -> None:
        """The switches of this vehicle's kind, as they stand."""
        if bench.plant.kind != self._kind:
            self._fill(bench.plant.kind)
        for key, (box, severity) in self.lines.items():
            value = bench.faults.get(key, 0.0)
            show_switch(box, value > 0.0)
            severity.setEnabled(value > 0.0)
            severity.show_value((value or self._severity.get(key, USUAL_SEVERITY)) * 100.0)
        if not any(box.hasFocus() for box, _ in self.lines.values()):
            state = f"On: {bench.faults_text()}." if bench.faults else "A healthy vehicle."
            self.about.setText(f"{state} Point at a fault to read what it leaves in the evidence.")

    def _fill(self, kind: str) -> None:
        self._kind = kind
        while (item := self.grid.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        self.lines.clear()
        mine = [f for f in FAULTS.values() if kind in f.kinds]
        for n, fault in enumerate(mine):
            box = Switch(fault.title, partial(self._switched, fault.key))
            severity = Number(f"Severity of {fault.title.lower()}", 1.0, 100.0, 0, "%", partial(self._set, fault.key))
            severity.setFixedWidth(64)
            self.grid.addWidget(box, n, 0, Qt.AlignmentFlag.AlignLeft)
            self.grid.addWidget(severity, n, 1)
            self.lines[fault.key] = (box, severity)
            box.pointed.connect(partial(self._say, fault))

    def _say(self, fault: Fault) -> None:
        self.about.setText(f"{fault.title}, at 100 %: {fault.at_full}. Leaves: {fault.leaves}.")

    def _switched(self, key: str, on: bool) -> None:
        self._changed(key, self._severity.get(key, USUAL_SEVERITY) if on else 0.0)

    def _set(self, key: str, percent: float) -> None:
        self._severity[key] = percent / 100.0
        if self.lines[key][0].isChecked():
            self._changed(key, percent / 100.0)
