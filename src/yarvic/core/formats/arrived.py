"""What kind of file something is, by its content, whatever it is called."""

from __future__ import annotations

import zipfile
from pathlib import Path

from yarvic.core.reading import check_file

HEAD = 65_536
MOST_BYTES = 1 << 40


def kind_of_file(path: Path) -> str:
    """`job`, `image` (Intel HEX), `mapping`, `package` (a release) or, where it is none of these, `log`.

    Raises FormatError where it cannot be read.
    """
    check_file(path, MOST_BYTES)
    with path.open("rb") as file:
        head = file.read(HEAD)
    if head.startswith(b"SQLite format 3\0"):
        return "job"
    if head[:1] == b":" and head.split(b"\n", 1)[0].strip()[1:].isalnum():
        return "image"
    if b"yarvic mapping" in head[:400]:
        return "mapping"
    if head.startswith(b"PK\x03\x04") and _is_package(path):
        return "package"
    return "log"


def _is_package(path: Path) -> bool:
    try:
        with zipfile.ZipFile(path) as archive:
            return "manifest.json" in archive.namelist()[:50]
    except (zipfile.BadZipFile, OSError, NotImplementedError):
        return False
