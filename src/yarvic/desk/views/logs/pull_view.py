"""Which pull is drawn, and where the cursors stand in it: what the parts of the Logs view ask it for."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PyQt6.QtWidgets import QPushButton

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.problems import Problem
from yarvic.desk.views.logs.finder import Finder
from yarvic.desk.views.logs.laying import Laying
from yarvic.desk.views.logs.traces import Traces
from yarvic.desk.views.logs.track import Track
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.words import Elided, label
from yarvic.state.results import PullResult, logged
from yarvic.state.session import Session


class PullView(View):
    """A pull of the working revision over time, engine speed or distance, and its cursors."""

    laying: Laying
    traces: Traces
    finder: Finder
    second: QPushButton

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Logs")
        self.maps = window.maps
        self.at = 0
        self.reading = label("", "quiet")
        self.cell = Elided("caption")
        self.cell.setAccessibleName("What the table gives at the cursor")

    def redraw(self) -> None:
        """Draw what is shown anew."""
        raise NotImplementedError

    @property
    def tracks(self) -> list[Track]:
        """The charts, from top to bottom."""
        return self.traces.tracks

    def shown(self) -> PullResult | None:
        """The pull that is drawn."""
        pulls = logged(self.session.working_results())
        return pulls[self.at] if self.at < len(pulls) else None

    def problems_of(self, shown: PullResult) -> Sequence[Problem]:
        """What is wrong with the run that a pull is of."""
        results = self.session.working_results()
        run = results.runs.get(shown.evidence.id) if results is not None else None
        return run.problems if run is not None else ()

    def pulls_of_run(self, shown: PullResult) -> list[PullResult]:
        """The pulls of the same run."""
        return [p for p in logged(self.session.working_results()) if p.evidence.id == shown.evidence.id]

    def unit_of(self, key: str) -> str:
        """The unit in which a channel is shown."""
        kind = CHANNELS[key]
        return self.session.settings.units.get(kind.unit_choice, kind.unit)

    def move_cursor(self, x: float) -> None:
        """Put the cursor at a place of the axis and read all traces there."""
        shown = self.shown()
        time = self.traces.move_to(x)
        if shown is None or time is None:
            return
        told = "engine_speed" in shown.log.channels
        rpm = float(shown.log.at("engine_speed", np.array([time]))[0]) if told else float("nan")
        self.reading.setText(self._place_words(shown, time, rpm))
        if not shown.evidence.is_sheet:
            self._show_cell(shown.evidence.id, time)

    def _place_words(self, shown: PullResult, time: float, rpm: float) -> str:
        """Where the cursor stands, and how far from the second one."""
        start, end = shown.log.span()
        if not np.isfinite(rpm):
            return f"{time - shown.pull.start_s:.2f} s" if start <= time <= end else "outside the log"
        if shown.evidence.is_sheet:
            return f"{rpm:,.0f} rpm"
        words = f"{time - shown.pull.start_s:.2f} s, {rpm:,.0f} rpm"
        laid, anchor = self.traces.shown, self.traces.anchor
        if laid is None or anchor is None:
            return words
        since = laid.laid.time(anchor)
        return f"{words}, {time - since:+.2f} s from the second"

    def span(self) -> tuple[float, float] | None:
        """The times between which the cursors stand; None without a second one."""
        laid, x, other = self.traces.shown, self.traces.place, self.traces.anchor
        if laid is None or x is None or other is None:
            return None
        first, last = sorted((laid.laid.time(x), laid.laid.time(other)))
        return (first, last) if last > first else None

    def time_at_cursor(self) -> float | None:
        """The time in the log at which the cursor stands."""
        laid, x = self.traces.shown, self.traces.place
        return laid.laid.time(x) if laid is not None and x is not None else None

    def move_to_time(self, time_s: float) -> None:
        """Put the cursor at a time of the log."""
        laid = self.traces.shown
        if laid is not None:
            place = float(laid.laid.at(np.array([time_s]))[0])
            if np.isfinite(place):
                self.move_cursor(place)

    def _show_cell(self, run: str, time: float) -> None:
        """What the table in hand under Maps gives here, with the weights of its cells."""
        cells, table = self.maps.cells, self.maps.table()
        cells.point_at(run, time)
        reading = cells.reading()
        if reading is None or table is None:
            self.cell.setText("")
            return
        unit = self.maps.display_unit(table.unit)
        value = float(self.maps.shown_value(reading.value, table.unit))
        of = "; ".join(f"{w:.2f} of {table.place(r, c)}" for r, c, w in reading.cells)
        self.cell.setText(f"{table.title} at the cursor: {value:.{self.maps.decimals(table)}f} {unit} ({of})")
