"""What kind of file something is, by its content, whatever it is called."""

from __future__ import annotations

import re
from pathlib import Path

from yarvic.core.formats.asap2.blocks import decoded
from yarvic.core.formats.images import form_of
from yarvic.core.reading import opened, understood

HEAD = 65_536
MOST_BYTES = 1 << 40
MANIFEST = b"manifest.json"
RAW_SUFFIXES = (".bin", ".ori", ".rom")
# The ending of a description file (ASAP2).
DESCRIBED = ".a2l"


def kind_of_file(path: Path) -> str:
    """`job`, `image` (Intel HEX, S-record), `description` (of a memory), `layout` (our own form of one), `mapping`,
    `package` (a release) or, where it is none of these, `log`. Raw bytes are known by their ending alone, and
    so is a description that does not begin like one, so that it is refused as what it should be.

    Raises FormatError where it cannot be read.
    """
    with opened(path, MOST_BYTES) as held, understood(str(path)):
        head = held.file.read(HEAD)
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
    if _is_package(head):
        return "package"
    return "description" if path.suffix.lower() == DESCRIBED else "log"


def _is_description(head: bytes) -> bool:
    """Whether a text begins as descriptions by the standard do, in whatever encoding and behind whatever comments."""
    text = decoded(head[: HEAD // 2 * 2])
    return "ASAP2_VERSION" in text or (
        "/begin" in text and re.search(r"/begin\s+(PROJECT|MODULE)\b", text) is not None
    )


def _is_package(head: bytes) -> bool:
    """Whether a zip begins as a package does: its manifest is the first that is in it (APPNOTE 6.3.10, 4.3.7)."""
    return head.startswith(b"PK\x03\x04") and head[30 : 30 + len(MANIFEST)] == MANIFEST
