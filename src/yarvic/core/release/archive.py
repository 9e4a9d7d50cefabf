"""The one form of a package: a zip (APPNOTE 6.3.10) of stored members, written and read byte for byte.

Nothing is compressed, so that the same content gives the same bytes on every machine, and nothing can unpack to more
than is there. What is read is written anew and compared: whatever is hidden before, between or behind shows.
"""

from __future__ import annotations

import re
import struct
import zlib
from collections.abc import Mapping
from pathlib import Path

from yarvic.core.errors import ReleaseError
from yarvic.core.reading import read_bounded, understood

MOST_FILES = 64
MOST_BYTES = 128 * 1024 * 1024
# A member's name: plain letters, at most one folder; no way up, no root, no two that differ in case.
NAME = re.compile(r"[a-z0-9][a-z0-9._-]{0,79}(/[a-z0-9][a-z0-9._-]{0,79})?")
_LOCAL, _CENTRAL, _END = b"PK\3\4", b"PK\1\2", b"PK\5\6"
_LOCAL_FIELDS = struct.Struct("<4s5H3I2H")
_CENTRAL_FIELDS = struct.Struct("<4s6H3I5H2I")
_END_FIELDS = struct.Struct("<4s4H2IH")
_VERSION, _UNIX = 20, 3 << 8  # what is needed to unpack it; made on Unix
_DATE = (0 << 9) | (1 << 5) | 1  # 1 January 1980, the first day that a zip can name
_RIGHTS = 0o100644 << 16


def is_plain(name: str) -> bool:
    """Whether a member may have this name."""
    return NAME.fullmatch(name) is not None and ".." not in name


def pack(members: Mapping[str, bytes]) -> bytes:
    """The archive of these members, in their order. Raises ReleaseError for a name that is not plain, or too much."""
    body, directory = bytearray(), bytearray()
    if len(members) > MOST_FILES or sum(map(len, members.values())) > MOST_BYTES:
        raise ReleaseError("a package cannot hold so much", remedy="Release fewer runs at once.")
    for name, data in members.items():
        if not is_plain(name):
            raise ReleaseError(f"{name!r} is no name of a file in a package", remedy="Rename the map slot.")
        raw, crc, at = name.encode("ascii"), zlib.crc32(data), len(body)
        body += _LOCAL_FIELDS.pack(_LOCAL, _VERSION, 0, 0, 0, _DATE, crc, len(data), len(data), len(raw), 0)
        body += raw + data
        directory += _CENTRAL_FIELDS.pack(
            _CENTRAL, _UNIX | _VERSION, _VERSION, 0, 0, 0, _DATE, crc, len(data), len(data), len(raw), 0, 0, 0, 0,
            _RIGHTS, at,
        )  # fmt: skip
        directory += raw
    count = len(members)
    end = _END_FIELDS.pack(_END, 0, 0, count, count, len(directory), len(body), 0)
    return bytes(body + directory + end)


def unpack(path: Path) -> tuple[dict[str, bytes], list[str]]:
    """The members of an archive in their order, and what is wrong with its form; nothing when it is as `pack` writes it.

    Raises FormatError where the file cannot be read, ReleaseError where it is no such archive at all.
    """
    data = read_bounded(path, MOST_BYTES + 1024 * 1024)
    with understood(str(path), ReleaseError, "Ask the shop for the package again."):
        members, faults = _members(data)
    if not members:
        raise ReleaseError(
            "this is not a release package, or it is damaged",
            concerns=str(path),
            remedy="Ask the shop for the package again. One from before packages were signed must be released anew.",
        )
    if not faults and pack(members) != data:
        faults = ["bytes before, between or behind its files were added or changed"]
    return members, faults


def _members(data: bytes) -> tuple[dict[str, bytes], list[str]]:
    members: dict[str, bytes] = {}
    faults: list[str] = []
    at = 0
    while data[at : at + 4] == _LOCAL and len(data) - at >= _LOCAL_FIELDS.size:
        fields = _LOCAL_FIELDS.unpack_from(data, at)
        size, length, extra = fields[7], fields[9], fields[10]
        start = at + _LOCAL_FIELDS.size + length + extra
        raw = data[at + _LOCAL_FIELDS.size : at + _LOCAL_FIELDS.size + length]
        name = raw.decode("latin-1")
        if fields[3] != 0 or start + size > len(data) or len(members) >= MOST_FILES:
            return members, [*faults, "its files are not stored as a package stores them"]
        if not is_plain(name):
            faults.append(f"{name[:80]!r} is no name of a file in a package")
        elif name in members:
            faults.append(f"{name} is there twice")
        else:
            members[name] = data[start : start + size]
        at = start + size
    return members, faults
