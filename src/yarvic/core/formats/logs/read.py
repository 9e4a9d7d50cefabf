"""The one reader of logs: a file is known by its content, whatever its name ends with."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from yarvic.core.errors import FormatError
from yarvic.core.evidence.raw import RawLog
from yarvic.core.formats.logs.assemble import recordings
from yarvic.core.formats.logs.text import read_sections
from yarvic.core.reading import check_file, reader

MOST_BYTES = 4 * 1024**3
HEAD = 512
# Files that people take for logs, by their first bytes, and what to say of them.
_OTHERS = (
    (b"%PDF", "is a PDF, which holds a picture of numbers and not the numbers", "Export the log as CSV."),
    (b"SQLite format 3\0", "is a database", "Open it as a job, or export the log as CSV."),
    (b"\xd0\xcf\x11\xe0", "is a workbook of an old form", "Save it as XLSX or CSV."),
    (b"\x89PNG", "is a picture", "Export the log as CSV."),
    (b"\xff\xd8\xff", "is a picture", "Export the log as CSV."),
    (b"7z\xbc\xaf", "is packed in a way that is not read", "Unpack it first, or pack it as zip."),
    (b"Rar!", "is packed in a way that is not read", "Unpack it first, or pack it as zip."),
    (b"BZh", "is packed in a way that is not read", "Unpack it first, or pack it as gzip."),
    (b"\xfd7zXZ", "is packed in a way that is not read", "Unpack it first, or pack it as gzip."),
)  # fmt: skip


def kind_of(head: bytes) -> str:
    """The kind of a file by its first bytes: gzip, zip, parquet, mdf, or text where it is none of these."""
    if head.startswith(b"\x1f\x8b"):
        return "gzip"
    if head.startswith(b"PK\x03\x04"):
        return "zip"
    if head.startswith(b"PAR1"):
        return "parquet"
    if head.startswith((b"MDF     ", b"UnFinMF ")):
        return "mdf"
    return "text"


@reader("log", "Log", "", MOST_BYTES)
def read_recordings(path: Path) -> list[RawLog]:
    """The recordings in a file, raw: text of any dialect, gzip, zip of several, Parquet, XLSX, MDF 4.

    Raises FormatError naming file, place and remedy.
    """
    size = check_file(path, MOST_BYTES)
    with path.open("rb") as file:
        head = file.read(HEAD)
    if not head.strip():
        raise FormatError("holds no rows", concerns=str(path), remedy="Choose another file.")
    for mark, what, remedy in _OTHERS:
        if head.startswith(mark):
            raise FormatError(what, concerns=str(path), remedy=remedy)
    found = _KINDS[kind_of(head)](path, size)
    if not found:
        raise FormatError("holds no log", concerns=str(path), remedy="Choose another file.")
    return found


def _text(path: Path, size: int) -> list[RawLog]:
    return recordings(read_sections(path, str(path), size), str(path), "text")


def _gzip(path: Path, size: int) -> list[RawLog]:
    from yarvic.core.formats.logs.packed import read_gzip

    return read_gzip(path)


def _zip(path: Path, size: int) -> list[RawLog]:
    from yarvic.core.formats.logs.packed import read_zip

    return read_zip(path)


def _parquet(path: Path, size: int) -> list[RawLog]:
    from yarvic.core.formats.logs.columnar import read_parquet

    return read_parquet(path, str(path))


def _mdf(path: Path, size: int) -> list[RawLog]:
    from yarvic.core.formats.logs.mdf import read_mdf

    return read_mdf(path, str(path))


_KINDS: dict[str, Callable[[Path, int], list[RawLog]]] = {
    "text": _text,
    "gzip": _gzip,
    "zip": _zip,
    "parquet": _parquet,
    "mdf": _mdf,
}
