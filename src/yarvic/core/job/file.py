"""Opening the job's file: what it is, whether it is whole, and who may write."""

from __future__ import annotations

import fcntl
import os
import sqlite3
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib.resources import files
from pathlib import Path
from typing import IO
from urllib.parse import quote

from yarvic.core.errors import Cancelled, JobError, JobInUseError, JobNotWritableError
from yarvic.core.job.migrations import VERSION, bring_up_to_date, lay_over

APPLICATION_ID = 0x59524A42  # "YRJB"
_SQLITE_MARK = b"SQLite format 3\0"
_TABLES = {
    "sheet", "build", "image", "revision", "draft", "evidence", "evidence_column", "flash", "waiver", "release",
    "journal",
}  # fmt: skip
_TABLES_SINCE = {3: {"draft_edit"}}
# How long a statement waits for another program's lock, s, before it is rolled back and said.
WAITS_S = 1.5
# How often the check of a whole file looks whether somebody wants to write: steps of the database, s while it waits.
STEPS_BETWEEN_LOOKS = 2000
LOOKS_EVERY_S = 0.02


@contextmanager
def reporting(path: Path) -> Iterator[None]:
    """Turn what SQLite reports into a JobError that says what to do."""
    try:
        yield
    except sqlite3.OperationalError as error:
        text = str(error)
        if "full" in text:
            what, remedy = "the disk is full: nothing was changed", "Free some space and do it again."
        elif "readonly" in text:
            what, remedy = "the file may not be written", "Open it read only, or copy it to a folder of yours."
        elif "locked" in text:
            what = f"another program holds the file{holders(path)}: nothing was changed"
            remedy = "Close that program and do it again."
        else:
            what, remedy = f"the file could not be used: {text}", "Restore the job from a copy."
        raise JobError(what, concerns=str(path), remedy=remedy, details=text) from error
    except sqlite3.ProgrammingError as error:
        raise JobError(
            "the job was closed meanwhile", concerns=str(path), remedy="Open it again.", details=str(error)
        ) from error
    except sqlite3.DatabaseError as error:
        raise JobError(
            "the job file is damaged",
            concerns=str(path),
            remedy="Restore it from a copy. Nothing was written to it.",
            details=str(error),
        ) from error


def holders(path: Path) -> str:
    """Which other processes hold locks on a file, in words; empty where the system does not tell."""
    try:
        wanted = path.stat().st_ino
        lines = Path("/proc/locks").read_text("ascii").splitlines()
    except (OSError, UnicodeDecodeError):
        return ""
    found = []
    for line in lines:
        fields = line.replace("->", "").split()
        if len(fields) >= 6 and fields[5].rpartition(":")[2] == str(wanted) and fields[4] != str(os.getpid()):
            found.append(fields[4])
    names = [f"process {pid}{_program(pid)}" for pid in dict.fromkeys(found)]
    return f" ({', '.join(names)})" if names else ""


def _program(pid: str) -> str:
    try:
        return f", {Path(f'/proc/{pid}/comm').read_text('utf-8').strip()}"
    except (OSError, UnicodeDecodeError):
        return ""


class WriteLock:
    """The right to write a job: a lock on a small file beside it, which the system frees when the process ends."""

    def __init__(self, path: Path) -> None:
        self._name = path.with_name(f".{path.name}.lock")
        self._file: IO[str] | None = None
        try:
            self._file = open(self._name, "a+", encoding="utf-8")  # noqa: SIM115 - held while the job is open
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            owner = self._owner()
            self.release()
            raise JobInUseError(
                f"the job is open in another window{owner}",
                concerns=str(path),
                remedy="Close it there, or open it here read only.",
            ) from None
        except OSError as error:
            raise JobNotWritableError(
                f"the folder may not be written: {error.strerror}",
                concerns=str(path.parent),
                remedy="Open the job read only, or copy it to a folder of yours.",
            ) from None
        self._file.truncate(0)
        self._file.write(str(os.getpid()))
        self._file.flush()

    def _owner(self) -> str:
        assert self._file is not None
        self._file.seek(0)
        pid = self._file.read(20).strip()
        return f" (process {pid})" if pid.isdigit() else ""

    def release(self) -> None:
        """Give the right back."""
        if self._file is not None:
            self._file.close()
            self._file = None


def connect(path: Path, *, read_only: bool) -> sqlite3.Connection:
    """A connection to a checked job file. Raises JobError when it is none, newer, or damaged."""
    check_head(path)
    if read_only:
        _set_right(path)
    with reporting(path):
        mode = "ro" if read_only else "rw"
        connection = sqlite3.connect(
            f"file:{quote(str(path.absolute()))}?mode={mode}", uri=True, isolation_level=None, check_same_thread=False,
            timeout=WAITS_S,
        )  # fmt: skip
        try:
            _prepare(connection)
            version = _check(connection, path)
            if version < VERSION:
                (lay_over if read_only else bring_up_to_date)(connection, version)
        except BaseException:
            connection.close()
            raise
        return connection


def _set_right(path: Path) -> None:
    """Take back what a killed process left half-written, if there is such a thing and nobody writes now.

    A reader cannot do that, so it is done with the right to write, for a moment. Raises JobError when that right is
    not to be had: then the file cannot be read honestly either.
    """
    if not path.with_name(f"{path.name}-journal").exists():
        return
    try:
        lock = WriteLock(path)
    except JobInUseError:
        return  # its writer is alive, and the journal is that writer's
    except JobError as error:
        raise JobError(
            "its last writer was interrupted, and the file must be set right first",
            concerns=str(path),
            remedy="Copy the file and its -journal file to a folder that you may write to, and open it there.",
            details=str(error),
        ) from None
    try:
        with reporting(path):
            connection = sqlite3.connect(path)
            connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
            connection.close()
    finally:
        lock.release()


def create(path: Path) -> sqlite3.Connection:
    """A new, empty job file. Raises JobError when the folder cannot be written."""
    try:
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o644))
    except OSError as error:
        raise JobError(
            f"cannot be created: {error.strerror}",
            concerns=str(path),
            remedy="Choose a folder that you may write to.",
        ) from None
    with reporting(path):
        connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        _prepare(connection)
        schema = files("yarvic.core.job").joinpath("schema.sql").read_text("utf-8")
        connection.executescript(
            f"BEGIN; PRAGMA application_id={APPLICATION_ID}; PRAGMA user_version={VERSION}; {schema} COMMIT;"
        )
        return connection


def put_in_place(new: Path, path: Path) -> None:
    """Give a finished file its name. Raises JobError when a file of that name is there already."""
    try:
        os.link(new, path)
    except FileExistsError:
        raise JobError(
            "a file of this name is there already", concerns=str(path), remedy="Choose another name."
        ) from None
    new.unlink()
    folder = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def _prepare(connection: sqlite3.Connection) -> None:
    # A commit that returned is on disk, the folder's entry of its journal included.
    connection.execute("PRAGMA journal_mode=DELETE")
    connection.execute("PRAGMA synchronous=EXTRA")
    connection.execute("PRAGMA foreign_keys=ON")
    connection.execute("PRAGMA trusted_schema=OFF")
    connection.execute("PRAGMA cell_size_check=ON")


def check_head(path: Path) -> None:
    """Raise JobError when the file cannot be read or is no job file by its first bytes."""
    try:
        with path.open("rb") as file:
            head = file.read(100)
    except OSError as error:
        raise JobError(
            f"cannot be opened: {error.strerror}", concerns=str(path), remedy="Choose another file."
        ) from None
    if head[:16] != _SQLITE_MARK or int.from_bytes(head[68:72], "big") != APPLICATION_ID:
        raise JobError("this is not a job file", concerns=str(path), remedy="Choose a file that ends in .yarvic.")


def _check(connection: sqlite3.Connection, path: Path) -> int:
    version = int(connection.execute("PRAGMA user_version").fetchone()[0])
    if version > VERSION:
        raise JobError(
            f"the job was written by a newer Yarvic (file version {version}, this one reads {VERSION})",
            concerns=str(path),
            remedy="Install the newer Yarvic. Nothing was changed.",
        )
    tables = {row[0] for row in connection.execute("SELECT name FROM sqlite_master WHERE type='table'")}
    missing = (_TABLES | {t for since, names in _TABLES_SINCE.items() if version >= since for t in names}) - tables
    if missing:
        raise JobError(
            f"the job file is damaged: it lacks {', '.join(sorted(missing))}",
            concerns=str(path),
            remedy="Restore it from a copy.",
        )
    return version


def verify(
    path: Path, make_room: Callable[[], bool] = lambda: False, cancelled: Callable[[], bool] = lambda: False
) -> None:
    """Read the whole file and check its structure and references. Raises JobError when it is damaged, Cancelled.

    On a connection of its own, so that it may run beside the work. A reader holds up writes: as soon as `make_room`
    asks for it the check lets go of the file, and begins anew when the write is done.
    """
    _set_right(path)
    while True:
        if cancelled():
            raise Cancelled("checking the file was cancelled")
        with reporting(path):
            connection = sqlite3.connect(f"file:{quote(str(path.absolute()))}?mode=ro", uri=True, timeout=WAITS_S)
            connection.set_progress_handler(lambda: int(make_room() or cancelled()), STEPS_BETWEEN_LOOKS)
            try:
                result = connection.execute("PRAGMA integrity_check(1)").fetchone()[0]
                broken = connection.execute("PRAGMA foreign_key_check").fetchone()
                break
            except sqlite3.OperationalError as error:
                if error.sqlite_errorcode != sqlite3.SQLITE_INTERRUPT:
                    raise
            finally:
                connection.close()
        while make_room() and not cancelled():
            time.sleep(LOOKS_EVERY_S)
    if result != "ok" or broken is not None:
        raise JobError(
            "the job file is damaged", concerns=str(path), remedy="Restore it from a copy.", details=str(result)
        )
