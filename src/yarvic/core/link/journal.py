"""The journal of one write: each step is on the disk before it is done and after, so that a start after a crash knows.

A JSON document a line in a file that is as large as it will ever be before the unit is touched: a full disk cannot stop a
write in its middle. What a crash cut off at its end is passed over.
"""

from __future__ import annotations

import contextlib
import os
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from yarvic.core.document import Document
from yarvic.core.errors import LinkError, YarvicError
from yarvic.core.reading import read_bounded

SUFFIX, JOURNALS = ".flash", "journals"  # of a journal, and the folder of them in the vault
LINE = 160  # bytes that one step takes at most
ROOM = 1 << 14
MOST_BYTES = 1 << 26
Sha = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
Ending = Literal["written", "restored"]
# Of each journal, by size and time, whether it has ended.
_ENDED: dict[Path, tuple[tuple[int, int] | None, bool]] = {}


class Begun(Document):
    """What a journal is of: the unit, the image that it is to hold, and what it held before."""

    time: str
    serial: str
    family: str
    image: Sha
    backup: Sha
    sectors: tuple[Annotated[int, Field(ge=0)], ...]
    codes: tuple[str, ...] = ()
    job: str = ""
    revision: str = ""
    by: str = "simulated"  # the way that the write went
    pair: str = ""  # what the journals of both units of a pair share
    half: Literal["", "engine", "gearbox"] = ""


class Entry(Document):
    """A step: before it is done, after it, or the end of all."""

    when: Literal["before", "after", "end"]
    step: str
    sector: int | None = None
    time: str = ""


@dataclass
class Journal:
    """Open to be added to, or as it was read."""

    path: Path
    begun: Begun
    entries: list[Entry]
    _file: int | None = None
    _at: int = 0

    @classmethod
    def create(cls, folder: Path, begun: Begun) -> Journal:
        """Begin one. Raises LinkError when the disk has no room for all of it."""
        name = f"{begun.time.replace(':', '').replace('+0000', '')}-{os.getpid()}-{os.urandom(3).hex()}{SUFFIX}"
        path = folder / name
        first = begun.model_dump_json().encode() + b"\n"
        try:
            folder.mkdir(parents=True, exist_ok=True)
            file = os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o644)
        except OSError as error:
            raise _failed(path, error) from error
        try:
            os.posix_fallocate(file, 0, len(first) + ROOM + 4 * LINE * (len(begun.sectors) + 16))
            made = cls(path, begun, [], file)
            made._put(first)
            directory = os.open(folder, os.O_RDONLY)
            try:
                os.fsync(directory)
            finally:
                os.close(directory)
        except OSError as error:
            os.close(file)
            path.unlink(missing_ok=True)
            raise _failed(path, error) from error
        return made

    @classmethod
    def read(cls, path: Path) -> Journal:
        """As it stands on the disk. Raises FormatError when it cannot be read, LinkError for what is no journal."""
        try:
            lines = read_bounded(path, MOST_BYTES).split(b"\0", 1)[0].split(b"\n")
            begun = Begun.model_validate_json(lines[0])
        except ValidationError as error:
            raise LinkError(
                "that is no journal of a write", concerns=str(path), remedy="Look for the journal beside it.",
                details=str(error),
            ) from error  # fmt: skip
        entries: list[Entry] = []
        at = len(lines[0]) + 1
        for line in lines[1:]:
            try:
                entries.append(Entry.model_validate_json(line))
            except ValidationError:
                break  # cut off here
            at += len(line) + 1
        return cls(path, begun, entries, None, at)

    def go_on(self) -> None:
        """Open one that was read, to be added to. Raises LinkError."""
        try:
            self._file = os.open(self.path, os.O_RDWR)
        except OSError as error:
            raise _failed(self.path, error) from error

    @property
    def ended(self) -> Ending | None:
        """How it ended; None while it has not."""
        last = self.entries[-1] if self.entries else None
        if last is None or last.when != "end":
            return None
        return "restored" if last.step == "restored" else "written"

    @property
    def touched(self) -> tuple[int, ...]:
        """The sectors that may not be as they were: those whose write had begun."""
        return tuple(sorted({e.sector for e in self.entries if e.sector is not None}))

    def add(self, when: Literal["before", "after", "end"], step: str, sector: int | None = None) -> None:
        """On the disk when this returns. Raises LinkError."""
        entry = Entry(when=when, step=step, sector=sector, time=_now())
        try:
            self._put(entry.model_dump_json(exclude_none=True).encode() + b"\n")
        except OSError as error:
            raise _failed(self.path, error) from error
        self.entries.append(entry)

    def _put(self, line: bytes) -> None:
        if self._file is None:
            raise OSError(0, "it is not open to be added to")
        os.pwrite(self._file, line, self._at)
        os.fdatasync(self._file)
        self._at += len(line)

    def close(self) -> None:
        """Let go of the file."""
        if self._file is not None:
            os.close(self._file)
            self._file = None


def begun_now(**about: Any) -> Begun:
    """What a journal is of, from now on."""
    return Begun(time=_now(), **about)


def unfinished(folder: Path) -> list[Journal]:
    """The journals of a folder that have not ended, the newest last; what is none is passed over. Of a pair, both as long
    as they did not end alike.
    """
    read = []
    for path in sorted(folder.glob(f"*{SUFFIX}")):
        try:
            if not _surely_ended(path):
                read.append(Journal.read(path))
        except (YarvicError, OSError):
            continue  # cut off before its first line was whole: the unit was not touched
    endings: dict[str, set[Ending | None]] = {}
    for journal in read:
        endings.setdefault(journal.begun.pair, set()).add(journal.ended)
    return [j for j in read if j.ended is None or (j.begun.pair and len(endings[j.begun.pair]) > 1)]


def _surely_ended(path: Path) -> bool:
    """Whether a journal of one unit has ended, by its bytes alone: there are as many as there were writes. Raises OSError,
    YarvicError.
    """
    there = path.stat()
    key = (there.st_size, there.st_mtime_ns)
    if _ENDED.get(path, (None, False))[0] != key:
        lines = read_bounded(path, MOST_BYTES).split(b"\0", 1)[0].rstrip(b"\n").split(b"\n")
        _ENDED[path] = key, b'"when":"end"' in lines[-1] and b'"pair":""' in lines[0]
    return _ENDED[path][1]


def pair_of(folder: Path, journal: Journal) -> list[Journal]:
    """Both journals of a pair, or the one of a unit that has none, the engine's first."""
    if not journal.begun.pair:
        return [journal]
    found = []
    for path in folder.glob(f"*{SUFFIX}"):
        with contextlib.suppress(YarvicError):
            other = Journal.read(path)
            if other.begun.pair == journal.begun.pair:
                found.append(other)
    return sorted(found, key=lambda j: j.begun.half)


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")


def _failed(path: Path, error: OSError) -> LinkError:
    return LinkError(
        f"the journal cannot be written: {error.strerror or error}",
        concerns=str(path),
        remedy="Make room on the disk, or let this user write there; then try again.",
    )
