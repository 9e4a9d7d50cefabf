"""What is open: one job with its sheet, its bench and its draft, and the calibrations that were looked at."""

from __future__ import annotations

from collections import OrderedDict
from pathlib import Path

from psygnal import Signal

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.errors import CalibrationError, JobError, LinkError, YarvicError
from yarvic.core.job.model import Revision
from yarvic.core.job.records import Clock, now
from yarvic.core.job.store import Job
from yarvic.state.bench import BenchState
from yarvic.state.draft import DraftState, Maps, calibrations_of
from yarvic.state.sheet import SheetState
from yarvic.state.told import Told

# Calibrations kept in memory beside the draft's: what is compared, and a few that were looked at before.
MOST_CALIBRATIONS = 12


class Opened(Told):
    """The open job. `opening` is another number after each opening and closing."""

    job_changed = Signal()
    sheet_changed = Signal()
    draft_changed = Signal()
    bench_changed = Signal()

    def __init__(self) -> None:
        self.job: Job | None = None
        self.bench: BenchState | None = None
        self.sheet: SheetState | None = None
        self.draft: DraftState | None = None
        self.opening = 0
        self._calibrations: OrderedDict[int, Maps] = OrderedDict()

    # -- opening

    def _open(self, path: Path, *, read_only: bool, clock: Clock = now) -> list[YarvicError | str]:
        """Open a job in place of the present one; gives what is to be said of it.

        Raises JobError; then the present one stays.
        """
        job = Job.open(path, read_only=read_only, clock=clock)
        try:
            bench, no_bench = bench_of(job)
            draft, draft_fault = _kept_draft(job)
        except BaseException:
            job.close()
            raise
        self._close()
        self.job, self.sheet = job, SheetState(job, self._sheet_was_changed)
        self._take_bench(bench)
        self._take_draft(draft)
        said: list[YarvicError | str] = []
        if no_bench is not None:
            said.append(f"{no_bench} Logs can be judged; nothing is flashed here.")
        if draft is not None:
            said.append(f"The draft on {draft.parent.name} was kept and is open again.")
        if draft_fault is not None:
            said.append(draft_fault)
        return said

    def _close(self) -> None:
        """Close the job; a draft stays in its file."""
        self.opening += 1
        # What the old parts announce from now on concerns nobody.
        for part in (self.bench, self.draft):
            if part is not None:
                part.changed.disconnect()
        if self.job is not None:
            self.job.close()
        self.job = self.bench = self.sheet = self.draft = None
        self._calibrations.clear()

    def _sheet_was_changed(self, judged_by: bool) -> None:
        self.sheet_changed.emit()

    def _take_bench(self, bench: BenchState | None) -> None:
        self.bench = bench
        if bench is not None:
            bench.changed.connect(lambda: self.bench_changed.emit())

    def _take_draft(self, draft: DraftState | None) -> None:
        if self.draft is not None:
            self.draft.changed.disconnect()
        self.draft = draft
        if draft is not None:
            draft.changed.connect(lambda: self.draft_changed.emit())

    # -- what is in it

    def revisions(self) -> list[Revision]:
        """All revisions of the job, in order."""
        return self.job.revisions() if self.job is not None and self.job.has_maps else []

    def revision(self, revision_id: int | None) -> Revision | None:
        """The revision of this id; None for the draft and for none."""
        return next((r for r in self.revisions() if r.id == revision_id), None)

    def maps_of(self, revision: Revision) -> Maps:
        """The calibrations of a revision by slot. Raises JobError, CalibrationError for a damaged image."""
        assert self.job is not None
        if revision.id not in self._calibrations:
            self._calibrations[revision.id] = calibrations_of(self.job, revision)
            while len(self._calibrations) > MOST_CALIBRATIONS:
                self._calibrations.popitem(last=False)
        self._calibrations.move_to_end(revision.id)
        return self._calibrations[revision.id]

    def calibration_of(self, revision: Revision, slot: str) -> Calibration:
        """The calibration of one slot of a revision."""
        return self.maps_of(revision)[slot]


def _kept_draft(job: Job) -> tuple[DraftState | None, YarvicError | None]:
    """The draft that was kept, or what is wrong with it: a bad draft does not keep the job shut."""
    try:
        kept = job.draft()
        if kept is None:
            return None, None
        parent = next((r for r in job.revisions() if r.id == kept.parent_id), None)
        if parent is None:
            raise JobError("the draft's parent is missing")
        return DraftState(job, parent, kept.steps), None
    except (JobError, CalibrationError) as error:
        remedy = "The revisions are whole. The next edit begins a new draft in its place."
        fault = JobError(f"the kept draft cannot be opened: {error.what}", concerns=str(job.path), remedy=remedy)
        return None, fault


def bench_of(job: Job) -> tuple[BenchState | None, LinkError | None]:
    """The simulated bench for a job; none, and why, where no simulated vehicle has its unit or there are no maps yet."""
    if not job.has_maps:
        return None, None
    try:
        return BenchState(job), None
    except LinkError as error:
        return None, error
