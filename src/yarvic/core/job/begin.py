"""What a job begins with, and how a revision comes into it: rows with their lines of the journal, in one transaction."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Iterable

from yarvic.core.calibration.edits import Edit
from yarvic.core.calibration.image import check_image, image_id
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.job import file, history
from yarvic.core.job.edits_json import edits_to_json
from yarvic.core.job.model import Fitting, JobSheet, Revision
from yarvic.core.job.records import Clock

SHEET: history.Record = ("sheet", "1")


def built(sheet: JobSheet, layout_text: str, stock_image: bytes | None, author: str, clock: Clock) -> bytes:
    """The bytes of a new job file, made in memory: no half of it is ever on disk."""
    connection = file.new()
    try:
        stamp = clock().isoformat(timespec="seconds")
        connection.execute("BEGIN")
        connection.execute("INSERT INTO sheet VALUES (1, ?, '')", (sheet.model_dump_json(),))
        connection.execute(
            "INSERT INTO build VALUES (1, ?, ?, ?, ?)", ("as received", stamp, "{}", Fitting().model_dump_json())
        )
        history.write_line(connection, stamp, "job", f"{sheet.title} begun.", (SHEET, ("build", "1")))
        if stock_image is not None:
            layout = parse_layout(layout_text)
            check_image(stock_image, layout, source="stock image")
            insert_stock(connection, stamp, layout, stock_image, author)
        connection.execute("COMMIT")
        return connection.serialize()
    finally:
        connection.close()


def insert_stock(c: sqlite3.Connection, stamp: str, layout: Layout, image: bytes, author: str) -> Revision:
    """Write layout and stock image, inside a transaction."""
    c.execute("UPDATE sheet SET layout = ?", (layout.to_json(),))
    return insert_revision(c, stamp, "Stock", None, "as received", author, image, (), None, SHEET)


def insert_image(c: sqlite3.Connection, sha: str, image: bytes) -> None:
    """Keep an image by its content, inside a transaction."""
    c.execute("INSERT OR IGNORE INTO image VALUES (?, ?, ?)", (sha, len(image), zlib.compress(image)))


def insert_revision(
    c: sqlite3.Connection,
    stamp: str,
    name: str,
    parent_id: int | None,
    reason: str,
    author: str,
    image: bytes,
    edits: Iterable[Edit],
    merged_id: int | None = None,
    *records: history.Record,
) -> Revision:
    """Write a revision with its image and its line in the journal, inside a transaction."""
    sha, reason = image_id(image), reason.strip()
    insert_image(c, sha, image)
    build = c.execute("SELECT max(number) FROM build").fetchone()[0]
    cursor = c.execute(
        "INSERT INTO revision (name, parent_id, reason, author, time, image, build, edits)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (name, parent_id, reason, author, stamp, sha, build, edits_to_json(edits)),
    )
    assert cursor.lastrowid is not None
    made = Revision(cursor.lastrowid, name, parent_id, reason, author, stamp, sha, build, merged_id)
    sentence = f"{name} committed by {author}: {reason}"
    if merged_id is not None:
        c.execute("INSERT INTO merge VALUES (?, ?)", (made.id, merged_id))
        records = (("merge", str(made.id)), *records)
    history.write_line(c, stamp, name, sentence, (("revision", str(made.id)), *records))
    return made
