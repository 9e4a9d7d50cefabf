"""The draft: steps of edits on top of a revision, with undo and redo, on disk after each."""

from __future__ import annotations

from collections.abc import Iterable

from psygnal import Signal

from yarvic.core.calibration.compare import Difference, compare_images
from yarvic.core.calibration.decoding import Patch
from yarvic.core.calibration.edits import Edit, Step
from yarvic.core.calibration.image import Image, open_image
from yarvic.core.calibration.table import Scalar, Table
from yarvic.core.errors import JobError
from yarvic.core.evidence.expected import Expected
from yarvic.core.job.model import Draft, Revision
from yarvic.core.job.store import Job

# What the step of a merge is called, with the name of what was merged.
MERGED = "merged from "


def image_of(job: Job, revision: Revision) -> Image:
    """The image of a revision, with the calibration of every slot. Raises JobError, CalibrationError."""
    return open_image(job.image(revision.image), job.layout, source=revision.name)


def edits_towards(now: Image, others: Image, what: str) -> Step:
    """The edits that make one set of maps of another. Raises CalibrationError when one does not fit."""
    edits: list[Edit] = []
    for slot, other in others.items():
        axes: set[str] = set()
        for key in now.changed_keys(others, slot):
            for edit in now.edits_to(slot, other.held(key), what):
                # An axis that several tables share is changed once.
                if edit.part != "axis" or edit.key not in axes:
                    edits.append(edit)
                    axes |= {edit.key} if edit.part == "axis" else set()
    return tuple(edits)


class DraftState:
    """Steps of edits of one draft. `changed` is emitted after every step, undo and redo.

    A change is worked out, put on disk, and only then shown: what fails at either leaves memory and disk as they were.
    """

    changed = Signal()

    def __init__(
        self, job: Job, parent: Revision, kept: Draft | None = None, *, merged_id: int | None = None
    ) -> None:
        self.job = job
        self.parent = parent
        self._merged = kept.merged_id if kept is not None else merged_id
        self.id = kept.id if kept is not None else None  # None until its first step is on disk
        self.name = kept.name if kept is not None else ""
        self.base = self.image = image_of(job, parent)
        self._back: list[list[Patch]] = []  # of each step, what lay there before
        self.steps: list[Step] = []
        self._undone: list[Step] = []
        self._differences: list[tuple[str, Difference]] | None = None
        if kept is not None:
            self._replay(job.steps(kept.id))

    def _replay(self, steps: Iterable[Step]) -> None:
        for step in steps:
            self.image, back = self.image.edited(step)
            self.steps.append(step)
            self._back.append(back)

    def again(self) -> DraftState:
        """The same draft, read anew by what the layout says now."""
        made = DraftState(self.job, self.parent, merged_id=self._merged)
        made.id, made.name = self.id, self.name
        made._replay(self.steps)
        return made

    @property
    def merged_id(self) -> int | None:
        """The revision that was merged into it, while that step is not taken back."""
        return self._merged if any(step[0].what.startswith(MERGED) for step in self.steps if step) else None

    def add_merge(self, step: Step, merged_id: int | None) -> None:
        """Do the step of a merge. Raises CalibrationError, JobError; then nothing has changed."""
        before, self._merged = self._merged, merged_id if merged_id is not None else self._merged
        try:
            self.add(step)
        except BaseException:
            self._merged = before
            raise

    @property
    def edits(self) -> list[Edit]:
        """All edits in order."""
        return [e for step in self.steps for e in step]

    @property
    def can_undo(self) -> bool:
        """Whether there is a step to take back."""
        return bool(self.steps)

    @property
    def can_redo(self) -> bool:
        """Whether a step was taken back and not replaced since."""
        return bool(self._undone)

    def change(self, slot: str, new: Table | Scalar, what: str) -> Step | None:
        """Make one table or value another one, as one step; None where it is that already.

        Raises CalibrationError for what cannot be stored, JobError; then nothing has changed.
        """
        step = tuple(self.image.edits_to(slot, new, what))
        if step:
            self.add(step)
        return step or None

    def add(self, step: Step) -> None:
        """Do a step of edits. Raises CalibrationError, JobError; then nothing has changed."""
        self._do(step)
        self._undone.clear()
        self._changed()

    def _do(self, step: Step) -> None:
        after, back = self.image.edited(step)
        if self.id is None:
            self.id = self.job.begin_draft(self.parent.id, (step,), name=self.name, merged_id=self._merged)
        else:
            self.job.add_step(self.id, len(self.steps), step, merged_id=self._merged)
        self.steps.append(step)
        self._back.append(back)
        self.image = after

    def undo(self) -> Step | None:
        """Take the last step back."""
        if not self.steps:
            return None
        assert self.id is not None
        self.job.drop_steps(self.id, len(self.steps) - 1)
        step = self.steps.pop()
        self._undone.append(step)
        self.image = self.image.with_patches(self._back.pop())
        self._changed()
        return step

    def redo(self) -> Step | None:
        """Do the last step that was taken back again."""
        if not self._undone:
            return None
        self._do(self._undone[-1])
        step = self._undone.pop()
        self._changed()
        return step

    def _changed(self) -> None:
        self._differences = None
        self.changed.emit()

    def differences(self) -> list[tuple[str, Difference]]:
        """What differs from the parent, by slot."""
        if self._differences is None:
            found = compare_images(self.base, self.image)
            self._differences = [(slot, d) for slot, listed in found.items() for d in listed]
        return self._differences

    def commit(self, reason: str, author: str, expected: Iterable[Expected] = ()) -> Revision:
        """Make a revision of the draft. Raises JobError without a reason or without a difference."""
        if not self.differences():
            raise JobError("the draft does not differ from its parent", remedy="Change a cell first, or discard it.")
        if not reason.strip():
            raise JobError("a revision needs its reason", remedy="Say in one sentence why the maps changed.")
        if not author.strip():
            raise JobError("a revision needs its author", remedy="Fill in who made it.")
        name = self.job.next_name()
        return self.job.commit_revision(
            name,
            self.parent.id,
            reason,
            author.strip(),
            self.image.sealed(name),
            self.edits,
            drop_draft=self.id,
            merged_id=self.merged_id,
            expected=expected,
        )
