"""What kind of CSV a file is: its separator, its decimal sign, its encoding, and a line of units under the names."""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass
from pathlib import Path

from yarvic.core.errors import FormatError
from yarvic.core.reading import cannot

HEAD_BYTES = 262_144
# More columns than this no logger writes.
MOST_COLUMNS = 5_000
HEAD_LINES = 6
_NUMBER = re.compile(r"^[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?$")


@dataclass(frozen=True)
class Dialect:
    """How to read a file; `units` is the line of units, empty where units stand beside the names.

    `bytes_per_number` is how much of the file a number takes, by its first lines.
    """

    separator: str = ","
    decimal_comma: bool = False
    encoding: str = "utf-8"
    units: tuple[str, ...] = ()
    bytes_per_number: float = 8.0


def find_dialect(path: Path) -> Dialect:
    """Look at the first lines of a file. Raises FormatError when it cannot be opened or holds no text."""
    try:
        with path.open("rb") as file:
            head = file.read(HEAD_BYTES)
    except OSError as error:
        raise cannot(error, "read", str(path)) from None
    if b"\0" in head:
        raise FormatError(
            "is not a text file", concerns=str(path), remedy="Export the log as CSV from the program that wrote it."
        )
    encoding = "utf-8"
    # A byte of a degree sign cut in two at the end of the head is no proof of another encoding.
    text = head.decode("utf-8-sig", errors="replace")
    if "�" in text[:-1]:
        encoding, text = "iso-8859-1", head.decode("iso-8859-1")
    lines = [line for line in text.splitlines()[:HEAD_LINES] if line.strip()]
    if not lines:
        return Dialect(encoding=encoding)
    separator = max((";", "\t", ","), key=lambda s: lines[0].count(s))
    if lines[0].count(separator) == 0:
        separator = ","
    if len(head) == HEAD_BYTES and "\n" not in text and "\r" not in text:
        raise FormatError(
            "has a first line without end", concerns=str(path), remedy="Export the log with one header line."
        )
    columns = lines[0].count(separator) + 1
    if columns > MOST_COLUMNS:
        raise FormatError(
            f"has {columns:,} columns, at most {MOST_COLUMNS:,} are read", concerns=str(path), remedy="Log fewer."
        )
    units: tuple[str, ...] = ()
    data = lines[1:]
    if data:
        names, fields = (_fields(line, separator, path) for line in (lines[0], data[0]))
        if len(fields) == len(names) and not any(_NUMBER.match(f.strip()) for f in fields):
            units, data = tuple(f.strip() for f in fields), data[1:]
    comma = separator != "," and any("," in line for line in data)
    # A field takes at least one letter and its separator.
    numbers = sum(line.count(separator) + 1 for line in data)
    per_number = max(2.0, sum(map(len, data)) / numbers) if numbers else 8.0
    return Dialect(separator, comma, encoding, units if any(units) else (), per_number)


def _fields(line: str, separator: str, path: Path) -> list[str]:
    """The fields of one line. Raises FormatError where a quote is opened and not closed."""
    try:
        return next(csv.reader([line], delimiter=separator, strict=True), [])
    except csv.Error:
        raise FormatError(
            "a quote is opened in its first lines and not closed",
            concerns=str(path),
            remedy="Close it, or export the log again without quotes.",
        ) from None
