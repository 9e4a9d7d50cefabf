"""Tables, values and texts out of a memory, and the bytes that put them back: exact to the stored bit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.layout import Axis as AxisPlace
from yarvic.core.calibration.layout import Entry, Layout
from yarvic.core.calibration.places import Memory, Numbers, Places, places, shared_axis
from yarvic.core.calibration.storing import Storing, dtype_of
from yarvic.core.calibration.table import NO_AXIS, Axis, Scalar, Table, Text
from yarvic.core.errors import CalibrationError
from yarvic.core.physics import FloatArray

Patch = tuple[int, bytes]


def bounds(entry: Entry, storing: Storing) -> tuple[float, float]:
    """The layout's, as far as the storage reaches: what cannot be stored is refused where it is entered."""
    low, high = storing.limits
    return (
        low if entry.low is None else max(entry.low, low),
        high if entry.high is None else min(entry.high, high),
    )


def decoded(layout: Layout, entry: Entry, memory: Memory, slot: str) -> Table | Scalar | Text:
    """What an entry holds. Raises CalibrationError, naming it, for what cannot be."""
    try:
        if entry.kind == "text":
            return _text(layout, entry, memory, slot)
        there = places(layout, entry, memory, slot)
        storing = there.values.storing
        low, high = bounds(entry, storing)
        digits = storing.decimals(_wanted(entry, storing))
        values = np.asarray(storing.value(there.values.raw(memory)), dtype=np.float64)
        if entry.kind == "value":
            return Scalar(
                entry.key, entry.named, entry.unit, float(values[0]), low, high, storing, digits, entry.read_only
            )
        x, y, turn = _axes(layout, entry, there, memory, slot)
        shaped = turn.shown(values, there)
        return Table(entry.key, entry.named, entry.unit, x, y, shaped, low, high, storing, digits, entry.read_only)
    except CalibrationError as error:
        raise CalibrationError(error.what, concerns=entry.named, remedy=error.remedy) from None


@dataclass(frozen=True)
class Turn:
    """Which axes fall in memory: they are shown rising, and the cells with them."""

    x: bool = False
    y: bool = False

    def shown(self, values: FloatArray, there: Places) -> FloatArray:
        """Values in the order of the memory as rows and columns whose axes rise."""
        if there.by_columns:
            values = values.reshape(there.columns, there.rows).T
        else:
            values = values.reshape(there.rows, there.columns)
        return self.turned(values).copy()

    def turned(self, cells: NDArray[Any]) -> NDArray[Any]:
        """Cells the other way round along the axes that fall."""
        return cells[:: -1 if self.y else 1, :: -1 if self.x else 1]

    def index(self, row: int, column: int, there: Places) -> int:
        """Which number in memory a cell is."""
        return there.index(there.rows - 1 - row if self.y else row, there.columns - 1 - column if self.x else column)


def _axes(layout: Layout, entry: Entry, there: Places, memory: Memory, slot: str) -> tuple[Axis, Axis, Turn]:
    x, falls_x = _axis(layout, entry.x, there.x, there.columns, memory, slot)
    y, falls_y = (
        _axis(layout, entry.y, there.y, there.rows, memory, slot) if entry.y is not None else (NO_AXIS, False)
    )
    return x, y, Turn(falls_x, falls_y)


def turn_of(layout: Layout, entry: Entry, there: Places, memory: Memory, slot: str) -> Turn:
    """Which axes of an entry fall in memory."""
    return _axes(layout, entry, there, memory, slot)[2] if entry.x is not None else Turn()


def _wanted(entry: Entry, storing: Storing) -> int:
    if entry.decimals is not None:
        return entry.decimals
    if storing.words is not None:
        return 0
    return 0 if storing.step >= 1.0 else 3 if not storing.step > 0.0 else 1


def _text(layout: Layout, entry: Entry, memory: Memory, slot: str) -> Text:
    raw = memory.bytes(*places(layout, entry, memory, slot).values.span)
    shown = raw.split(b"\0", 1)[0].decode("latin-1")
    plain = "".join(c if c.isprintable() else "·" for c in shown)
    return Text(entry.key, entry.named, plain, entry.count, raw, entry.read_only)


def _axis(
    layout: Layout, axis: AxisPlace | None, where: Numbers | None, count: int, memory: Memory, slot: str
) -> tuple[Axis, bool]:
    """The break points of an axis, rising, and whether they fall in memory."""
    if axis is None:
        return Axis("Number", "", np.arange(1.0, count + 1.0), fixed=True), False
    own: AxisPlace = shared_axis(layout, axis.of) if axis.kind == "shared" else axis
    title, unit, given = axis.title or own.title, axis.unit or own.unit, axis.input or own.input
    if where is not None:
        raw = where.raw(memory)
        found = where.storing.value(np.cumsum(raw) if own.differences else raw)
    elif own.kind == "curve":
        found = _of_curve(layout, own, memory, slot)
    elif own.kind == "pairs":
        found = _of_pairs(layout, own, count, memory, slot)
    else:
        fixed = np.array(own.values) if own.values else own.start + own.step * np.arange(count)
        found = layout.storing(own).value(fixed)
    values = np.asarray(found, dtype=np.float64)
    falls = bool(values.size > 1 and np.all(np.diff(values) < 0.0))
    return Axis(title, unit, values[::-1] if falls else values, given, own.of or axis.of, where is None), falls


def _of_curve(layout: Layout, axis: AxisPlace, memory: Memory, slot: str) -> FloatArray:
    """The break points that a curve gives: where it reaches 0, 1, 2 and so on, for it turns a number into a place."""
    entry = layout.by_key.get(axis.of)
    if entry is None or entry.kind != "curve" or (entry.x is not None and entry.x.kind == "curve"):
        raise CalibrationError(f"there is no curve {axis.of!r} for its axis", remedy="Correct its name, or add it.")
    curve = decoded(layout, entry, memory, slot)
    assert isinstance(curve, Table)
    x, at = curve.x.values, curve.values[0]
    if np.any(np.diff(at) <= 0.0):
        raise CalibrationError(f"the curve {axis.of!r} of its axis does not rise", remedy="Correct the curve.")
    wanted = np.arange(float(axis.count))
    if at[0] > wanted[0] or at[-1] < wanted[-1]:
        raise CalibrationError(
            f"the curve {axis.of!r} does not reach all {axis.count} places of its axis", remedy="Correct the curve."
        )
    return np.asarray(np.interp(wanted, at, x), dtype=np.float64)


def _of_pairs(layout: Layout, axis: AxisPlace, count: int, memory: Memory, slot: str) -> FloatArray:
    """The break points that pairs give: of an axis value and its place, or the other way round, as the numbers say."""
    start, dtype = axis.address + layout.slot_offset(slot), dtype_of(axis.storage, layout.order_of(axis))
    pairs = axis.pairs
    if axis.count_storage:
        at = axis.count_address + layout.slot_offset(slot)
        of = dtype_of(axis.count_storage, layout.order_of(axis))
        pairs = int(np.frombuffer(memory.bytes(at, at + of.itemsize), of)[0])
        if not 2 <= pairs <= axis.pairs:
            raise CalibrationError(
                f"its axis has {pairs} pairs, of at most {axis.pairs}", remedy="Check the address."
            )
    found = np.frombuffer(memory.bytes(start, start + 2 * pairs * dtype.itemsize), dtype).astype(np.float64)
    ways = [(found[::2], found[1::2]), (found[1::2], found[::2])]
    fit = [(v, p) for v, p in ways if p[0] == 0.0 and p[-1] == count - 1 and np.all(np.diff(p) > 0.0)]
    if len(fit) != 1:
        raise CalibrationError(
            "of the pairs of its axis nobody can tell which number is the place",
            remedy="Check its address and count.",
        )
    values, at_place = fit[0]
    return np.asarray(layout.storing(axis).value(np.interp(np.arange(count), at_place, values)), dtype=np.float64)


def patches(layout: Layout, entry: Entry, memory: Memory, slot: str, new: Table | Scalar) -> list[Patch]:
    """The bytes by which a memory comes to hold another content of an entry: only of the cells that differ.

    Axes stay as they are. Raises CalibrationError, naming the entry, for what cannot be stored.
    """
    now = decoded(layout, entry, memory, slot)
    there = places(layout, entry, memory, slot)
    if isinstance(now, Scalar) and isinstance(new, Scalar):
        changed = [(0, new.value)] if new.value != now.value else []
    elif isinstance(now, Table) and isinstance(new, Table):
        if now.values.shape != new.values.shape:
            raise CalibrationError(
                "has other axes than the memory", concerns=entry.named, remedy="Use maps of this unit."
            )
        differs = (now.values != new.values) & ~(np.isnan(now.values) & np.isnan(new.values))
        turn = _axes(layout, entry, there, memory, slot)[2]
        changed = [(turn.index(int(r), int(c), there), float(new.values[r, c])) for r, c in np.argwhere(differs)]
    else:
        raise CalibrationError("is of another kind", concerns=entry.named, remedy="Use maps of this unit.")
    return _written(entry, there.values, memory, changed)


def _written(entry: Entry, numbers: Numbers, memory: Memory, changed: list[tuple[int, float]]) -> list[Patch]:
    try:
        return [
            numbers.patch(index, float(numbers.storing.raw(value)), memory.bytes(*numbers.at(index)))
            for index, value in changed
        ]
    except CalibrationError as error:
        raise CalibrationError(error.what, concerns=entry.named, remedy=error.remedy) from None


def axis_patches(layout: Layout, entry: Entry, memory: Memory, slot: str, new: Table) -> list[Patch]:
    """The bytes that put the break points of a table's own and shared axes into a memory, as many as there can be.

    Raises CalibrationError, naming the entry, for axes of another form.
    """
    there = places(layout, entry, None, slot)
    found: list[Patch] = []
    for numbers, axis, own in ((there.x, new.x, entry.x), (there.y, new.y, entry.y)):
        if numbers is None or own is None:
            continue
        if own.differences or numbers.count != axis.values.size:
            raise CalibrationError(
                "has an axis of another form", concerns=entry.named, remedy="Use maps of this unit."
            )
        found += _written(entry, numbers, memory, list(enumerate(axis.values.tolist())))
    return found
