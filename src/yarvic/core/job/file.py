"""Opening the job's file: what it is, whether it is whole, and what of it is trusted."""

from __future__ import annotations

import os
import resource
import sqlite3
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from urllib.parse import quote

from yarvic.core.errors import Cancelled, JobError, JobGoneError, JobInUseError
from yarvic.core.job import lock
from yarvic.core.job.history import History, check
from yarvic.core.job.lock import WriteLock, holders
from yarvic.core.job.migrations import bring_up_to_date, lay_over
from yarvic.core.job.schema import SEALED_SINCE, VERSION, script
from yarvic.core.job.shape import check_schema
from yarvic.core.reading import check_file, understood

APPLICATION_ID = 0x59524A42  # "YRJB"
_SQLITE_MARK = b"SQLite format 3\0"
_ROLLBACK = b"\1\1"  # a rollback journal, as we write it (SQLite file format, 1.3.3)
MOST_BYTES = 1 << 40
# How long a statement waits for another program's lock, s, before it is rolled back and said.
WAITS_S = 1.5
# How often the check of a whole file looks whether somebody wants to write: steps of the database, s while it waits.
STEPS_BETWEEN_LOOKS = 2000
LOOKS_EVERY_S = 0.02
# Steps of the database that reading may take: some for each byte of the file, and as many more for a small one. A file
# that asks for more leads in circles.
STEPS_PER_BYTE, STEPS_AT_LEAST = 4, 20_000_000
STEPS_AT_ONCE = 20_000
# What SQLite is asked never to exceed, far past anything a job holds.
_LIMITS = {
    sqlite3.SQLITE_LIMIT_LENGTH: 1 << 29,
    sqlite3.SQLITE_LIMIT_SQL_LENGTH: 100_000,
    sqlite3.SQLITE_LIMIT_COLUMN: 64,
    sqlite3.SQLITE_LIMIT_EXPR_DEPTH: 64,
    sqlite3.SQLITE_LIMIT_COMPOUND_SELECT: 4,
    sqlite3.SQLITE_LIMIT_FUNCTION_ARG: 8,
    sqlite3.SQLITE_LIMIT_ATTACHED: 0,
    sqlite3.SQLITE_LIMIT_LIKE_PATTERN_LENGTH: 100,
    sqlite3.SQLITE_LIMIT_VARIABLE_NUMBER: 64,
    sqlite3.SQLITE_LIMIT_TRIGGER_DEPTH: 1,
}
# Letters that SQLite takes in a path, but for those that it adds (its default for Unix), and disks in a name.
MOST_PATH, MOST_IN_NAME = 500, 255
TOO_LONG = "Move it to a folder nearer to the top, or give it a shorter name."
_WHOLE = "What was committed before is whole."


class Connection(sqlite3.Connection):
    """A connection to a job file that is known by the file itself, whatever becomes of its name."""

    file: lock.Inode | None = None
    version = VERSION  # of the file, which a reader leaves as it is
    steps_left = STEPS_AT_LEAST

    def known_as(self, file: lock.Inode, size: int) -> None:
        """Say which file it is to, and bound the steps of what is read from it."""
        self.file = file
        lock.connected(file)
        self._steps = STEPS_AT_LEAST + STEPS_PER_BYTE * size
        self.renew()
        self.set_progress_handler(self._count, STEPS_AT_ONCE)

    def renew(self) -> None:
        """Count the steps anew, for the next thing that is asked."""
        self.steps_left = self._steps if self.file is not None else STEPS_AT_LEAST

    def _count(self) -> int:
        self.steps_left -= STEPS_AT_ONCE
        return int(self.steps_left < 0)

    def close(self) -> None:
        """Close it, and what was kept open for its sake."""
        super().close()
        file, self.file = self.file, None
        if file is not None:
            lock.disconnected(file)


MOVED = (
    "the file was moved, deleted or replaced while it was open here: nothing was changed",
    "Put it back under its name, or save a copy of what is held here (Job, Save a copy).",
)
_ROLLBACK_DUE = ("its last writer was interrupted in the middle of a commit", f"Open the job again. {_WHOLE}")
# What happened and what to do, by the beginning of SQLite's name for an error; the first that fits.
_SAID = {
    "SQLITE_READONLY_DBMOVED": MOVED,
    "SQLITE_READONLY_ROLLBACK": _ROLLBACK_DUE,
    "SQLITE_READONLY_RECOVERY": _ROLLBACK_DUE,
    "SQLITE_READONLY": ("the file may not be written", "Open it read only, or copy it to a folder of yours."),
    "SQLITE_PERM": ("the file may not be written", "Open it read only, or copy it to a folder of yours."),
    "SQLITE_FULL": ("the disk is full: nothing was changed", f"Free some space and do it again. {_WHOLE}"),
    "SQLITE_TOOBIG": (
        "a record is larger than a job file takes: nothing was changed", "Store less at once, a shorter log.",
    ),
    "SQLITE_NOMEM": ("there is not enough memory: nothing was changed", "Close other programs and do it again."),
    "SQLITE_CANTOPEN": (
        "the file, or what is written beside it, cannot be opened: nothing was changed",
        f"See that its folder is there and may be written. {_WHOLE}",
    ),
    "SQLITE_INTERRUPT": ("the job file is damaged: reading it comes to no end", "Restore it from a copy."),
    "SQLITE_CONSTRAINT": (
        "this contradicts what is in the job: nothing was changed", "Open the job again and look.",
    ),
}  # fmt: skip


def _said(error: sqlite3.Error, path: Path) -> tuple[str, str]:
    """What happened and what to do, by SQLite's code for an error."""
    name = _code(error)
    if name.startswith(("SQLITE_BUSY", "SQLITE_LOCKED")):
        what = f"another program holds the file{holders(path)}: nothing was changed"
        return what, "Close that program and do it again."
    if name.startswith("SQLITE_IOERR"):
        return _disk(path)
    if name.startswith("SQLITE_CANTOPEN") and _too_long(path):
        return "has a name or a path that is too long: nothing was changed", f"{TOO_LONG} {_WHOLE}"
    if "decode" in str(error):
        return "the job file is damaged: it holds a text that is none", "Restore it from a copy."
    damaged = ("the job file is damaged", "Restore it from a copy. Nothing was written to it.")
    return next((said for begins, said in _SAID.items() if name.startswith(begins)), damaged)


def _too_long(path: Path) -> bool:
    """Whether SQLite has no room for the path, or the disk none for the name of what is written beside the file."""
    real = os.fsencode(os.path.realpath(path))
    return len(real) > MOST_PATH or len(os.path.basename(real)) + len("-journal") > MOST_IN_NAME


def _disk(path: Path) -> tuple[str, str]:
    """Why a disk did not take or give what it was asked for, as far as the system tells."""
    what = "the disk did not take or give the data: nothing was changed"
    remedy = "Look at its space, your share of it (quota) and its cable or network, and do it again."
    with suppress(OSError, ValueError):
        most, _ = resource.getrlimit(resource.RLIMIT_FSIZE)
        free = os.statvfs(path.parent)
        if most != resource.RLIM_INFINITY and path.stat().st_size + 2**20 > most:
            what = "the file would be larger than your account may make one: nothing was changed"
            remedy = "Ask who set that limit, or copy the job to another place."
        elif free.f_bavail * free.f_frsize < 2**20:
            what, remedy = "the disk is full: nothing was changed", "Free some space and do it again."
    return what, f"{remedy} {_WHOLE}"


@contextmanager
def reporting(path: Path) -> Iterator[None]:
    """Turn what SQLite reports into a JobError that says what to do."""
    try:
        yield
    except sqlite3.ProgrammingError as error:
        raise JobError(
            "the job was closed meanwhile", concerns=str(path), remedy="Open it again.", details=str(error)
        ) from error
    except UnicodeDecodeError:
        # What SQLite quotes from a damaged file need not be text at all.
        raise JobError(
            "the job file is damaged: it holds a text that is none",
            concerns=str(path),
            remedy="Restore it from a copy.",
        ) from None
    except sqlite3.Error as error:
        what, remedy = _said(error, path)
        kind = JobGoneError if (what, remedy) == MOVED else JobError
        raise kind(what, concerns=str(path), remedy=remedy, details=_code(error)) from error


def _code(error: sqlite3.Error) -> str:
    return str(getattr(error, "sqlite_errorname", "") or type(error).__name__)


def connect(path: Path, *, read_only: bool) -> Connection:
    """A connection to a checked job file. Raises JobError when it is none, newer, damaged, or of another form."""
    check_head(path)
    if read_only:
        _set_right(path)
    with reporting(path):
        connection = _connection(path, "ro" if read_only else "rw")
        try:
            _prepare(connection)
            version = int(connection.execute("PRAGMA user_version").fetchone()[0])
            if not 1 <= version <= VERSION:
                raise JobError(
                    f"the job was written by a newer Yarvic (file version {version}, this one reads {VERSION})",
                    concerns=str(path),
                    remedy="Install the newer Yarvic. Nothing was changed.",
                )
            check_schema(connection, version, path)
            if version < VERSION:
                (lay_over if read_only else bring_up_to_date)(connection, version)
            connection.version = version if read_only else VERSION
            if not read_only:
                _tidy(connection, path)
        except BaseException:
            connection.close()
            raise
        return connection


def _journal(path: Path) -> Path:
    """What SQLite writes beside a file during a commit; it stands beside the file itself, whatever link led to it."""
    real = Path(os.path.realpath(path))
    return real.with_name(f"{real.name}-journal")


def _tidy(connection: Connection, path: Path) -> None:
    """Take away the journal of a commit that was killed before it began: SQLite needs it no more, and leaves it."""
    if os.path.exists(_journal(path)):
        for mode in ("TRUNCATE", "DELETE"):
            connection.execute(f"PRAGMA journal_mode={mode}")


def _connection(path: Path, mode: str) -> Connection:
    made = sqlite3.connect(
        f"file:{quote(os.fsencode(path.absolute()))}?mode={mode}", uri=True, isolation_level=None, check_same_thread=False,
        timeout=WAITS_S, factory=Connection,
    )  # fmt: skip
    made.known_as(lock.inode(path), path.stat().st_size)
    return made


def _set_right(path: Path) -> None:
    """Take back what a killed process left half-written, if there is such a thing and nobody writes now.

    A reader cannot do that, so it is done with the right to write, for a moment. Raises JobError when that right is
    not to be had: then the file cannot be read honestly either.
    """
    if not os.path.exists(_journal(path)) or lock.is_held(lock.inode(path)):
        return
    try:
        held = WriteLock(path)
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
            connection = _connection(path, "rw")
            try:
                connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
                _tidy(connection, path)
            finally:
                connection.close()
    finally:
        held.release()


def new() -> sqlite3.Connection:
    """A new, empty job in memory: `serialize` gives the bytes of its file."""
    connection = sqlite3.connect(":memory:", isolation_level=None)
    connection.execute("PRAGMA foreign_keys=ON")
    connection.executescript(
        f"BEGIN; PRAGMA application_id={APPLICATION_ID}; PRAGMA user_version={VERSION}; {script(VERSION)} COMMIT;"
    )
    return connection


def _prepare(connection: Connection) -> None:
    for what, most in _LIMITS.items():
        connection.setlimit(what, most)
    defend = getattr(connection, "setconfig", None)  # from Python 3.12 on
    if defend is not None:
        defend(sqlite3.SQLITE_DBCONFIG_DEFENSIVE, True)  # type: ignore[attr-defined]
    connection.execute("PRAGMA trusted_schema=OFF")
    connection.execute("PRAGMA cell_size_check=ON")
    connection.execute("PRAGMA mmap_size=0")
    # A commit that returned is on disk, the folder's entry of its journal included.
    connection.execute("PRAGMA journal_mode=DELETE")
    connection.execute("PRAGMA synchronous=EXTRA")
    connection.execute("PRAGMA foreign_keys=ON")


def is_job(path: Path) -> bool:
    """Whether a file is a database at all, as a job is one. Raises JobError where it cannot be read."""
    if lock.is_connected(lock.inode(path)):
        return True  # open here: to close a handle of it now would cost the connection its locks
    return _head(path)[:16] == _SQLITE_MARK


def _head(path: Path) -> bytes:
    check_file(path, MOST_BYTES, JobError)
    with understood(str(path), JobError), path.open("rb") as file:
        return file.read(100)


def check_head(path: Path) -> None:
    """Raise JobError when the file cannot be read or is no job file by its first bytes."""
    if lock.is_connected(lock.inode(path)):
        return  # looked at when it was opened; to close a handle of it now would cost the connection its locks
    head = _head(path)
    if head[:16] != _SQLITE_MARK or head[18:20] != _ROLLBACK or head[68:72] != APPLICATION_ID.to_bytes(4, "big"):
        raise JobError("this is not a job file", concerns=str(path), remedy="Choose a file that ends in .yarvic.")


def still_there(connection: Connection, path: Path) -> None:
    """Raise JobError when the name does not lead to the open file any more."""
    with suppress(JobError):
        if lock.inode(path) == connection.file:
            return
    what, remedy = MOVED
    raise JobGoneError(what, concerns=str(path), remedy=remedy)


def verify(
    path: Path, make_room: Callable[[], bool] = lambda: False, cancelled: Callable[[], bool] = lambda: False
) -> History:
    """Read the whole file and check its structure, references and history. Raises JobError when the file is damaged,
    Cancelled; what does not fit in the history is returned.

    On a connection of its own, so that it may run beside the work. A reader holds up writes: as soon as `make_room`
    asks for it the check lets go of the file, and begins anew when the write is done.
    """
    while True:
        if cancelled():
            raise Cancelled("checking the file was cancelled")
        try:
            return _verify(path, make_room, cancelled)
        except _GaveWay:
            while make_room() and not cancelled():
                time.sleep(LOOKS_EVERY_S)


class _GaveWay(Exception):
    """The check let go of the file for somebody who writes."""


def _verify(path: Path, make_room: Callable[[], bool], cancelled: Callable[[], bool]) -> History:
    connection = connect(path, read_only=True)
    gave_way = False

    def look() -> int:
        nonlocal gave_way
        gave_way = gave_way or make_room() or cancelled()
        return int(gave_way)

    connection.set_progress_handler(look, STEPS_BETWEEN_LOOKS)
    try:
        with reporting(path):
            connection.execute("BEGIN")
            result = connection.execute("PRAGMA integrity_check(1)").fetchone()[0]
            broken = connection.execute("PRAGMA foreign_key_check").fetchone() if result == "ok" else None
            if result == "ok" and broken is None:
                if connection.version < SEALED_SINCE:
                    return History()
                return check(connection, lambda: bool(look()))
    except (JobError, Cancelled):
        if gave_way:
            raise _GaveWay from None
        raise
    finally:
        connection.close()
    raise JobError(
        "the job file is damaged",
        concerns=str(path),
        remedy="Restore it from a copy.",
        details="references" if result == "ok" else "integrity",
    )
