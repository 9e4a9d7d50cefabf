"""An open job file: reading rows, committing changes, and its journal."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, TypeVar

from pydantic import ValidationError

from yarvic.core.errors import CalibrationError, JobError
from yarvic.core.job import file
from yarvic.core.job.model import Entry

Clock = Callable[[], datetime]
T = TypeVar("T")


def now() -> datetime:
    return datetime.now(UTC)


class Records:
    """The file behind a job. A commit that returned is on disk; safe to use from several threads.

    What was read is kept in memory by topic until a commit changes it, so that nothing that is painted reads the disk.
    """

    def __init__(self, path: Path, connection: sqlite3.Connection, lock: file.WriteLock | None, clock: Clock) -> None:
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

    def _document(self, read: Callable[[str], Any], text: str, what: str) -> Any:
        try:
            return read(text)
        except (ValidationError, CalibrationError, ValueError, TypeError, KeyError) as error:
            raise JobError(
                f"the job's {what} cannot be understood",
                concerns=str(self.path),
                remedy="Restore the job from a copy.",
                details=str(error),
            ) from None

    def _stamp(self) -> str:
        return self.clock().isoformat(timespec="seconds")

    def note(self, subject: str, sentence: str) -> None:
        """Add a line to the journal."""
        with self._committing() as c:
            self._write_journal(c, subject, sentence)

    def journal(self) -> list[Entry]:
        """The journal from the first line on."""
        return [Entry(*r) for r in self._rows("SELECT time, subject, sentence FROM journal ORDER BY id")]

    def _write_journal(self, connection: sqlite3.Connection, subject: str, sentence: str) -> None:
        connection.execute(
            "INSERT INTO journal (time, subject, sentence) VALUES (?, ?, ?)", (self._stamp(), subject, sentence)
        )
