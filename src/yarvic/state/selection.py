"""What is selected: the working rung and its reference, the map slot and the correction standard."""

from __future__ import annotations

from psygnal import Signal

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.image import Image
from yarvic.core.errors import JobError, YarvicError
from yarvic.core.job.model import Draft, Revision
from yarvic.state.opened import Opened, draft_of

DRAFT = -1  # the draft in hand


def rung_of(draft: Draft) -> int:
    """The rung of a draft that is not in hand."""
    return DRAFT - draft.id


class Selection(Opened):
    """Working against reference. No act takes it when it ends; it only says what a new act is about."""

    selection_changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.working = DRAFT
        self.reference: int | None = None
        self.slot = ""
        self.standard = "none"
        self.throttle = 1.0  # at which curves are compared

    def _select_afresh(self) -> None:
        """What a job opens with: its draft, else its last revision."""
        assert self.job is not None
        revisions = self.revisions()
        self.slot = self.job.layout.sets[0] if self.job.has_maps else ""
        self.standard = self.job.sheet.standard
        self.throttle = 1.0
        self.working = DRAFT if self.draft is not None or not revisions else revisions[-1].id
        self.reference = self.default_reference()

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

    def image(self, rung: int | None) -> Image | None:
        """The image on a rung: of the draft in hand or of a revision."""
        if self.job is None:
            return None
        if rung == DRAFT:
            return self.draft.image if self.draft is not None else None
        revision = self.revision(rung)
        return self.image_of(revision) if revision is not None else None

    def calibration(self, rung: int | None, slot: str) -> Calibration | None:
        """The calibration on a rung for one slot."""
        image = self.image(rung)
        return image[slot] if image is not None else None

    def choose_working(self, rung: int) -> None:
        """Make a rung the working one; a draft's is taken in hand. One that cannot be read is said to be bad."""
        if rung < DRAFT:
            try:
                self.take_draft(DRAFT - rung)
            except YarvicError as error:
                self.failed.emit(error)
                return
            rung = DRAFT
        if rung != self.working:
            self.working = rung
            if self.reference == rung:
                self.reference = self.default_reference()
            self.selection_changed.emit()

    def other_drafts(self) -> list[Draft]:
        """The drafts that are not in hand, in the order of their making."""
        if self.job is None or not self.job.has_maps:
            return []
        taken = self.draft.id if self.draft is not None else None
        return sorted((d for d in self.job.drafts() if d.id != taken), key=lambda d: d.id)

    def take_draft(self, draft_id: int) -> None:
        """Take another draft in hand; the one before stays on the ladder. Raises JobError, CalibrationError."""
        assert self.job is not None
        kept = next((d for d in self.job.drafts() if d.id == draft_id), None)
        if kept is None:
            raise JobError("there is no such draft any more", remedy="Choose another rung.")
        draft = draft_of(self.job, kept)
        if not self.job.read_only:
            self.job.touch_draft(draft_id)
        self._set_draft(draft)
        self.working, self.reference = DRAFT, draft.parent.id
        self.selection_changed.emit()

    def choose_reference(self, rung: int) -> None:
        """Make a revision the reference; the draft and the working rung cannot be it."""
        if rung <= DRAFT or rung == self.working:
            self.say("The working rung cannot be its own reference: choose another.", trouble=True)
        elif rung != self.reference:
            self.reference = rung
            self.selection_changed.emit()

    def choose_throttle(self, throttle: float) -> None:
        """Compare the curves at another throttle, in the figure and in what is read from it."""
        if throttle != self.throttle:
            self.throttle = throttle
            self.selection_changed.emit()

    def default_reference(self) -> int | None:
        """What the working rung came from."""
        if self.working == DRAFT and self.draft is not None:
            return self.draft.parent.id
        revision = self.working_revision()
        return revision.parent_id if revision is not None else None

    def select(self, working: int, reference: int | None) -> None:
        """Take both in hand."""
        self.working, self.reference = working, reference
        self.selection_changed.emit()
