"""Writing whole files or none, and reading with a bound."""

from __future__ import annotations

import os
import re
import tempfile
from pathlib import Path

from yarvic.core.errors import FormatError


def write_whole(path: Path, data: bytes) -> None:
    """Write a file so that it is there in full or not at all, and on disk when this returns.

    Raises FormatError when the folder cannot be written or the disk is full; then nothing is left behind.
    """
    temporary: str | None = None
    try:
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(temporary, 0o644)
        os.replace(temporary, path)
    except OSError as error:
        if temporary is not None:
            Path(temporary).unlink(missing_ok=True)
        raise FormatError(
            f"cannot be written: {error.strerror or error}",
            concerns=str(path),
            remedy="Free some space or choose a folder that you may write to.",
        ) from None


def read_text(path: Path, most_bytes: int) -> str:
    """The text of a file of at most so many bytes, UTF-8. Raises FormatError."""
    try:
        return read_bounded(path, most_bytes).decode("utf-8")
    except UnicodeDecodeError:
        raise FormatError("is not text", concerns=str(path), remedy="Choose a text file, UTF-8.") from None


def file_name(title: str) -> str:
    """Letters and digits of a title, lower case, joined by dashes; empty where there are none."""
    return re.sub(r"[^\w]+", "-", title.lower()).strip("-_")[:60]


def read_bounded(path: Path, most_bytes: int) -> bytes:
    """The content of a file of at most `most_bytes`. Raises FormatError when it is larger or cannot be read."""
    try:
        size = path.stat().st_size
        if size > most_bytes:
            raise FormatError(
                f"has {size:,} bytes, at most {most_bytes:,} are read",
                concerns=str(path),
                remedy="Choose another file.",
            )
        return path.read_bytes()
    except OSError as error:
        raise FormatError(
            f"cannot be read: {error.strerror or error}", concerns=str(path), remedy="Choose another file."
        ) from None
