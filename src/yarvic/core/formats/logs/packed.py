"""Packed logs: gzip of one, zip of several, a workbook. Nothing is unpacked to disk, and never more than fits."""

from __future__ import annotations

import gzip
import io
import zipfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import IO, BinaryIO

from yarvic.core.errors import FormatError, YarvicError, in_plain
from yarvic.core.evidence.raw import RawLog
from yarvic.core.formats.unpacking import UNPACKING, check_unpacked, most_unpacked, too_much

STEP = 1 << 20
# Names under which logs are packed; what others hold is no log.
_LOGS = (".csv", ".txt", ".log", ".tsv", ".dat", ".asc", ".prn", "", ".gz", ".xlsx", ".parquet", ".mf4", ".mdf")
Inner = Callable[[bytes, str], list[RawLog]]


def read_gzip(file: BinaryIO, source: str, inner: Inner) -> list[RawLog]:
    """The recordings of a file in gzip. Raises FormatError where it is damaged or unpacks to more than any log."""
    packed = file.seek(0, 2)
    file.seek(0)
    try:
        with gzip.open(file, "rb") as unpacked:
            data = _bounded(unpacked, packed, source)
    except UNPACKING as error:
        raise _damaged(source, error) from None
    return inner(data, source)


def read_zip(file: BinaryIO, source: str, inner: Inner) -> list[RawLog]:
    """The recordings of all logs in a zip, in the order of their names, or of the sheets of a workbook.

    `inner` reads what was packed, whatever it is. Raises FormatError where it is damaged, holds no log, or unpacks to
    more than any log.
    """
    try:
        archive = zipfile.ZipFile(file)
        members = [m for m in archive.infolist() if m.filename and not m.is_dir()]
    except UNPACKING as error:
        raise _damaged(source, error) from None
    with archive:
        names = {m.filename for m in members}
        if "[Content_Types].xml" in names and any(n.startswith("xl/") for n in names):
            from yarvic.core.formats.logs.columnar import read_workbook

            file.seek(0)
            return read_workbook(file, source)
        return _members(archive, members, source, inner)


def _members(archive: zipfile.ZipFile, members: list[zipfile.ZipInfo], source: str, inner: Inner) -> list[RawLog]:
    check_unpacked(members, source)
    found: list[RawLog] = []
    refused: list[YarvicError] = []
    logs = sorted((m for m in members if Path(m.filename).suffix.lower() in _LOGS), key=lambda m: m.filename)
    for member in logs:
        inside = f"{source}, {in_plain(Path(member.filename).name, 80)}"
        if member.flag_bits & 1:
            raise FormatError("is locked by a password", concerns=inside, remedy="Unpack it first.")
        try:
            with archive.open(member) as file:
                data = _bounded(file, max(member.compress_size, 1), inside)
        except UNPACKING as error:
            raise _damaged(inside, error) from None
        try:
            read = inner(data, inside)
        except YarvicError as error:
            refused.append(error)  # a note beside the logs takes none of them with it
            continue
        name = in_plain(Path(member.filename).name, 80)
        found += [replace(log, part=f"{name}, {log.part}" if log.part else name) for log in read]
    if not found:
        if refused:
            raise refused[0]
        raise FormatError("holds no log", concerns=source, remedy="Pack logs as CSV.")
    for why in refused:
        found[0].notes.append(f"{why.concerns} was left out: it {why.what}")
    return found


def _bounded(file: IO[bytes] | gzip.GzipFile, packed: int, source: str) -> bytes:
    most = most_unpacked(packed)
    out = io.BytesIO()
    while block := file.read(STEP):
        out.write(block)
        if out.tell() > most:
            raise too_much(source)
    return out.getvalue()


def _damaged(source: str, error: Exception) -> FormatError:
    return FormatError(
        "is damaged and cannot be unpacked", concerns=source, remedy="Pack it again.", details=type(error).__name__
    )
