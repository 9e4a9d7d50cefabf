"""Where the maps in hand come from: a table's states, which revision last changed a cell, and what is said of revisions."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from psygnal import Signal

from yarvic.core.calibration.image import Image, name_in
from yarvic.core.calibration.merging import Conflict, Merge, Side, merge
from yarvic.core.calibration.table import Table
from yarvic.core.errors import CalibrationError, JobError
from yarvic.core.job.lineage import Changed, ImageOf, common_ancestor, last_changed, last_touched, states_of
from yarvic.core.job.model import Revision, TagKind
from yarvic.core.job.store import Job
from yarvic.state.acts import HISTORY
from yarvic.state.draft import MERGED, DraftState, edits_towards, image_of
from yarvic.state.selection import DRAFT
from yarvic.state.shown_table import ShownTable
from yarvic.state.work import Asked, Progress

MOST_IMAGES = 40  # kept while a history is walked
MOST_LETTERS = 80  # of a draft's name


@dataclass(frozen=True)
class TableHistory:
    """Of one table or value of a slot, seen from a revision on: its states, the first first, and who changed each cell."""

    revision_id: int
    slot: str
    key: str
    states: tuple[tuple[Revision, Table], ...]
    changed: Changed


@dataclass(frozen=True)
class Blame:
    """Who last changed a cell: the revision, and what stood there before it (None where that is not known)."""

    revision: Revision
    before: float | None


def images_of(job: Job) -> ImageOf:
    """A reader of revisions' images for a worker, that keeps the last few."""
    kept: dict[int, Image] = {}

    def read(revision: Revision) -> Image:
        if revision.id not in kept:
            if len(kept) >= MOST_IMAGES:
                kept.pop(next(iter(kept)))
            kept[revision.id] = image_of(job, revision)
        return kept[revision.id]

    return read


class History:
    """Worked out beside the window. `changed`: something of it came."""

    changed = Signal()

    def __init__(self, maps: ShownTable) -> None:
        self.maps = maps
        self._asked: tuple[int, str, str] | None = None
        self._found: TableHistory | None = None
        self._touched: tuple[tuple[int, str], dict[str, int]] | None = None
        self._touching: tuple[int, str] | None = None

    def forget(self) -> None:
        """Another job, or another layout."""
        self._asked = self._found = self._touched = self._touching = None

    # -- of the table in hand

    def of_table(self) -> TableHistory | None:
        """The history of the table in hand; None while it is worked out, and where there is none."""
        session = self.maps.session
        revision, job, table = session.evidence_revision(), session.job, self.maps.table()
        if revision is None or job is None or table is None:
            return None
        asked = (revision.id, session.slot, table.key)
        found = self._found
        if found is not None and (found.revision_id, found.slot, found.key) == asked:
            return found
        if self._asked != asked:
            self._asked = asked
            self._look(job, *asked)
        found = self._found
        return found if found is not None and (found.revision_id, found.slot, found.key) == asked else None

    def _look(self, job: Job, revision_id: int, slot: str, key: str) -> None:
        revisions = self.maps.session.revisions()

        def work(progress: Progress, cancelled: Asked) -> TableHistory:
            read = images_of(job)
            states = states_of(revisions, revision_id, slot, key, read)
            return TableHistory(
                revision_id, slot, key, tuple(states), last_changed(revisions, revision_id, slot, key, read)
            )

        def apply(found: TableHistory) -> None:
            self._found = found
            self.changed.emit()

        session = self.maps.session
        session.requests.submit(session.request(HISTORY), "History of the table", work, apply, visible=False)

    def blame(self, row: int, column: int) -> Blame | None:
        """Who last changed a cell of the table in hand; None where nobody did, and while that is not known."""
        found = self.of_table()
        if found is None or not (
            0 <= row < found.changed.revision.shape[0] and 0 <= column < found.changed.revision.shape[1]
        ):
            return None
        revision = self.maps.session.revision(int(found.changed.revision[row, column]))
        if revision is None:
            return None
        before = float(found.changed.before[row, column])
        return Blame(revision, before if np.isfinite(before) else None)

    def in_words(self, row: int, column: int) -> str:
        """Who last changed a cell, from what to what, and why."""
        table, found = self.maps.table(), self.blame(row, column)
        if table is None or self.of_table() is None:
            return ""
        if found is None:
            return "as it came"
        r = found.revision
        was = ""
        if found.before is not None:
            d, unit = self.maps.decimals(table), self.maps.display_unit(table.unit)
            before = float(self.maps.shown_value(found.before, table.unit))
            was = f" from {before:.{d}f} {unit}".rstrip()
        return f"last changed{was} in {r.name} by {r.author}: {r.reason}"

    # -- of all tables

    def touched(self) -> dict[str, int]:
        """By key, the revision that last changed each entry; empty while that is worked out."""
        session = self.maps.session
        revision, job = session.evidence_revision(), session.job
        if revision is None or job is None:
            return {}
        asked = (revision.id, session.slot)
        if self._touched is not None and self._touched[0] == asked:
            return self._touched[1]
        if self._touching != asked:
            self._touching = asked
            revisions = session.revisions()

            def work(progress: Progress, cancelled: Asked) -> dict[str, int]:
                return last_touched(revisions, asked[0], asked[1], images_of(job))

            def apply(found: dict[str, int]) -> None:
                self._touched = asked, found
                self.changed.emit()

            request = session.request(f"{HISTORY} of all")
            session.requests.submit(request, "History of the tables", work, apply, visible=False)
        return self._touched[1] if self._touched is not None and self._touched[0] == asked else {}

    # -- drafts

    def branch(self, revision: Revision, name: str) -> DraftState:
        """Begin a draft of its own on a revision, and take it in hand. Raises JobError, for a name that is taken too."""
        session = self.maps.session
        if session.job is None or session.job.read_only:
            raise JobError("the job is open read only", remedy="Close it elsewhere and open it again.")
        name = " ".join(name.split())[:MOST_LETTERS]
        taken = {d.name.casefold() for d in session.job.drafts()} | {r.name.casefold() for r in session.revisions()}
        if name and name.casefold() in taken:
            raise JobError(f"{name} is the name of another draft or revision", remedy="Choose another name.")
        number = session.job.begin_draft(revision.id, (), name=name)
        session.take_draft(number)
        assert session.draft is not None
        session.say(f"A draft on {revision.name} is begun.")
        return session.draft

    def revert(self, revision: Revision) -> None:
        """Make the draft hold what a revision holds, as one step. Raises JobError, CalibrationError."""
        session = self.maps.session
        draft = session.editable_draft()
        step = edits_towards(draft.image, session.image_of(revision), f"reverted to {revision.name}")
        if step:
            draft.add(step)
            session.edited(draft)
        session.say(f"The draft holds what {revision.name} holds." if step else "It holds that already.")

    # -- marks

    def mark(self, revision: Revision, tag: TagKind, name: str, reason: str, *, put: bool = True) -> None:
        """Mark a revision, or take a mark off it. Raises JobError without name or reason."""
        session = self.maps.session
        assert session.job is not None
        session.job.put_tag(revision.id, tag, "put" if put else "removed", name, reason)
        session.settings.author = name.strip()
        session.job_changed.emit()


class Merging:
    """A merge that is under way: what is taken, and what a person has to decide. It is of one draft and one revision."""

    changed = Signal()

    def __init__(self, maps: ShownTable) -> None:
        self.maps = maps
        self.merge: Merge | None = None
        self.other = ""
        self.other_reason = ""
        self.base = ""
        self._draft: DraftState | None = None
        self._other_id: int | None = None
        self.sides: dict[tuple[str, str, tuple[int, int] | None], Side] = {}

    def with_revision(self, other: Revision) -> None:
        """Merge another revision into the draft in hand, or one that is begun. Raises JobError, CalibrationError."""
        session = self.maps.session
        draft = session.editable_draft()
        if draft.parent.id == other.id:
            raise JobError(f"the draft stands on {other.name} already", remedy="Choose another revision.")
        base = common_ancestor(session.revisions(), draft.parent.id, other.id)
        self._take(
            draft, session.image_of(base), session.image_of(other), base.name, other.name, other.reason, other.id
        )

    def with_image(self, image: Image, name: str) -> None:
        """Merge an image that came back from somewhere. Raises as `with_revision`.

        It was made on the revision whose name it bears; where it bears none of this job, on the reference.
        """
        session = self.maps.session
        draft = session.editable_draft()
        borne = name_in(image.data, image.layout)
        named = next((r for r in session.revisions() if r.name == borne), None)
        base = named or session.revision(session.reference)
        if base is None:
            raise JobError("nobody knows which revision it was made on", remedy="Choose that one as reference.")
        reason = f"as it came in {name}, taken as made on {base.name}" + ("" if named else ", the reference")
        self._take(draft, session.image_of(base), image, base.name, name, reason, None)

    def _take(
        self, draft: DraftState, base: Image, theirs: Image, base_name: str, name: str, reason: str, other: int | None
    ) -> None:
        self.merge = merge(base, draft.image, theirs)
        self.base, self.other, self.other_reason = base_name, name, reason
        self._draft, self._other_id = draft, other
        self.sides = {}
        self.changed.emit()

    def ours_reason(self) -> str:
        """Why our side changed: the reason of the revision that the draft stands on."""
        return self._draft.parent.reason if self._draft is not None else ""

    def decide(self, conflicts: Iterable[Conflict], side: Side) -> None:
        """Say whose value stands."""
        for each in conflicts:
            self.sides[each.slot, each.key, each.cell] = side
        self.changed.emit()

    def open_conflicts(self) -> list[Conflict]:
        """What is not decided yet."""
        if self.merge is None:
            return []
        return [c for c in self.merge.conflicts if (c.slot, c.key, c.cell) not in self.sides]

    def do(self) -> None:
        """Put the merge into the draft, as one step. Raises CalibrationError, JobError; then nothing has changed."""
        session, draft = self.maps.session, self._draft
        if self.merge is None or draft is None:
            raise CalibrationError("there is nothing to merge", remedy="Choose what is to be merged.")
        begun = draft.id is not None
        if begun and (session.draft is not draft or session.working != DRAFT):
            raise JobError("the draft that this was for is not selected", remedy="Select it, and merge again.")
        if self.merge.ours is not draft.image:
            raise JobError("the draft was changed meanwhile", remedy="Choose again what is to be merged.")
        step = self.merge.step(f"{MERGED}{self.other}", self.sides)
        if step:
            draft.add_merge(step, self._other_id)
            session.edited(draft)
        session.say(
            f"{self.other} is merged: {len(step)} tables and values changed." if step else "Nothing to merge."
        )
        self.cancel()

    def cancel(self) -> None:
        """Forget it; nothing was changed by it."""
        self.merge, self._draft, self.sides = None, None, {}
        self.changed.emit()
