"""What is open: one job with its sheet, its bench and its draft, and the calibrations that were looked at."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from psygnal import Signal

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.spans import spans_of
from yarvic.core.errors import CalibrationError, JobError, YarvicError
from yarvic.core.job.file import MOST_BYTES
from yarvic.core.job.lock import cautions
from yarvic.core.job.model import Draft, Revision
from yarvic.core.job.records import Clock, now
from yarvic.core.job.store import Job
from yarvic.core.reading import reader
from yarvic.state.draft import DraftState, image_of
from yarvic.state.sheet import SheetState
from yarvic.state.told import Told

if TYPE_CHECKING:
    from yarvic.state.bench import BenchState

# Calibrations kept in memory beside the draft's: what is compared, and a few that were looked at before.
MOST_CALIBRATIONS = 12


@dataclass(frozen=True)
class Loaded:
    """A job that was opened and looked through, before it is shown; `notices` are what is to be said of it."""

    job: Job
    draft: DraftState | None
    notices: tuple[YarvicError | str, ...]


@reader("job", "Job, a SQLite file of ours", ".yarvic", MOST_BYTES)
def load(path: Path, *, read_only: bool = False, clock: Clock = now) -> Loaded:
    """Open a job and read what every view shows of it. Raises JobError; then it is closed again."""
    job = Job.open(path, read_only=read_only, clock=clock)
    try:
        draft, faults = _saved_draft(job)
        # What is read here is kept by the job: the window's thread finds it in memory.
        for read in (job.builds, job.revisions, job.flashes, job.carried, job.releases, job.drafts, job.tags):
            read()
        if job.has_maps:
            spans_of(job.layout)  # which tables lie where: asked for by every comparison
        notices: list[YarvicError | str] = [] if read_only else [*cautions(path)]
        if draft is not None:
            notices.append(f"The draft on {draft.parent.name} was saved and is open again.")
        notices += faults
        return Loaded(job, draft, tuple(notices))
    except BaseException:
        job.close()
        raise


class Opened(Told):
    """The open job. `opening` is another number after each opening and closing."""

    job_changed = Signal()
    sheet_changed = Signal()
    draft_changed = Signal()
    bench_changed = Signal()

    def __init__(self) -> None:
        self.job: Job | None = None
        self._bench: BenchState | None = None
        self.bench_ready = True  # whether it was made, or there is nothing that it could be of
        self.sheet: SheetState | None = None
        self.draft: DraftState | None = None
        self.discarded: int | None = None  # the draft that was discarded last, while it can be brought back
        self.opening = 0
        self._images: OrderedDict[int, Image] = OrderedDict()

    # -- opening

    def _take(self, loaded: Loaded) -> None:
        """Put a job that was loaded in place of the present one."""
        self._close()
        self.job, self.sheet = loaded.job, SheetState(loaded.job, self._sheet_was_changed)
        self.bench_ready = False
        self._set_draft(loaded.draft)

    def _close(self) -> None:
        """Close the job; a draft stays in its file."""
        self.opening += 1
        # What the old parts announce from now on concerns nobody.
        for part in (self._bench, self.draft):
            if part is not None:
                part.changed.disconnect()
        if self.job is not None:
            self.job.close()
        self.job = self._bench = self.sheet = self.draft = self.discarded = None
        self.bench_ready = True
        self._images.clear()

    def _sheet_was_changed(self, judged_by: bool) -> None:
        self.sheet_changed.emit()

    @property
    def bench(self) -> BenchState | None:
        """The simulated bench, made when it is first needed; None where there is none, and then it was said why."""
        if not self.bench_ready and self.job is not None:
            self._set_bench(*bench_of(self.job))
        return self._bench

    @property
    def from_outside(self) -> bool:
        """Whether nothing simulates the vehicle: what is known of it comes as files."""
        return self.job is not None and self.job.has_maps and self.bench_ready and self._bench is None

    def _set_bench(self, bench: BenchState | None, why_not: YarvicError | None) -> None:
        self._bench, self.bench_ready = bench, True
        if bench is not None:
            bench.changed.connect(lambda: self.bench_changed.emit())
        if why_not is not None:
            self.say(
                f"{why_not.what[0].upper()}{why_not.what[1:]}: logs and dyno sheets are judged, the unit is written by file."
            )

    def unit_holds(self) -> Revision | None:
        """The revision that lies in the unit; while the bench is not ready, the one that was written last."""
        if self.bench_ready:
            return self._bench.holds() if self._bench is not None else self.read_back()
        flashes = self.job.flashes() if self.job is not None else []
        return self.revision(flashes[-1].revision_id) if flashes else next(iter(self.revisions()), None)

    def read_back(self) -> Revision | None:
        """Of a unit that nobody here can ask: what it was found to hold when it was read back last, by file."""
        steps = [c for c in self.job.carried() if c.kind != "exported"] if self.job is not None else []
        if not steps or steps[-1].kind != "read back":
            return None
        return next((r for r in reversed(self.revisions()) if r.image == steps[-1].document.image), None)

    def _set_draft(self, draft: DraftState | None) -> None:
        if self.draft is not None:
            self.draft.changed.disconnect()
        self.draft = draft
        if draft is not None:
            draft.changed.connect(lambda: self.draft_changed.emit())

    def layout_changed(self) -> None:
        """What the layout says was changed: images and the draft are read by it anew."""
        self._images.clear()
        if self.draft is not None and self.job is not None:
            self._set_draft(self.draft.again())
        self.job_changed.emit()

    # -- what is in it

    def revisions(self) -> list[Revision]:
        """All revisions of the job, in order."""
        return self.job.revisions() if self.job is not None and self.job.has_maps else []

    def revision(self, revision_id: int | None) -> Revision | None:
        """The revision of this id; None for the draft and for none."""
        return next((r for r in self.revisions() if r.id == revision_id), None)

    def image_of(self, revision: Revision) -> Image:
        """The image of a revision: by slot, its calibrations. Raises JobError, CalibrationError for a damaged image."""
        assert self.job is not None
        if revision.id not in self._images:
            self._images[revision.id] = image_of(self.job, revision)
            while len(self._images) > MOST_CALIBRATIONS:
                self._images.popitem(last=False)
        self._images.move_to_end(revision.id)
        return self._images[revision.id]

    def calibration_of(self, revision: Revision, slot: str) -> Calibration:
        """The calibration of one slot of a revision."""
        return self.image_of(revision)[slot]


def _saved_draft(job: Job) -> tuple[DraftState | None, list[YarvicError]]:
    """The draft that was touched last, and what is wrong with any: a bad draft does not keep the job shut."""
    faults: list[YarvicError] = []
    for kept in job.drafts():
        try:
            return draft_of(job, kept), faults
        except (JobError, CalibrationError) as error:
            faults.append(
                JobError(
                    f"the saved draft cannot be opened: {error.what}",
                    concerns=str(job.path),
                    remedy="The revisions are whole. Discard this draft, or look at it in a copy of the job.",
                )
            )
    return None, faults


def draft_of(job: Job, kept: Draft) -> DraftState:
    """A draft that was kept, taken in hand. Raises JobError, CalibrationError for one that cannot be read."""
    parent = next((r for r in job.revisions() if r.id == kept.parent_id), None)
    if parent is None:
        raise JobError("the draft's parent is missing", remedy="Restore the job from a copy.")
    return DraftState(job, parent, kept)


def bench_of(job: Job) -> tuple[BenchState | None, YarvicError | None]:
    """The simulated bench for a job; none, and why, where no simulated vehicle has its unit or there are no maps yet."""
    from yarvic.state.bench import BenchState  # the vehicles are not needed for the first picture

    if not job.has_maps:
        return None, None
    try:
        return BenchState(job), None
    except YarvicError as error:
        return None, error
