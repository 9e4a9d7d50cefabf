"""What kind of CSV a file is: its separator, its decimal sign, its encoding, and a line of units under the names."""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass
from pathlib import Path

from yarvic.core.errors import FormatError

HEAD_BYTES = 65_536
HEAD_LINES = 6
_NUMBER = re.compile(r"^[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?$")


@dataclass(frozen=True)
class Dialect:
    """How to read a file; `units` is the line of units, empty where units stand beside the names."""

    separator: str = ","
    decimal_comma: bool = False
    encoding: str = "utf-8"
    units: tuple[str, ...] = ()


def find_dialect(path: Path) -> Dialect:
    """Look at the first lines of a file. Raises FormatError when it cannot be opened or holds no text."""
    try:
        with path.open("rb") as file:
            head = file.read(HEAD_BYTES)
    except OSError as error:
        raise FormatError(
            "cannot be opened", concerns=str(path), remedy="Check the path.", details=str(error)
        ) from None
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
    units: tuple[str, ...] = ()
    data = lines[1:]
    if data:
        names, fields = list(csv.reader([lines[0], data[0]], delimiter=separator))
        if len(fields) == len(names) and not any(_NUMBER.match(f.strip()) for f in fields):
            units, data = tuple(f.strip() for f in fields), data[1:]
    comma = separator != "," and any("," in line for line in data)
    return Dialect(separator, comma, encoding, units if any(units) else ())
