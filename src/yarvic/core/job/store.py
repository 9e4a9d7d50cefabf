"""The job: reading and committing what belongs to one vehicle."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from dataclasses import astuple
from pathlib import Path
from typing import get_args

from yarvic.core.calibration.edits import Edit
from yarvic.core.calibration.image import check_image
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.document import parse_json
from yarvic.core.errors import FormatError, JobError
from yarvic.core.formats.files import write_new
from yarvic.core.job import file
from yarvic.core.job.begin import SHEET, built, insert_revision, insert_stock
from yarvic.core.job.edits_json import edit_from_json, edit_to_json, edits_from_json
from yarvic.core.job.history import content_of_image
from yarvic.core.job.lock import WriteLock
from yarvic.core.job.model import (
    Build,
    Carriage,
    Carried,
    CarriedKind,
    Draft,
    Fitting,
    Flash,
    JobSheet,
    Release,
    Revision,
    Waiver,
)
from yarvic.core.job.records import Clock, now
from yarvic.core.job.runs import Runs


def _fitted(text: str) -> dict[str, str]:
    """What a build changed, by station. Raises ValueError for what is no such thing."""
    found = parse_json(text, source="build")
    if not isinstance(found, dict) or not all(isinstance(v, str) for v in found.values()):
        raise ValueError("stations with what is fitted there")
    return found


class Job(Runs):
    """An open job file. Each method that changes something is one transaction, on disk when it returns.

    Safe to use from several threads. Methods raise JobError when the file cannot be read or written, and when a
    record it holds cannot be what it claims.
    """

    def __init__(self, path: Path, connection: file.Connection, lock: WriteLock | None, clock: Clock) -> None:
        super().__init__(path, connection, lock, clock)
        rows = self._rows("SELECT document, layout FROM sheet")
        if not rows:
            raise JobError("the job file holds no job sheet", concerns=str(path), remedy="Restore it from a copy.")
        document, layout = rows[0]
        self._sheet = self._document(JobSheet.model_validate_json, document, "job sheet")
        self._layout = self._document(parse_layout, layout, "layout") if layout != "" else None

    # -- opening and closing

    @classmethod
    def create(
        cls,
        path: Path,
        sheet: JobSheet,
        layout_text: str = "",
        stock_image: bytes | None = None,
        *,
        author: str,
        clock: Clock = now,
    ) -> Job:
        """A new job with its first build; with an image, that is revision Stock. Without, it has no maps yet.

        Raises JobError when the file cannot be made, CalibrationError for an image that does not fit its layout.
        """
        data = built(sheet, layout_text, stock_image, author, clock)
        try:
            write_new(path, data)
        except FormatError as error:
            raise JobError(error.what, concerns=error.concerns, remedy=error.remedy) from None
        return cls.open(path, clock=clock)

    @classmethod
    def open(cls, path: Path, *, read_only: bool = False, clock: Clock = now) -> Job:
        """Open a job. Raises JobInUseError when another process may write it and `read_only` is not set."""
        if not read_only:
            file.check_head(path)
        lock = None if read_only else WriteLock(path)
        connection: file.Connection | None = None
        try:
            connection = file.connect(path, read_only=read_only)
            return cls(path, connection, lock, clock)
        except BaseException:
            if connection is not None:
                connection.close()
            if lock is not None:
                lock.release()
            raise

    # -- the sheet

    @property
    def sheet(self) -> JobSheet:
        """The job sheet."""
        return self._sheet  # type: ignore[no-any-return]

    def save_sheet(self, sheet: JobSheet, what: str) -> None:
        """Put the job sheet on disk in place of the one before; the journal says `what` was changed."""
        with self._committing() as c:
            c.execute("UPDATE sheet SET document = ?", (sheet.model_dump_json(),))
            self._write_journal(c, "sheet", what, SHEET)
        self._sheet = sheet

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
        return self._layout  # type: ignore[no-any-return]

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

    # -- builds

    def builds(self) -> list[Build]:
        """All builds in order."""
        return list(self._remember("builds", self._read_builds))

    def _read_builds(self) -> list[Build]:
        def build(number: int, title: str, time: str, fitted: str, event: str) -> Build:
            return Build(
                number,
                title,
                time,
                self._document(_fitted, fitted, "build"),
                self._document(Fitting.model_validate_json, event, "fitting event"),
            )

        return self._records(
            build, (int, str, str, str, str), "SELECT number, title, time, fitted, event FROM build ORDER BY number"
        )

    def fit(self, title: str, fitted: dict[str, str], event: Fitting | None = None) -> Build:
        """Record a fitting event: it starts a new build. `fitted` says by station what is there now."""
        if not title.strip():
            raise JobError("a build needs its title", remedy="Say what was fitted or removed.")
        event = event or Fitting()
        with self._committing("builds") as c:
            number = c.execute("SELECT max(number) FROM build").fetchone()[0] + 1
            time = self._stamp()
            c.execute(
                "INSERT INTO build VALUES (?, ?, ?, ?, ?)",
                (number, title.strip(), time, json.dumps(fitted), event.model_dump_json()),
            )
            self._write_journal(c, "build", f"Build {number}: {title.strip()}.", ("build", str(number)))
        return Build(number, title.strip(), time, fitted, event)

    def fitted(self) -> dict[str, str]:
        """What is fitted now, by station key: the sheet's entries with all builds on top."""
        now = dict(self.sheet.fitted)
        for build in self.builds():
            now.update(build.fitted)
        return now

    # -- revisions and the draft

    def revisions(self) -> list[Revision]:
        """All revisions in the order of their making."""
        return list(self._remember("revisions", self._read_revisions))

    def _read_revisions(self) -> list[Revision]:
        # Edits stay where they are: they are many, and looked at seldom.
        return self._records(
            Revision,
            (int, str, int | None, str, str, str, str, int),
            "SELECT id, name, parent_id, reason, author, time, image, build FROM revision ORDER BY id",
        )

    def edits(self, revision_id: int) -> tuple[Edit, ...]:
        """The edits that made a revision of its parent. Raises JobError when there is no such revision."""
        rows = self._rows("SELECT edits FROM revision WHERE id = ?", (revision_id,))
        if not rows:
            raise JobError("there is no such revision", concerns=str(self.path), remedy="Choose one of the ladder.")
        return self._document(edits_from_json, rows[0][0], "list of edits")  # type: ignore[no-any-return]

    def revision(self, name: str) -> Revision:
        """The revision of this name. Raises JobError when there is none."""
        for revision in self.revisions():
            if revision.name == name:
                return revision
        raise JobError(f"there is no revision {name!r}", concerns=str(self.path), remedy="Choose one of the ladder.")

    def next_name(self) -> str:
        """The name the next revision gets: a letter for the build and a number."""
        build = len(self.builds())
        letter = chr(ord("A") + (build - 1) % 26)
        numbers = [int(r.name[1:]) for r in self.revisions() if r.name[0] == letter and r.name[1:].isdigit()]
        return f"{letter}{max(numbers, default=0) + 1}"

    def commit_revision(
        self,
        name: str,
        parent_id: int | None,
        reason: str,
        author: str,
        image: bytes,
        edits: Iterable[Edit],
        *,
        drop_draft: bool = False,
    ) -> Revision:
        """Make a revision of an image. Raises JobError without a reason, CalibrationError for an unfit image."""
        if not reason.strip():
            raise JobError("a revision needs its reason", remedy="Say in one sentence why the maps changed.")
        check_image(image, self.layout, source=name)
        with self._committing("revisions") as c:
            made = insert_revision(c, self._stamp(), name, parent_id, reason, author, image, edits)
            if drop_draft:
                c.execute("DELETE FROM draft_edit")
                c.execute("DELETE FROM draft")
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

    def draft(self) -> Draft | None:
        """The draft that was kept, if there is one."""
        with self._reading():
            rows = self._rows("SELECT parent_id, time FROM draft")
            if not rows:
                return None
            parent_id, time = self._row(rows[0], (int, str))
            steps: dict[int, list[Edit]] = {}
            for step, text in self._rows("SELECT step, edit FROM draft_edit ORDER BY position"):
                steps.setdefault(step, []).append(self._document(edit_from_json, text, "draft"))
        return Draft(parent_id, tuple(tuple(edits) for edits in steps.values()), time)

    def _insert_draft(self, c: sqlite3.Connection, parent_id: int) -> None:
        c.execute("DELETE FROM draft_edit")
        c.execute("INSERT OR REPLACE INTO draft (id, parent_id, time) VALUES (1, ?, ?)", (parent_id, self._stamp()))

    def add_step(self, parent_id: int, steps_before: int, edits: Iterable[Edit]) -> None:
        """Put a step of edits on disk behind so many others; the draft is begun with its first one.

        What stands behind them, undone, goes. Raises JobError when the draft on disk is another one.
        """
        with self._committing() as c:
            self._insert_step(c, parent_id, steps_before, edits)

    def _insert_step(self, c: sqlite3.Connection, parent_id: int, steps_before: int, edits: Iterable[Edit]) -> None:
        row = c.execute("SELECT parent_id FROM draft").fetchone()
        if steps_before == 0:
            self._insert_draft(c, parent_id)  # what lay there could not be opened, or was undone
        elif row is None or row[0] != parent_id:
            raise JobError("the draft on disk is another one", concerns=str(self.path), remedy="Open the job again.")
        c.execute("DELETE FROM draft_edit WHERE step >= ?", (steps_before,))
        position = c.execute("SELECT coalesce(max(position), -1) FROM draft_edit").fetchone()[0]
        rows = [(position + n, steps_before, edit_to_json(e)) for n, e in enumerate(edits, 1)]
        c.executemany("INSERT INTO draft_edit VALUES (?, ?, ?)", rows)

    def drop_steps(self, steps_kept: int) -> None:
        """Take the steps of the draft behind so many off the disk."""
        with self._committing() as c:
            c.execute("DELETE FROM draft_edit WHERE step >= ?", (steps_kept,))

    def drop_draft(self) -> None:
        """Forget the draft; the journal says so."""
        with self._committing() as c:
            c.execute("DELETE FROM draft_edit")
            if c.execute("DELETE FROM draft").rowcount:
                self._write_journal(c, "draft", "The draft was discarded.")

    # -- flashing, waivers, releases

    def record_flash(self, revision_id: int, unit: str, image: str, blocks: int) -> Flash:
        """Record that an image was written to a unit and read back equal."""
        flash = Flash(revision_id, self._stamp(), unit, image, blocks)
        with self._committing("flashes") as c:
            number = c.execute(
                "INSERT INTO flash (revision_id, time, unit, image, blocks) VALUES (?, ?, ?, ?, ?)",
                (flash.revision_id, flash.time, flash.unit, flash.image, flash.blocks),
            ).lastrowid
            sentence = f"{blocks} blocks written to {unit} and read back equal."
            self._write_journal(c, "flash", sentence, ("flash", str(number)))
        return flash

    def flashes(self) -> list[Flash]:
        """All verified writes in order."""
        return list(self._remember("flashes", self._read_flashes))

    def _read_flashes(self) -> list[Flash]:
        return self._records(
            Flash,
            (int, str, str, str, int),
            "SELECT revision_id, time, unit, image, blocks FROM flash ORDER BY id",
        )

    def record_carried(
        self, revision_id: int, kind: CarriedKind, name: str, document: Carriage, sentence: str
    ) -> Carried:
        """Record a step of writing a unit by file, by whom; the journal says it in a sentence."""
        if not name.strip():
            raise JobError("who does this is not said", remedy="Fill in your name.")
        made = Carried(revision_id, self._stamp(), kind, name.strip(), document)
        with self._committing("carried") as c:
            number = c.execute(
                "INSERT INTO carried (revision_id, time, kind, name, document) VALUES (?, ?, ?, ?, ?)",
                (revision_id, made.time, kind, made.name, document.model_dump_json(exclude_defaults=True)),
            ).lastrowid
            self._write_journal(c, "flash", sentence, ("carried", str(number)))
        return made

    def carried(self) -> list[Carried]:
        """All steps of writing a unit by file, in order."""
        return list(self._remember("carried", self._read_carried))

    def _read_carried(self) -> list[Carried]:
        def step(revision_id: int, time: str, kind: str, name: str, document: str) -> Carried:
            if kind not in get_args(CarriedKind):
                raise JobError(
                    "the job file is damaged: a record holds what it cannot",
                    concerns=str(self.path),
                    remedy="Restore it from a copy.",
                )
            found = self._document(Carriage.model_validate_json, document, "record of a write by file")
            return Carried(revision_id, time, kind, name, found)  # type: ignore[arg-type]

        return self._records(
            step,
            (int, str, str, str, str),
            "SELECT revision_id, time, kind, name, document FROM carried ORDER BY id",
        )

    def waive(self, revision_id: int, condition: str, name: str, reason: str, finding: str = "") -> Waiver:
        """Record that a named person sets a condition of release aside, for what was found then (`finding`).

        Raises JobError without name or reason.
        """
        if not name.strip() or not reason.strip():
            raise JobError("a waiver needs a name and a reason", remedy="Fill in both.")
        waiver = Waiver(revision_id, condition, name.strip(), reason.strip(), self._stamp(), finding)
        with self._committing("waivers") as c:
            c.execute(
                "INSERT OR REPLACE INTO waiver (revision_id, condition, name, reason, time, finding)"
                " VALUES (?, ?, ?, ?, ?, ?)",
                (waiver.revision_id, waiver.condition, waiver.name, waiver.reason, waiver.time, waiver.finding),
            )
            sentence = f"{waiver.name} waived {condition}: {waiver.reason}"
            self._write_journal(c, "waiver", sentence, ("waiver", f"{revision_id} {condition}"))
        return waiver

    def waivers(self, revision_id: int) -> list[Waiver]:
        """The waivers of a revision."""
        return [w for w in self._remember("waivers", self._read_waivers) if w.revision_id == revision_id]

    def _read_waivers(self) -> list[Waiver]:
        return self._records(
            Waiver,
            (int, str, str, str, str, str),
            "SELECT revision_id, condition, name, reason, time, finding FROM waiver ORDER BY id",
        )

    def record_release(
        self, revision_id: int, name: str, manifest_sha256: str, package: str, manifest: str = "", signature: str = ""
    ) -> Release:
        """Record a signed release; a revision is released once."""
        release = Release(revision_id, name, self._stamp(), manifest_sha256, package, manifest, signature)
        with self._committing("releases") as c:
            if c.execute("SELECT 1 FROM release WHERE revision_id = ?", (revision_id,)).fetchone():
                raise JobError("this revision is released already", remedy="Commit a new revision.")
            c.execute("INSERT INTO release VALUES (?, ?, ?, ?, ?, ?, ?)", astuple(release))
            sentence = f"Signed by {name}: {package}."
            self._write_journal(c, "release", sentence, ("release", str(revision_id)))
        return release

    def releases(self) -> list[Release]:
        """All releases, in the order in which they were signed."""
        return list(self._remember("releases", self._read_releases))

    def _read_releases(self) -> list[Release]:
        # The row's number counts up where the revision's own does not; a clock may go back.
        return self._records(
            Release,
            (int, str, str, str, str, str, str),
            "SELECT revision_id, name, time, manifest_sha256, package, manifest, signature FROM release"
            " ORDER BY time, revision_id",
        )
