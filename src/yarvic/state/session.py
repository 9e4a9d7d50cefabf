"""The session: acts on the open job. Each is a request that knows what it is about; its outcome is applied there."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from psygnal import Signal

from yarvic.core.calibration.image import Image, open_image
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import JobError, LinkError, YarvicError, name_of
from yarvic.core.evidence.expected import Expected
from yarvic.core.formats.images import in_memory, read_image
from yarvic.core.job.file import verify
from yarvic.core.job.history import History
from yarvic.core.job.model import Revision
from yarvic.core.job.records import Clock, now
from yarvic.core.job.runs import NewRun
from yarvic.state.acts import CHECKING, OPENING, READYING
from yarvic.state.draft import DraftState, edits_towards
from yarvic.state.judging import Judging
from yarvic.state.link import Link
from yarvic.state.opened import Loaded, bench_of, load
from yarvic.state.requests import Request
from yarvic.state.results import RevisionResults
from yarvic.state.selection import DRAFT
from yarvic.state.settings import Settings
from yarvic.state.work import Asked, Progress, Runner

if TYPE_CHECKING:
    from yarvic.bench.settings import PullSettings
    from yarvic.state.bench import BenchState, Measured

# What a run is called in lists.
RUN_NAMES = {
    "inertia": "pull",
    "ramp": "pull",
    "hold": "hold",
    "road": "road run",
    "climb": "climb",
    "coast": "coast-down",
}
STEPS = ("job", "plan", "maps", "flash", "dyno", "logs", "checks", "release")
STEP_TITLES = dict(zip(STEPS, ("Job", "Plan", "Maps", "Flash", "Dyno", "Logs", "Checks", "Release"), strict=True))
SOURCE = "simulated bench"


class Session(Judging):
    """State behind the window. Signals carry no data but what is named; listeners read the session."""

    panel_asked = Signal(str)  # a part of the step in sight is to be shown
    units_changed = Signal()
    theme_changed = Signal()
    step_changed = Signal(str)
    place_changed = Signal(object)  # a finding's Where: the figure jumps there

    def __init__(self, settings: Settings, runner: Runner) -> None:
        super().__init__(settings, runner)
        self.link = Link(self)

    # -- opening

    def open_job(self, path: Path, *, read_only: bool = False, clock: Clock = now) -> None:
        """Open a job in place of the present one, at once. Raises JobError; then the present one stays."""
        self._show(load(path, read_only=read_only, clock=clock))

    def open_beside(
        self,
        path: Path,
        *,
        read_only: bool = False,
        opened: Callable[[], None] = lambda: None,
        failed: Callable[[YarvicError], None],
    ) -> None:
        """Open a job beside the window and then show it; until then, and where it cannot be, the present one stays."""

        def work(progress: Progress, cancelled: Asked) -> Loaded:
            progress(0.1, path.name)
            return load(path, read_only=read_only)

        def show(loaded: Loaded) -> None:
            self._show(loaded)
            opened()

        self.requests.submit(
            self.request(OPENING),
            f"Opening {path.name}",
            work,
            show,
            failed=failed,
            lost=lambda loaded: loaded.job.close(),
        )

    def _show(self, loaded: Loaded) -> None:
        job = loaded.job
        self._take(loaded)
        self.results = {}
        self._select_afresh()
        self.settings.remember_job(job.path.absolute())
        self.job_changed.emit()
        self.selection_changed.emit()
        for each in loaded.notices:
            if isinstance(each, str):
                self.say(each)
            else:
                self.failed.emit(each)

        def set_bench(made: tuple[BenchState | None, YarvicError | None]) -> None:
            if not self.bench_ready:
                self._set_bench(*made)
                self.bench_changed.emit()
            self.link.say_broken()

        self.requests.submit(self.request(READYING), "Bench", lambda p, c: bench_of(job), set_bench, visible=False)
        self._judge_all()
        self.requests.submit(
            self.request(CHECKING),
            "Checking the file",
            lambda progress, cancelled: verify(job.path, lambda: job.writing, cancelled),
            self._say_history,
            visible=False,
        )

    def _say_history(self, history: History) -> None:
        """Say where the journal and what it records do not fit."""
        if history.faults:
            more = f" and {len(history.faults) - 1} more" if len(history.faults) > 1 else ""
            self.failed.emit(
                JobError(
                    f"the job was changed by other means than Yarvic: {history.faults[0]}{more}",
                    concerns=str(self.job.path) if self.job is not None else "",
                    remedy="Do not release from it. Compare it with a copy, and ask who had the file.",
                    details="\n".join(history.faults),
                )
            )

    def _close(self) -> None:
        self.requests.cancel_all()
        super()._close()

    def look_again(self) -> None:
        """Show what another process has written into a job that is open read only here."""
        if self.job is not None and self.job.look_again():
            self.job_changed.emit()
            self._judge_all()

    def close_job(self) -> None:
        """Close the job; a draft stays in its file."""
        self._close()
        self.results = {}

    def leave_job(self) -> None:
        """Close the job, and show that none is open."""
        self.close_job()
        self.settings.last_job = ""
        self.say("The job is closed.")
        self.job_changed.emit()
        self.selection_changed.emit()

    def _sheet_was_changed(self, judged: bool) -> None:
        super()._sheet_was_changed(judged)
        if judged:
            self._judge_all()

    def import_stock(self, layout: Layout, image: bytes, author: str, *, source: str = "stock image") -> None:
        """Give a job without maps its layout and stock image. Raises CalibrationError, JobError; then it has none yet."""
        if self.job is None:
            raise JobError("no job is open", remedy="Open a job first.")
        made = self.job.import_stock(layout, image, author or "not named", source=source)
        bench, no_bench = bench_of(self.job)
        self._set_bench(bench, None)
        self._set_draft(None)
        self._select_afresh()
        self.reference = None
        self.results[made.id] = RevisionResults(made.id, (), (), ())
        self.job_changed.emit()
        self.selection_changed.emit()
        way = "Import logs or a dyno sheet of it" if no_bench is not None else "Flash it, then pull it three times"
        self.say(f"{made.name} is saved. {way}: that is the baseline.")

    # -- drafting

    def _may_draft(self) -> Revision:
        """The revision that a new draft would stand on. Raises JobError when none may be begun."""
        if self.job is None:
            raise JobError("no job is open", remedy="Open a job first.")
        if self.job.read_only:
            raise JobError("the job is open read only", remedy="Close it elsewhere and open it again.")
        parent = self.working_revision()
        if parent is None:
            raise JobError("the job has no maps yet", remedy="Import its stock image under Maps.")
        return parent

    def editable_draft(self) -> DraftState:
        """The draft that an edit goes into: the one in hand, or one on the working revision that is not begun yet.

        A new one is taken in hand with its first edit, by `edited`; one that was in hand stays on the ladder.
        Raises JobError when the job may not be written.
        """
        if self.draft is not None and self.working == DRAFT and self.job is not None and not self.job.read_only:
            return self.draft
        parent = self._may_draft()
        assert self.job is not None
        return DraftState(self.job, parent)

    def edited(self, draft: DraftState) -> None:
        """A draft got an edit: it is the one in hand."""
        if draft is not self.draft:
            self._set_draft(draft)
            self.select(DRAFT, draft.parent.id)

    def image_request(self) -> Request:
        """What an image that is about to be chosen is for: the selected rung as it is now."""
        return self.request("importing the image", revision=self.working, reads=("the selected rung",))

    def import_image(self, path: Path, request: Request | None = None) -> None:
        """Take the maps of an image file (Intel HEX, S-record or raw) into the draft, as one step, once it is read.

        `request` is what the file was asked for. Raises JobError where that is not so any more. What is wrong with the
        file is shown: another format, another family, a damaged one; then nothing has changed.
        """
        if request is not None:
            self.still(request)
        if self.job is None:
            raise JobError("no job is open", remedy="Open a job first.")
        layout = self.job.layout

        def read() -> Image:
            return open_image(in_memory(read_image(path), layout), layout, source=path.name)

        self.read_file(
            request or self.image_request(), path, read, lambda others: self.enter_image(others, name_of(path))
        )

    def enter_image(self, others: Image, name: str) -> None:
        """Take the maps of an image into the draft, as one step. Raises JobError."""
        draft = self.editable_draft()
        edits = edits_towards(draft.image, others, f"imported from {name}")
        if edits:
            draft.add(edits)
            self.edited(draft)
        count = len(edits)
        self.say(f"{count} tables and values imported from {name}." if count else "The image holds the same maps.")

    def discard_draft(self) -> None:
        """Drop the draft and go back to its parent."""
        if self.draft is None or self.job is None:
            return
        parent = self.draft.parent
        if self.draft.id is not None:
            self.job.drop_draft(self.draft.id)
        self.discarded = self.draft.id
        self._set_draft(None)
        self.working = parent.id
        self.select(parent.id, self.default_reference())
        back = " Ctrl+Z brings it back." if self.discarded is not None else ""
        self.say(f"The draft was discarded; {parent.name} is selected.{back}")

    def can_bring_back(self) -> bool:
        """Whether the last draft of this sitting was discarded, and none was begun since."""
        return self.discarded is not None and self.draft is None and self.job is not None

    def bring_back(self) -> None:
        """Take the draft up again that was discarded last, in this sitting or before. Raises JobError."""
        kept = self.job.discarded() if self.job is not None else []
        if self.job is None or not kept:
            raise JobError("no draft was discarded", remedy="Change a cell to begin one.")
        self.job.bring_back_draft(kept[0].id)
        self.discarded = None
        self.take_draft(kept[0].id)
        self.say("The draft is back.")

    def commit_draft(
        self, reason: str, author: str, draft: DraftState | None = None, expected: Sequence[Expected] = ()
    ) -> Revision:
        """Make a revision of the draft; `draft` is the one that the reason was written for, `expected` what it is to do.

        Raises JobError; then the draft stays.
        """
        if self.draft is None:
            raise JobError("there is no draft", remedy="Change a cell first.")
        if draft is not None and draft is not self.draft:
            raise JobError("the reason was written for another draft", remedy="Read it again, and commit it.")
        revision = self.draft.commit(reason, author, expected)
        self.settings.author = author.strip()
        self._set_draft(None)
        self.working = revision.id
        self.results[revision.id] = RevisionResults(revision.id, (), (), ())
        self.select(revision.id, self.default_reference())
        self.say(f"{revision.name} is committed and on disk.")
        return revision

    # -- the unit and the bench

    def unit_holds(self) -> Revision | None:
        """The revision that lies in the unit, as far as that is known."""
        if self.bench_ready and self.link.elsewhere:
            return self.link.holds()
        if self.bench_ready and self.link.way.make is None:
            return self.read_back()
        return super().unit_holds()

    def pull(self, count: int) -> None:
        """Run pulls of the working revision in a row, as the bench is set, and record them."""
        if self.bench is not None:
            self._run([self.bench.settings] * count)

    def sweep_throttles(self, throttles: Sequence[float]) -> None:
        """Pull once at each throttle, and record."""
        if self.bench is not None:
            usual = self.bench.settings
            kind = usual.kind if usual.kind in ("inertia", "ramp") else "inertia"
            self._run([replace(usual, kind=kind, throttle=share) for share in throttles])

    def _run(self, runs: Sequence[PullSettings]) -> None:
        revision, job, bench = self.working_revision(), self.job, self.bench
        if job is None or bench is None:
            return
        try:
            if job.read_only:
                raise JobError("the job is open read only", remedy="Pulls could not be recorded.")
            if bench.flashing:
                raise LinkError("the unit is being written", remedy="Wait until it is done.")
            bench.may_pull(revision)
            work = bench.pull_work(self.slot, runs)
        except YarvicError as error:
            self.failed.emit(error)
            return
        assert revision is not None
        # The build is the one that is on the vehicle now, whatever is fitted while it runs.
        request = self.request("pulling", revision=revision.id)

        def apply(measured: Measured) -> None:
            before = len(self._evidence_of(revision.id))
            made = [
                NewRun(f"{revision.name} {RUN_NAMES[c.run]} {n}", log, c)
                for n, (log, c) in enumerate(measured.runs, before + 1)
            ]
            job.add_runs(made, revision.id, source=SOURCE, build=request.build)
            bench.pulled(measured)
            count = "1 run" if len(made) == 1 else f"{len(made)} runs"
            self.say(f"{count} of {revision.name} recorded.")
            self._judge(revision.id)

        self.start(request, f"Pulling {revision.name}", work, apply)

    # -- preferences

    def go(self, step: str) -> None:
        """Show a step."""
        if step in STEPS:
            self.settings.step = step  # type: ignore[assignment]
            self.step_changed.emit(step)

    def choose_unit(self, quantity: str, label: str) -> None:
        """Show a quantity in another unit, everywhere."""
        self.settings.units = {**self.settings.units, quantity: label}
        self.units_changed.emit()

    def choose_standard(self, standard: str) -> None:
        """Correct all curves by another standard; working and reference alike."""
        self.standard = standard
        self.results_changed.emit()

    def choose_theme(self, theme: str) -> None:
        """Switch between the two themes."""
        self.settings.theme = "night" if theme == "night" else "paper"
        self.theme_changed.emit()
