"""To which revision and build the pull that is shown belongs, where it came from a file."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QPushButton

from yarvic.core.job.model import Evidence
from yarvic.desk.views.view import Desk
from yarvic.desk.widgets.entry import choice
from yarvic.desk.widgets.words import show_choice
from yarvic.state.results import PullResult


class Belongs:
    """A chooser of places; one pull of an hour's drive goes where it belongs, the others stay."""

    def __init__(self, window: Desk, shown: Callable[[], PullResult | None]) -> None:
        self._window, self._shown = window, shown
        self.button: QPushButton = choice("Where this pull belongs", self._places, self._choose)

    def refresh(self) -> None:
        """Show where the pull in sight belongs."""
        shown, session = self._shown(), self._window.session
        outside = shown is not None and shown.evidence.origin is not None
        self.button.setVisible(outside)
        if shown is not None and outside:
            revision = shown.evidence.revision_id
            name = session.name_of(revision) if revision is not None else "no revision"
            show_choice(self.button, f"of {name}")
            self.button.setToolTip(f"This pull belongs to {name}, build {shown.evidence.build}: choose another place")

    def _places(self) -> list[tuple[str, str]]:
        session, job = self._window.session, self._window.session.job
        if job is None:
            return []
        builds = job.builds()
        found = [
            (f"{r.id} {b.number}", f"{r.name}, build {b.number}: {b.title}")
            for r in session.revisions()
            for b in builds
        ]
        return [("", "no revision yet"), *found]

    def _choose(self, key: str) -> None:
        shown, job = self._shown(), self._window.session.job
        if shown is None or job is None:
            return
        own: Evidence = next(e for e in job.evidence() if e.id == shown.evidence.id)
        revision, _, build = key.partition(" ")
        place = (int(revision), int(build)) if revision else (None, None)
        self._window.arrivals.assign_pull(own, shown.number, *place)
        where = self._window.session.name_of(place[0]) if place[0] is not None else "no revision yet"
        self._window.session.say(f"{shown.title} belongs to {where}. Ctrl+Z undoes it.")
