"""What can be said of the run that is selected in a table: how it is read, and that it does not count."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QHBoxLayout, QWidget

from yarvic.desk.views.aside import SetAsideForm
from yarvic.desk.views.view import Desk
from yarvic.desk.widgets.words import word
from yarvic.state.results import PullResult


class SelectedRun(QWidget):
    """Two words, in sight while a run is selected."""

    def __init__(self, window: Desk, selected: Callable[[], PullResult | None], name: str = "Conditions") -> None:
        super().__init__()
        self._window, self._selected = window, selected
        self.conditions = word(name, self._read_anew)
        self.conditions.setToolTip("What is stated of the selected run from a file, and how its columns are read")
        self.aside = SetAsideForm(self._set_aside)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.conditions)
        layout.addWidget(self.aside)

    def refresh(self) -> None:
        """Show what can be said of the run that is selected now."""
        run = self._selected()
        self.conditions.setVisible(run is not None and run.evidence.origin is not None)
        self.aside.setVisible(run is not None)

    def _read_anew(self) -> None:
        run, job = self._selected(), self._window.session.job
        if run is not None and job is not None:
            # A pull with a curve shows the conditions of both: what is read anew is the run itself.
            own = next(e for e in job.evidence() if e.id == run.evidence.id)
            self._window.arrivals.read_anew(own, opened=self._window.open_import)

    def _set_aside(self, reason: str) -> None:
        run = self._selected()
        if run is not None:
            self._window.arrivals.set_aside(run.evidence, run.number, reason)
            self._window.session.say(f"{run.title} is left out: {reason}. Ctrl+Z undoes it.")
