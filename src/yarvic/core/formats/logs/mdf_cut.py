"""An MDF 4 file that was cut off: what is whole of it, so that it can be read.

A logger writes what its channels are first and their records behind. Blocks from memory of ASAM MDF 4: each begins with its
kind, its length, how many links it has, and those.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from contextlib import suppress

_HEAD = struct.Struct("<4s4xQQ")
_LINK = struct.Struct("<Q")
FIRST = 64  # where the header block stands
MOST_BLOCKS = 1_000_000
# Links of blocks, by their place: next group of data, its channel groups, its records; the next of a list.
_NEXT, _CHANNELS, _RECORDS = 0, 1, 2
_CYCLES, _RECORD_BYTES = 8, 24  # behind the links of a channel group: how many records, and bytes of each


class _Damaged(Exception):
    """A block that is not there, or not whole."""


class _Blocks:
    """The blocks of a file, some of which its end may have taken."""

    def __init__(self, data: bytearray) -> None:
        self.data = data
        self._left = min(
            MOST_BLOCKS, len(data) // _HEAD.size + 1
        )  # more blocks cannot be there: then links lead in rings

    def head(self, place: int) -> tuple[bytes, int, int]:
        """Kind, length and number of links of a block. Raises _Damaged where that does not stand there."""
        if place < FIRST or place + _HEAD.size > len(self.data):
            raise _Damaged
        kind, length, links = _HEAD.unpack_from(self.data, place)
        if not kind.startswith(b"##") or links > 1 << 16 or place + _HEAD.size + 8 * links > len(self.data):
            raise _Damaged
        return kind, length, links

    def link(self, place: int, number: int) -> int:
        self._left -= 1
        if self._left < 0:
            raise _Damaged
        return int(_LINK.unpack_from(self.data, place + _HEAD.size + 8 * number)[0])

    def set_link(self, place: int, number: int, to: int) -> None:
        _LINK.pack_into(self.data, place + _HEAD.size + 8 * number, to)

    def whole(self, place: int) -> bool:
        """Whether all of a block is there."""
        try:
            return place + self.head(place)[1] <= len(self.data)
        except _Damaged:
            return False

    def groups(self) -> Iterator[tuple[int, int, int]]:
        """The groups of data, each with the block and the number of the link that leads to it."""
        at, number = FIRST, 0
        for _ in range(MOST_BLOCKS):
            place = self.link(at, number)
            if not place:
                return
            yield place, at, number
            at, number = place, _NEXT


def mended(cut: bytes) -> tuple[bytes, list[str]]:
    """The bytes of a file with the ends of its blocks where the file ends, and in sentences what is missing.

    Nothing is mended (no sentences) where the part that says what the numbers are is missing itself.
    """
    blocks, said = _Blocks(bytearray(cut)), list[str]()
    try:
        if not blocks.whole(FIRST):
            return cut, []
        for number, (place, before, link) in enumerate(blocks.groups(), 1):
            if not (blocks.whole(place) and _described(blocks, place)):
                # From here on nothing says what the numbers are.
                blocks.set_link(before, link, 0)
                said.append(f"from group {number} on the file is cut off, with all that it held")
                break
            lost = _records(blocks, place)
            if lost:
                said.append(f"group {number}: {lost}")
    except (_Damaged, struct.error):
        return cut, []
    return bytes(blocks.data), said


def _described(blocks: _Blocks, group: int) -> bool:
    """Whether the channel groups of a group of data are there, with all their channels."""
    at = blocks.link(group, _CHANNELS)
    for _ in range(MOST_BLOCKS):
        if not at:
            return True
        if not blocks.whole(at):
            return False
        channel = blocks.link(at, 1)
        for _ in range(MOST_BLOCKS):
            if not channel:
                break
            if not blocks.whole(channel):
                return False
            channel = blocks.link(channel, 0)
        at = blocks.link(at, 0)
    return False


def _records(blocks: _Blocks, group: int) -> str:
    """Set how many records of a group are there; a sentence where some are missing."""
    place, channels = blocks.link(group, _RECORDS), blocks.link(group, _CHANNELS)
    if not place or not channels or _is_whole(blocks, place):
        return ""
    counted = channels + _HEAD.size + 8 * blocks.head(channels)[2]
    cycles = struct.unpack_from("<Q", blocks.data, counted + _CYCLES)[0]
    own, invalid = struct.unpack_from("<II", blocks.data, counted + _RECORD_BYTES)
    there = _cut_block(blocks, group, place)
    several = blocks.link(channels, 0) != 0
    record = own + invalid
    if several or not record:
        blocks.set_link(group, _RECORDS, 0)  # records of several kinds: how many of each is not known
        there = 0
    kept = min(there // record, cycles) if record else 0
    struct.pack_into("<Q", blocks.data, counted + _CYCLES, 0 if several else kept)
    return f"the file is cut off: {0 if several else kept:,} of {cycles:,} records are there"


def _is_whole(blocks: _Blocks, place: int) -> bool:
    """Whether the block of records is there, and of a list all that it names."""
    while place:
        if not blocks.whole(place):
            return False
        kind, _, links = blocks.head(place)
        if kind == b"##DL" and not all(blocks.whole(blocks.link(place, n)) for n in range(1, links)):
            return False
        place = blocks.link(place, 0) if kind in (b"##HL", b"##DL") else 0
    return True


def _cut_block(blocks: _Blocks, group: int, place: int) -> int:
    """End a block of records where the file ends; how many bytes of records are there."""
    with suppress(_Damaged):
        kind, _, links = blocks.head(place)
        if kind == b"##DT":
            first = place + _HEAD.size + 8 * links
            struct.pack_into("<Q", blocks.data, place + 8, len(blocks.data) - place)
            return len(blocks.data) - first
    # Lists and packed blocks are not put together again.
    blocks.set_link(group, _RECORDS, 0)
    return 0
