"""The session: one open job, what is working and reference, and everything the views show of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from psygnal import Signal

from yarvic.bench.rig import PullSettings
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.image import unpack
from yarvic.core.errors import CalibrationError, JobError, LinkError, NotReadyError, YarvicError
from yarvic.core.formats.hex_image import read_image
from yarvic.core.job.file import verify
from yarvic.core.job.model import Revision
from yarvic.core.job.records import Clock, now
from yarvic.core.job.store import Job
from yarvic.core.link.flash import Flashed
from yarvic.core.plan.readiness import Readiness
from yarvic.state.bench import BenchState, Measured
from yarvic.state.draft import DraftState, calibrations_of
from yarvic.state.results import RevisionResults, evaluate
from yarvic.state.settings import Settings
from yarvic.state.sheet import SheetState
from yarvic.state.work import Asked, Handle, Progress, Runner, Work, is_cancel

DRAFT = -1
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


class Session:
    """State behind the window. Signals carry no data but what is named; listeners read the session."""

    job_changed = Signal()
    sheet_changed = Signal()
    panel_asked = Signal(str)  # a part of the step in sight is to be shown
    selection_changed = Signal()
    draft_changed = Signal()
    results_changed = Signal()
    bench_changed = Signal()
    units_changed = Signal()
    theme_changed = Signal()
    step_changed = Signal(str)
    place_changed = Signal(object)  # a finding's Where: the figure jumps there
    told = Signal(str, bool)  # a sentence for the status line; True for trouble
    failed = Signal(object)  # a YarvicError to be shown in full

    def __init__(self, settings: Settings, runner: Runner) -> None:
        self.settings = settings
        self.runner = runner
        self.job: Job | None = None
        self.bench: BenchState | None = None
        self.sheet: SheetState | None = None
        self.draft: DraftState | None = None
        self.results: dict[int, RevisionResults] = {}
        self.working = DRAFT
        self.reference: int | None = None
        self.slot = ""
        self.standard = "none"
        self.busy: str | None = None  # the title of the long work under way
        self._running: Handle | None = None
        self._revisions: list[Revision] = []
        self._calibrations: dict[int, dict[str, Calibration]] = {}

    # -- opening

    def open_job(self, path: Path, *, read_only: bool = False, clock: Clock = now) -> None:
        """Open a job in place of the present one. Raises JobError; then the present one stays."""
        job = Job.open(path, read_only=read_only, clock=clock)
        try:
            bench, no_bench = _bench_of(job)
            revisions = job.revisions()
            draft, draft_fault = self._kept_draft(job, revisions)
        except YarvicError:
            job.close()
            raise
        self.close_job()
        self.job, self.sheet = job, SheetState(job, self._sheet_changed)
        self._take_bench(bench)
        self.standard = job.sheet.standard
        self.settings.last_job = str(path)
        self._take_up(draft)
        self.working = DRAFT if draft is not None or not self._revisions else self._revisions[-1].id
        self.reference = self._default_reference()
        self.job_changed.emit()
        self.selection_changed.emit()
        if no_bench is not None:
            self.say(f"{no_bench} Logs can be judged; nothing is flashed here.")
        if draft is not None:
            self.say(f"The draft on {draft.parent.name} was kept and is open again.")
        if draft_fault is not None:
            self.failed.emit(draft_fault)
        self._judge([r.id for r in self._revisions])
        self.runner.run(
            "Checking the file", lambda p, c: verify(path), lambda _: None, self.failed.emit, visible=False
        )

    def _take_bench(self, bench: BenchState | None) -> None:
        assert self.job is not None
        self.bench = bench
        if bench is not None:
            bench.changed.connect(lambda: self.bench_changed.emit())
        self.slot = self.job.layout.slots[0] if self.job.has_maps else ""

    def _sheet_changed(self, judged_by: bool) -> None:
        self.sheet_changed.emit()
        if judged_by:
            self._judge([r.id for r in self._revisions])

    def take_stock(self, layout_toml: str, image: bytes, author: str, *, source: str = "stock image") -> None:
        """Give a job without maps its layout and stock image. Raises CalibrationError, JobError; then it has none yet."""
        if self.job is None:
            raise JobError("no job is open", remedy="Open a job first.")
        made = self.job.take_stock(layout_toml, image, author or "not named", source=source)
        bench, no_bench = _bench_of(self.job)
        self._take_bench(bench)
        self._take_up(None)
        self.working = made.id
        self.reference = None
        self.results[made.id] = RevisionResults(made.id, (), (), ())
        self.job_changed.emit()
        self.selection_changed.emit()
        self.say(
            str(no_bench) if no_bench is not None else f"{made.name} is on file. Flash it, then pull the baseline."
        )

    @staticmethod
    def _kept_draft(job: Job, revisions: list[Revision]) -> tuple[DraftState | None, YarvicError | None]:
        """The draft that was kept, or what is wrong with it: a bad draft does not keep the job shut."""
        try:
            kept = job.draft()
            if kept is None:
                return None, None
            parent = next((r for r in revisions if r.id == kept.parent_id), None)
            if parent is None:
                raise JobError("the draft's parent is missing")
            return DraftState(job, parent, kept.edits), None
        except (JobError, CalibrationError) as error:
            remedy = "The revisions are whole. The next edit begins a new draft in its place."
            fault = JobError(f"the kept draft cannot be opened: {error.what}", concerns=str(job.path), remedy=remedy)
            return None, fault

    def _take_up(self, draft: DraftState | None) -> None:
        assert self.job is not None
        self._revisions = self.job.revisions()
        self._calibrations.clear()
        self.draft = draft
        if draft is not None:
            draft.changed.connect(lambda: self.draft_changed.emit())

    def close_job(self) -> None:
        """Close the job; a draft stays kept in its file."""
        if self._running is not None:
            self._running.cancel()
        if self.job is not None:
            self.job.close()
        self.job = self.bench = self.sheet = self.draft = None
        self.results = {}
        self._revisions = []

    # -- what is in hand

    def revisions(self) -> list[Revision]:
        """All revisions of the job, in order."""
        return self._revisions

    def revision(self, revision_id: int | None) -> Revision | None:
        """The revision of this id; None for the draft and for none."""
        return next((r for r in self._revisions if r.id == revision_id), None)

    def working_revision(self) -> Revision | None:
        """The revision in hand; None when it is the draft."""
        return self.revision(self.working)

    def working_name(self) -> str:
        """The name on the working rung."""
        return self.name_of(self.working)

    def name_of(self, rung: int | None) -> str:
        """The name of a rung; the draft has the name it will get."""
        if rung == DRAFT and self.job is not None:
            return self.job.next_name() if self.draft is not None else ""
        revision = self.revision(rung)
        return revision.name if revision else ""

    def evidence_revision(self) -> Revision | None:
        """The revision whose evidence is read: the working one, or the parent of the draft."""
        if self.working == DRAFT and self.draft is not None:
            return self.draft.parent
        return self.working_revision()

    def working_results(self) -> RevisionResults | None:
        """Results of the revision whose evidence is read."""
        revision = self.evidence_revision()
        return self.results.get(revision.id) if revision else None

    def reference_results(self) -> RevisionResults | None:
        """Results of the reference."""
        return self.results.get(self.reference) if self.reference is not None else None

    def calibration(self, rung: int | None, slot: str) -> Calibration | None:
        """The calibration on a rung for one slot."""
        if self.job is None:
            return None
        if rung == DRAFT:
            return self.draft.calibrations[slot] if self.draft else None
        revision = self.revision(rung)
        if revision is None:
            return None
        if revision.id not in self._calibrations:
            self._calibrations[revision.id] = calibrations_of(self.job, revision)
        return self._calibrations[revision.id][slot]

    def choose_working(self, rung: int) -> None:
        """Make a rung the working one."""
        if rung != self.working:
            self.working = rung
            if self.reference == rung:
                self.reference = self._default_reference()
            self.selection_changed.emit()

    def choose_reference(self, rung: int) -> None:
        """Make a revision the reference; the draft and the working rung cannot be it."""
        if rung in (DRAFT, self.working):
            self.say("The working rung cannot be its own reference: choose another.", trouble=True)
        elif rung != self.reference:
            self.reference = rung
            self.selection_changed.emit()

    def _default_reference(self) -> int | None:
        if self.working == DRAFT and self.draft is not None:
            return self.draft.parent.id
        revision = self.working_revision()
        return revision.parent_id if revision is not None else None

    def go(self, step: str) -> None:
        """Show a step."""
        if step in STEPS:
            self.settings.step = step  # type: ignore[assignment]
            self.step_changed.emit(step)

    # -- drafting

    def editable_draft(self) -> DraftState:
        """The draft that an edit goes into: the one in hand, or a new one on the working revision.

        Raises JobError when the job may not be written, or a draft on another revision is open.
        """
        if self.job is None:
            raise JobError("no job is open", remedy="Open a job first.")
        if self.job.read_only:
            raise JobError("the job is open read only", remedy="Close it elsewhere and open it again.")
        if self.draft is not None:
            if self.working != DRAFT:
                raise JobError(
                    f"a draft on {self.draft.parent.name} is open",
                    remedy="Choose the draft on the ladder, or discard it first.",
                )
            return self.draft
        parent = self.working_revision()
        if parent is None:
            raise JobError("the job has no maps yet", remedy="Take its stock image under Maps.")
        self.draft = DraftState(self.job, parent)
        self.draft.changed.connect(lambda: self.draft_changed.emit())
        self.working = DRAFT
        self.reference = parent.id
        self.selection_changed.emit()
        return self.draft

    def take_image(self, path: Path) -> int:
        """Take the maps of an image file (Intel HEX or raw) into the draft; gives the number of tables changed.

        Raises FormatError, CalibrationError for an image of another family or a damaged one, JobError.
        """
        if self.job is None:
            raise JobError("no job is open", remedy="Open a job first.")
        layout = self.job.layout
        data = read_image(path, layout.size)
        others = {slot: unpack(data, layout, slot, source=path.name) for slot in layout.slots}
        before = (self.working, self.reference, self.draft)
        count = self.editable_draft().take(others, f"taken from {path.name}")
        if count == 0 and before[2] is None:
            self.working, self.reference, self.draft = before
            self.selection_changed.emit()
        self.say(f"{count} tables and values taken from {path.name}." if count else "The image holds the same maps.")
        return count

    def discard_draft(self) -> None:
        """Drop the draft and go back to its parent."""
        if self.draft is None or self.job is None:
            return
        parent = self.draft.parent
        self.job.drop_draft()
        self.draft = None
        self.working = parent.id
        self.reference = self._default_reference()
        self.selection_changed.emit()
        self.say(f"The draft was discarded; {parent.name} is in hand.")

    def commit_draft(self, reason: str, author: str) -> Revision:
        """Make a revision of the draft. Raises JobError; then the draft stays."""
        if self.draft is None:
            raise JobError("there is no draft", remedy="Change a cell first.")
        revision = self.draft.commit(reason, author)
        self.settings.author = author.strip()
        self._take_up(None)
        self.working = revision.id
        self.reference = self._default_reference()
        self.results[revision.id] = RevisionResults(revision.id, (), (), ())
        self.selection_changed.emit()
        self.say(f"{revision.name} is committed and on disk.")
        return revision

    # -- long work

    def start(self, title: str, work: Work[Any], done: Callable[[Any], None]) -> None:
        """Run visible work; one at a time. A failure is shown, a cancel is said."""
        if self.busy is not None:
            self.say(f"{self.busy} is under way: wait or cancel it.", trouble=True)
            return

        job = self.job

        def finished(result: Any) -> None:
            self.busy = None
            if self.job is not job and job is not None:
                return  # the job it belongs to was closed meanwhile
            try:
                done(result)
            except YarvicError as error:
                self.failed.emit(error)
            self.bench_changed.emit()

        def failed(error: YarvicError) -> None:
            self.busy = None
            if is_cancel(error):
                self.say(str(error))
            else:
                self.failed.emit(error)
            self.bench_changed.emit()

        self.busy = title
        handle = self.runner.run(title, work, finished, failed)
        self._running = handle if self.busy is not None else None
        self.bench_changed.emit()

    def flash(self) -> None:
        """Write the working revision into the unit."""
        revision = self.working_revision()
        if self.job is None or self.bench is None:
            return
        if revision is None:
            self.say("Commit the draft first: only a revision is flashed.", trouble=True)
            return
        stops = Readiness(self.job.sheet.readiness).stopping()
        if stops:
            remedy = "Mend it, look again, and set it to pass under Job, Readiness."
            self.failed.emit(
                NotReadyError("flashing is stopped by the vehicle's readiness", concerns=stops, remedy=remedy)
            )
            return
        bench, job = self.bench, self.job

        def done(result: Flashed) -> None:
            job.record_flash(revision.id, result.identity.name, result.image, len(result.written))
            bench.flashed()
            self.say(f"{revision.name} is in the unit: {len(result.written)} blocks written and read back equal.")

        self.start(f"Flashing {revision.name}", bench.flash_work(revision), done)

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
        if self.job is None or self.bench is None:
            return
        revision, job = self.working_revision(), self.job
        try:
            if job.read_only:
                raise JobError("the job is open read only", remedy="Pulls could not be recorded.")
            self.bench.may_pull(revision)
            work = self.bench.pull_work(self.slot, runs)
        except YarvicError as error:
            self.failed.emit(error)
            return
        assert revision is not None
        before = len([e for e in job.evidence() if e.revision_id == revision.id])

        def done(measured: list[Measured]) -> None:
            for number, m in enumerate(measured, before + 1):
                title = f"{revision.name} {RUN_NAMES[m.conditions.run]} {number}"
                job.add_evidence(title, revision.id, m.log, m.conditions, source="simulated bench")
            runs = "1 run" if len(measured) == 1 else f"{len(measured)} runs"
            self.say(f"{runs} of {revision.name} recorded.")
            self._judge([revision.id])

        self.start(f"Pulling {revision.name}", work, done)

    def _judge(self, revision_ids: list[int]) -> None:
        job = self.job
        assert job is not None

        def work(progress: Progress, cancelled: Asked) -> dict[int, RevisionResults]:
            return evaluate(job, revision_ids, progress, cancelled)

        def done(results: dict[int, RevisionResults]) -> None:
            if job is self.job:
                self.results.update(results)
                self.results_changed.emit()

        def failed(error: YarvicError) -> None:
            if job is self.job:
                self.failed.emit(error)

        self.runner.run("Judging", work, done, failed, visible=False)

    def attempt(self, do: Callable[[], object]) -> None:
        """Do what may be refused; a refusal is shown in full."""
        try:
            do()
        except YarvicError as error:
            self.failed.emit(error)

    # -- preferences

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

    def say(self, sentence: str, *, trouble: bool = False) -> None:
        """Put a sentence in the status line."""
        self.told.emit(sentence, trouble)


def _bench_of(job: Job) -> tuple[BenchState | None, LinkError | None]:
    """The simulated bench for a job; none, and why, where no simulated vehicle has its unit or there are no maps yet."""
    if not job.has_maps:
        return None, None
    try:
        return BenchState(job), None
    except LinkError as error:
        return None, error
