"""Merging two sets of maps that came from one: cell by cell, with what both changed otherwise left to a person."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.edits import Edit, Step
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.spans import spans_of
from yarvic.core.calibration.table import Scalar, Table, Text
from yarvic.core.errors import CalibrationError

Side = Literal["ours", "theirs"]
Thing = Table | Scalar | Text


@dataclass(frozen=True)
class Conflict:
    """What both sides changed, each otherwise: one cell of an entry, or with `cell` None all of it, for its axes moved.

    Values in the entry's unit; NaN for all of it. Of a text, `texts` are the three that stand against each other.
    """

    slot: str
    key: str
    title: str
    unit: str
    where: str
    cell: tuple[int, int] | None
    base: float
    ours: float
    theirs: float
    decimals: int
    texts: tuple[str, str, str] | None = None

    def sentence(self) -> str:
        """What stands against what, in words."""
        if self.texts is not None:
            base, mine, theirs_ = self.texts
            return f"{self.title}: “{base}” became “{mine}” here and “{theirs_}” there"
        if self.cell is None:
            return f"{self.title}: {self.where}"
        d, unit = self.decimals, f" {self.unit}" if self.unit else ""
        where = f" at {self.where}" if self.where else ""
        ours, theirs = (f"{v:.{d}f}{unit}" for v in (self.ours, self.theirs))
        return f"{self.title}{where}: {self.base:.{d}f} became {ours} here and {theirs} there"


@dataclass(frozen=True)
class Merge:
    """What comes of merging: by slot and key what the entries become where nothing stands against it, and what does.

    `undescribed` counts the bytes that the other side changed and no entry describes: they are not merged.
    """

    base: Image
    ours: Image
    theirs: Image
    merged: Mapping[tuple[str, str], Thing]
    conflicts: tuple[Conflict, ...]
    taken: int
    undescribed: int

    def step(self, what: str, sides: Mapping[tuple[str, str, tuple[int, int] | None], Side]) -> Step:
        """The edits of our side that do it. `sides` says for each conflict (slot, key, cell) whose it becomes.

        Raises CalibrationError while one is open, and where tables that share an axis would end with different ones.
        """
        result = dict(self.merged)
        for conflict in self.conflicts:
            side = sides.get((conflict.slot, conflict.key, conflict.cell))
            if side is None:
                raise CalibrationError(
                    f"it is not said whose value is to stand: {conflict.sentence()}", remedy="Choose one of the two."
                )
            if side == "theirs":
                at = conflict.slot, conflict.key
                result[at] = _with_theirs(
                    result.get(at, self.ours[at[0]].held(at[1])), self.theirs[at[0]].held(at[1]), conflict
                )
        return edits_to_all(self.ours, result, what)


def _with_theirs(now: Thing, theirs: Thing, conflict: Conflict) -> Thing:
    if conflict.cell is None or not isinstance(now, Table) or not isinstance(theirs, Table):
        return theirs
    values = now.values.copy()
    values[conflict.cell] = theirs.values[conflict.cell]
    return _valued(now, values)


def _valued(table: Table, values: NDArray[np.float64]) -> Table:
    """A table with values that lay in a memory already: they need no rounding, and may lie beyond the bounds."""
    return replace(table, values=values)


def edits_to_all(image: Image, things: Mapping[tuple[str, str], Thing], what: str) -> Step:
    """The edits that make several entries hold something else, a shared axis once.

    Raises CalibrationError where tables that share an axis would end with different ones.
    """
    edits: list[Edit] = []
    axes: dict[tuple[str, str], Edit] = {}
    for (slot, _), thing in things.items():
        for edit in image.edits_to(slot, thing, what):
            if edit.part != "axis":
                edits.append(edit)
                continue
            known = axes.setdefault((slot, edit.key), edit)
            if (known.cells, known.after) != (edit.cells, edit.after):
                raise CalibrationError(
                    "tables that share an axis would end with different ones",
                    concerns=edit.key,
                    remedy="Take the same side for all of them.",
                )
            if known is edit:
                edits.append(edit)
    _check_shared(image, things, axes)
    return tuple(edits)


def _check_shared(
    image: Image, things: Mapping[tuple[str, str], Thing], axes: Mapping[tuple[str, str], Edit]
) -> None:
    """Raise CalibrationError where a shared axis moves and a table that shares it is not among those that are changed."""
    for slot, key in axes:
        for entry in image.layout.entries:
            shares = any(a is not None and a.kind == "shared" and a.of == key for a in (entry.x, entry.y))
            if shares and (slot, entry.key) not in things:
                raise CalibrationError(
                    f"its axis is shared with {entry.named}, which would move with it",
                    concerns=key,
                    remedy="Take over all tables that share it.",
                )


def merge(base: Image, ours: Image, theirs: Image) -> Merge:
    """Merge what both sides changed of one base. Raises CalibrationError for images that cannot be compared."""
    result: dict[tuple[str, str], Thing] = {}
    conflicts: list[Conflict] = []
    taken = 0
    for slot in ours.layout.sets:
        for key in base.changed_keys(theirs, slot):
            things = tuple(image[slot].held(key) for image in (base, ours, theirs))
            made, against, count = _of_entry(slot, *things)
            if made is not None:
                result[slot, key] = made
            conflicts += against
            taken += count
    return Merge(base, ours, theirs, result, tuple(conflicts), taken, undescribed(base, theirs))


def _of_entry(slot: str, base: Thing, ours: Thing, theirs: Thing) -> tuple[Thing | None, list[Conflict], int]:
    if isinstance(base, Scalar) and isinstance(ours, Scalar) and isinstance(theirs, Scalar):
        return _of_scalar(slot, base, ours, theirs)
    if isinstance(base, Text) and isinstance(ours, Text) and isinstance(theirs, Text):
        return _of_text(slot, base, ours, theirs)
    assert isinstance(base, Table) and isinstance(ours, Table) and isinstance(theirs, Table)
    mine, other = _moved(base, ours), _moved(base, theirs)
    if not mine and not other:
        return _by_cell(slot, base, ours, theirs)
    if _equal(ours, theirs) or _equal(base, theirs):
        return None, [], 0
    if _equal(base, ours):
        return theirs, [], theirs.values.size
    words = "its break points were moved on one side, and on the other it was changed too"
    return None, [Conflict(slot, ours.key, ours.title, ours.unit, words, None, np.nan, np.nan, np.nan, 0)], 0


def _of_scalar(slot: str, base: Scalar, ours: Scalar, theirs: Scalar) -> tuple[Thing | None, list[Conflict], int]:
    if _same(theirs.value, base.value) or _same(theirs.value, ours.value):
        return None, [], 0
    if _same(ours.value, base.value):
        return theirs, [], 1
    found = Conflict(
        slot, ours.key, ours.title, ours.unit, "", (0, 0), base.value, ours.value, theirs.value, ours.decimals
    )
    return None, [found], 0


def _of_text(slot: str, base: Text, ours: Text, theirs: Text) -> tuple[Thing | None, list[Conflict], int]:
    """A text is one thing: nobody wants half of one and half of another."""
    if theirs.raw in (base.raw, ours.raw):
        return None, [], 0
    if ours.raw == base.raw:
        return theirs, [], 1
    texts = base.text, ours.text, theirs.text
    none = np.nan, np.nan, np.nan
    return None, [Conflict(slot, ours.key, ours.title, "", "its text", None, *none, 0, texts)], 0


def _by_cell(slot: str, base: Table, ours: Table, theirs: Table) -> tuple[Thing | None, list[Conflict], int]:
    b, o, t = base.values, ours.values, theirs.values
    changed = ~_same(t, b) & ~_same(t, o)
    take = changed & _same(o, b)
    against = [
        Conflict(slot, ours.key, ours.title, ours.unit, ours.place(int(r), int(c)), (int(r), int(c)),
                 float(b[r, c]), float(o[r, c]), float(t[r, c]), ours.decimals)
        for r, c in np.argwhere(changed & ~take)
    ]  # fmt: skip
    made = _valued(ours, np.where(take, t, o)) if take.any() else None
    return made, against, int(take.sum())


def _same(one: NDArray[np.float64] | float, other: NDArray[np.float64] | float) -> NDArray[np.bool_]:
    return np.asarray((np.asarray(one) == other) | (np.isnan(one) & np.isnan(other)), dtype=bool)


def _moved(one: Table, other: Table) -> bool:
    return not (np.array_equal(one.x.values, other.x.values) and np.array_equal(one.y.values, other.y.values))


def _equal(one: Table, other: Table) -> bool:
    return not _moved(one, other) and bool(_same(one.values, other.values).all())


def undescribed(base: Image, theirs: Image) -> int:
    """How many bytes differ that belong to no entry, nor to a checksum, a name or what the unit changes itself."""
    layout, start = base.layout, base.memory.base
    if len(base.data) != len(theirs.data):
        raise CalibrationError("the images are of different lengths", remedy="Merge images of one unit.")
    differs = np.frombuffer(base.data, np.uint8) != np.frombuffer(theirs.data, np.uint8)
    known = [(s.start, s.end) for s in spans_of(layout).all]
    known += [(c.address, c.address + c.bits // 8) for c in layout.checksums if c.address is not None]
    known += [(a, b) for a, b in layout.volatile]
    if layout.revision_name is not None:
        place = layout.revision_name
        known.append((place.address, place.address + place.length))
    for a, b in known:
        differs[max(a - start, 0) : max(b - start, 0)] = False
    return int(differs.sum())
