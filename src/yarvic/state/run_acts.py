"""What is said of runs that are in the job already: where they belong, what does not count; and the way back."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from psygnal import Signal

from yarvic.core.document import Document
from yarvic.core.errors import JobError

if TYPE_CHECKING:
    from yarvic.core.evidence.origin import Assigned, NoteKind, SetAside, Spanned
    from yarvic.core.job.model import Evidence
    from yarvic.core.job.store import Job
    from yarvic.state.session import Session

Said = tuple[str, "NoteKind", Document]


class RunActs:
    """The acts on runs of the job; each is one step back."""

    changed = Signal()

    def __init__(self, session: Session) -> None:
        self.session = session
        # How each act is taken back: what is said again of runs, and of which.
        self._done: list[tuple[list[Said], str]] = []

    def assign(self, run: Evidence, revision: int | None, build: int | None) -> None:
        """Say to which revision and build a run belongs. Raises JobError."""
        from yarvic.core.evidence.origin import Assigned

        self._say(
            run,
            "assigned",
            Assigned(revision_id=revision, build=build),
            Assigned(revision_id=run.revision_id, build=run.build),
        )

    def assign_pull(self, run: Evidence, pull: int, revision: int | None, build: int | None) -> None:
        """Say to which revision and build one pull of a run belongs; the others stay where they are. Raises JobError."""
        from yarvic.core.evidence.origin import PullAssigned

        if run.is_sheet:
            self.assign(run, revision, build)
            return
        before = run.pulls.get(pull, (run.revision_id, run.build))
        said = PullAssigned(pull=pull, revision_id=revision, build=build)
        back = PullAssigned(pull=pull, revision_id=before[0], build=before[1])
        self._say(run, "pull_assigned", said, back)

    def set_aside(self, run: Evidence, pull: int | None, reason: str) -> None:
        """Set a pull, or a whole run, aside. Raises JobError without a reason."""
        from yarvic.core.evidence.origin import SetAside

        if not reason.strip():
            raise JobError("nothing is left out without a reason", remedy="Say why it does not count.")
        pull = None if run.is_sheet else pull  # a curve is one pull
        said = SetAside(pull=pull, reason=reason.strip(), name=self.session.settings.author)
        self._say(run, "set_aside", said, SetAside(pull=pull, aside=False))

    def take_back(self, run: Evidence, pull: int | None) -> None:
        """Let a pull, or a run, count again."""
        from yarvic.core.evidence.origin import SetAside

        said = SetAside(pull=pull, aside=False)
        self._say(run, "set_aside", said, SetAside(pull=pull, reason=run.aside.get(pull, "")))

    def span(self, run: Evidence, pull: int, between: tuple[float, float] | None) -> None:
        """Judge a pull between two times of its log, or (None) as it was found. Raises JobError, EvidenceError."""
        from yarvic.core.evidence.origin import Spanned
        from yarvic.core.evidence.pulls import pull_between

        job = self.session.job
        if job is None:
            return
        if between is not None:
            made = pull_between(job.whole_log(run.id), *between)
            between = made.start_s, made.end_s
        name = self.session.settings.author
        before, now = run.spans.get(pull) or (None, None), between or (None, None)
        said = Spanned(pull=pull, start_s=now[0], end_s=now[1], name=name)
        self._say(run, "spanned", said, Spanned(pull=pull, start_s=before[0], end_s=before[1], name=name))

    def _say(
        self, run: Evidence, kind: NoteKind, said: Assigned | SetAside | Spanned, back: Assigned | SetAside | Spanned
    ) -> None:
        job = self.session.job
        if job is None:
            return
        job.say_of([(run.id, kind, said)], f"{run.title} {_in_words(kind, said)}.")
        self._done.append(([(run.id, kind, back)], run.title))
        self._after(
            {
                run.revision_id,
                *(getattr(each, "revision_id", None) for each in (said, back)),
                *(r for r, _ in run.places),
            }
        )

    def undo(self) -> bool:
        """Take back the last thing that was said of a run in the job; whether there was one. Raises JobError."""
        job = self.session.job
        if job is None or not self._done:
            return False
        back, title = self._done[-1]
        runs = {run for run, _, _ in back}
        before = _places(job, runs)
        job.say_of(back, f"{title}: the last change is undone.")
        self._done.pop()
        after = _places(job, runs)
        self.session.say(f"Undone: what was last said of {title}.")
        self._after(before | after)
        return True

    def _after(self, revisions: Iterable[int | None]) -> None:
        for revision in revisions:
            if revision is not None:
                self.session.judge(revision)
        self.session.job_changed.emit()
        self.changed.emit()


def _in_words(kind: NoteKind, said: Document) -> str:
    if kind in ("assigned", "pull_assigned"):
        return "is assigned otherwise"
    if kind == "set_aside":
        return "is left out" if getattr(said, "aside", True) else "counts"
    start, end = getattr(said, "start_s", None), getattr(said, "end_s", None)
    pull = f"pull {getattr(said, 'pull', 0) + 1}"
    return (
        f"{pull} is judged from {start:.2f} to {end:.2f} s"
        if start is not None
        else f"{pull} is judged as it was found"
    )


def _places(job: Job, runs: set[str]) -> set[int | None]:
    """The revisions to which runs, and single pulls of them, belong."""
    return {r for e in job.evidence() if e.id in runs for r, _ in e.places}
