"""Runs that wait to be assigned, and pulls that are left out, with the way back of each."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from yarvic.core.job.model import Evidence
from yarvic.desk.views.aside import left_out, title_of
from yarvic.desk.views.view import Desk
from yarvic.desk.widgets.words import chooser, show_choice
from yarvic.state.session import Session


class Waiting:
    """Two choosers, in sight while there is something in them."""

    def __init__(self, session: Session, window: Desk) -> None:
        self._session, self._window = session, window
        self.arrived = chooser("Runs that belong to no revision yet", self._arrived)
        self.left_out = chooser("Pulls that are left out: choose one to count it again", self._left_out)

    def refresh(self) -> None:
        """Show how many there are."""
        job = self._session.job
        waiting = len(job.runs_of(None)) if job is not None else 0
        show_choice(self.arrived, f"Arrived, not assigned: {waiting}" if waiting else "")
        self.arrived.setVisible(waiting > 0)
        out = len(self._left_out())
        show_choice(self.left_out, f"Left out: {out}" if out else "")
        self.left_out.setVisible(out > 0)

    def _arrived(self) -> list[tuple[str, Callable[[], None]]]:
        job = self._session.job
        runs = job.runs_of(None) if job is not None else []
        return [(r.title, partial(self._read_anew, r)) for r in runs]

    def _left_out(self) -> list[tuple[str, Callable[[], None]]]:
        """What of the evidence of the working revision is left out, why, and the way back."""
        job, revision = self._session.job, self._session.evidence_revision()
        if job is None or revision is None:
            return []
        return left_out(job.runs_of(revision.id), self._count_again)

    def _count_again(self, run: Evidence, pull: int | None) -> None:
        self._window.arrivals.take_back(run, pull)
        self._session.say(f"{title_of(run, pull)} counts again. Ctrl+Z undoes it.")

    def _read_anew(self, run: Evidence) -> None:
        self._window.arrivals.read_anew(run, opened=self._window.open_import)
