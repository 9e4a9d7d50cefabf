"""Edits out of what was changed, and their bytes in a memory: exact to the stored bit, both ways."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.decoding import Patch, bounds, decoded, turn_of
from yarvic.core.calibration.edits import MEANT_FOR, Edit, Part
from yarvic.core.calibration.layout import Axis as AxisPlace
from yarvic.core.calibration.layout import Entry, Layout
from yarvic.core.calibration.places import Memory, Numbers, Places, places, shared_axis, shared_numbers
from yarvic.core.calibration.storing import BOUND_SLACK, Raw, Storing
from yarvic.core.calibration.table import Axis, Scalar, Table, Text
from yarvic.core.errors import CalibrationError

Order = NDArray[np.intp]


def edits_between(
    layout: Layout, memory: Memory, slot: str, new: Table | Scalar | Text, what: str, *, axes_known: bool = False
) -> list[Edit]:
    """The edits by which a memory comes to hold another content of an entry; none where it holds it already.

    `axes_known`: its shared axes are changed by other edits. Raises CalibrationError, naming the entry, for what
    cannot be stored: another number of break points than the memory has room for, an axis that lies in no memory.
    """
    entry = _entry(layout, new.key, texts=isinstance(new, Text))
    now = decoded(layout, entry, memory, slot)
    if type(now) is not type(new):
        raise CalibrationError("is of another kind", concerns=entry.named, remedy="Use maps of this unit.")
    there = places(layout, entry, memory, slot)
    storing = there.values.storing
    try:
        if isinstance(now, Text) and isinstance(new, Text):
            return _text_edit(entry, slot, now, new, what)
        if isinstance(now, Scalar) and isinstance(new, Scalar):
            if new.value == now.value or (new.value != new.value and now.value != now.value):
                return []
            raw = (float(there.values.raw(memory)[0]),), (float(storing.raw(new.value)),)
            return [Edit(slot, entry.key, what, ((0, 0),), *raw)] if raw[0] != raw[1] else []
        assert isinstance(now, Table) and isinstance(new, Table)
        if now.read_only and not _same_table(now, new):
            raise CalibrationError(
                "may not be changed: its description says so", remedy="Change another table, or the description."
            )
        if now.values.shape != new.values.shape:
            return [_form_edit(layout, entry, memory, slot, new, what)]
        found = []
        axes: tuple[tuple[Part, Axis, Axis], ...] = (("x", now.x, new.x), ("y", now.y, new.y))
        for part, was, axis in axes:
            edit = _axis_edit(layout, entry, there, memory, slot, part, was, axis, what)
            if edit is not None and not (axes_known and edit.part == "axis"):
                found.append(edit)
        return [*found, *_values_edit(layout, entry, there, memory, slot, now, new, what)]
    except CalibrationError as error:
        raise CalibrationError(error.what, concerns=entry.named, remedy=error.remedy) from None


def _same_table(one: Table, other: Table) -> bool:
    return all(
        np.array_equal(a, b, equal_nan=True)
        for a, b in ((one.x.values, other.x.values), (one.y.values, other.y.values), (one.values, other.values))
    )


def _text_edit(entry: Entry, slot: str, now: Text, new: Text, what: str) -> list[Edit]:
    """The bytes of a text that differ, as cells of one row."""
    if len(now.raw) != len(new.raw):
        raise CalibrationError("is a text of another length", remedy="Use maps of this unit.")
    at = [n for n, (a, b) in enumerate(zip(now.raw, new.raw, strict=True)) if a != b]
    if not at:
        return []
    before, after = (tuple(float(text.raw[n]) for n in at) for text in (now, new))
    return [Edit(slot, entry.key, what, tuple((0, n) for n in at), before, after)]


def _entry(layout: Layout, key: str, *, texts: bool = False) -> Entry:
    entry = layout.by_key.get(key)
    if entry is None or (entry.kind == "text" and not texts):
        raise CalibrationError(f"there is no table or value {key!r}", remedy=MEANT_FOR)
    return entry


def _values_edit(
    layout: Layout, entry: Entry, there: Places, memory: Memory, slot: str, now: Table, new: Table, what: str
) -> list[Edit]:
    same = (now.values == new.values) | (np.isnan(now.values) & np.isnan(new.values))
    if same.all():
        return []
    order = _cell_order(layout, entry, there, memory, slot)
    before = there.values.raw(memory)[order]
    after = np.where(same, before, there.values.storing.raw(new.values))
    _check_raw(there.values.storing, after[~same])
    cells = np.argwhere(~same & ~((before == after) | (np.isnan(before) & np.isnan(after))))
    if not cells.size:
        return []
    at = (cells[:, 0], cells[:, 1])
    listed = tuple((int(r), int(c)) for r, c in cells)
    return [Edit(slot, entry.key, what, listed, tuple(before[at].tolist()), tuple(after[at].tolist()))]


def _check_raw(storing: Storing, raw: Raw) -> None:
    if not storing.whole or not raw.size:
        return
    if not np.all(np.isfinite(raw)):
        raise CalibrationError("a value is no number", remedy="Enter a number.")
    low, high = storing.raw_limits
    if raw.min() < low or raw.max() > high:
        ends = sorted(float(v) for v in np.asarray(storing.value(np.array([low, high]))))
        raise CalibrationError(
            f"a value does not fit its storage {storing.storage}", remedy=f"Stay within {ends[0]:g} and {ends[1]:g}."
        )


def _cell_order(layout: Layout, entry: Entry, there: Places, memory: Memory, slot: str) -> Order:
    """Which number in memory each cell is, of shape (rows, columns)."""
    at = np.arange(there.values.count)
    shaped = at.reshape(there.columns, there.rows).T if there.by_columns else at.reshape(there.rows, there.columns)
    if entry.x is None:
        return shaped
    turn = turn_of(layout, entry, there, memory, slot)
    return turn.turned(shaped)


# -- axes


def _raw_axis(own: AxisPlace, numbers: Numbers, axis: Axis, falls: bool) -> Raw:
    """The raw numbers, in the order of the memory, that hold break points.

    Raises CalibrationError for an axis of another form, and where two break points would be stored as one.
    """
    if axis.values.size != numbers.count:
        raise CalibrationError(
            f"the axis has {numbers.count} break points, not {axis.values.size}", remedy="Use maps of this unit."
        )
    raw = numbers.storing.raw(axis.values)
    _check_apart(axis.values, np.asarray(numbers.storing.value(raw), dtype=np.float64), own)
    raw = raw[:: -1 if falls else 1]
    if own.differences:
        raw = np.diff(raw, prepend=0.0)
    _check_raw(numbers.storing, raw)
    return np.asarray(raw, dtype=np.float64)


def _axis_edit(
    layout: Layout,
    entry: Entry,
    there: Places,
    memory: Memory,
    slot: str,
    part: Part,
    now: Axis,
    new: Axis,
    what: str,
) -> Edit | None:
    if np.array_equal(now.values, new.values):
        return None
    own, numbers = (entry.x, there.x) if part == "x" else (entry.y, there.y)
    if own is None or numbers is None:
        raise CalibrationError(
            f"the axis {now.title or part} lies in no memory: {_why_not(own)}",
            remedy="Change the values; its break points stay where they are.",
        )
    turn = turn_of(layout, entry, there, memory, slot)
    shared = own.kind == "shared"
    kept = shared_axis(layout, own.of) if shared else own
    before, after = numbers.raw(memory), _raw_axis(kept, numbers, new, turn.x if part == "x" else turn.y)
    changed = np.flatnonzero(before != after)
    if not changed.size:
        return None
    raws = tuple(before[changed].tolist()), tuple(after[changed].tolist())
    cells = tuple((int(n), 0) if part == "y" and not shared else (0, int(n)) for n in changed)
    return Edit(slot, own.of if shared else entry.key, what, cells, *raws, part="axis" if shared else part)


def axis_as_stored(layout: Layout, memory: Memory, slot: str, key: str, part: Part, values: Raw) -> Raw:
    """Break points of an axis of a table as they would be stored, in its unit.

    Raises CalibrationError for an axis that lies in no memory, or belongs to a table that may not be changed.
    """
    entry = _entry(layout, key)
    if entry.read_only:
        raise CalibrationError(
            "may not be changed: its description says so", concerns=entry.named, remedy="Change another table."
        )
    there = places(layout, entry, memory, slot)
    own, numbers = (entry.x, there.x) if part == "x" else (entry.y, there.y)
    if own is None or numbers is None:
        raise CalibrationError(
            f"the axis lies in no memory: {_why_not(own)}",
            concerns=entry.named,
            remedy="Change the values; its break points stay where they are.",
        )
    raw = numbers.storing.raw(values)
    stored = np.asarray(numbers.storing.value(raw), dtype=np.float64)
    try:
        _check_raw(numbers.storing, raw)
        _check_apart(values, stored, own)
    except CalibrationError as error:
        raise CalibrationError(error.what, concerns=entry.named, remedy=error.remedy) from None
    return stored


def _check_apart(wanted: Raw, stored: Raw, axis: AxisPlace) -> None:
    """Raise CalibrationError where break points that rise would not rise as they are stored."""
    steps = np.diff(stored)
    if np.any(~(steps > 0.0)):
        at = int(np.argmin(steps))
        raise CalibrationError(
            f"the break points {wanted[at]:g} and {wanted[at + 1]:g} {axis.unit} would be stored as one".replace(
                "  ", " "
            ),
            remedy="Keep them further apart: an axis must rise.",
        )


def room_for_points(layout: Layout, memory: Memory, slot: str, key: str, part: Part) -> tuple[int, int]:
    """How many break points an axis of a table may have, from and to; both what it has where that is fixed."""
    entry = _entry(layout, key)
    there = places(layout, entry, memory, slot)
    own, now, count = (entry.x, there.columns, there.x_count) if part == "x" else (entry.y, there.rows, there.y_count)
    if count is None or own is None or own.kind == "shared":
        return now, now
    return min(2, now), own.count


def _why_not(axis: AxisPlace | None) -> str:
    if axis is None:
        return "it only counts"
    return {"curve": f"it follows from the curve {axis.of}", "pairs": "it follows from pairs"}.get(
        axis.kind, "its description states it as fixed"
    )


# -- another number of break points


def _form_edit(layout: Layout, entry: Entry, memory: Memory, slot: str, new: Table, what: str) -> Edit:
    before = _form(layout, entry, memory, slot)
    turn = turn_of(layout, entry, places(layout, entry, memory, slot), memory, slot)
    scratch = Memory(bytearray(memory.data), memory.base, memory.gaps)
    _write_counts(layout, entry, scratch, slot, new.values.shape[1], new.values.shape[0])
    there = places(layout, entry, scratch, slot)
    after = [float(there.columns), float(there.rows)]
    for own, numbers, axis, falls in ((entry.x, there.x, new.x, turn.x), (entry.y, there.y, new.y, turn.y)):
        if numbers is not None and own is not None and own.kind != "shared":
            after += _raw_axis(own, numbers, axis, falls).tolist()
    values = turn.turned(there.values.storing.raw(new.values))
    _check_raw(there.values.storing, values)
    return Edit(slot, entry.key, what, (), tuple(before), tuple([*after, *values.ravel().tolist()]), part="form")


def _form(layout: Layout, entry: Entry, memory: Memory, slot: str) -> list[float]:
    """The whole of a table: columns, rows, its own break points, and its values by rows, as they lie in memory."""
    there = places(layout, entry, memory, slot)
    found = [float(there.columns), float(there.rows)]
    for own, numbers in ((entry.x, there.x), (entry.y, there.y)):
        if numbers is not None and own is not None and own.kind != "shared":
            found += numbers.raw(memory).tolist()
    values = there.values.raw(memory)
    if there.by_columns:
        values = values.reshape(there.columns, there.rows).T.ravel()
    return [*found, *values.tolist()]


def _write_counts(layout: Layout, entry: Entry, memory: Memory, slot: str, columns: int, rows: int) -> None:
    there = places(layout, entry, memory, slot)
    wanted = ((there.x_count, there.columns, columns, entry.x), (there.y_count, there.rows, rows, entry.y))
    for numbers, now, new, own in wanted:
        if now == new:
            continue
        if numbers is None or own is None or own.kind == "shared":
            raise CalibrationError(
                f"the axis {own.title if own is not None else ''} always has {now} break points",
                remedy="Give one break point up for another.",
            )
        if not 1 <= new <= own.count:
            raise CalibrationError(
                f"the memory has room for {own.count} break points, not for {new}",
                remedy="Give one break point up for another.",
            )
        _put(memory, numbers, [(0, float(new))])


# -- doing


def applied(layout: Layout, memory: Memory, edit: Edit) -> list[Patch]:
    """Do an edit in a memory that can be written; what lay there before, to take it back in this order.

    Raises CalibrationError, with nothing changed, for an edit that was made for other maps.
    """
    back: list[Patch] = []
    try:
        if edit.part == "form":
            back = _do_form(layout, memory, edit, back)
        else:
            back = _do_numbers(layout, memory, edit)
        if edit.part not in ("values", "axis"):
            decoded(layout, _entry(layout, edit.key), memory, edit.slot)  # refuses an axis that does not rise
        return back
    except CalibrationError:
        put_back(memory, back)
        raise


def put_back(memory: Memory, back: Iterable[Patch]) -> None:
    """Write bytes into a memory that can be written."""
    assert isinstance(memory.data, bytearray)
    for address, data in back:
        memory.data[address - memory.base : address - memory.base + len(data)] = data


def _do_numbers(layout: Layout, memory: Memory, edit: Edit) -> list[Patch]:
    numbers, order, named = _numbers_of(layout, memory, edit)
    for row, column in edit.cells:
        if not (0 <= row < order.shape[0] and 0 <= column < order.shape[1]):
            raise CalibrationError(f"there is no cell {row}, {column}", concerns=named, remedy=MEANT_FOR)
    if not len(edit.cells) == len(edit.before) == len(edit.after):
        raise CalibrationError("the edit is not whole", concerns=named, remedy=MEANT_FOR)
    at = order[[r for r, _ in edit.cells], [c for _, c in edit.cells]]
    there = numbers.raw(memory)[at]
    before = np.array(edit.before)
    if not np.all((there == before) | (np.isnan(there) & np.isnan(before))):
        raise CalibrationError("it does not hold what the edit expects", concerns=named, remedy=MEANT_FOR)
    after = np.array(edit.after)
    try:
        _check_raw(numbers.storing, after)
        if edit.part == "axis":
            _check_rising(layout, memory, edit, numbers, at, after)
        if edit.part == "values":
            _check_bounds(layout.by_key[edit.key], numbers.storing, after, before)
        return _put(memory, numbers, list(zip(at.tolist(), after.tolist(), strict=True)))
    except CalibrationError as error:
        raise CalibrationError(error.what, concerns=named, remedy=error.remedy) from None


def _numbers_of(layout: Layout, memory: Memory, edit: Edit) -> tuple[Numbers, Order, str]:
    """The numbers that an edit is of, which of them each cell is, and what they are called."""
    if edit.part == "axis":
        axis = layout.axis_by_key.get(edit.key)
        numbers = shared_numbers(layout, edit.key, memory, edit.slot) if axis is not None else None
        if axis is None or numbers is None:
            raise CalibrationError(f"there is no shared axis {edit.key!r} in memory", remedy=MEANT_FOR)
        return numbers, np.arange(numbers.count)[None, :], axis.title or axis.key
    entry = _entry(layout, edit.key, texts=edit.part == "values")
    if entry.read_only:
        raise CalibrationError(
            "may not be changed: its description says so", concerns=entry.named, remedy="Change another table."
        )
    there = places(layout, entry, memory, edit.slot)
    if entry.kind == "text":
        return there.values, np.arange(there.values.count)[None, :], entry.named
    if edit.part == "values":
        return there.values, _cell_order(layout, entry, there, memory, edit.slot), entry.named
    found = there.x if edit.part == "x" else there.y
    own = entry.x if edit.part == "x" else entry.y
    if found is None or own is None or own.kind == "shared":
        raise CalibrationError("it has no such axis of its own in memory", concerns=entry.named, remedy=MEANT_FOR)
    order = np.arange(found.count)
    return found, order[None, :] if edit.part == "x" else order[:, None], entry.named


def _check_bounds(entry: Entry, storing: Storing, after: Raw, before: Raw) -> None:
    low, high = bounds(entry, storing)
    values = np.asarray(storing.value(after), dtype=np.float64)
    bad = ~((values >= low - BOUND_SLACK) & (values <= high + BOUND_SLACK)) & (after != before)
    if bad.any():
        raise CalibrationError(
            f"{values[bad][0]:g} {entry.unit} is outside the bounds {low:g} to {high:g} {entry.unit}",
            remedy="Enter a value within the bounds.",
        )


def _check_rising(layout: Layout, memory: Memory, edit: Edit, numbers: Numbers, at: Order, after: Raw) -> None:
    raw = numbers.raw(memory).copy()
    raw[at] = after
    axis = shared_axis(layout, edit.key)
    steps = np.diff(np.asarray(numbers.storing.value(np.cumsum(raw) if axis.differences else raw)))
    if not (np.all(steps > 0.0) or np.all(steps < 0.0)):
        raise CalibrationError("axis break points must be finite and rise", remedy="Keep them apart.")


def _do_form(layout: Layout, memory: Memory, edit: Edit, back: list[Patch]) -> list[Patch]:
    entry = _entry(layout, edit.key)
    if entry.read_only or tuple(_form(layout, entry, memory, edit.slot)) != edit.before:
        raise CalibrationError("it does not hold what the edit expects", concerns=entry.named, remedy=MEANT_FOR)
    back += [(a, memory.bytes(a, b)) for a, b in places(layout, entry, None, edit.slot).own()]
    columns, rows = (int(v) for v in edit.after[:2])
    _write_counts(layout, entry, memory, edit.slot, columns, rows)
    there = places(layout, entry, memory, edit.slot)
    rest = list(edit.after[2:])
    for own, numbers in ((entry.x, there.x), (entry.y, there.y)):
        if numbers is not None and own is not None and own.kind != "shared":
            part, rest = rest[: numbers.count], rest[numbers.count :]
            _check_raw(numbers.storing, np.array(part))
            _put(memory, numbers, list(enumerate(part)))
    if len(rest) != there.values.count:
        raise CalibrationError("the edit is not whole", concerns=entry.named, remedy=MEANT_FOR)
    values = np.array(rest).reshape(there.rows, there.columns)
    _check_raw(there.values.storing, values)
    _put(memory, there.values, list(enumerate((values.T if there.by_columns else values).ravel().tolist())))
    return back


def _put(memory: Memory, numbers: Numbers, changed: list[tuple[int, float]]) -> list[Patch]:
    """Write raw numbers; what lay there, the last first."""
    back: list[Patch] = []
    for index, raw in changed:
        now = memory.bytes(*numbers.at(index))
        address, new = numbers.patch(index, raw, now)
        back.insert(0, (address, now))
        put_back(memory, [(address, new)])
    return back
