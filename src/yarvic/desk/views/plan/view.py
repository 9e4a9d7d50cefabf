"""Plan: what is it to make, what gives way first, with which parts, in which stages, for how much."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QFrame, QPushButton, QVBoxLayout, QWidget

from yarvic.desk.overlays import Command
from yarvic.desk.views.plan.lanes import Lanes
from yarvic.desk.views.plan.ledger import LedgerPanel
from yarvic.desk.views.plan.ratings import RatingsPanel
from yarvic.desk.views.plan.stages import StagesPanel
from yarvic.desk.views.plan.target import TargetPanel
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.panels import Panels
from yarvic.desk.widgets.words import Empty, word
from yarvic.state.results import simulated_mark
from yarvic.state.session import Session

if TYPE_CHECKING:
    from yarvic.desk.views.plan.sizing import SizingPanel

PANELS = {"target": "Target", "limits": "Ledger", "stages": "Stages", "ratings": "Ratings", "sizing": "Sizing"}


class PlanView(View):
    """One panel at a time."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Plan")
        makers = {
            "target": TargetPanel,
            "limits": LedgerPanel,
            "stages": StagesPanel,
            "ratings": RatingsPanel,
            "sizing": _sizing,
        }
        self.panels = Panels({name: partial(make, session) for name, make in makers.items()}, "target")
        self.words: dict[str, QPushButton] = {}
        for name, text in PANELS.items():
            self.words[name] = word(text, partial(self.show_panel, name), checkable=True)
            self.head.addWidget(self.words[name])
        self.full = QFrame()
        self.full.setObjectName("sheet")
        column = QVBoxLayout(self.full)
        column.setContentsMargins(12, 10, 12, 10)
        column.addWidget(self.panels)
        self.empty = Empty("Open a job", window.ask_for_job)
        self.column.addWidget(self.empty, 1)
        self.column.addWidget(self.full, 1)
        self.refresh_on(
            session.job_changed,
            session.sheet_changed,
            session.results_changed,
            session.units_changed,
            session.selection_changed,
        )

    @property
    def target(self) -> TargetPanel:
        """Target, lanes and answer."""
        return self.panels.panel("target")

    @property
    def limits(self) -> LedgerPanel:
        """Limits and parts."""
        return self.panels.panel("limits")

    @property
    def stages(self) -> StagesPanel:
        """Stages and their bill."""
        return self.panels.panel("stages")

    @property
    def ratings(self) -> RatingsPanel:
        """A diesel's families."""
        return self.panels.panel("ratings")

    @property
    def sizing(self) -> SizingPanel:
        """The sizing sheets."""
        return self.panels.panel("sizing")

    @property
    def lanes(self) -> Lanes:
        """The figure of the target."""
        return self.target.lanes

    def show_panel(self, name: str) -> None:
        """Show one of the panels."""
        if name not in PANELS or self.session.job is None:
            return
        self.panels.show_panel(name)
        for key, button in self.words.items():
            button.setChecked(key == name)

    def refresh(self) -> None:
        """Show what the job says."""
        job = self.session.job
        self.full.setVisible(job is not None)
        self.empty.setVisible(job is None)
        for name, button in self.words.items():
            diesel = job is not None and (job.sheet.vehicle.ignition == "compression" or bool(job.sheet.families))
            button.setVisible(job is not None and (name != "ratings" or diesel))
        if job is None:
            self.empty.say("No job is open", "Limits, target and stages of a vehicle appear here once a job is open.")
            self.about.setText("")
            return
        mark = simulated_mark(self.session.working_results())
        self.about.setText(f"{mark}what it is to make, and what gives way first")
        hidden = self.panels.chosen == "ratings" and self.words["ratings"].isHidden()
        self.show_panel("target" if hidden else self.panels.chosen)

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        return [
            ("Left, Right", "the target by one unit, with Shift by ten (on the lanes)"),
            ("Tab", "from line to line"),
            ("Enter", "save what was written in a line"),
        ]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        if self.session.job is None:
            return []
        found = [Command(f"Plan: {text}", "", partial(self.show_panel, name)) for name, text in PANELS.items()]
        if self.session.job.sheet.plan.target is not None:
            found.append(Command("Find the cheapest parts for the target", "", self.target.solve))
        return found

    def main_widget(self) -> QWidget:
        """The lanes take the keys."""
        return self.lanes if self.panels.chosen == "target" else self.panels


def _sizing(session: Session) -> SizingPanel:
    from yarvic.desk.views.plan.sizing import SizingPanel  # its charts are not needed before it is asked for

    return SizingPanel(session)


def make(session: Session, window: Desk) -> PlanView:
    """The view of this step."""
    return PlanView(session, window)
