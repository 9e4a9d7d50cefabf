"""Writing a unit by file: what is to be seen to, and what a memory that was read back says of the write."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from yarvic.core.calibration.image import check_length, check_marks, memory_of
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.places import Memory
from yarvic.core.calibration.spans import Spans, differing, merged, spans_of

MOST_NAMES = 12


@dataclass(frozen=True)
class Item:
    """Something to be seen to, and ticked: before the write, while it runs, or after it."""

    key: str
    when: str
    text: str


@cache
def items() -> tuple[Item, ...]:
    """All that is to be ticked, in its order."""
    data = tomllib.loads(files("yarvic.core.link").joinpath("data/by_file.toml").read_text("utf-8"))
    return tuple(Item(each["key"], when, each["text"]) for when, listed in data.items() for each in listed)


@dataclass(frozen=True)
class Range:
    """A range that differs, and what lies there: titles of tables, or that nothing is known of it."""

    start: int
    end: int
    names: tuple[str, ...]

    def sentence(self) -> str:
        """The range in words."""
        count = self.end - self.start
        where = f"0x{self.start:X}" if count == 1 else f"0x{self.start:X} to 0x{self.end - 1:X}"
        return f"{', '.join(self.names) or 'no table'} ({where})"


@dataclass(frozen=True)
class ReadBack:
    """What was read back against what was to be written; `aside` bytes were not compared."""

    differs: tuple[Range, ...]
    compared: int
    aside: int
    aside_changed: int
    as_before: bool  # all that differs is what the unit held before: the write did not end, or never began

    @property
    def equal(self) -> bool:
        """Whether all that was compared is as it was to be written."""
        return not self.differs


def compare_read_back(
    layout: Layout, written: bytes, read: bytes, before: Sequence[bytes], *, source: str
) -> ReadBack:
    """Compare byte by byte a memory that was read back; volatile ranges and gaps are left aside.

    `before` are images that the unit may have held. Raises CalibrationError for a memory of another length or family.
    """
    check_length(read, layout, source)
    check_marks(memory_of(read, layout), layout, source)
    aside = sorted((*layout.volatile, *layout.gaps))
    one, other = (_without(data, layout, aside) for data in (written, read))
    spans = spans_of(layout)
    ranges = tuple(
        Range(a, b, names_at(layout, spans, a, b))
        for a, b in differing(memory_of(one, layout), memory_of(other, layout))
    )
    left = sum(_overlap(layout, a, b) for a, b in merged(aside))
    changed = sum(
        x != y
        for a, b in merged(aside)
        for x, y in zip(
            written[max(a - layout.base, 0) : max(b - layout.base, 0)],
            read[max(a - layout.base, 0) : max(b - layout.base, 0)],
            strict=True,
        )
    )
    held = [_without(data, layout, aside) for data in before]
    half = bool(ranges) and any(
        all(
            other[r.start - layout.base : r.end - layout.base] == h[r.start - layout.base : r.end - layout.base]
            for r in ranges
        )
        for h in held
    )
    return ReadBack(ranges, layout.length - left, left, changed, half)


def _overlap(layout: Layout, start: int, end: int) -> int:
    return max(min(end, layout.end) - max(start, layout.base), 0)


def _without(data: bytes, layout: Layout, aside: Sequence[tuple[int, int]]) -> bytes:
    """The bytes with nothing where they are not compared."""
    if not aside:
        return data
    kept = bytearray(data)
    for start, end in aside:
        a, b = max(start - layout.base, 0), min(end, layout.end) - layout.base
        if b > a:
            kept[a:b] = bytes(b - a)
    return bytes(kept)


def without_aside(data: bytes, layout: Layout) -> bytes:
    """A memory with nothing where the unit changes it itself, or where no file held anything."""
    return _without(data, layout, sorted((*layout.volatile, *layout.gaps)))


def names_at(layout: Layout, spans: Spans, start: int, end: int) -> tuple[str, ...]:
    """What lies in a range, by the titles of tables, checksums and the name."""
    found = dict.fromkeys(_titled(layout, s.key, s.slot) for s in spans.at(start, end))
    for checksum in layout.checksums:
        if checksum.place is not None and checksum.place[0] < end and start < checksum.place[1]:
            found[checksum.title or f"checksum {checksum.kind}"] = None
    name = layout.revision_name
    if name is not None and name.address < end and start < name.address + name.length:
        found["name of the revision"] = None
    names = list(found)
    return tuple(names if len(names) <= MOST_NAMES else [*names[:MOST_NAMES], f"{len(names) - MOST_NAMES} more"])


def _titled(layout: Layout, key: str, slot: str) -> str:
    title = layout.by_key[key].named
    return f"{title}, slot {slot}" if layout.slots else title


def blocks_by_name(layout: Layout, one: Memory, other: Memory) -> Mapping[int, tuple[str, ...]]:
    """The blocks of the memory in which two images differ, each with what lies in the bytes that do."""
    spans = spans_of(layout)
    found: dict[int, tuple[str, ...]] = {}
    for start, end in differing(one, other, apart=1):
        for block in range((start - layout.base) // layout.block, (end - 1 - layout.base) // layout.block + 1):
            first = layout.base + block * layout.block
            names = names_at(layout, spans, max(start, first), min(end, first + layout.block))
            found[block] = tuple(dict.fromkeys((*found.get(block, ()), *names)))
    return found


def blocks_aside(layout: Layout) -> frozenset[int]:
    """The blocks of which nothing is compared: the unit changes them itself, or no file held them."""
    found: set[int] = set()
    for start, end in merged((*layout.volatile, *layout.gaps)):
        first = -(-(start - layout.base) // layout.block)
        last = layout.blocks if end >= layout.end else (end - layout.base) // layout.block
        found.update(range(max(first, 0), last))
    return frozenset(found)
