"""Saving the run that is shown as CSV, in the style of one of the simulated loggers."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QPushButton, QWidget

from yarvic.bench.loggers import STYLES, write_log
from yarvic.core.formats.files import write_whole
from yarvic.core.physics.fuel import fuel as fuel_by_key
from yarvic.desk.widgets.words import chooser
from yarvic.state.results import PullResult, simulated_mark
from yarvic.state.session import Session
from yarvic.state.work import Asked, Progress

USUAL_FUEL = "petrol-95"


class Saving:
    """The chooser of styles, and what it does."""

    def __init__(self, parent: QWidget, session: Session, shown: Callable[[], PullResult | None]) -> None:
        self._parent, self._session, self._shown = parent, session, shown
        self.button: QPushButton = chooser("Save this run as CSV", self._styles)

    def _styles(self) -> list[tuple[str, Callable[[], None]]]:
        return [(s.title.capitalize(), partial(self.ask_where, key)) for key, s in STYLES.items()]

    def ask_where(self, style: str) -> None:
        """Let a person choose the file."""
        shown = self._shown()
        if shown is None:
            return
        mark = "-simulated" if simulated_mark(self._session.working_results()) else ""
        name = f"{shown.title.lower().replace(' ', '-')}{mark}.csv"
        chosen, _ = QFileDialog.getSaveFileName(self._parent, "Save this run as CSV", name, "CSV (*.csv)")
        if chosen:
            self.save_as(Path(chosen), style, shown)

    def save_as(self, path: Path, style: str, shown: PullResult) -> None:
        """Write a run. A ratio is counted for its fuel; where that is unknown, what it was counted for is said."""
        session = self._session
        known = shown.evidence.conditions.fuel if shown.evidence.conditions is not None else ""
        counted = fuel_by_key(known or USUAL_FUEL)

        def work(progress: Progress, cancelled: Asked) -> Path:
            text = write_log(shown.log, STYLES[style], stoichiometric_afr=counted.stoichiometric_afr)
            write_whole(path, text.encode("utf-8"))
            return path

        ratio = "" if known or "mixture" not in STYLES[style].units else f" Its ratio is counted for {counted.title}."
        request = session.request("saving the run", revision=shown.evidence.revision_id)
        session.start(request, f"Saving {path.name}", work, lambda p: session.say(f"{shown.title} is in {p}.{ratio}"))
