"""The draft: steps of edits on top of a revision, with undo and redo, on disk after each."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from psygnal import Signal

from yarvic.core.calibration.compare import Difference, compare_images
from yarvic.core.calibration.decoding import Patch
from yarvic.core.calibration.edits import Edit, edit_between
from yarvic.core.calibration.image import Image, open_image
from yarvic.core.calibration.table import Table
from yarvic.core.errors import CalibrationError, JobError
from yarvic.core.job.model import Revision
from yarvic.core.job.store import Job

Step = tuple[Edit, ...]


def image_of(job: Job, revision: Revision) -> Image:
    """The image of a revision, with the calibration of every slot. Raises JobError, CalibrationError."""
    return open_image(job.image(revision.image), job.layout, source=revision.name)


def edits_towards(now: Image, others: Image, what: str) -> Step:
    """The edits that make one set of maps of another. Raises CalibrationError when one does not fit."""
    edits: list[Edit] = []
    for slot, other in others.items():
        mine = now[slot]
        for key in now.changed_keys(others, slot):
            if key in mine.scalars:
                value, new_value = mine.scalars[key].value, other.scalar(key).value
                if value != new_value:
                    edits.append(Edit(slot, key, what, ((0, 0),), (value,), (new_value,)))
                continue
            if key not in mine.tables:
                continue
            table, new = mine.tables[key], other.table(key)
            if not (np.array_equal(table.x.values, new.x.values) and np.array_equal(table.y.values, new.y.values)):
                raise CalibrationError(
                    "the axes differ from this job's",
                    concerns=table.title,
                    remedy="Import an image of this job's own unit.",
                )
            edit = edit_between(slot, table, new, what)
            if edit is not None:
                edits.append(edit)
    return tuple(edits)


class DraftState:
    """Steps of edits of one draft. `changed` is emitted after every step, undo and redo.

    A change is worked out, put on disk, and only then shown: what fails at either leaves memory and disk as they were.
    """

    changed = Signal()

    def __init__(self, job: Job, parent: Revision, steps: tuple[Step, ...] = ()) -> None:
        self.job = job
        self.parent = parent
        self.base = self.image = image_of(job, parent)
        self._back: list[list[Patch]] = []  # of each step, what lay there before
        for step in steps:
            self.image, back = self.image.edited(step)
            self._back.append(back)
        self.steps: list[Step] = list(steps)
        self._undone: list[Step] = []
        self._differences: list[tuple[str, Difference]] | None = None

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

    def change_table(self, slot: str, key: str, operation: Callable[[Table], Table], what: str) -> Edit | None:
        """Apply an operation to a table. Raises CalibrationError out of bounds, JobError; then nothing has changed."""
        before = self.image[slot].table(key)
        edit = edit_between(slot, before, operation(before), what)
        if edit is not None:
            self.add((edit,))
        return edit

    def change_scalar(self, slot: str, key: str, value: float) -> Edit | None:
        """Set a scalar. Raises CalibrationError out of bounds, JobError; then nothing has changed."""
        before = self.image[slot].scalar(key)
        after = before.with_value(value)
        if after.value == before.value:
            return None
        edit = Edit(slot, key, f"{before.title} set", ((0, 0),), (before.value,), (after.value,))
        self.add((edit,))
        return edit

    def add(self, step: Step) -> None:
        """Do a step of edits. Raises CalibrationError, JobError; then nothing has changed."""
        self._do(step)
        self._undone.clear()
        self._changed()

    def _do(self, step: Step) -> None:
        after, back = self.image.edited(step)
        self.job.add_step(self.parent.id, len(self.steps), step)
        self.steps.append(step)
        self._back.append(back)
        self.image = after

    def undo(self) -> Step | None:
        """Take the last step back."""
        if not self.steps:
            return None
        self.job.drop_steps(len(self.steps) - 1)
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

    def commit(self, reason: str, author: str) -> Revision:
        """Make a revision of the draft. Raises JobError without a reason or without a difference."""
        if not self.differences():
            raise JobError("the draft does not differ from its parent", remedy="Change a cell first, or discard it.")
        if not reason.strip():
            raise JobError("a revision needs its reason", remedy="Say in one sentence why the maps changed.")
        if not author.strip():
            raise JobError("a revision needs its author", remedy="Fill in who made it.")
        name = self.job.next_name()
        return self.job.commit_revision(
            name, self.parent.id, reason, author.strip(), self.image.sealed(name), self.edits, drop_draft=True
        )
