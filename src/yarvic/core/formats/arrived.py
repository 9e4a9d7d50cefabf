"""What kind of file something is, by its content, whatever it is called."""

from __future__ import annotations

import re
import zipfile
from pathlib import Path

from yarvic.core.formats.asap2.blocks import decoded
from yarvic.core.formats.images import form_of
from yarvic.core.reading import check_file

HEAD = 65_536
MOST_BYTES = 1 << 40
RAW_SUFFIXES = (".bin", ".ori", ".rom")
# The ending of a description file (ASAP2).
DESCRIBED = ".a2l"


def kind_of_file(path: Path) -> str:
    """`job`, `image` (Intel HEX, S-record), `description` (of a memory), `layout` (our own form of one), `mapping`,
    `package` (a release) or, where it is none of these, `log`. Raw bytes are known by their ending alone, and
    so is a description that does not begin like one, so that it is refused as what it should be.

    Raises FormatError where it cannot be read.
    """
    check_file(path, MOST_BYTES)
    with path.open("rb") as file:
        head = file.read(HEAD)
    if head.startswith(b"SQLite format 3\0"):
        return "job"
    if form_of(head) != "raw" or path.suffix.lower() in RAW_SUFFIXES:
        return "image"
    if b"yarvic mapping" in head[:400]:
        return "mapping"
    if b"yarvic layout" in head[:2000]:
        return "layout"
    if _is_description(head):
        return "description"
    if head.startswith(b"PK\x03\x04") and _is_package(path):
        return "package"
    return "description" if path.suffix.lower() == DESCRIBED else "log"


def _is_description(head: bytes) -> bool:
    """Whether a text begins as descriptions by the standard do, in whatever encoding and behind whatever comments."""
    text = decoded(head[: HEAD // 2 * 2])
    return "ASAP2_VERSION" in text or (
        "/begin" in text and re.search(r"/begin\s+(PROJECT|MODULE)\b", text) is not None
    )


def _is_package(path: Path) -> bool:
    try:
        with zipfile.ZipFile(path) as archive:
            return "manifest.json" in archive.namelist()[:50]
    except (zipfile.BadZipFile, OSError, NotImplementedError):
        return False
