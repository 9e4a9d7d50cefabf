"""Saving what is shown: the run, or the span between the cursors, as CSV in a logger's style; the traces as a picture."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtGui import QPixmap
from PyQt6.QtWidgets import QFileDialog, QPushButton, QWidget

from yarvic.bench.loggers import STYLES, write_log
from yarvic.core.errors import YarvicError
from yarvic.core.formats.files import write_whole
from yarvic.core.physics.fuel import fuel as fuel_by_key
from yarvic.desk.widgets.words import chooser
from yarvic.state.results import PullResult, simulated_mark
from yarvic.state.session import Session
from yarvic.state.work import Asked, Progress

USUAL_FUEL = "petrol-95"


class Saving:
    """The chooser of styles, and what it does."""

    def __init__(
        self,
        parent: QWidget,
        session: Session,
        shown: Callable[[], PullResult | None],
        span: Callable[[], tuple[float, float] | None],
        picture: Callable[[], QPixmap],
    ) -> None:
        self._parent, self._session, self._shown = parent, session, shown
        self._span, self._picture = span, picture
        self.button: QPushButton = chooser("Save this run as CSV", self._styles)

    def _styles(self) -> list[tuple[str, Callable[[], None]]]:
        found = [(s.title.capitalize(), partial(self.ask_where, key)) for key, s in STYLES.items()]
        if self._span() is not None:
            found = [(f"Between the cursors: {title.lower()}", act) for title, act in found]
        return [*found, ("Picture as it stands (PNG)", self.ask_for_picture)]

    def ask_for_picture(self) -> None:
        """Let a person choose where the picture goes: it is that of the moment at which it was asked for."""
        shown, picture = self._shown(), self._picture()
        if shown is None:
            return
        name = f"{shown.title.lower().replace(' ', '-')}.png"
        chosen, _ = QFileDialog.getSaveFileName(self._parent, "Save the picture", name, "PNG (*.png)")
        if chosen:
            self.save_picture(Path(chosen), picture)

    def save_picture(self, path: Path, picture: QPixmap) -> None:
        """Write a picture, whole or not at all."""
        from PyQt6.QtCore import QBuffer

        buffer = QBuffer()
        buffer.open(QBuffer.OpenModeFlag.WriteOnly)
        picture.save(buffer, "PNG")
        try:
            write_whole(path, buffer.data().data())
        except YarvicError as error:
            self._session.failed.emit(error)
            return
        self._session.say(f"The picture is in {path}.")

    def ask_where(self, style: str) -> None:
        """Let a person choose the file."""
        shown = self._shown()
        if shown is None:
            return
        part = "-part" if self._span() is not None else ""
        mark = "-simulated" if simulated_mark(self._session.working_results()) else ""
        name = f"{shown.title.lower().replace(' ', '-')}{part}{mark}.csv"
        chosen, _ = QFileDialog.getSaveFileName(self._parent, "Save this run as CSV", name, "CSV (*.csv)")
        if chosen:
            self.save_as(Path(chosen), style, shown)

    def save_as(self, path: Path, style: str, shown: PullResult) -> None:
        """Write a run, or the span between the cursors. A ratio is counted for its fuel, which is said if unknown."""
        session = self._session
        span = self._span()
        known = shown.evidence.conditions.fuel if shown.evidence.conditions is not None else ""
        counted = fuel_by_key(known or USUAL_FUEL)

        def work(progress: Progress, cancelled: Asked) -> Path:
            log = shown.log.cut(*span) if span is not None else shown.log
            text = write_log(log, STYLES[style], stoichiometric_afr=counted.stoichiometric_afr)
            write_whole(path, text.encode("utf-8"))
            return path

        ratio = "" if known or "mixture" not in STYLES[style].units else f" Its ratio is counted for {counted.title}."
        request = session.request("saving the run", revision=shown.evidence.revision_id)
        session.start(request, f"Saving {path.name}", work, lambda p: session.say(f"{shown.title} is in {p}.{ratio}"))
