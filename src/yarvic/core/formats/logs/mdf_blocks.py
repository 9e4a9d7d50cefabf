"""Whether the blocks of an MDF 4 file are where its links say, and its channels lie within its records.

What reads such files follows links and offsets as they stand: a wrong one leads anywhere in memory, or round and round.
Blocks, links and fields from memory of ASAM MDF 4, tried against files of a reference library.
"""

from __future__ import annotations

import math
import struct
from dataclasses import dataclass

Data = bytes | bytearray
HEAD = struct.Struct("<4s4xQQ")
FIRST = 64  # where the header block stands
MOST_BLOCKS, MOST_DEPTH = 1_000_000, 20
MOST_GROWN = 1100  # times its size may packed data be (deflate packs 1,032 to 1 at most)

_TEXT = (b"##TX", b"##MD")
_BYTES = (b"##DT", b"##DZ", b"##SD", b"##DV", b"##DI", b"##SV")
_RECORDS = (*_BYTES, b"##DL", b"##LD", b"##HL")
# What the links of a block lead to, by their place. Those of other blocks lead to any block, and are not followed.
_LINKS: dict[bytes, tuple[tuple[bytes, ...], ...]] = {
    b"##HD": ((b"##DG",), (b"##FH",)),
    b"##DG": ((b"##DG",), (b"##CG",), _RECORDS, _TEXT),
    b"##CG": ((b"##CG",), (b"##CN",), (b"##TX",), (b"##SI",)),
    b"##CN": ((b"##CN",), (b"##CN", b"##CA"), (b"##TX",), (b"##SI",), (b"##CC",), _RECORDS, _TEXT, _TEXT),
    b"##CA": ((b"##CN", b"##CA"),),
    b"##CC": (_TEXT, _TEXT, _TEXT, (b"##CC",)),
    b"##SI": ((b"##TX",), (b"##TX",), _TEXT),
    b"##FH": ((b"##FH",), _TEXT),
    b"##HL": ((b"##DL", b"##LD"),),
}
# Links that a block of a kind has at least: what reads it takes them from their places.
_LEAST_LINKS = {
    b"##HD": 6, b"##DG": 4, b"##CG": 6, b"##CN": 8, b"##CC": 4, b"##SI": 3, b"##HL": 1, b"##DL": 1, b"##LD": 1, b"##FH": 2,
}  # fmt: skip
_LISTS = (b"##DG", b"##CG", b"##CN", b"##DL", b"##LD", b"##HL", b"##FH")
# Fields behind the links: of a channel (kind, sync, type, first bit, first byte, bits, flags, its bit of validity), a group
# (records, bytes of one and of validity), a conversion (texts, numbers), a list (parts), packed data (bytes, packed bytes),
# an array (its dimensions, bytes from one value to the next; behind them how many values each dimension has).
_CHANNEL = struct.Struct("<BBBBIIII")
_GROUP = struct.Struct("<8xQHHIII")
_CONVERSION = struct.Struct("<4xHH16x")
_LIST = struct.Struct("<4xI")
_PACKED = struct.Struct("<8xQQ")
_ARRAY = struct.Struct("<2xH4xi4x")
_VARIABLE, _REMOTE = 1, 8  # flags of a group: records of their own lengths; stamps that lie in another group
_VIRTUAL = (3, 6)  # kinds of channels without bytes in a record: they count
_HAS_VALIDITY = 2  # flag of a channel


class Damaged(Exception):
    """What is wrong with a block, in words, with its place."""


@dataclass(frozen=True)
class Block:
    """A block: where it stands, its kind, its links, where the fields behind them begin, and its end."""

    place: int
    kind: bytes
    links: tuple[int, ...]
    fields: int
    end: int

    def unpacked(self, data: Data, form: struct.Struct) -> tuple[int, ...]:
        """Its fields. Raises Damaged where it is too short for them."""
        if self.fields + form.size > self.end:
            raise Damaged(f"the block at byte {self.place:,} is too short")
        return form.unpack_from(data, self.fields)


@dataclass(frozen=True)
class _Way:
    """A link that is followed: where to, what may stand there, how deep, and how long records are there."""

    to: int
    kinds: tuple[bytes, ...]
    depth: int = 0
    record: tuple[int, int] = (0, 0)


def block(data: Data, place: int) -> Block:
    """The block that begins at a place. Raises Damaged where none does, or it is not all there."""
    if place < FIRST or place + HEAD.size > len(data):
        raise Damaged(f"a link leads to byte {place:,}, where no block can be")
    kind, length, count = HEAD.unpack_from(data, place)
    fields, end = place + HEAD.size + 8 * count, place + length
    if kind[:2] != b"##" or count > 1 << 20 or fields > end or end > len(data):
        raise Damaged(f"at byte {place:,} stands no whole block")
    if count < _LEAST_LINKS.get(kind, 0):
        raise Damaged(f"the block at byte {place:,} has too few links")
    return Block(place, kind, struct.unpack_from(f"<{count}Q", data, place + HEAD.size), fields, end)


def check(data: Data) -> None:
    """Follow every link once. Raises Damaged for the first that leads to what it cannot, or in a ring; for a channel that
    is outside its record, and for more records than there are bytes.
    """
    seen: set[int] = set()
    waiting = [_Way(FIRST, (b"##HD",))]
    while waiting:
        way = waiting.pop()
        found = block(data, way.to)
        if found.kind not in way.kinds:
            names = " or ".join(k.decode("ascii")[2:] for k in way.kinds)
            raise Damaged(f"at byte {way.to:,} stands a block that is none of {names}")
        if way.to in seen:
            if found.kind in _LISTS:
                raise Damaged(f"two links lead to the list at byte {way.to:,}")
            continue  # a text or a conversion may serve several
        seen.add(way.to)
        if len(seen) > MOST_BLOCKS or way.depth > MOST_DEPTH:
            raise Damaged("its blocks have no end")
        waiting += _ways(data, found, way)


def _ways(data: Data, found: Block, way: _Way) -> list[_Way]:
    """The links of a block that are followed; the others lead to whole blocks. Its fields are looked at too."""
    known, record = _kinds(data, found), way.record
    if found.kind == b"##CN":
        _channel_fits(data, found, record)
    elif found.kind == b"##CG":
        _, flags, _, _, own, validity = found.unpacked(data, _GROUP)
        record = (-1, -1) if flags & (_VARIABLE | _REMOTE) else (own, validity)
    elif found.kind == b"##DG":
        _records_are_there(data, found)
    ways = []
    for n, to in enumerate(found.links):
        kinds = known[n] if n < len(known) else ()
        if to and kinds:
            ways.append(_Way(to, kinds, way.depth + (found.kind not in kinds), record))
        elif to:
            block(data, to)
    return ways


def _kinds(data: Data, found: Block) -> list[tuple[bytes, ...]]:
    """What the links lead to that are followed, by their place. Raises Damaged where a block counts more than it has."""
    known = list(_LINKS.get(found.kind, ()))
    if found.kind in (b"##DL", b"##LD"):
        if found.unpacked(data, _LIST)[0] >= len(found.links):
            raise Damaged(f"the list at byte {found.place:,} counts more parts than it has")
        return [(found.kind,), *[_BYTES] * (len(found.links) - 1)]
    if found.kind == b"##CC":
        texts, numbers = found.unpacked(data, _CONVERSION)
        if texts + 4 > len(found.links) or found.fields + _CONVERSION.size + 8 * numbers > found.end:
            raise Damaged(f"the conversion at byte {found.place:,} counts more than it has")
        return known + [(*_TEXT, b"##CC")] * texts
    if found.kind == b"##DZ":
        whole, packed = found.unpacked(data, _PACKED)
        if whole > MOST_GROWN * packed or found.fields + _PACKED.size + packed > found.end:
            raise Damaged(f"the packed data at byte {found.place:,} are not as long as they say")
    elsewhere = found.links[5] if found.kind == b"##CN" else 0
    if elsewhere and block(data, elsewhere).kind not in _RECORDS:
        known[5] = ()  # the group, channel or file that its values lie in
    return known


def _channel_fits(data: Data, channel: Block, record: tuple[int, int]) -> None:
    """Raises Damaged for a channel with bytes outside its records, in its only value or the last of several."""
    kind, _, _, first_bit, first, bits, flags, valid = channel.unpacked(data, _CHANNEL)
    own, validity = record
    if own < 0 or kind in _VIRTUAL:
        return
    end = first + (first_bit + bits + 7) // 8
    if channel.links[1]:
        several = block(data, channel.links[1])
        if several.kind == b"##CA":
            count, step = several.unpacked(data, _ARRAY)
            sizes = struct.Struct(f"<{_ARRAY.size}x{count}Q")
            end += (math.prod(several.unpacked(data, sizes)) - 1) * abs(step)
    if first_bit > 7 or end > own:
        raise Damaged(f"the channel at byte {channel.place:,} lies outside its records of {own:,} bytes")
    if flags & _HAS_VALIDITY and valid // 8 >= validity:
        raise Damaged(f"the channel at byte {channel.place:,} has a bit of validity outside its records")


def _records_are_there(data: Data, group: Block) -> None:
    """Raises Damaged where the channel groups of a group of data count more records than it has bytes."""
    need, at, seen = 0, group.links[1], set[int]()
    while at:
        if at in seen:
            raise Damaged(f"two links lead to the list at byte {at:,}")
        seen.add(at)
        one = block(data, at)
        if one.kind != b"##CG":
            raise Damaged(f"at byte {at:,} stands a block that is none of CG")
        count, flags, _, _, own, validity = one.unpacked(data, _GROUP)
        need += 0 if flags & _VARIABLE else count * (own + validity)
        at = one.links[0]
    if need > _bytes_of(data, group.links[2]):
        raise Damaged(f"the group at byte {group.place:,} counts more records than are there")


def _bytes_of(data: Data, place: int) -> int:
    """How many bytes of records there are from a block on."""
    total, seen = 0, set[int]()
    while place:
        if place in seen:
            raise Damaged(f"two links lead to the list at byte {place:,}")
        seen.add(place)
        found = block(data, place)
        if found.kind == b"##HL":
            place = found.links[0]
            continue
        parts = found.links[1:] if found.kind in (b"##DL", b"##LD") else (place,)
        for part in filter(None, parts):
            one = block(data, part)
            total += one.unpacked(data, _PACKED)[0] if one.kind == b"##DZ" else one.end - one.fields
        place = found.links[0] if found.kind in (b"##DL", b"##LD") else 0
    return total
