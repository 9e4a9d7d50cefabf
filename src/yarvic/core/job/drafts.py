"""The drafts of a job: each step of edits is on disk when it was done."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable

from yarvic.core.calibration.edits import Edit, Step
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import JobError
from yarvic.core.job.edits_json import edit_from_json, edit_to_json
from yarvic.core.job.model import Draft
from yarvic.core.job.runs import Runs

MOST_DISCARDED = 20  # drafts that can be brought back
# The number of a draft that is taken in hand now: above all others. Those that were discarded count down from 0.
_NEXT = "(SELECT max(coalesce(max(touched), 0), 0) + 1 FROM draft)"


class Drafts(Runs):
    """Several may be begun; the one that was touched last is in hand when the job is opened again."""

    _layout: Layout | None

    @property
    def has_maps(self) -> bool:
        """Whether the job knows the layout of its control unit and has a stock image."""
        return self._layout is not None

    @property
    def layout(self) -> Layout:
        """The memory layout of the vehicle's control unit. Raises JobError while the job has no maps."""
        if self._layout is None:
            raise JobError(
                "the job has no maps yet", concerns=str(self.path), remedy="Import its stock image under Maps."
            )
        return self._layout

    def drafts(self) -> list[Draft]:
        """All drafts, the one that was touched last first; their edits are read by `steps`."""
        return list(self._remember("drafts", self._read_drafts))

    def _read_drafts(self) -> list[Draft]:
        return self._records(
            Draft,
            (int, str, int, int | None, str),
            "SELECT id, name, parent_id, merged_id, time FROM draft WHERE touched > 0 ORDER BY touched DESC, id DESC",
        )

    def discarded(self) -> list[Draft]:
        """The drafts that were discarded and can be brought back, the latest first."""
        return self._records(
            Draft,
            (int, str, int, int | None, str),
            "SELECT id, name, parent_id, merged_id, time FROM draft WHERE touched <= 0 ORDER BY touched",
        )

    def steps(self, draft_id: int) -> tuple[Step, ...]:
        """The steps of a draft that were kept. Raises JobError for what cannot be understood."""
        layout = self.layout
        steps: dict[int, list[Edit]] = {}

        def read(text: str) -> Edit:
            return edit_from_json(text, layout)

        rows = self._rows("SELECT step, edit FROM draft_edit WHERE draft_id = ? ORDER BY position", (draft_id,))
        for step, text in rows:
            steps.setdefault(step, []).append(self._document(read, text, "draft"))
        return tuple(tuple(edits) for edits in steps.values())

    def begin_draft(
        self, parent_id: int, steps: Iterable[Step], *, name: str = "", merged_id: int | None = None
    ) -> int:
        """Put a new draft on disk with its first steps; its number."""
        with self._committing("drafts") as c:
            cursor = c.execute(
                f"INSERT INTO draft (name, parent_id, merged_id, time, touched) VALUES (?, ?, ?, ?, {_NEXT})",  # noqa: S608
                (name, parent_id, merged_id, self._stamp()),
            )
            assert cursor.lastrowid is not None
            for number, step in enumerate(steps):
                self._insert_step(c, cursor.lastrowid, number, step)
            return cursor.lastrowid

    def add_step(
        self, draft_id: int, steps_before: int, edits: Iterable[Edit], *, merged_id: int | None = None
    ) -> None:
        """Put a step of edits of a draft on disk behind so many others; what stands behind them, undone, goes.

        `merged_id` is the revision that was merged into it, with this step or before. Raises JobError when that draft
        is not on disk.
        """
        with self._committing() as c:
            self._touch(c, draft_id)
            c.execute(
                "UPDATE draft SET merged_id = ? WHERE id = ? AND merged_id IS NOT ?", (merged_id, draft_id, merged_id)
            )
            c.execute("DELETE FROM draft_edit WHERE draft_id = ? AND step >= ?", (draft_id, steps_before))
            self._insert_step(c, draft_id, steps_before, edits)

    def _insert_step(self, c: sqlite3.Connection, draft_id: int, step: int, edits: Iterable[Edit]) -> None:
        last = c.execute("SELECT coalesce(max(position), -1) FROM draft_edit WHERE draft_id = ?", (draft_id,))
        position = last.fetchone()[0]
        rows = [(draft_id, position + n, step, edit_to_json(e)) for n, e in enumerate(edits, 1)]
        c.executemany("INSERT INTO draft_edit VALUES (?, ?, ?, ?)", rows)

    def _touch(self, c: sqlite3.Connection, draft_id: int) -> None:
        touched = c.execute(f"UPDATE draft SET touched = {_NEXT} WHERE id = ?", (draft_id,)).rowcount  # noqa: S608
        if not touched:
            raise JobError("the draft on disk is another one", concerns=str(self.path), remedy="Open the job again.")

    def touch_draft(self, draft_id: int) -> None:
        """Remember that a draft was taken in hand. Raises JobError when it is not on disk."""
        with self._committing("drafts") as c:
            self._touch(c, draft_id)

    def name_draft(self, draft_id: int, name: str) -> None:
        """Give a draft another name. Raises JobError when it is not on disk."""
        with self._committing("drafts") as c:
            self._touch(c, draft_id)
            c.execute("UPDATE draft SET name = ? WHERE id = ?", (name.strip(), draft_id))

    def drop_steps(self, draft_id: int, steps_kept: int) -> None:
        """Take the steps of a draft behind so many off the disk."""
        with self._committing() as c:
            c.execute("DELETE FROM draft_edit WHERE draft_id = ? AND step >= ?", (draft_id, steps_kept))

    def drop_draft(self, draft_id: int) -> None:
        """Put a draft away; the journal says so. The latest of those that were put away can be brought back."""
        with self._committing("drafts") as c:
            last = "(SELECT min(coalesce(min(touched), 0), 0) - 1 FROM draft)"
            if c.execute(f"UPDATE draft SET touched = {last} WHERE id = ? AND touched > 0", (draft_id,)).rowcount:  # noqa: S608
                self._write_journal(c, "draft", "The draft was discarded.")
            old = c.execute(
                "SELECT id FROM draft WHERE touched <= 0 ORDER BY touched LIMIT -1 OFFSET ?", (MOST_DISCARDED,)
            )
            for (number,) in old.fetchall():
                self._delete_draft(c, number)

    def bring_back_draft(self, draft_id: int) -> None:
        """Take a draft up again that was discarded. Raises JobError when it is not on disk."""
        with self._committing("drafts") as c:
            self._touch(c, draft_id)
            self._write_journal(c, "draft", "The draft was brought back.")

    def _delete_draft(self, c: sqlite3.Connection, draft_id: int) -> bool:
        c.execute("DELETE FROM draft_edit WHERE draft_id = ?", (draft_id,))
        return bool(c.execute("DELETE FROM draft WHERE id = ?", (draft_id,)).rowcount)
