"""How many axes of each length stand alone in an image: what lengths the tables that have none before them may have."""

from __future__ import annotations

import numpy as np

from yarvic.core.calibration.storing import SIZES
from yarvic.core.calibration.undescribed.behind_axes import MOST_POINTS, lengths_of
from yarvic.core.calibration.undescribed.numbers_seen import (
    AXIS_TYPES,
    JUMP,
    Bools,
    Free,
    Ints,
    Numbers,
    NumbersSeen,
    rows_from,
)

# An axis that stands alone: so many points at least, and how much its steps may change, of the mean one. Our choice.
LEAST_ALONE, UNEVEN = 6, 0.55
ALIKE = 0.10  # how much three rows of a table bend, of the span of one


def lengths_alone(seen: NumbersSeen, free: Free) -> dict[int, int]:
    """How many axes of each length stand in free bytes: runs whose steps change little, and that are no row of a table."""
    found: dict[int, int] = {}
    for storage in AXIS_TYPES:
        size = SIZES[storage]
        for phase in range(size):
            view = seen.seen(storage, phase)
            last = np.flatnonzero(view.ends & (view.rising >= LEAST_ALONE))
            keys, lengths = lengths_of(seen, storage, phase + (last + 1) * size, view.rising[last].astype(np.int64))
            starts = last[keys] - lengths + 1
            fits = (lengths >= LEAST_ALONE) & free.all(phase + starts * size, lengths * size)
            fits &= (lengths == view.rising[last[keys]]) | _unlike(view.numbers, starts)
            starts, lengths = starts[fits], lengths[fits]
            even = evenly(view.numbers, starts, lengths, UNEVEN)
            starts, lengths = starts[even], lengths[even]
            rise = view.numbers[starts + lengths - 1] - view.numbers[starts]
            axis = lengths[~_a_row(view.numbers, starts, lengths, rise)]
            for count, many in zip(*np.unique(axis, return_counts=True), strict=True):
                found[int(count)] = found.get(int(count), 0) + int(many)
    return found


def evenly(view: Numbers, starts: Ints, counts: Ints, uneven: float) -> Bools:
    """Whether the steps of runs change little from one to the next, of the mean one."""
    found = np.zeros(starts.size, np.bool_)
    for count in np.unique(counts).tolist():
        mine = np.flatnonzero(counts == count)
        steps = np.diff(rows_from(view, starts[mine], count), axis=1)
        found[mine] = np.abs(np.diff(steps, axis=1)).mean(1) < uneven * steps.mean(1)
    return found


def _unlike(view: Numbers, starts: Ints) -> Bools:
    """Whether the step to each place is unlike that from it on, so that a run may begin there."""
    first = np.maximum(starts, 1)
    before, after = view[first] - view[first - 1], view[first + 1] - view[first]
    return np.asarray((before > JUMP * after) | (before * JUMP < after))


def _a_row(view: Numbers, first: Ints, counts: Ints, rise: Numbers) -> Bools:
    """Whether the first numbers of a run and those in two rows beside, of any length, bend little: then it is no axis."""
    found = np.zeros(first.size, np.bool_)
    for length in range(LEAST_ALONE, MOST_POINTS + 1):
        for before in (0, 1, 2):
            start = first - before * length
            mine = np.flatnonzero(
                ~found & (counts <= length) & (start >= 0) & (start + 2 * length + LEAST_ALONE <= view.size)
            )
            a, b, c = (rows_from(view, start[mine] + n * length, LEAST_ALONE) for n in range(3))
            with np.errstate(invalid="ignore"):
                found[mine] = np.abs(a - 2.0 * b + c).mean(1) < ALIKE * rise[mine]
    return found
