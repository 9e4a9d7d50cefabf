"""The maps of a job: its layout, its revisions with their images and edits, and what was said of them."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from typing import get_args

from yarvic.core.calibration.edits import Edit
from yarvic.core.calibration.image import check_image, image_id
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.errors import JobError
from yarvic.core.evidence.expected import Expected
from yarvic.core.job.begin import SHEET, insert_image, insert_revision, insert_stock
from yarvic.core.job.drafts import Drafts
from yarvic.core.job.edits_json import edits_from_json
from yarvic.core.job.history import content_of_image
from yarvic.core.job.model import Expectation, Pairing, Revision, Tag, TagKind, TagState


class Revisions(Drafts):
    """Revisions are made and read, never changed; what is said of them lies beside them."""

    def import_stock(self, layout: Layout, image: bytes, author: str, *, source: str = "stock image") -> Revision:
        """Give a job without maps its layout and the image it arrived with, as revision Stock.

        Raises CalibrationError for an image that does not fit the layout, JobError when there are maps already.
        """
        check_image(image, layout, source=source)
        if self._layout is not None:
            raise JobError(
                "the job has its maps already", concerns=str(self.path), remedy="Import the image as a draft."
            )
        with self._committing("revisions") as c:
            made = insert_stock(c, self._stamp(), layout, image, author)
        self._layout = layout
        return made

    def save_layout(self, layout: Layout, what: str) -> None:
        """Put the layout on disk in place of the one before; the journal says `what` was changed."""
        with self._committing() as c:
            c.execute("UPDATE sheet SET layout = ?", (layout.to_json(),))
            self._write_journal(c, "layout", what, SHEET)
        self._layout = layout

    def revisions(self) -> list[Revision]:
        """All revisions in the order of their making."""
        return list(self._remember("revisions", self._read_revisions))

    def _read_revisions(self) -> list[Revision]:
        # Edits stay where they are: they are many, and looked at seldom.
        return self._records(
            Revision,
            (int, str, int | None, str, str, str, str, int, int | None),
            "SELECT id, name, parent_id, reason, author, time, image, build, merged_id"
            " FROM revision LEFT JOIN merge ON merge.revision_id = revision.id ORDER BY id",
        )

    def edits(self, revision_id: int) -> tuple[Edit, ...]:
        """The edits that made a revision of its parent. Raises JobError when there is no such revision."""
        rows = self._rows("SELECT edits FROM revision WHERE id = ?", (revision_id,))
        if not rows:
            raise JobError("there is no such revision", concerns=str(self.path), remedy="Choose one of the ladder.")
        layout = self.layout

        def read(text: str) -> tuple[Edit, ...]:
            return edits_from_json(text, layout)

        return self._document(read, rows[0][0], "list of edits")  # type: ignore[no-any-return]

    def revision(self, name: str) -> Revision:
        """The revision of this name. Raises JobError when there is none."""
        for revision in self.revisions():
            if revision.name == name:
                return revision
        raise JobError(f"there is no revision {name!r}", concerns=str(self.path), remedy="Choose one of the ladder.")

    def commit_revision(
        self,
        name: str,
        parent_id: int | None,
        reason: str,
        author: str,
        image: bytes,
        edits: Iterable[Edit],
        *,
        drop_draft: int | None = None,
        merged_id: int | None = None,
        expected: Iterable[Expected] = (),
    ) -> Revision:
        """Make a revision of an image. Raises JobError without a reason, CalibrationError for an unfit image."""
        if not reason.strip():
            raise JobError("a revision needs its reason", remedy="Say in one sentence why the maps changed.")
        check_image(image, self.layout, source=name)
        with self._committing("revisions", "drafts", "expectations") as c:
            made = insert_revision(c, self._stamp(), name, parent_id, reason, author, image, edits, merged_id)
            for each in expected:
                self._insert_expectation(c, made.id, each, author)
            if drop_draft is not None:
                self._delete_draft(c, drop_draft)
        return made

    def image(self, sha256: str) -> bytes:
        """The image of this content. Raises JobError when it is missing or its bytes do not match its name."""
        rows = self._rows("SELECT size, data FROM image WHERE sha256 = ?", (sha256,))
        if not rows:
            raise JobError("an image is missing", concerns=str(self.path), remedy="Restore the job from a copy.")
        image = content_of_image(sha256, *rows[0])
        if image is None:
            raise JobError("an image is damaged", concerns=str(self.path), remedy="Restore the job from a copy.")
        return image

    # -- what is said of a revision

    def put_tag(self, revision_id: int, tag: TagKind, state: TagState, name: str, reason: str) -> Tag:
        """Record that a named person marked a revision, or took a mark off it. Raises JobError without name or reason."""
        if not name.strip() or not reason.strip():
            raise JobError("a mark needs a name and a reason", remedy="Fill in both.")
        made = Tag(revision_id, tag, state, name.strip(), reason.strip(), self._stamp())
        with self._committing("tags") as c:
            number = c.execute(
                "INSERT INTO tag (revision_id, tag, state, name, reason, time) VALUES (?, ?, ?, ?, ?, ?)",
                (revision_id, tag, state, made.name, made.reason, made.time),
            ).lastrowid
            what = f"marked {tag!r}" if state == "put" else f"no longer marked {tag!r}"
            subject = next((r.name for r in self.revisions() if r.id == revision_id), "tag")
            self._write_journal(c, subject, f"{what} by {made.name}: {made.reason}", ("tag", str(number)))
        return made

    def tags(self) -> list[Tag]:
        """All marks that were put on revisions or taken off, in order."""
        return list(self._remember("tags", self._read_tags))

    def _read_tags(self) -> list[Tag]:
        def made(revision_id: int, tag: str, state: str, name: str, reason: str, time: str) -> Tag:
            if tag not in get_args(TagKind) or state not in get_args(TagState):
                raise JobError(
                    "the job file is damaged: a mark on a revision is none that there is",
                    concerns=str(self.path),
                    remedy="Restore it from a copy.",
                )
            return Tag(revision_id, tag, state, name, reason, time)  # type: ignore[arg-type]

        return self._records(
            made,
            (int, str, str, str, str, str),
            "SELECT revision_id, tag, state, name, reason, time FROM tag ORDER BY id",
        )

    def tags_of(self, revision_id: int) -> list[Tag]:
        """The marks that are on a revision now."""
        now: dict[str, Tag] = {}
        for each in self.tags():
            if each.revision_id == revision_id:
                now.pop(each.tag, None)
                if each.state == "put":
                    now[each.tag] = each
        return list(now.values())

    def expect(self, revision_id: int, expected: Expected, name: str) -> None:
        """Record what somebody expects of a revision. Raises JobError without a name."""
        if not name.strip():
            raise JobError("who expects this is not said", remedy="Fill in your name.")
        with self._committing("expectations") as c:
            self._insert_expectation(c, revision_id, expected, name)

    def _insert_expectation(self, c: sqlite3.Connection, revision_id: int, expected: Expected, name: str) -> None:
        number = c.execute(
            "INSERT INTO expectation (revision_id, document, name, time) VALUES (?, ?, ?, ?)",
            (revision_id, expected.model_dump_json(), name.strip(), self._stamp()),
        ).lastrowid
        self._write_journal(c, "expectation", f"{name} expects: {expected.sentence()}.", ("expectation", str(number)))

    # -- the gearbox's unit

    def pair(self, revision_id: int, layout: Layout, image: bytes, title: str, name: str) -> Pairing:
        """Say which image the gearbox's unit is to hold with a revision. Raises CalibrationError for one that does not fit,
        JobError for a unit of another family than before, and without a name.
        """
        if not name.strip():
            raise JobError("who pairs it is not said", remedy="Fill in your name.")
        check_image(image, layout, source=title)
        before = self.pairings()
        if before and (before[0].layout.family, before[0].layout.version) != (layout.family, layout.version):
            raise JobError(
                f"the gearbox's unit is of family {before[0].layout.family!r}, this image of {layout.family!r}",
                remedy="Choose an image of the gearbox's unit.",
            )
        made = Pairing(revision_id, self._stamp(), name.strip(), title.strip(), layout, image_id(image))
        with self._committing("pairings") as c:
            insert_image(c, made.image, image)
            number = c.execute(
                "INSERT INTO pairing (revision_id, time, name, title, layout, image) VALUES (?, ?, ?, ?, ?, ?)",
                (revision_id, made.time, made.name, made.title, layout.to_json(), made.image),
            ).lastrowid
            sentence = f"{made.name} pairs it with {made.title} of the gearbox's unit."
            self._write_journal(c, "pairing", sentence, ("pairing", str(number)))
        return made

    def pairings(self) -> list[Pairing]:
        """All that was said of the gearbox's unit, in order."""
        return list(self._remember("pairings", self._read_pairings))

    def _read_pairings(self) -> list[Pairing]:
        def made(revision_id: int, time: str, name: str, title: str, layout: str, image: str) -> Pairing:
            return Pairing(
                revision_id, time, name, title, self._document(parse_layout, layout, "gearbox's layout"), image
            )

        return self._records(
            made,
            (int, str, str, str, str, str),
            "SELECT revision_id, time, name, title, layout, image FROM pairing ORDER BY id",
        )

    def pairing_of(self, revision_id: int) -> Pairing | None:
        """What the gearbox's unit is to hold with a revision: what was said of it last, or of the one it was made of."""
        said = {p.revision_id: p for p in self.pairings()}
        parents = {r.id: r.parent_id for r in self.revisions()} if said else {}
        at: int | None = revision_id
        while at is not None and at in parents:
            if at in said:
                return said[at]
            at = parents[at]
        return None

    # -- what was expected

    def expectations(self) -> list[Expectation]:
        """All that was expected of revisions, in order."""
        return list(self._remember("expectations", self._read_expectations))

    def _read_expectations(self) -> list[Expectation]:
        def made(revision_id: int, document: str, name: str, time: str) -> Expectation:
            return Expectation(
                revision_id, self._document(Expected.model_validate_json, document, "expectation"), name, time
            )

        return self._records(
            made,
            (int, str, str, str),
            "SELECT revision_id, document, name, time FROM expectation ORDER BY id",
        )
