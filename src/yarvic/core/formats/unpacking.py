"""What packed bytes may unpack to, and what goes wrong while they are unpacked."""

from __future__ import annotations

import lzma
import struct
import zipfile
import zlib

from yarvic.core.errors import FormatError
from yarvic.core.reading import check_memory

# Text of numbers shrinks to a tenth, and to a fiftieth where it stands still.
MOST_UNPACKED = 1 << 30
MOST_RATIO, FREE_BYTES = 200, 16 * 1024 * 1024
MOST_MEMBERS = 400
# What unpacking raises for what is damaged.
UNPACKING = (
    zipfile.BadZipFile, OSError, EOFError, zlib.error, lzma.LZMAError, struct.error, NotImplementedError, RuntimeError,
    ValueError,
)  # fmt: skip


def most_unpacked(packed: int) -> int:
    """How many bytes so many packed ones may unpack to."""
    return max(FREE_BYTES, min(MOST_UNPACKED, MOST_RATIO * packed))


def check_unpacked(members: list[zipfile.ZipInfo], source: str) -> None:
    """Raise FormatError for a zip that says it unpacks to more than any log does."""
    unpacked, packed = sum(m.file_size for m in members), sum(m.compress_size for m in members)
    if len(members) > MOST_MEMBERS or unpacked > most_unpacked(packed):
        raise too_much(source)
    check_memory(unpacked * 4.0, source)


def too_much(source: str) -> FormatError:
    """The error for what has no end."""
    return FormatError(
        "unpacks to more than a log can be",
        concerns=source,
        remedy="It may be made to harm; unpack it by other means.",
    )
