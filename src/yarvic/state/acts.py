"""Acts: one long work at a time, and requests that are bound to what they read."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

from yarvic.core.errors import Cancelled, JobError, YarvicError
from yarvic.core.job.model import Evidence
from yarvic.state.requests import Request, Requests
from yarvic.state.selection import Selection
from yarvic.state.settings import Settings
from yarvic.state.sheet import judged_by, of_the_plan
from yarvic.state.work import Asked, Handle, Progress, Runner, Work

T = TypeVar("T")
JUDGING, CHECKING, DRAWING, SOLVING = "judging", "checking the file", "drawing the sheet", "the way by parts"
OPENING, LIBRARY = "opening", "the shop's library"
READYING = "making the bench ready"
CELLS = "evidence in the cells"
HISTORY = "the history"
LOOKING, CHECKING_IMAGE, LISTING = "looking at the unit", "checking the image", "listing the vault"
# Requests whose outcome nobody waits for: when it is dropped there is nothing to say.
QUIET = (
    LOOKING,
    CHECKING_IMAGE,
    JUDGING,
    CHECKING,
    DRAWING,
    SOLVING,
    READYING,
    LIBRARY,
    CELLS,
    HISTORY,
    f"{HISTORY} of all",
)


class Acts(Selection):
    """Requests under way. `reads` are the things that one may be bound to: by name, how their present value is found."""

    def __init__(self, settings: Settings, runner: Runner) -> None:
        super().__init__()
        self.settings = settings
        self.busy: str | None = None  # the title of the long work under way
        self.requests = Requests(runner, self._still, self._was_dropped, self.failed.emit)
        self.reads: dict[str, Callable[[Request], Hashable]] = {
            "evidence": lambda r: tuple(
                (e.id, e.reading, e.build, tuple(e.aside.items()), tuple(e.spans.items()))
                for e in self._evidence_of(r.revision)
            ),
            "judged by": lambda r: judged_by(self.job.sheet) if self.job is not None else None,
            "the ledger": lambda r: of_the_plan(self.job.sheet) if self.job is not None else None,
            "the sheet": lambda r: self.job.sheet.model_dump_json() if self.job is not None else None,
            "the selected rung": lambda r: (self.working, self.draft),
            "builds": lambda r: len(self.job.builds()) if self.job is not None else 0,
        }

    def request(self, kind: str, *, revision: int | None = None, reads: Sequence[str] = ()) -> Request:
        """A request about the open job as it is now."""
        build = len(self.job.builds()) if self.job is not None else None
        bare = Request(self.requests.number(), kind, self.opening, revision, build)
        return replace(bare, reads={name: self.reads[name](bare) for name in reads})

    def _still(self, request: Request) -> str:
        """Why the outcome of a request may not be applied any more; empty where it may."""
        if request.job != self.opening:
            return "the job it belongs to was closed meanwhile"
        stale = [name for name, value in request.reads.items() if self.reads[name](request) != value]
        return f"{' and '.join(stale)} changed meanwhile" if stale else ""

    def holds(self, request: Request) -> bool:
        """Whether everything is as it was when the request was made."""
        return not self._still(request)

    def still(self, request: Request) -> None:
        """Raise JobError where what a request was made for is not so any more."""
        why = self._still(request)
        if why:
            raise JobError(f"{request.kind} was not done: {why}", remedy="Look at it as it is now, and do it again.")

    def _was_dropped(self, request: Request, why: str) -> None:
        if request.kind not in QUIET:
            self.say(f"{request.kind[:1].upper()}{request.kind[1:]}: {why[:1].lower()}{why[1:]}", trouble=True)

    def start(
        self,
        request: Request,
        title: str,
        work: Work[T],
        apply: Callable[[T], None],
        *,
        failed: Callable[[YarvicError], None] | None = None,
        ended: Callable[[], None] = lambda: None,
        heard: Callable[[object], None] | None = None,
    ) -> Handle | None:
        """Run visible work; one at a time. A failure is shown, in full or by `failed`; a cancel is said."""
        if self.busy is not None:
            self.say(f"{self.busy} is under way: wait or cancel it.", trouble=True)
            ended()
            return None

        def over() -> None:
            self.busy = None
            ended()
            self.bench_changed.emit()

        def done(outcome: T) -> None:
            try:
                apply(outcome)
            finally:
                self.bench_changed.emit()

        self.busy = title
        handle = self.requests.submit(request, title, work, done, failed=failed, ended=over, heard=heard)
        self.bench_changed.emit()
        return handle

    def read_file(
        self,
        request: Request,
        path: Path,
        read: Callable[[], T],
        apply: Callable[[T], None],
        *,
        failed: Callable[[YarvicError], None] | None = None,
    ) -> None:
        """Read a file beside the window, and apply what it holds where everything is as it was when it was asked for."""

        def work(progress: Progress, cancelled: Asked) -> T:
            progress(0.1, path.name)
            found = read()
            if cancelled():
                raise Cancelled(f"reading {path.name} was cancelled")
            return found

        self.start(request, f"Reading {path.name}", work, apply, failed=failed)

    def _evidence_of(self, revision_id: int | None) -> list[Evidence]:
        return self.job.runs_of(revision_id) if self.job is not None and revision_id is not None else []
