"""What stands in the middle of the view: the traces, one channel over another, cylinders side by side, the knock signal."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from yarvic.desk.views.logs.cylinders import Cylinders
from yarvic.desk.views.logs.knock_picture import KnockPicture
from yarvic.desk.views.logs.over import OverPicture
from yarvic.desk.views.logs.pull_view import PullView
from yarvic.desk.views.logs.traces import Traces
from yarvic.desk.widgets.words import chooser, show_choice
from yarvic.state.results import PullResult, logged

TRACES, OVER, CYLINDERS, KNOCK = "traces", "over", "cylinders", "knock"
TITLES = {
    TRACES: "Traces",
    OVER: "One over another",
    CYLINDERS: "Cylinders side by side",
    KNOCK: "Knock signal",
}
# The same, short, as it stands in the head.
SHORT = {TRACES: "Traces", OVER: "One over another", CYLINDERS: "Cylinders", KNOCK: "Knock signal"}


class Figures:
    """The figure that was chosen stays chosen while the pull has it; else the traces stand."""

    def __init__(self, view: PullView, column: QVBoxLayout) -> None:
        self._view = view
        self.chosen = TRACES
        self.pick = chooser("What is drawn of the pull", self._choices)
        self.traces = Traces(view.unit_of)
        self.over = OverPicture(view)
        self.cylinders = Cylinders(self._pulls, view.unit_of)
        self.knock = KnockPicture(view.session, view.shown, view.maps.table)
        self._each = {TRACES: self.traces, OVER: self.over, CYLINDERS: self.cylinders, KNOCK: self.knock}
        for figure in self._each.values():
            column.addWidget(figure, 1)

    def can(self, shown: PullResult | None) -> list[str]:
        """The figures that a pull has."""
        if shown is None or shown.evidence.is_sheet:
            return [TRACES]
        found = [TRACES, OVER]
        found += [CYLINDERS] if self.cylinders.there(shown) else []
        return found + ([KNOCK] if self.knock.cylinders_of(shown) else [])

    def _choices(self) -> list[tuple[str, Callable[[], None]]]:
        return [(TITLES[f], partial(self.choose, f)) for f in self.can(self._view.shown())]

    def _pulls(self) -> list[PullResult]:
        view = self._view
        shown = view.shown()
        if shown is None:
            return []
        if not view.laying.all_pulls.isChecked():
            return [shown]
        others = [p for p in logged(view.session.working_results()) if p is not shown and not p.evidence.is_sheet]
        return [shown, *others]

    def choose(self, figure: str) -> None:
        """Show another figure."""
        self.chosen = figure
        self._view.redraw()

    def toggle(self, figure: str) -> None:
        """Show a figure, or the traces again; one that the pull does not have is said."""
        view = self._view
        if figure not in self.can(view.shown()):
            view.session.say(f"{TITLES[figure]}: nothing of it was logged with this pull.")
            return
        self.choose(TRACES if self.chosen == figure else figure)

    def standing(self) -> QWidget:
        """The figure that stands."""
        return next((f for f in self._each.values() if f.isVisibleTo(self._view)), self.traces)

    def stand(self, shown: PullResult | None) -> str:
        """Put up the figure that is chosen, or the traces where the pull has no such; gives which stands."""
        now = self.chosen if self.chosen in self.can(shown) else TRACES
        for name, figure in self._each.items():
            figure.setVisible(shown is not None and name == now)
        show_choice(self.pick, SHORT[now] if shown is not None else "")
        return now

    def fill(self, now: str) -> None:
        """Draw the figure that stands; the traces are drawn already."""
        figure = self._each[now]
        if isinstance(figure, OverPicture | Cylinders | KnockPicture):
            figure.refresh()
