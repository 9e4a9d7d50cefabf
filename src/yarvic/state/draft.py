"""The draft: edits on top of a revision, with undo and redo, on disk after each."""

from __future__ import annotations

from collections.abc import Callable

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


def calibrations_of(job: Job, revision: Revision) -> dict[str, Calibration]:
    """The calibration of every slot of a revision, from its image."""
    data = job.image(revision.image)
    return {slot: unpack(data, job.layout, slot, source=revision.name) for slot in job.layout.slots}


class DraftState:
    """Edits of one draft. `changed` is emitted after every edit, undo and redo."""

    changed = Signal()

    def __init__(self, job: Job, parent: Revision, edits: tuple[Edit, ...] = ()) -> None:
        self.job = job
        self.parent = parent
        self.base = calibrations_of(job, parent)
        self.calibrations = dict(self.base)
        self.edits: list[Edit] = []
        self._undone: list[Edit] = []
        for edit in edits:
            if edit.slot not in self.calibrations:
                raise CalibrationError(f"there is no slot {edit.slot!r}")
            self._do(edit)
            self.edits.append(edit)

    @property
    def can_undo(self) -> bool:
        """Whether there is an edit to take back."""
        return bool(self.edits)

    @property
    def can_redo(self) -> bool:
        """Whether an edit was taken back and not replaced since."""
        return bool(self._undone)

    def change_table(self, slot: str, key: str, operation: Callable[[Table], Table], what: str) -> Edit | None:
        """Apply an operation to a table. Raises CalibrationError out of bounds; then nothing has changed."""
        before = self.calibrations[slot].table(key)
        edit = edit_between(slot, before, operation(before), what)
        if edit is not None:
            self._push(edit)
        return edit

    def change_scalar(self, slot: str, key: str, value: float) -> Edit | None:
        """Set a scalar. Raises CalibrationError out of bounds."""
        before = self.calibrations[slot].scalar(key)
        after = before.with_value(value)
        if after.value == before.value:
            return None
        edit = Edit(slot, key, f"{before.title} set", ((0, 0),), (before.value,), (after.value,))
        self._push(edit)
        return edit

    def take(self, others: dict[str, Calibration], what: str) -> int:
        """Take all tables and scalars that differ in the given calibrations; gives the number of edits.

        Raises CalibrationError when one does not fit; then nothing has changed.
        """
        edits: list[Edit] = []
        for slot, other in others.items():
            now = self.calibrations[slot]
            for key, table in now.tables.items():
                new = other.table(key)
                if not (
                    np.array_equal(table.x.values, new.x.values) and np.array_equal(table.y.values, new.y.values)
                ):
                    raise CalibrationError(
                        "the axes differ from this job's",
                        concerns=table.title,
                        remedy="Take an image of this job's own unit.",
                    )
                edit = edit_between(slot, table, new, what)
                if edit is not None:
                    edits.append(edit)
            for key, scalar in now.scalars.items():
                value = other.scalar(key).value
                if value != scalar.value:
                    edits.append(Edit(slot, key, what, ((0, 0),), (scalar.value,), (value,)))
        for edit in edits:
            self._push(edit, keep=edit is edits[-1])
        return len(edits)

    def _push(self, edit: Edit, *, keep: bool = True) -> None:
        undone = list(self._undone)
        self._do(edit)
        self.edits.append(edit)
        self._undone.clear()
        if keep:
            self._keep(lambda: self._take_back(undone))

    def undo(self) -> Edit | None:
        """Take the last edit back."""
        if not self.edits:
            return None
        edit = self.edits.pop()
        self._do(edit.inverse())
        self._undone.append(edit)
        self._keep(self._put_again)
        return edit

    def redo(self) -> Edit | None:
        """Do the last edit that was taken back again."""
        if not self._undone:
            return None
        edit = self._put_again()
        self._keep(lambda: self._take_back([*self._undone, edit]))
        return edit

    def _do(self, edit: Edit) -> None:
        self.calibrations[edit.slot] = apply_edit(self.calibrations[edit.slot], edit)

    def _take_back(self, undone: list[Edit]) -> None:
        self._do(self.edits.pop().inverse())
        self._undone = undone

    def _put_again(self) -> Edit:
        edit = self._undone.pop()
        self._do(edit)
        self.edits.append(edit)
        return edit

    def _keep(self, back: Callable[[], object]) -> None:
        """Put the draft on disk; when that fails, what is shown is again what is on disk."""
        try:
            self.job.keep_draft(self.parent.id, self.edits)
        except JobError:
            back()
            self.changed.emit()
            raise
        self.changed.emit()

    def differences(self) -> list[tuple[str, Difference]]:
        """What differs from the parent, by slot."""
        return [(s, d) for s in self.calibrations for d in compare(self.base[s], self.calibrations[s])]

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
