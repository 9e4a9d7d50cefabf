"""The strip under the cells: which runs are laid over them, what the cells show of them, and the way to the logs."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFrame, QVBoxLayout, QWidget

from yarvic.core.checks.finding import Where
from yarvic.core.errors import YarvicError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.coverage import Suggested
from yarvic.desk.widgets.words import Elided, chooser, label, row, show_choice, word
from yarvic.state.cell_evidence import SHOWS
from yarvic.state.maps import MapsState

MOST_MOMENTS = 40


class EvidenceBar(QWidget):
    """`marked` brings cells that are to be selected."""

    marked = pyqtSignal(object)

    def __init__(self, maps: MapsState) -> None:
        super().__init__()
        self.maps = maps
        self.said = Elided("caption")
        self.runs = chooser("Runs laid over the cells", self._runs)
        self.shows = chooser("What the cells show", self._shows)
        self.trace = word("Trace", self._trace, "Ctrl+T", checkable=True)
        self.moments = chooser("Moments in the logs that touched the cell", self._moments)
        show_choice(self.moments, "Moments")
        self.cover = word("What would cover it", self.show_cover)
        self.covering = Covering()
        self.covering.marked.connect(self.marked.emit)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        words = row(self.runs, self.shows, self.trace, self.moments, self.cover, None, spacing=2)
        column.addLayout(words)
        column.addWidget(self.covering)
        column.addWidget(self.said)

    def refresh(self) -> None:
        """What is chosen, and what came of it."""
        cells = self.maps.cells
        facts = cells.facts()
        there = facts is not None and facts.evidence is not None
        for widget in (self.runs, self.shows, self.trace, self.moments):
            widget.setVisible(there)
        self.cover.setVisible(self.maps.table() is not None)
        session = self.maps.session
        revision = session.evidence_revision()
        more = len(cells.revisions - ({revision.id} if revision is not None else set()))
        name = revision.name if revision is not None else ""
        show_choice(self.runs, f"{name}{f' and {more} more' if more else ''}{', whole runs' if cells.whole else ''}")
        shown = SHOWS[cells.shows]
        if cells.shows in ("mean", "spread", "error"):
            title = CHANNELS[cells.channel].title.lower()
            shown = {"mean": f"Mean of {title}", "spread": f"Spread of {title}", "error": f"Error of {title}"}[
                cells.shows
            ]
        show_choice(self.shows, f"Cells: {shown[0].lower()}{shown[1:]}")
        self.trace.setChecked(cells.trace_shown)
        self.said.setText(self._words())

    def _words(self) -> str:
        session, facts = self.maps.session, self.maps.cells.facts()
        bold = "Bold: differs from the reference."
        if facts is None or facts.evidence is None:
            return bold
        results = session.working_results()
        simulated = " simulated" if results is not None and results.simulated else ""
        unknown = int((~facts.evidence.visited).sum())
        watch, stop = self.maps.retard_limits_deg()
        bar = f"Bar at a cell's foot: time there; thick: retarded past {watch:g} deg; red: past {stop:g} deg."
        text = f"{facts.pulls}{simulated} pulls. {bar} {unknown} cells never visited. {bold}"
        if facts.left_out:
            text = f"Left aside, for other axes: {', '.join(facts.left_out)}. {text}"
        if self.maps.cells.shows != "value" and self.maps.cells.shown() is None:
            text = f"No run here says it: {SHOWS[self.maps.cells.shows].lower()}. {text}"
        return text

    # -- choosing

    def _runs(self) -> list[tuple[str, Callable[[], None]]]:
        session, cells = self.maps.session, self.maps.cells
        own = session.evidence_revision()
        whole = "Pulls alone" if cells.whole else "Whole runs, not their pulls alone"
        found: list[tuple[str, Callable[[], None]]] = [(whole, cells.toggle_whole)]
        for revision in reversed(session.revisions()):
            if own is not None and revision.id == own.id:
                continue
            results = session.results.get(revision.id)
            if results is not None and results.pulls:
                verb = "Without" if revision.id in cells.revisions else "With"
                words = f"{verb} the runs of {revision.name}, where its map was the same"
                found.append((words, partial(cells.toggle_revision, revision.id)))
        return found

    def _shows(self) -> list[tuple[str, Callable[[], None]]]:
        cells = self.maps.cells
        plain = [
            (title, partial(cells.choose, key))
            for key, title in SHOWS.items()
            if key not in ("mean", "spread", "error")
        ]
        means = [(f"Mean of {CHANNELS[key].title.lower()}", partial(self._mean, key)) for key in cells.channels()]
        name = CHANNELS[cells.channel].title.lower()
        of_it = [
            (f"Spread of {name}", partial(cells.choose, "spread")),
            (f"Error of {name} to its target", partial(cells.choose, "error")),
        ]
        return [*plain, *of_it, *means]

    def _mean(self, key: str) -> None:
        self.maps.cells.choose("mean")
        self.maps.cells.choose_channel(key)

    def _trace(self) -> None:
        self.maps.cells.trace_shown = self.trace.isChecked()
        self.maps.cells.changed.emit()

    # -- to the logs

    def _moments(self) -> list[tuple[str, Callable[[], None]]]:
        found = self.maps.cells.moments(self.maps.row, self.maps.column)
        if not found:
            return [("No run here touched this cell", lambda: None)]
        return [(title, partial(self._go, revision, where)) for title, revision, where in found[:MOST_MOMENTS]]

    def _go(self, revision_id: int, where: Where) -> None:
        session = self.maps.session
        own = session.evidence_revision()
        if own is None or own.id != revision_id:
            session.choose_working(revision_id)
        session.go("logs")
        session.place_changed.emit(where)

    # -- what would cover it

    def show_cover(self) -> None:
        """Say which runs would visit the most unknown cells."""
        try:
            found = self.maps.cells.cover()
        except YarvicError as error:
            self.maps.session.say(str(error), trouble=True)
            return
        results = self.maps.session.working_results()
        gear = ""
        if results is not None and results.pulls:
            conditions = results.pulls[-1].evidence.conditions
            gear = f"gear {conditions.gear}" if conditions is not None and conditions.gear else ""
        self.covering.say(found, gear)


class Covering(QFrame):
    """The runs that are suggested, one a line; hidden until asked for."""

    marked = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("card")
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(10, 4, 6, 4)
        self.column.setSpacing(2)
        self._lines: list[QWidget] = []
        self.hide()

    def say(self, found: list[Suggested], gear: str) -> None:
        """Say these."""
        for line in self._lines:
            self.column.removeWidget(line)
            line.deleteLater()
        self._lines = []
        for each in found:
            self._add(each.sentence(gear), partial(self.marked.emit, each.cells))
        if not found:
            self._add(
                "No run would: nothing here is unknown, or no log shows how its axes follow throttle and speed."
            )
        self._lines[0].layout().addWidget(word("Close", self.hide, "Esc"))  # type: ignore[union-attr]
        self.show()

    def _add(self, text: str, show: Callable[[], None] | None = None) -> None:
        line = QWidget()
        shown = label(text)
        layout = row(shown, spacing=8)
        layout.setStretch(0, 1)
        if show is not None:
            layout.addWidget(word("Show", show))
        line.setLayout(layout)
        self._lines.append(line)
        self.column.addWidget(line)
