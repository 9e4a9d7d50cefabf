"""The job: reading and committing what belongs to one vehicle."""

from __future__ import annotations

import json
from dataclasses import astuple
from pathlib import Path
from typing import get_args

from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.document import parse_json
from yarvic.core.errors import FormatError, JobError
from yarvic.core.formats.files import write_new
from yarvic.core.job import file
from yarvic.core.job.begin import SHEET, built
from yarvic.core.job.lock import WriteLock
from yarvic.core.job.model import (
    Build,
    Carriage,
    Carried,
    CarriedKind,
    Fitting,
    Flash,
    JobSheet,
    Release,
    Waiver,
)
from yarvic.core.job.records import Clock, now
from yarvic.core.job.revisions import Revisions


def _fitted(text: str) -> dict[str, str]:
    """What a build changed, by station. Raises ValueError for what is no such thing."""
    found = parse_json(text, source="build")
    if not isinstance(found, dict) or not all(isinstance(v, str) for v in found.values()):
        raise ValueError("stations with what is fitted there")
    return found


class Job(Revisions):
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

    def arrangement(self, view: str) -> str | None:
        """How a view was arranged, as its document; None where nobody arranged it."""
        rows = self._rows("SELECT document FROM arrangement WHERE view = ?", (view,))
        return str(rows[0][0]) if rows else None

    def keep_arrangement(self, view: str, document: str) -> None:
        """Keep how a view is arranged. It is no part of the history: nothing is measured or judged by it."""
        with self._committing() as c:
            c.execute("INSERT OR REPLACE INTO arrangement VALUES (?, ?)", (view, document))

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

    def next_name(self) -> str:
        """The name the next revision gets: a letter for the build and a number."""
        build = len(self.builds())
        letter = chr(ord("A") + (build - 1) % 26)
        numbers = [int(r.name[1:]) for r in self.revisions() if r.name[0] == letter and r.name[1:].isdigit()]
        return f"{letter}{max(numbers, default=0) + 1}"

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
            if not blocks:
                sentence = f"{unit} was read, and holds it already."
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
