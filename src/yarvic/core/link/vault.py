"""Every image that was ever read from a unit or written into one, by its content; one vault for the shop, beside the jobs.

A folder of plain files, each named by the SHA-256 of what it holds, and a list of where each was seen, a JSON document a
line, which is only ever added to. Two windows may use it at once: a file appears whole or not at all, a line in one piece.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
from collections.abc import Callable, Container, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, ValidationError

from yarvic.core.calibration.described import MOST_MEMORY
from yarvic.core.calibration.image import image_id
from yarvic.core.document import Document
from yarvic.core.errors import LinkError
from yarvic.core.link.journal import JOURNALS, Sha, unfinished
from yarvic.core.reading import read_bounded

SEEN, IMAGES = "seen.jsonl", "images"
MOST_SEEN = 1 << 28


class Sighting(Document):
    """That an image was read, written or removed: when, from or into which unit, for which vehicle. `stock`: what it came
    with.
    """

    sha: Sha
    time: str
    how: Literal["read", "to be written", "removed"]
    size: Annotated[int, Field(ge=0)]
    stock: bool = False
    family: str = ""
    serial: str = ""
    unit: str = ""
    vehicle: str = ""
    revision: str = ""


# The list as it was read last, by its file, size and time: it is asked for again and again, and seldom changed.
_READ: dict[Path, tuple[tuple[int, int], list[Sighting | None]]] = {}


class Vault:
    """Its folder is made when something is put into it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def put(
        self, data: bytes, how: Literal["read", "to be written"], *, made_here: Container[str] = (), **about: str
    ) -> Sighting:
        """Keep an image, and that it was seen. What was read first of a unit is its stock image, unless it was made here.

        It is on the disk before this returns. Raises LinkError when it could not be kept.
        """
        sha = image_id(data)
        path = self._path(sha)
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if not path.exists() or path.stat().st_size != len(data):
                _write_whole(path, data)
            with self._list() as listed:
                serial, family = about.get("serial", ""), about.get("family", "")
                seen = self.seen()
                earlier = any(s.stock and (s.serial, s.family) == (serial, family) for s in seen)
                ours = sha in made_here or any(s.sha == sha and s.how == "to be written" for s in seen)
                sighting = Sighting(
                    sha=sha,
                    time=datetime.now(UTC).isoformat(timespec="seconds"),
                    how=how,
                    size=len(data),
                    stock=how == "read" and bool(serial) and not earlier and not ours,
                    **about,
                )
                self._add(listed, sighting)
        except OSError as error:
            raise _failed("kept", path, error) from error
        return sighting

    def remove(self, sha: str) -> None:
        """Remove an image. Raises LinkError for a stock image, and for one that a write which has not ended needs."""
        path = self._path(sha)
        if any(s.stock and s.sha == sha for s in self.seen()):
            raise LinkError("a stock image is not removed", concerns=sha[:12], remedy="It is the way back: keep it.")
        needed = next((j for j in unfinished(self.folder / JOURNALS) if sha in (j.begun.image, j.begun.backup)), None)
        if needed is not None:
            raise LinkError(
                "a write that has not ended needs this image",
                concerns=needed.begun.serial,
                remedy="Go on with that write, or put the backup back; then remove it.",
            )
        now = datetime.now(UTC).isoformat(timespec="seconds")
        try:
            with self._list() as listed:
                # First the line: an image that lies there unlisted harms nobody.
                self._add(listed, Sighting(sha=sha, time=now, how="removed", size=0))
                path.unlink(missing_ok=True)
        except OSError as error:
            raise _failed("removed", path, error) from error

    def get(self, sha: str) -> bytes:
        """An image, proven to be what it is called. Raises FormatError where it is missing, LinkError for a damaged one."""
        path = self._path(sha)
        data = read_bounded(path, MOST_MEMORY)
        if image_id(data) != sha:
            raise LinkError(
                "an image of the vault is damaged",
                concerns=str(path),
                remedy="Take it from a backup of the vault, or read it from the unit again.",
            )
        return data

    def seen(self) -> list[Sighting]:
        """All sightings in their order; lines that are none are left out (see `damaged`)."""
        return [s for s in self._lines() if isinstance(s, Sighting)]

    @staticmethod
    def _add(listed: int, sighting: Sighting) -> None:
        # A line that a crash cut off must not swallow this one.
        torn = os.fstat(listed).st_size and os.pread(listed, 1, os.fstat(listed).st_size - 1) != b"\n"
        line = sighting.model_dump_json().encode() + b"\n"
        os.write(listed, (b"\n" if torn else b"") + line)
        os.fsync(listed)

    def damaged(self, *, thorough: bool = False, done: Callable[[float], None] = lambda share: None) -> list[str]:
        """What is wrong, in words; cheap, by size alone, or by all bytes. `done` is told how far it is, and may raise."""
        found = [
            f"line {n} of {SEEN} is no sighting"
            for n, s in enumerate(self._lines(), 1)
            if not isinstance(s, Sighting)
        ]
        sizes: dict[str, int] = {}
        for s in self.seen():
            if s.how == "removed":
                sizes.pop(s.sha, None)
            else:
                sizes[s.sha] = s.size
        for n, (sha, size) in enumerate(sizes.items()):
            done(n / len(sizes))
            path = self._path(sha)
            there = path.stat().st_size if path.exists() else None
            if there is None:
                found.append(f"image {sha[:12]} is missing")
            elif there != size:
                found.append(f"image {sha[:12]} has {there} bytes, not {size}")
            elif thorough:
                with contextlib.suppress(LinkError):
                    self.get(sha)
                    continue
                found.append(f"image {sha[:12]} is damaged")
        return found

    def _lines(self) -> list[Sighting | None]:
        path = self.folder / SEEN
        try:
            there = path.stat()
        except OSError:
            return []
        key = (there.st_size, there.st_mtime_ns)
        if path not in _READ or _READ[path][0] != key:
            # It may have grown since: then it is read again the next time.
            _READ[path] = key, [_sighting(line) for line in read_bounded(path, MOST_SEEN).splitlines()]
        return _READ[path][1]

    @contextlib.contextmanager
    def _list(self) -> Iterator[int]:
        """The list, open to be added to, by one at a time."""
        listed = os.open(self.folder / SEEN, os.O_RDWR | os.O_APPEND | os.O_CREAT, 0o644)
        try:
            fcntl.flock(listed, fcntl.LOCK_EX)
            yield listed
        finally:
            os.close(listed)

    def _path(self, sha: str) -> Path:
        if len(sha) != 64 or not set(sha) <= set("0123456789abcdef"):
            raise LinkError("that names no image", concerns=sha[:80], remedy="Choose one of the list.")
        return self.folder / IMAGES / f"{sha}.bin"


def _sighting(line: bytes) -> Sighting | None:
    try:
        return Sighting.model_validate_json(line)
    except ValidationError:
        return None


def _write_whole(path: Path, data: bytes) -> None:
    """On the disk, whole, under its name, or not there at all."""
    new = path.with_name(f".{path.name}.{os.getpid()}.{os.urandom(4).hex()}")
    try:
        with new.open("xb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        new.replace(path)
    finally:
        new.unlink(missing_ok=True)
    folder = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def _failed(what: str, path: Path, error: OSError) -> LinkError:
    return LinkError(
        f"the image could not be {what}: {error.strerror or error}",
        concerns=str(path),
        remedy="Make room on the disk, or let this user write there; then try again.",
    )
