"""The draft: steps of edits on top of a revision, with undo and redo, on disk after each."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
from psygnal import Signal

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.compare import Difference, compare
from yarvic.core.calibration.edits import Edit, apply_edit, edit_between
from yarvic.core.calibration.image import pack, unpack
from yarvic.core.calibration.table import Table
from yarvic.core.errors import CalibrationError, JobError
from yarvic.core.job.model import Revision
from yarvic.core.job.store import Job

Step = tuple[Edit, ...]
Maps = dict[str, Calibration]


def calibrations_of(job: Job, revision: Revision) -> Maps:
    """The calibration of every slot of a revision, from its image."""
    data = job.image(revision.image)
    return {slot: unpack(data, job.layout, slot, source=revision.name) for slot in job.layout.slots}


def edits_towards(now: Maps, others: Maps, what: str) -> Step:
    """The edits that make one set of maps of another. Raises CalibrationError when one does not fit."""
    edits: list[Edit] = []
    for slot, other in others.items():
        mine = now[slot]
        for key, table in mine.tables.items():
            new = other.table(key)
            if not (np.array_equal(table.x.values, new.x.values) and np.array_equal(table.y.values, new.y.values)):
                raise CalibrationError(
                    "the axes differ from this job's",
                    concerns=table.title,
                    remedy="Import an image of this job's own unit.",
                )
            edit = edit_between(slot, table, new, what)
            if edit is not None:
                edits.append(edit)
        for key, scalar in mine.scalars.items():
            value = other.scalar(key).value
            if value != scalar.value:
                edits.append(Edit(slot, key, what, ((0, 0),), (scalar.value,), (value,)))
    return tuple(edits)


def applied(maps: Maps, edits: Iterable[Edit]) -> Maps:
    """The maps after edits. Raises CalibrationError; the maps given are never changed."""
    after = dict(maps)
    for edit in edits:
        if edit.slot not in after:
            raise CalibrationError(f"there is no slot {edit.slot!r}", remedy="Choose one of the layout's slots.")
        after[edit.slot] = apply_edit(after[edit.slot], edit)
    return after


class DraftState:
    """Steps of edits of one draft. `changed` is emitted after every step, undo and redo.

    A change is worked out, put on disk, and only then shown: what fails at either leaves memory and disk as they were.
    """

    changed = Signal()

    def __init__(self, job: Job, parent: Revision, steps: tuple[Step, ...] = ()) -> None:
        self.job = job
        self.parent = parent
        self.base = calibrations_of(job, parent)
        self.calibrations = applied(self.base, (e for step in steps for e in step))
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
        before = self.calibrations[slot].table(key)
        edit = edit_between(slot, before, operation(before), what)
        if edit is not None:
            self.add((edit,))
        return edit

    def change_scalar(self, slot: str, key: str, value: float) -> Edit | None:
        """Set a scalar. Raises CalibrationError out of bounds, JobError; then nothing has changed."""
        before = self.calibrations[slot].scalar(key)
        after = before.with_value(value)
        if after.value == before.value:
            return None
        edit = Edit(slot, key, f"{before.title} set", ((0, 0),), (before.value,), (after.value,))
        self.add((edit,))
        return edit

    def add(self, step: Step) -> None:
        """Do a step of edits. Raises CalibrationError, JobError; then nothing has changed."""
        after = applied(self.calibrations, step)
        self.job.add_step(self.parent.id, len(self.steps), step)
        self.steps.append(step)
        self._undone.clear()
        self._show(after)

    def undo(self) -> Step | None:
        """Take the last step back."""
        if not self.steps:
            return None
        step = self.steps[-1]
        after = applied(self.calibrations, (e.inverse() for e in reversed(step)))
        self.job.drop_steps(len(self.steps) - 1)
        self._undone.append(self.steps.pop())
        self._show(after)
        return step

    def redo(self) -> Step | None:
        """Do the last step that was taken back again."""
        if not self._undone:
            return None
        step = self._undone[-1]
        after = applied(self.calibrations, step)
        self.job.add_step(self.parent.id, len(self.steps), step)
        self.steps.append(self._undone.pop())
        self._show(after)
        return step

    def _show(self, after: Maps) -> None:
        self.calibrations = after
        self._differences = None
        self.changed.emit()

    def differences(self) -> list[tuple[str, Difference]]:
        """What differs from the parent, by slot."""
        if self._differences is None:
            self._differences = [
                (s, d) for s in self.calibrations for d in compare(self.base[s], self.calibrations[s])
            ]
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
        image = pack(self.calibrations, self.job.layout, name, self.job.image(self.parent.image))
        return self.job.commit_revision(
            name, self.parent.id, reason, author.strip(), image, self.edits, drop_draft=True
        )
