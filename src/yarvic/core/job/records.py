"""An open job file: reading rows, committing changes, and its journal."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from types import UnionType
from typing import Any, TypeVar

from pydantic import ValidationError

from yarvic.core.document import first_fault
from yarvic.core.errors import JobError, YarvicError
from yarvic.core.formats.files import write_new
from yarvic.core.job import file, history
from yarvic.core.job.lock import WriteLock
from yarvic.core.job.model import Entry
from yarvic.core.reading import understood

Clock = Callable[[], datetime]
T = TypeVar("T")
Kinds = type | UnionType
# Longer than this no name, title or sentence of a record is; documents have bounds of their own.
MOST_LETTERS = 40_000


def now() -> datetime:
    return datetime.now(UTC)


class Records:
    """The file behind a job. A commit that returned is on disk; safe to use from several threads.

    What was read is kept in memory by topic until a commit changes it, so that nothing that is painted reads the disk.
    """

    def __init__(self, path: Path, connection: file.Connection, lock: WriteLock | None, clock: Clock) -> None:
        self.path = path
        self.clock = clock
        self._connection = connection
        self._write_lock = lock
        self._turn = threading.RLock()
        self._kept: dict[str, Any] = {}
        self._version = connection.execute("PRAGMA data_version").fetchone()[0] if lock is None else 0
        self._waiting = 0

    @property
    def read_only(self) -> bool:
        """Whether this process may not write the job."""
        return self._write_lock is None

    def close(self) -> None:
        """Close the file and give the right to write back."""
        with self._turn:
            self._connection.close()
            if self._write_lock is not None:
                self._write_lock.release()
                self._write_lock = None

    @contextmanager
    def _reading(self) -> Iterator[None]:
        with self._turn, file.reporting(self.path):
            self._connection.renew()
            yield

    @property
    def writing(self) -> bool:
        """Whether a write is under way or waits for the file: what reads beside it then makes room."""
        return self._waiting > 0

    def _remember(self, topic: str, read: Callable[[], T]) -> T:
        """What `read` gives, from memory where nothing was written to this topic since."""
        with self._turn:
            if topic not in self._kept:
                self._kept[topic] = read()
            return self._kept[topic]  # type: ignore[no-any-return]

    def look_again(self) -> bool:
        """For a reader: whether the process that writes the job has done so since; what was read is then read anew."""
        if not self.read_only:
            return False
        with self._turn:
            version = self._rows("PRAGMA data_version")[0][0]
            if version == self._version:
                return False
            self._version = version
            self._kept.clear()
            return True

    @contextmanager
    def _committing(self, *changes: str) -> Iterator[sqlite3.Connection]:
        """One transaction; `changes` names the topics that it makes stale. What fails leaves file and memory as they were.

        Where another program holds the file the commit waits a while, is then rolled back, and can be done again.
        """
        if self.read_only:
            raise JobError(
                "the job is open read only", concerns=str(self.path), remedy="Close it elsewhere and open it again."
            )
        self._waiting += 1
        try:
            with self._turn, file.reporting(self.path):
                self._connection.renew()
                file.still_there(self._connection, self.path)
                self._connection.execute("BEGIN IMMEDIATE")
                try:
                    yield self._connection
                    self._connection.execute("COMMIT")
                except BaseException:
                    if self._connection.in_transaction:
                        self._connection.execute("ROLLBACK")
                    raise
                for topic in changes:
                    self._kept.pop(topic, None)
        finally:
            self._waiting -= 1

    def _rows(self, query: str, values: tuple[Any, ...] = ()) -> list[Any]:
        with self._reading():
            return self._connection.execute(query, values).fetchall()

    def _records(self, kind: Callable[..., T], columns: tuple[Kinds, ...], query: str, *values: Any) -> list[T]:
        """The rows of a query as records of a kind. Raises JobError where a column holds what is not of its type."""
        return [kind(*self._row(row, columns)) for row in self._rows(query, values)]

    def _row(self, row: tuple[Any, ...], columns: tuple[Kinds, ...]) -> tuple[Any, ...]:
        if all(
            isinstance(v, c) and (type(v) is not str or len(v) <= MOST_LETTERS)
            for v, c in zip(row, columns, strict=True)
        ):
            return row
        raise JobError(
            "the job file is damaged: a record holds what it cannot",
            concerns=str(self.path),
            remedy="Restore it from a copy.",
        )

    def _document(self, read: Callable[[Any], Any], text: Any, what: str) -> Any:
        """A document from its column. Raises JobError; what is wrong is said without the document's content."""
        fault = JobError(
            f"the job's {what} cannot be understood", concerns=str(self.path), remedy="Restore the job from a copy."
        )
        if not isinstance(text, str):
            raise fault
        with understood(str(self.path), JobError, fault.remedy):
            try:
                return read(text)
            except ValidationError as error:
                fault.details = first_fault(error)
            except YarvicError as error:
                fault.details = error.what
            except (ValueError, TypeError, KeyError) as error:
                fault.details = type(error).__name__
            raise fault

    def _stamp(self) -> str:
        return self.clock().isoformat(timespec="seconds")

    def note(self, subject: str, sentence: str) -> None:
        """Add a line to the journal."""
        with self._committing() as c:
            self._write_journal(c, subject, sentence)

    def journal(self) -> list[Entry]:
        """The journal from the first line on."""
        return self._records(Entry, (str, str, str), "SELECT time, subject, sentence FROM journal ORDER BY id")

    def head(self) -> tuple[int, str]:
        """How many lines the journal has, and the sum of the last (`core/job/history.py`)."""
        rows = self._rows("SELECT id, hash FROM journal ORDER BY id DESC LIMIT 1")
        return self._row(rows[0], (int, str)) if rows else (0, "")

    def first_line(self) -> str:
        """The sum of the first line, by which the job is known whatever its file is called."""
        rows = self._rows("SELECT hash FROM journal WHERE id = 1")
        return str(self._row(rows[0], (str,))[0]) if rows else ""

    def _write_journal(
        self,
        connection: sqlite3.Connection,
        subject: str,
        sentence: str,
        *records: history.Record,
        columns: Sequence[str] = (),
    ) -> None:
        """Add a line, with the records that come with it in the same transaction."""
        history.write_line(connection, self._stamp(), subject, sentence, records, columns)

    def copy_to(self, path: Path) -> None:
        """Write the job as it is held here to another file, also when its own is gone. Raises JobError, FormatError."""
        with self._reading():
            copy = sqlite3.connect(":memory:")
            try:
                self._connection.backup(copy)
                data = copy.serialize()
            finally:
                copy.close()
        write_new(path, data)
