"""Where a revision comes from: its ancestors, what two have in common, and which of them last changed a cell."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from yarvic.core.calibration.image import Image
from yarvic.core.calibration.table import Table, Text
from yarvic.core.errors import JobError
from yarvic.core.job.model import Revision
from yarvic.core.physics import FloatArray

ImageOf = Callable[[Revision], Image]


def line_of(revisions: Sequence[Revision], revision_id: int) -> list[Revision]:
    """A revision, its parent, and so on to the first."""
    by_id = {r.id: r for r in revisions}
    found: list[Revision] = []
    now: int | None = revision_id
    while now is not None and now in by_id and len(found) <= len(revisions):
        found.append(by_id[now])
        now = by_id[now].parent_id
    return found


def ancestors(revisions: Sequence[Revision], revision_id: int) -> set[int]:
    """A revision and all that it comes from, by parents and by what was merged into them."""
    by_id = {r.id: r for r in revisions}
    found: set[int] = set()
    waiting = [revision_id]
    while waiting:
        now = waiting.pop()
        if now in found or now not in by_id:
            continue
        found.add(now)
        waiting += [i for i in (by_id[now].parent_id, by_id[now].merged_id) if i is not None]
    return found


def common_ancestor(revisions: Sequence[Revision], one: int, other: int) -> Revision:
    """The latest revision that both come from. Raises JobError where there is none."""
    both = ancestors(revisions, one) & ancestors(revisions, other)
    if not both:
        raise JobError(
            "the two have no revision in common", remedy="Take over what is wanted by comparing them instead."
        )
    return next(r for r in reversed(revisions) if r.id == max(both))


@dataclass(frozen=True)
class Changed:
    """The revision that last changed each cell of a table: `revision` holds its number (0: as it came, in the first),
    `before` what stood there (NaN where that is not known), of the table's shape.
    """

    revision: np.ndarray
    before: FloatArray


def last_changed(revisions: Sequence[Revision], revision_id: int, slot: str, key: str, image_of: ImageOf) -> Changed:
    """Which revision last changed each cell of an entry, seen from a revision on.

    What was merged is looked up where it came from. A revision that moved break points counts as the one that changed
    every cell of the table, for none of those before has a like in it. Raises JobError, CalibrationError.
    """
    by_id = {r.id: r for r in revisions}
    start = _values(image_of(by_id[revision_id]), slot, key)
    found = np.zeros(start.shape, dtype=np.int64)
    before = np.full(start.shape, np.nan)
    _look(by_id, revision_id, np.ones(start.shape, dtype=bool), slot, key, image_of, found, before)
    return Changed(found, before)


def _look(
    by_id: Mapping[int, Revision],
    revision_id: int,
    open_: np.ndarray,
    slot: str,
    key: str,
    image_of: ImageOf,
    found: np.ndarray,
    before: FloatArray,
) -> None:
    now = by_id[revision_id]
    while open_.any() and now.parent_id is not None and now.parent_id in by_id:
        parent = by_id[now.parent_id]
        mine, theirs = image_of(now), image_of(parent)
        if key in mine.changed_keys(theirs, slot):
            values, was = _values(mine, slot, key), _values(theirs, slot, key)
            if _moved(mine, theirs, slot, key) or values.shape != was.shape:
                found[open_] = now.id
                return
            differs = open_ & ~((values == was) | (np.isnan(values) & np.isnan(was)))
            if now.merged_id is not None and now.merged_id in by_id:
                merged = by_id[now.merged_id]
                image = image_of(merged)
                if not _moved(mine, image, slot, key) and _values(image, slot, key).shape == values.shape:
                    from_there = differs & (_values(image, slot, key) == values)
                    _look(by_id, merged.id, from_there, slot, key, image_of, found, before)
                    open_ = open_ & ~from_there
                    differs = differs & ~from_there
            found[differs] = now.id
            before[differs] = was[differs]
            open_ = open_ & ~differs
        now = parent


def _values(image: Image, slot: str, key: str) -> FloatArray:
    thing = image[slot].held(key)
    if isinstance(thing, Text):
        return np.array([list(thing.raw)], dtype=np.float64)
    return thing.values if isinstance(thing, Table) else np.array([[thing.value]])


def _moved(one: Image, other: Image, slot: str, key: str) -> bool:
    a, b = one[slot].held(key), other[slot].held(key)
    if not isinstance(a, Table) or not isinstance(b, Table):
        return False
    return not (np.array_equal(a.x.values, b.x.values) and np.array_equal(a.y.values, b.y.values))


def last_touched(revisions: Sequence[Revision], revision_id: int, slot: str, image_of: ImageOf) -> dict[str, int]:
    """By key, the revision that last changed an entry; entries that are as they came are not in it."""
    found: dict[str, int] = {}
    line = line_of(revisions, revision_id)
    for now, parent in pairwise(line):
        for key in image_of(now).changed_keys(image_of(parent), slot):
            found.setdefault(key, now.id)
    return found


def states_of(
    revisions: Sequence[Revision], revision_id: int, slot: str, key: str, image_of: ImageOf
) -> list[tuple[Revision, Table]]:
    """A table's history, the first first: the revisions of the line in which it was changed, with what it became."""
    line = line_of(revisions, revision_id)
    found: list[tuple[Revision, Table]] = []
    for now, parent in zip(line, [*line[1:], None], strict=True):
        image = image_of(now)
        if parent is None or key in image.changed_keys(image_of(parent), slot):
            found.append((now, image[slot].table(key)))
    return found[::-1]
