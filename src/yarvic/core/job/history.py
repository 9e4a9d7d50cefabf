"""A history that cannot be changed unseen: every line of the journal carries the sum of the lines before it.

A line names the records that came with it, each with the SHA-256 (FIPS 180-4) of its content; its own sum is over the
sum of the line before, its words, and those names. What is changed, taken out or put in by other means fits no more;
a release's signature is over the sum of the line it was made at (see docs/security.md). Most records never change: the
first line that names one holds for good, and no later line can name it with another sum.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
import zlib
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from yarvic.core.calibration.described import MOST_MEMORY
from yarvic.core.calibration.image import image_id
from yarvic.core.document import parse_json
from yarvic.core.errors import Cancelled, FormatError, in_plain

START = "yarvic history 1"
MOST_FAULTS = 20
# The records of a job by kind: what one is called, and its content by its key, the first column.
_RECORDS = {
    "sheet": "SELECT '1', document, layout FROM sheet",
    "build": "SELECT number, title, time, fitted, event FROM build",
    "revision": "SELECT id, name, parent_id, reason, author, time, image, build, edits FROM revision",
    "evidence": "SELECT id, title, revision_id, build, time, source, conditions FROM evidence",
    "evidence_note": "SELECT id, evidence_id, kind, document, time FROM evidence_note",
    "flash": "SELECT id, revision_id, time, unit, image, blocks FROM flash",
    "carried": "SELECT id, revision_id, time, kind, name, document FROM carried",
    "merge": "SELECT revision_id, merged_id FROM merge",
    "tag": "SELECT id, revision_id, tag, state, name, reason, time FROM tag",
    "expectation": "SELECT id, revision_id, document, name, time FROM expectation",
    "pairing": "SELECT id, revision_id, time, name, title, layout, image FROM pairing",
    "waiver": "SELECT revision_id || ' ' || condition, name, reason, time, finding FROM waiver",
    "release": "SELECT revision_id, name, time, manifest_sha256, package, manifest, signature FROM release",
}
_KEYS = {
    "sheet": "'1'", "build": "number", "revision": "id", "evidence": "id", "evidence_note": "id", "flash": "id",
    "carried": "id", "merge": "revision_id", "tag": "id", "expectation": "id", "pairing": "id",
    "waiver": "revision_id || ' ' || condition", "release": "revision_id",
}  # fmt: skip
_COLUMNS = (
    "SELECT position, key, title, quantity, unit, time_position, count, crc32, data FROM evidence_column"
    " WHERE evidence_id = ? ORDER BY position"
)
Record = tuple[str, str]  # kind and key
# What a person changes later on; each change is a line that names it anew.
CHANGING = frozenset({"sheet", "waiver"})


@dataclass(frozen=True)
class Line:
    """A line of the journal: its number, what it says, its sum, and the records that it names."""

    number: int
    time: str
    subject: str
    sentence: str
    sum: str
    records: tuple[Record, ...]


@dataclass(frozen=True)
class History:
    """What the journal's sums say: its lines, and all that does not fit."""

    journal: tuple[Line, ...] = ()
    faults: tuple[str, ...] = ()

    @property
    def lines(self) -> int:
        """How many lines there are."""
        return len(self.journal)

    @property
    def head(self) -> str:
        """The sum of the last line; empty where there is none."""
        return self.journal[-1].sum if self.journal else ""

    @property
    def start(self) -> str:
        """The sum of the first line, by which a job is known whatever its file is called."""
        return self.journal[0].sum if self.journal else ""

    def has(self, lines: int, head: str) -> bool:
        """Whether it had so many lines once, the last with this sum."""
        return 0 < lines <= self.lines and self.journal[lines - 1].sum == head


def digest(values: Sequence[object]) -> str:
    """SHA-256 of a list of numbers, texts and bytes, as hexadecimal digits; bytes enter by their own SHA-256."""
    plain = [{"sha256": hashlib.sha256(v).hexdigest()} if isinstance(v, bytes) else v for v in values]
    return hashlib.sha256(json.dumps(plain, ensure_ascii=True, separators=(",", ":")).encode("ascii")).hexdigest()


def link(previous: str, number: int, time: str, subject: str, sentence: str, about: str) -> str:
    """The sum of a line of the journal; `previous` is that of the line before, empty for the first."""
    return digest([START, previous, number, time, subject, sentence, about])


def _digest_of(connection: sqlite3.Connection, kind: str, row: Sequence[Any], known: Sequence[str] = ()) -> str:
    columns: list[object] = list(known)
    if kind == "evidence" and not columns:
        for each in connection.execute(_COLUMNS, (row[0],)):
            columns.append(digest(each))
    return digest([kind, *row, *columns])


def about(connection: sqlite3.Connection, records: Iterable[Record], columns: Sequence[str] = ()) -> str:
    """The names and sums of records as they are now, as a line of the journal keeps them. `columns` are the sums of the
    columns of the evidence among them, where they are known.
    """
    found = []
    for kind, key in records:
        row = connection.execute(f"{_RECORDS[kind]} WHERE {_KEYS[kind]} = ?", (_typed(kind, key),)).fetchone()
        found.append([kind, key, _digest_of(connection, kind, row, columns if kind == "evidence" else ())])
    return json.dumps(found, separators=(",", ":"))


def _typed(kind: str, key: str) -> object:
    return key if kind in ("sheet", "evidence", "waiver") else int(key)


def write_line(
    connection: sqlite3.Connection,
    time: str,
    subject: str,
    sentence: str,
    records: Iterable[Record] = (),
    columns: Sequence[str] = (),
) -> None:
    """Add a line to the journal, inside the transaction that the records came with."""
    last = connection.execute("SELECT id, hash FROM journal ORDER BY id DESC LIMIT 1").fetchone() or (0, "")
    number, text = last[0] + 1, about(connection, records, columns)
    connection.execute(
        "INSERT INTO journal (id, time, subject, sentence, about, hash) VALUES (?, ?, ?, ?, ?, ?)",
        (number, time, subject, sentence, text, link(last[1], number, time, subject, sentence, text)),
    )


def all_records(connection: sqlite3.Connection) -> list[Record]:
    """Every record of a job, of the tables that its version has."""
    there = {row[0] for row in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall()}
    return [
        (kind, str(row[0]))
        for kind, key in _KEYS.items()
        if kind in there
        for row in connection.execute(f"SELECT {key} FROM {kind}").fetchall()  # noqa: S608 - our own names
    ]


def seal(connection: sqlite3.Connection, time: str, version: int) -> None:
    """Begin the history of an older file: its lines as they are found, and a line that names every record."""
    rows = connection.execute("SELECT id, time, subject, sentence, about FROM journal ORDER BY id").fetchall()
    previous = ""
    for row in rows:
        previous = link(previous, *row)
        connection.execute("UPDATE journal SET hash = ? WHERE id = ?", (previous, row[0]))
    words = f"Brought up to date from file version {version}: what is in it is sealed from here on."
    write_line(connection, time, "job", words, all_records(connection))


def check(connection: sqlite3.Connection, cancelled: Callable[[], bool] = lambda: False) -> History:
    """Go through the journal and every record that it names. Raises sqlite3.Error, Cancelled."""
    faults: list[str] = []
    lines: list[Line] = []
    named: dict[Record, str] = {}
    previous, number = "", 0
    for row in connection.execute("SELECT id, time, subject, sentence, about, hash FROM journal ORDER BY id"):
        _ask(cancelled)
        number += 1
        place = f"line {number} of the journal"
        if row[0] != number:
            faults.append(f"{place} is missing, or a line was put in before it")
            number = row[0] if isinstance(row[0], int) else number
        if link(previous, *row[:5]) != row[5]:
            faults.append(f"{place} is not as it was written, or a line before it was removed")
        previous = str(row[5])
        sums = _named(row[4], place, faults)
        for record, found in sums.items():
            faults += _named_again(record, found, named, place)
        time, subject, sentence = map(str, row[1:4])
        lines.append(Line(number, time, subject, sentence, previous, tuple(sums)))
        if len(faults) >= MOST_FAULTS:
            break
    faults += _record_faults(connection, named, cancelled)
    return History(tuple(lines), tuple(faults[:MOST_FAULTS]))


def _named(about: object, place: str, faults: list[str]) -> dict[Record, str]:
    """The records that a line names, with their sums."""
    try:
        return {(str(kind), str(key)): str(found) for kind, key, found in parse_json(str(about), source=place)}
    except (FormatError, ValueError, TypeError):
        faults.append(f"{place} names records in a form that nobody can read")
        return {}


def _named_again(record: Record, found: str, named: dict[Record, str], place: str) -> list[str]:
    """Note what a line says of a record; a fault where it says something new of one that never changes."""
    kind, key = record
    if kind in CHANGING:
        named[record] = found
    elif named.setdefault(record, found) != found:
        return [f"{place} names {kind} {in_plain(key, 60)} anew, with another content: it never changes"]
    return []


def _record_faults(
    connection: sqlite3.Connection, named: dict[Record, str], cancelled: Callable[[], bool]
) -> list[str]:
    faults, there = [], set()
    for kind, query in _RECORDS.items():
        for row in connection.execute(query):
            _ask(cancelled)
            record = (kind, str(row[0]))
            there.add(record)
            what = f"{kind} {_called(kind, row)}"
            if record not in named:
                faults.append(f"{what} is in no line of the journal: it was put in by other means")
            elif _digest_of(connection, kind, row) != named[record]:
                faults.append(f"{what} is not as it was recorded")
    faults += [
        f"{kind} {in_plain(key, 60)} is recorded, and is not there" for kind, key in named if (kind, key) not in there
    ]
    for sha256, size, data in connection.execute("SELECT sha256, size, data FROM image"):
        _ask(cancelled)
        if content_of_image(sha256, size, data) is None:
            faults.append(f"image {in_plain(str(sha256), 12)} is damaged")
    tables = {row[0] for row in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall()}
    users = " UNION ".join(f"SELECT image FROM {table}" for table in ("revision", "pairing") if table in tables)  # noqa: S608
    unused = f"SELECT count(*) FROM image WHERE sha256 NOT IN ({users})"  # noqa: S608 - our own names
    if connection.execute(unused).fetchone()[0]:
        faults.append("an image belongs to no revision: it was put in by other means")
    return faults


def content_of_image(sha256: object, size: object, data: object) -> bytes | None:
    """The bytes of an image by its row; None where they are not what it claims. Never more than any memory holds."""
    # A size of -1 would mean: without end.
    if not isinstance(size, int) or not 0 < size <= MOST_MEMORY or not isinstance(data, bytes):
        return None
    try:
        content = zlib.decompressobj().decompress(data, size + 1)
    except zlib.error:
        return None
    return content if len(content) == size and image_id(content) == sha256 else None


def _called(kind: str, row: Sequence[Any]) -> str:
    return in_plain(str(row[1] if kind == "revision" else row[0]), 60) if kind != "sheet" else "of the job"


def _ask(cancelled: Callable[[], bool]) -> None:
    if cancelled():
        raise Cancelled("checking the file was cancelled")
