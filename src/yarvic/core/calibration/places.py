"""Where the numbers of an entry lie in a memory: their addresses, how many there are, and in which order."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass
from functools import cached_property
from itertools import accumulate

import numpy as np

from yarvic.core.calibration.layout import Axis, Entry, Layout, Part, Record, SharedAxis, Stored
from yarvic.core.calibration.storing import SIZES, Raw, Storing, dtype_of
from yarvic.core.errors import CalibrationError


@dataclass(frozen=True)
class Memory:
    """The bytes of a memory, the address of the first, and which of them no file held."""

    data: bytes | bytearray
    base: int = 0
    gaps: tuple[tuple[int, int], ...] = ()

    @cached_property
    def _holes(self) -> tuple[list[int], list[int]]:
        """The gaps in order: where each begins, and how far those up to it reach."""
        ordered = sorted(self.gaps)
        return [a for a, _ in ordered], list(accumulate((b for _, b in ordered), max))

    @property
    def end(self) -> int:
        """The address behind the last byte."""
        return self.base + len(self.data)

    def has(self, start: int, end: int) -> bool:
        """Whether all of a range is there."""
        if not self.base <= start or end > self.end:
            return False
        starts, reach = self._holes
        before = bisect_left(starts, end)
        return before == 0 or reach[before - 1] <= start

    def bytes(self, start: int, end: int) -> bytes:
        """The bytes of a range. Raises CalibrationError where it is not all there."""
        if not self.has(start, end):
            raise CalibrationError(
                f"addresses 0x{start:X} to 0x{end - 1:X} are not in the memory, which is"
                f" 0x{self.base:X} to 0x{self.end - 1:X}{' with gaps' if self.gaps else ''}",
                remedy="Correct the address, or choose an image that holds it.",
            )
        return bytes(self.data[start - self.base : end - self.base])


@dataclass(frozen=True)
class Numbers:
    """Numbers that lie one behind the other. `falls`: from the last to the first."""

    address: int
    count: int
    dtype: np.dtype
    storing: Storing
    falls: bool = False

    @property
    def span(self) -> tuple[int, int]:
        """The first address, and the one behind the last."""
        return self.address, self.address + self.count * self.dtype.itemsize

    def raw(self, memory: Memory) -> Raw:
        """The raw numbers, those of a mask from its lowest bit on. Raises CalibrationError where they are not there."""
        found = np.frombuffer(memory.bytes(*self.span), dtype=self.dtype)
        if self.storing.mask:
            found = (found.astype(np.int64) & self.storing.mask) >> self.storing.shift
        return found.astype(np.float64)[:: -1 if self.falls else 1]

    def patch(self, index: int, raw: float, now: bytes) -> tuple[int, bytes]:
        """The address and the bytes that put one raw number there; `now` is what lies there. Raises CalibrationError."""
        low, high = self.storing.raw_limits
        if self.storing.whole and not low <= raw <= high:
            ends = sorted(float(v) for v in np.asarray(self.storing.value(np.array([low, high]))))
            raise CalibrationError(
                f"a value does not fit its storage {self.storing.storage}",
                remedy=f"Stay within {ends[0]:g} and {ends[1]:g}.",
            )
        if self.storing.whole:
            number = int(raw)
            if self.storing.mask:
                before = int(np.frombuffer(now, dtype=self.dtype)[0])
                number = (before & ~self.storing.mask) | (number << self.storing.shift)
            data = np.array([number]).astype(self.dtype).tobytes()
        else:
            data = np.array([raw]).astype(self.dtype).tobytes()
        return self.at(index)[0], data

    def at(self, index: int) -> tuple[int, int]:
        """The addresses of one of them."""
        size = self.dtype.itemsize
        place = self.count - 1 - index if self.falls else index
        return self.address + place * size, self.address + (place + 1) * size


@dataclass(frozen=True)
class Places:
    """Where the parts of an entry lie: its numbers, and the axes that are its own or shared (None: in no memory)."""

    values: Numbers
    columns: int = 1
    rows: int = 1
    by_columns: bool = False
    x: Numbers | None = None
    y: Numbers | None = None
    x_count: Numbers | None = None  # where the memory itself says how many there are
    y_count: Numbers | None = None
    shared: tuple[bool, bool] = (False, False)  # whether x and y belong to other tables too

    def index(self, row: int, column: int) -> int:
        """Which number is a cell's."""
        return column * self.rows + row if self.by_columns else row * self.columns + column

    def own(self) -> list[tuple[int, int]]:
        """The ranges that are its own, in order."""
        axes = [n.span for n, s in zip((self.x, self.y), self.shared, strict=True) if n is not None and not s]
        counts = [n.span for n in (self.x_count, self.y_count) if n is not None]
        return sorted([self.values.span, *counts, *axes])

    def shares(self) -> list[tuple[int, int]]:
        """The ranges of its axes that belong to other tables too."""
        return [n.span for n, s in zip((self.x, self.y), self.shared, strict=True) if n is not None and s]


def places(layout: Layout, entry: Entry, memory: Memory | None, slot: str) -> Places:
    """Where an entry lies; without a memory with as many break points as there can be.

    Raises CalibrationError for what cannot be.
    """
    offset = layout.slot_offset(slot)
    storing = layout.storing(entry, entry.mask)
    dtype = dtype_of(entry.storage, layout.order_of(entry))
    if entry.kind in ("value", "text") or entry.x is None:
        # A block without a stated axis is counted.
        return Places(Numbers(_start(layout, entry, offset), entry.count, dtype, storing), columns=entry.count)
    if entry.record:
        return _of_record(layout, entry, memory, offset, storing)
    x, nx = _axis(layout, entry.x, memory, offset)
    y, ny = _axis(layout, entry.y, memory, offset) if entry.y is not None else (None, 1)
    numbers = Numbers(entry.address + offset, nx * ny, dtype, storing)
    x_count, y_count = (_count_of(layout, a, offset) for a in (entry.x, entry.y))
    return Places(numbers, nx, ny, entry.by == "columns", x, y, x_count, y_count, _shares(entry))


def _count_of(layout: Layout, axis: Axis | None, offset: int) -> Numbers | None:
    """Where an axis of its own says how many break points it has."""
    if axis is None or not axis.count_storage or axis.kind == "shared":
        return None
    dtype = dtype_of(axis.count_storage, layout.order_of(axis))
    return Numbers(axis.count_address + offset, 1, dtype, Storing(axis.count_storage))


def _shares(entry: Entry) -> tuple[bool, bool]:
    x, y = (a is not None and a.kind == "shared" for a in (entry.x, entry.y))
    return x, y


def _start(layout: Layout, entry: Entry, offset: int) -> int:
    """The address of the numbers of an entry without axes: behind what its record has before them."""
    address = entry.address + offset
    if not entry.record:
        return address
    for part, at in _laid(_record(layout, entry.record), address, 1, 1, entry.count):
        if part.what == "values":
            return at
    return address


def _record(layout: Layout, name: str) -> Record:
    if name not in layout.records:
        raise CalibrationError(f"there is no record {name!r}", remedy="Correct its name, or add it.")
    return layout.records[name]


def _laid(record: Record, address: int, nx: int, ny: int, count: int) -> list[tuple[Part, int]]:
    """The parts of a record with their addresses, for so many break points."""
    found: list[tuple[Part, int]] = []
    many = {"x": nx, "y": ny, "values": count, "x count": 1, "y count": 1, "skip": 0}
    for part in record.parts:
        if part.what != "skip" and found:  # the first lies where it is said to
            even = record.align.get(part.storage, 1)
            address += -address % even
        found.append((part, address))
        address += part.skip if part.what == "skip" else SIZES[part.storage] * many[part.what]
    return found


def _counted(
    record: Record, address: int, memory: Memory | None, order: str, most: tuple[int, int]
) -> tuple[int, int]:
    """How many break points a record has: what it says itself, or as many as there can be."""
    if memory is None or not record.counted:
        return most
    nx, ny = most
    for what in ("x count", "y count"):
        # A count may lie behind an axis whose length is known by then.
        room = most if record.fixed else (nx, ny)
        for part, at in _laid(record, address, *room, room[0] * room[1]):
            if part.what == what:
                raw = np.frombuffer(memory.bytes(at, at + SIZES[part.storage]), dtype_of(part.storage, order))
                n = int(raw[0])
                limit = most[0 if what == "x count" else 1]
                if not 1 <= n <= limit:
                    raise CalibrationError(
                        f"the memory at 0x{at:X} says {n} break points, of at most {limit}",
                        remedy="Check the address, or choose the image that the layout is for.",
                    )
                nx, ny = (n, ny) if what == "x count" else (nx, n)
    return nx, ny


def _of_record(layout: Layout, entry: Entry, memory: Memory | None, offset: int, storing: Storing) -> Places:
    assert entry.x is not None
    record, address, order = _record(layout, entry.record), entry.address + offset, layout.order_of(entry)
    most = entry.x.count, entry.y.count if entry.y is not None else 1
    outer_x, nx = _axis(layout, entry.x, memory, offset) if entry.x.kind != "stored" else (None, most[0])
    outer_y, ny = None, most[1]
    if entry.y is not None and entry.y.kind != "stored":
        outer_y, ny = _axis(layout, entry.y, memory, offset)
    mx, my = _counted(record, address, memory, order, (nx, ny))
    room = (most[0], most[1]) if record.fixed else (mx, my)
    x, y, values = outer_x, outer_y, None
    counts: dict[str, Numbers] = {}
    for part, at in _laid(record, address, *room, room[0] * room[1]):
        dtype = dtype_of(part.storage, order)
        if part.what == "values":
            values = Numbers(at, mx * my, dtype, storing)
        elif part.what == "x" and entry.x.kind == "stored":
            x = Numbers(at, mx, _dtype(layout, entry.x, part), _typed(layout, entry.x, part), part.falls)
        elif part.what == "y" and entry.y is not None and entry.y.kind == "stored":
            y = Numbers(at, my, _dtype(layout, entry.y, part), _typed(layout, entry.y, part), part.falls)
        elif part.what in ("x count", "y count"):
            counts[part.what] = Numbers(at, 1, dtype, Storing(part.storage))
    if values is None:
        raise CalibrationError(f"its record {entry.record!r} holds no values", remedy="Correct the record.")
    x_count, y_count = counts.get("x count"), counts.get("y count")
    return Places(values, mx, my, entry.by == "columns", x, y, x_count, y_count, _shares(entry))


def _dtype(layout: Layout, stored: Stored, part: Part) -> np.dtype:
    return dtype_of(part.storage, layout.order_of(stored))


def _typed(layout: Layout, stored: Stored, part: Part) -> Storing:
    return layout.storing(stored, 0, part.storage)


def _axis(layout: Layout, axis: Axis, memory: Memory | None, offset: int) -> tuple[Numbers | None, int]:
    """Where an axis lies, if it lies anywhere, and how many break points it has."""
    if axis.kind == "fixed":
        return None, len(axis.values) or axis.count
    if axis.kind == "curve":
        return None, axis.count
    if axis.kind == "shared":
        return _shared(layout, axis.of, memory, offset)
    count = axis.count
    if axis.count_storage and memory is not None:
        at = axis.count_address + offset
        raw = np.frombuffer(
            memory.bytes(at, at + SIZES[axis.count_storage]), dtype_of(axis.count_storage, layout.order_of(axis))
        )
        count = int(raw[0])
        if not 1 <= count <= axis.count:
            raise CalibrationError(
                f"the memory at 0x{at:X} says {count} break points, of at most {axis.count}",
                concerns=axis.title,
                remedy="Check the address, or choose the image that the layout is for.",
            )
    dtype = dtype_of(axis.storage, layout.order_of(axis))
    return Numbers(axis.address + offset, count, dtype, layout.storing(axis), axis.falls), count


def shared_axis(layout: Layout, key: str) -> SharedAxis:
    """The shared axis of this key. Raises CalibrationError where there is none."""
    found = layout.axis_by_key.get(key)
    if found is None:
        raise CalibrationError(f"there is no shared axis {key!r}", remedy="Correct its name, or add it.")
    return found


def shared_numbers(layout: Layout, key: str, memory: Memory, slot: str) -> Numbers | None:
    """Where the break points of a shared axis lie in a slot, if they lie anywhere. Raises CalibrationError."""
    return _shared(layout, key, memory, layout.slot_offset(slot))[0]


def _shared(layout: Layout, key: str, memory: Memory | None, offset: int) -> tuple[Numbers | None, int]:
    axis = shared_axis(layout, key)
    if axis.kind == "pairs":
        return None, axis.count
    if axis.kind not in ("stored", "fixed"):
        raise CalibrationError("a shared axis must be stored, fixed or of pairs", concerns=key, remedy="Correct it.")
    if not axis.record:
        return _axis(layout, axis, memory, offset)
    record, address = _record(layout, axis.record), axis.address + offset
    count, _ = _counted(record, address, memory, layout.order_of(axis), (axis.count, 1))
    room = axis.count if record.fixed else count
    for part, at in _laid(record, address, room, 1, 0):
        if part.what == "x":
            return Numbers(at, count, _dtype(layout, axis, part), _typed(layout, axis, part), part.falls), count
    raise CalibrationError(f"its record {axis.record!r} holds no axis", concerns=key, remedy="Correct the record.")
