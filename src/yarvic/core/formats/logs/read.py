"""The one reader of logs: a file is known by its content, whatever its name ends with."""

from __future__ import annotations

import io
from functools import partial

from yarvic.core.caged import caged_reader
from yarvic.core.errors import FormatError
from yarvic.core.evidence.raw import RawLog
from yarvic.core.formats.logs.assemble import recordings
from yarvic.core.formats.logs.text import read_sections

MOST_BYTES = 4 * 1024**3
HEAD = 512
MOST_PACKED = 1  # a gzip in a zip, a workbook in a zip
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


@caged_reader("log", "Log", "", MOST_BYTES)
def read_recordings(data: bytes, source: str) -> list[RawLog]:
    """The recordings in a file, raw: text of any dialect, gzip, zip of several, Parquet, XLSX, MDF 4.

    Raises FormatError naming file, place and remedy.
    """
    if not data[:HEAD].strip():
        raise FormatError("holds no rows", concerns=source, remedy="Choose another file.")
    found = _of_kind(data, source)
    if not found:
        raise FormatError("holds no log", concerns=source, remedy="Choose another file.")
    return found


def warm() -> None:
    """Read a small log, so that what reads the next one has begun."""
    rows = "".join(f"{n / 10},{n},{n % 7}.5\n" for n in range(50))
    read_recordings.inside(f"time [s],a [rpm],b\n{rows}".encode(), "warm")


def _packed(data: bytes, source: str, depth: int = 0) -> list[RawLog]:
    """The recordings of what was packed; of what is packed in that again, once."""
    if not data.strip():
        raise FormatError("holds no rows", concerns=source, remedy="Choose another file.")
    return _of_kind(data, source, depth + 1)


def _of_kind(data: bytes, source: str, depth: int = 0) -> list[RawLog]:
    for mark, what, remedy in _OTHERS:
        if data.startswith(mark):
            raise FormatError(what, concerns=source, remedy=remedy)
    kind = kind_of(data[:HEAD])
    if kind == "text":
        return recordings(read_sections(data, source), source, "text")
    file = io.BytesIO(data)
    if kind == "parquet":
        from yarvic.core.formats.logs.columnar import read_parquet

        return read_parquet(file, source)
    if kind == "mdf":
        from yarvic.core.formats.logs.mdf import read_mdf

        return read_mdf(file, source)
    from yarvic.core.formats.logs.packed import read_gzip, read_zip

    if depth > MOST_PACKED:
        raise FormatError("is packed over and over", concerns=source, remedy="Unpack it first.")
    inner = partial(_packed, depth=depth)
    return read_gzip(file, source, inner) if kind == "gzip" else read_zip(file, source, inner)
