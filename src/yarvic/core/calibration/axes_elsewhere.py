"""Tables whose axes lie somewhere else: blocks that bend little, of a shape that two axes of the image have."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yarvic.core.calibration.behind_axes import LEAST_POINTS, LOOSE, MOST_POINTS, lengths_of
from yarvic.core.calibration.bending import AS_MUCH, bending_at
from yarvic.core.calibration.numbers_seen import AXIS_TYPES, JUMP, SIGNED, VALUE_TYPES, Bools, Ints, NumbersSeen
from yarvic.core.calibration.storing import SIZES
from yarvic.core.physics import FloatArray

# An axis that stands alone: so many points at least, and how much its steps may change, of the mean one. Our choice.
LEAST_ALONE, UNEVEN = 6, 0.55
# What stands at a place where numbers step little: window, and mean step over span. Our choice.
WINDOW, CALM = 24, 0.33
WINDOWS = (16, 32, 64, 128)  # in which the span around a place is taken
TWICE = (3.0, 6.0)  # a block ends before a row that bends so many times as much: both ends are looked at
BREAK = 0.06  # of the span, what a row beside a block bends at least
ALIKE = 0.10  # how much three rows of a table bend, of the span of one
AT_FIRST = 0.18  # four rows' bending over the span around them
LEAST_SPAN, LEAST_SPAN_FLOAT = 6.0, 1e-6
NONE, MOST_BEND = 1e12, 1e8  # what stands for no number, and the most that one place may bend in a sum


@dataclass(frozen=True)
class Blocks:
    """Places with values of one type, one entry each."""

    storage: str
    rows: Ints
    columns: Ints
    values: Ints
    bends: FloatArray


def lengths_alone(seen: NumbersSeen, free: Bools) -> dict[int, int]:
    """How many axes of each length stand in free bytes: runs whose steps change little, and that are no row of a table."""
    found: dict[int, int] = {}
    for storage in AXIS_TYPES:
        size = SIZES[storage]
        for phase in range(size):
            view = seen.seen(storage, phase)
            last = np.flatnonzero(view.ends & (view.rising >= LEAST_ALONE))
            keys, lengths = lengths_of(seen, storage, phase + (last + 1) * size, view.rising[last])
            starts = last[keys] - lengths + 1
            fits = (lengths >= LEAST_ALONE) & _free(free, phase + starts * size, lengths * size)
            fits &= (lengths == view.rising[last[keys]]) | _unlike(view.numbers, starts)
            for count in np.unique(lengths[fits]).tolist():
                first = starts[fits & (lengths == count)]
                v = view.numbers[first[:, None] + np.arange(count)]
                steps = np.diff(v, axis=1)
                even = np.abs(np.diff(steps, axis=1)).mean(1) < UNEVEN * steps.mean(1)
                many = int((~_a_row(view.numbers, first[even], v[even])).sum())
                if many:
                    found[count] = found.get(count, 0) + many
    return found


def _unlike(view: FloatArray, starts: Ints) -> Bools:
    """Whether the step to each place is unlike that from it on, so that a run may begin there."""
    first = np.maximum(starts, 1)
    before, after = view[first] - view[first - 1], view[first + 1] - view[first]
    return np.asarray((before > JUMP * after) | (before * JUMP < after))


def _a_row(view: FloatArray, first: Ints, v: FloatArray) -> Bools:
    """Whether three rows of any length, a run among them, bend little: then it is a row of a table, no axis."""
    count = v.shape[1]
    found = np.zeros(first.size, np.bool_)
    room = ALIKE * (v[:, -1] - v[:, 0])
    for length in range(count, MOST_POINTS + 1):
        for before in (0, 1, 2):
            rows = [first + (n - before) * length for n in range(3)]
            inside = (rows[0] >= 0) & (rows[2] + count <= view.size)
            a, b, c = (view[np.where(inside, at, 0)[:, None] + np.arange(count)] for at in rows)
            with np.errstate(invalid="ignore"):
                found |= inside & (np.abs(a - 2.0 * b + c).mean(1) < room)
    return found


def blocks_of(seen: NumbersSeen, free: Bools) -> list[Blocks]:
    """Blocks in free bytes that bend little and end where they say; those over each other included."""
    found: list[Blocks] = []
    for storage in VALUE_TYPES:
        size = SIZES[storage]
        begun: dict[int, list[tuple[Ints, Ints]]] = {}
        for phase in range(size):
            view = seen.seen(storage, phase).numbers
            calm = _Calm(view, _free(free, phase + np.arange(view.size) * size, size), storage)
            for columns in range(LEAST_POINTS, MOST_POINTS + 1):
                if calm.numbers.size > 4 * columns:
                    at, rows = _begun(calm, columns)
                    begun.setdefault(columns, []).append((phase + size * calm.places[at], rows))
        for columns, parts in begun.items():
            starts, rows = (np.concatenate(several) for several in zip(*parts, strict=True))
            found.append(_of_width(seen, storage, starts, rows, columns))
    return found


class _Calm:
    """The stretches of a view in which numbers step little, one behind the other, with room between them."""

    def __init__(self, view: FloatArray, open_: Bools, storage: str) -> None:
        from scipy.ndimage import maximum_filter1d, minimum_filter1d

        calm = _stepping_little(view, storage) & open_
        edges = np.flatnonzero(np.diff(np.concatenate([[False], calm, [False]]).astype(np.int8)))
        parts: list[Ints] = []
        for a, b in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
            if b - a >= LEAST_POINTS * LEAST_POINTS:
                parts += [np.arange(a, b), np.full(1, -1)]
        self.places = np.concatenate(parts) if parts else np.zeros(0, np.int64)
        numbers = np.where(self.places >= 0, view[np.maximum(self.places, 0)], np.nan) if parts else np.zeros(0)
        self.numbers = np.nan_to_num(numbers, nan=NONE)
        self.spans: dict[int, FloatArray] = {}
        for wide in WINDOWS if parts else ():
            high, low = maximum_filter1d(self.numbers, wide), minimum_filter1d(self.numbers, wide)
            self.spans[wide] = high - low
        self.least = LEAST_SPAN if storage != "f32" else LEAST_SPAN_FLOAT

    def span(self, count: int) -> FloatArray:
        """Between the least and the greatest number of about so many from each place on, as far as there are so many."""
        return self.spans[min(WINDOWS, key=lambda w: abs(w - count))][count // 2 :]


def _begun(calm: _Calm, columns: int) -> tuple[Ints, Ints]:
    """Where blocks of a row length begin, and how many rows they have: up to where they bend on much more."""
    v, c = calm.numbers, columns
    bend = np.minimum(np.abs(v[: -2 * c] - 2.0 * v[c:-c] + v[2 * c :]), MOST_BEND)
    sums = np.concatenate([[0.0], np.cumsum(bend)])

    def mean(starts: Ints, count: int) -> FloatArray:
        inside = (starts >= 0) & (starts + count < sums.size)
        at = np.where(inside, starts, 0)
        return np.where(inside, (sums[np.where(inside, at + count, 0)] - sums[at]) / count, np.inf)

    four = (sums[2 * c :] - sums[: -2 * c]) / (2 * c)
    span = calm.span(4 * c)
    four, span = four[: span.size], span[: four.size]
    starts = np.flatnonzero((four < AT_FIRST * span) & (span >= calm.least) & (span < NONE / 10.0))
    inside, span = four[starts], span[starts]
    before = mean(starts - c, c)
    fits = before > np.maximum(AS_MUCH * inside, BREAK * span)
    starts, inside, span = starts[fits], inside[fits], span[fits]
    ends = [_rows(mean, starts, inside, c, more, BREAK * span) for more in TWICE]
    other = ends[1] != ends[0]
    return np.concatenate([starts, starts[other]]), np.concatenate([ends[0], ends[1][other]])


def _rows(
    mean: Callable[[Ints, int], FloatArray],
    starts: Ints,
    inside: FloatArray,
    columns: int,
    more: float,
    least: FloatArray,
) -> Ints:
    """How many rows there are up to one that bends so many times more than those before it, and more than the least."""
    rows = np.full(starts.size, 4)
    going = np.ones(starts.size, np.bool_)
    total = inside * 2
    for row in range(4, MOST_POINTS):
        # The triple that ends with this row.
        on = mean(starts + (row - 2) * columns, columns)
        going &= on <= np.maximum(more * total / (row - 2), least)
        if not going.any():
            break
        rows[going] += 1
        total = total + np.where(going, on, 0.0)
    return rows


def _of_width(seen: NumbersSeen, storage: str, starts: Ints, rows: Ints, columns: int) -> Blocks:
    bent = bending_at(seen, storage, starts, rows, columns)
    with np.errstate(invalid="ignore"):
        good = (bent.bends < LOOSE) & ~bent.more_above & ~bent.more_below
    # Where all numbers are of one sign the same block is found without signs.
    good &= bent.both_signs | (storage not in SIGNED)
    return Blocks(storage, rows[good], np.full(int(good.sum()), columns), starts[good], bent.bends[good])


def _free(free: Bools, starts: Ints, size: int | Ints) -> Bools:
    """Whether all bytes from each address on are free."""
    taken = np.concatenate([[0], np.cumsum(~free)])
    ends = starts + size
    inside = ends <= free.size
    found = np.zeros(starts.size, np.bool_)
    found[inside] = taken[ends[inside]] == taken[starts[inside]]
    return found


def _stepping_little(view: FloatArray, storage: str) -> Bools:
    """Where numbers step little from one to the next, a glance before anything is looked at closely."""
    from scipy.ndimage import maximum_filter1d, minimum_filter1d, uniform_filter1d

    if view.size < WINDOW:
        return np.zeros(view.size, np.bool_)
    if storage == "f32":
        # Few numbers of code are floating point that an engine would have.
        return np.isfinite(view)
    filled = np.nan_to_num(view, nan=NONE)
    span = maximum_filter1d(filled, WINDOW) - minimum_filter1d(filled, WINDOW)
    step = uniform_filter1d(np.abs(np.diff(filled, append=filled[-1:])), WINDOW)
    least = LEAST_SPAN if storage != "f32" else LEAST_SPAN_FLOAT
    calm = ((step < CALM * span) & (span < NONE / 10.0)) | (span < least)
    # The window looks both ways; a table begins half a window before the middle of its first.
    return np.asarray(maximum_filter1d(calm, WINDOW + 1))
