"""Which entries lie where in a memory, and which of them two memories differ in."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.places import Memory, places
from yarvic.core.errors import CalibrationError

# Bytes that differ and lie no further apart than this are one range.
APART = 16


@dataclass(frozen=True)
class Span:
    """A range that belongs to an entry of a slot; not to it alone where it is a shared axis."""

    start: int
    end: int
    slot: str
    key: str
    own: bool = True


class Spans:
    """All ranges of a layout's entries, in the order of their addresses."""

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        found: list[Span] = []
        for slot in layout.sets:
            for entry in layout.entries:
                try:
                    there = places(layout, entry, None, slot)
                except CalibrationError:
                    continue  # said where the layout is inspected
                found += [Span(a, b, slot, entry.key) for a, b in there.own()]
                # What moves a shared axis moves the table too.
                found += [Span(a, b, slot, entry.key, own=False) for a, b in there.shares()]
        self.all = sorted(found, key=lambda s: (s.start, s.end))
        self._starts = [s.start for s in self.all]
        self._longest = max((s.end - s.start for s in self.all), default=0)
        self._order = {e.key: n for n, e in enumerate(layout.entries)}

    def at(self, start: int, end: int) -> list[Span]:
        """The ranges that share an address with this one."""
        first = bisect_right(self._starts, start - self._longest)
        found = []
        for span in self.all[first:]:
            if span.start >= end:
                break
            if span.end > start:
                found.append(span)
        return found

    def touched(self, one: Memory, other: Memory, slot: str) -> list[str]:
        """The keys of a slot's entries in whose ranges two memories differ, in the order of the layout."""
        keys = set()
        for start, end in differing(one, other):
            for s in self.at(start, end):
                here = slice(s.start - one.base, s.end - one.base)
                if s.slot == slot and one.data[here] != other.data[here]:
                    keys.add(s.key)
        return sorted(keys, key=self._order.__getitem__)


def differing(one: Memory, other: Memory, apart: int = APART) -> list[tuple[int, int]]:
    """The ranges of addresses in which two memories of one length differ. Raises CalibrationError for other lengths."""
    if len(one.data) != len(other.data) or one.base != other.base:
        raise CalibrationError(
            f"memories of {len(one.data):,} and {len(other.data):,} bytes cannot be compared",
            remedy="Compare images of one unit.",
        )
    if one.data == other.data:
        return []
    return [(one.base + a, one.base + b) for a, b in _runs(_places_that_differ(one.data, other.data), apart)]


def merged(ranges: Iterable[tuple[int, int]]) -> list[tuple[int, int]]:
    """Ranges in order, those that touch as one."""
    found: list[tuple[int, int]] = []
    for start, end in sorted(ranges):
        if found and start <= found[-1][1]:
            found[-1] = found[-1][0], max(found[-1][1], end)
        else:
            found.append((start, end))
    return found


def _places_that_differ(one: bytes | bytearray, other: bytes | bytearray) -> NDArray[np.int64]:
    return np.flatnonzero(np.frombuffer(one, np.uint8) != np.frombuffer(other, np.uint8))


def _runs(at: NDArray[np.int64], apart: int) -> list[tuple[int, int]]:
    """Places as ranges, those that lie close together as one."""
    if not at.size:
        return []
    cuts = np.flatnonzero(np.diff(at) > apart)
    starts = np.concatenate([at[:1], at[cuts + 1]])
    ends = np.concatenate([at[cuts], at[-1:]]) + 1
    return [(int(a), int(b)) for a, b in zip(starts, ends, strict=True)]


class _Same:
    """A layout as a key: by the parts that its ranges follow from, which are the same objects in a changed copy."""

    __slots__ = ("_parts", "layout")

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        parts = (layout.entries, layout.axes, layout.records)
        self._parts = (*(id(p) for p in parts), layout.slots, layout.slot_start, layout.slot_size)

    def __hash__(self) -> int:
        return hash(self._parts)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and other._parts == self._parts


@lru_cache(maxsize=4)
def _spans(same: _Same) -> Spans:
    return Spans(same.layout)


def spans_of(layout: Layout) -> Spans:
    """The ranges of a layout, worked out once."""
    return _spans(_Same(layout))
