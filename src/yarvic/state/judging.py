"""The results of each revision, judged beside the interface: those in sight first, then one behind the other."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from functools import partial

from psygnal import Signal

from yarvic.state.acts import JUDGING, Acts
from yarvic.state.evaluating import evaluate
from yarvic.state.results import RevisionResults
from yarvic.state.settings import Settings
from yarvic.state.work import Asked, Progress, Runner


class Judging(Acts):
    """What the evidence of the open job says, by revision; absent until it was judged."""

    results_changed = Signal()

    def __init__(self, settings: Settings, runner: Runner) -> None:
        super().__init__(settings, runner)
        self.results: dict[int, RevisionResults] = {}
        self._unjudged: deque[int] = deque()
        self._judging_on = 0  # the opening in which one of them is being judged
        self._judge_starts = False

    def working_results(self) -> RevisionResults | None:
        """Results of the revision whose evidence is read."""
        revision = self.evidence_revision()
        return self.results.get(revision.id) if revision else None

    def reference_results(self) -> RevisionResults | None:
        """Results of the reference."""
        return self.results.get(self.reference) if self.reference is not None else None

    def _judge_all(self) -> None:
        """Judge every revision, those in hand first."""
        first = [r.id for r in (self.evidence_revision(), self.revision(self.reference)) if r is not None]
        having = self.job.revisions_with_runs() if self.job is not None else set()
        self.results |= {r.id: RevisionResults(r.id, (), (), ()) for r in self.revisions() if r.id not in having}
        self._unjudged = deque(r.id for r in reversed(self.revisions()) if r.id in having and r.id not in first)
        for revision_id in first:
            self._judge(revision_id)
        self._judge_on()

    def _judge_on(self) -> None:
        """Judge what nobody looks at now, one revision behind the other."""
        while self._unjudged and self._judging_on != self.opening:
            self._judging_on, self._judge_starts = self.opening, True
            if not self._judge(self._unjudged.popleft(), partial(self._judge_ended, self.opening)):
                self._judging_on = 0
            self._judge_starts = False

    def _judge_ended(self, opening: int) -> None:
        if self._judging_on == opening:
            self._judging_on = 0
            if not self._judge_starts:  # else it ran in place, and the loop that started it goes on
                self._judge_on()

    def judge(self, revision_id: int) -> None:
        """Judge a revision anew: something of its evidence is otherwise."""
        self._judge(revision_id)
        self.results_changed.emit()

    def _judge(self, revision_id: int, ended: Callable[[], None] = lambda: None) -> bool:
        """Judge a revision; gives whether there is anything to be judged. `ended` is called when that is over."""
        job = self.job
        if job is None:
            return False
        if not self._evidence_of(revision_id):
            self.results[revision_id] = RevisionResults(revision_id, (), (), ())
            return False
        request = self.request(JUDGING, revision=revision_id, reads=("evidence", "judged by"))
        before = {revision_id: self.results[revision_id]} if revision_id in self.results else {}

        def work(progress: Progress, cancelled: Asked) -> RevisionResults:
            return evaluate(job, [revision_id], progress, cancelled, before)[revision_id]

        def apply(results: RevisionResults) -> None:
            self.results[revision_id] = results
            self.results_changed.emit()

        self.requests.submit(request, "Judging", work, apply, ended=ended, visible=False)
        return True
