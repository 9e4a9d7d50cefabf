"""Tables right behind their own axes: two runs of rising numbers, then a block of that shape that bends little.

All places at once: where runs of four and more may end, which other run ends where that began, which shapes that gives;
a first look at four rows drops nearly all, a close look at the whole block is left to few.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, fields, replace

import numpy as np

from yarvic.core.calibration.bending import bending_at, may_begin
from yarvic.core.calibration.numbers_seen import AXIS_TYPES, SIGNED, VALUE_TYPES, Bools, Ints, NumbersSeen
from yarvic.core.calibration.storing import SIZES
from yarvic.core.physics import FloatArray

# Break points of an axis, and of both together at least. Our choice.
LEAST_POINTS, MOST_POINTS, LEAST_TOGETHER = 4, 40, 9
# Bending over span: of four rows at a first look, of the whole at a close one.
AT_FIRST, LOOSE = 0.22, 0.14
PAIRS_AT_ONCE = 300_000  # bounds the memory that an image of nothing but rising numbers takes
PADDING = (0, 1, 2, 3)  # bytes that may fill up to an even address
SPARE = 3  # numbers before an axis that may rise towards it
STEEP = 14.0  # the widest step of an axis over its middle one, at most


@dataclass(frozen=True)
class Runs:
    """Pairs of runs, one entry each: types (places in AXIS_TYPES), addresses and lengths, and where the second ends."""

    first_type: Ints
    second_type: Ints
    first: Ints
    first_count: Ints
    second: Ints
    second_count: Ints
    end: Ints

    def only(self, which: Bools | Ints | slice) -> Runs:
        """Those of them that are wanted."""
        return Runs(*(getattr(self, f.name)[which] for f in fields(self)))

    @classmethod
    def all(cls, parts: list[Runs]) -> Runs:
        """Several as one."""
        return cls(*(np.concatenate([getattr(p, f.name) for p in parts]) for f in fields(cls)))


@dataclass(frozen=True)
class Placed:
    """Places with values of one type, one entry each: the runs before, the shape, the address, how much it bends."""

    storage: str
    runs: Runs
    first_is_x: Bools
    rows: Ints
    columns: Ints
    values: Ints
    bends: FloatArray

    def only(self, which: Bools | Ints) -> Placed:
        """Those of them that are wanted."""
        return Placed(
            self.storage, self.runs.only(which), self.first_is_x[which], self.rows[which], self.columns[which],
            self.values[which], self.bends[which],
        )  # fmt: skip


def behind_axes(seen: NumbersSeen) -> Iterator[Placed]:
    """All places for each type of values; those over each other included."""
    pairs: list[Runs] = []
    for second in AXIS_TYPES:
        ends, counts = _run_ends(seen, second)
        for first in AXIS_TYPES:
            pairs += _of_types(seen, first, second, ends, counts)
    runs = Runs.all(pairs)
    for start in range(0, runs.end.size, PAIRS_AT_ONCE):
        yield from _behind(seen, runs.only(slice(start, start + PAIRS_AT_ONCE)))


def _behind(seen: NumbersSeen, runs: Runs) -> Iterator[Placed]:
    """The places behind some pairs of runs."""
    parts: list[tuple[Ints, Ints, Bools]] = []
    for behind in PADDING:
        there = np.flatnonzero(_padded(seen, runs.end + behind, behind))
        for along in (True, False):
            parts.append((there, runs.end[there] + behind, np.full(there.size, along)))
    which = np.concatenate([p[0] for p in parts])
    values = np.concatenate([p[1] for p in parts])
    first_is_x = np.concatenate([p[2] for p in parts])
    runs = runs.only(which)
    columns = np.where(first_is_x, runs.first_count, runs.second_count)
    rows = runs.first_count + runs.second_count - columns
    for storage in VALUE_TYPES:
        nothing = np.full(values.size, np.nan)
        yield _bending_little(seen, Placed(storage, runs, first_is_x, rows, columns, values, nothing))


def _run_ends(seen: NumbersSeen, storage: str) -> tuple[Ints, Ints]:
    """Addresses behind runs of a type, and how many rise up to there."""
    size = SIZES[storage]
    ends: list[Ints] = []
    counts: list[Ints] = []
    for phase in range(size):
        view = seen.seen(storage, phase)
        last = np.flatnonzero(view.ends & (view.rising >= LEAST_POINTS))
        ends.append(phase + (last + 1) * size)
        counts.append(view.rising[last])
    keys, lengths = lengths_of(seen, storage, np.concatenate(ends), np.concatenate(counts))
    return np.concatenate(ends)[keys], lengths


def lengths_of(seen: NumbersSeen, storage: str, ends: Ints, rising: Ints) -> tuple[Ints, Ints]:
    """The lengths that a run may have, as (which end, length): all that rise, up to three less, from a jump on."""
    keys: list[Ints] = []
    lengths: list[Ints] = []
    index = np.arange(ends.size)
    for less in range(SPARE + 1):
        fits = index[(rising - less >= LEAST_POINTS) & (rising - less <= MOST_POINTS)]
        keys.append(fits)
        lengths.append(rising[fits] - less)
    for count in range(LEAST_POINTS, MOST_POINTS + 1):
        long = index[rising > count + SPARE]
        fits = long[seen.jumps_after(ends[long] - count * SIZES[storage], storage) > 0]
        keys.append(fits)
        lengths.append(np.full(fits.size, count, np.int64))
    return np.concatenate(keys), np.concatenate(lengths)


def _of_types(seen: NumbersSeen, first_type: str, second_type: str, ends: Ints, counts: Ints) -> list[Runs]:
    begins = ends - counts * SIZES[second_type]
    found: list[Runs] = []
    for gap in PADDING:
        fits = _padded(seen, begins, gap)
        end, count, second = ends[fits], counts[fits], begins[fits]
        keys, lengths = lengths_of(seen, first_type, second - gap, seen.rising_up_to(second - gap, first_type))
        fits = lengths + count[keys] >= LEAST_TOGETHER
        keys, lengths = keys[fits], lengths[fits]
        first = second[keys] - gap - lengths * SIZES[first_type]
        one, other = (np.full(keys.size, AXIS_TYPES.index(t)) for t in (first_type, second_type))
        runs = Runs(one, other, first, lengths, second[keys], count[keys], end[keys])
        runs = runs.only(_even(seen, runs.second, runs.second_count, second_type))
        found.append(runs.only(_even(seen, runs.first, runs.first_count, first_type)))
    return found


def _padded(seen: NumbersSeen, ends: Ints, gap: int) -> Bools:
    """Whether so many bytes before each address fill up to it: noughts or ones before an even one."""
    if gap == 0:
        return np.ones(ends.size, np.bool_)
    fits = (ends % 4 == 0) | ((gap == 1) & (ends % 2 == 0))
    fits &= (ends >= gap) & (ends <= len(seen.data))
    at = np.where(fits, ends, gap)
    before = seen.bytes[at[:, None] - 1 - np.arange(gap)]
    return np.asarray(fits & ((before == 0).all(1) | (before == 0xFF).all(1)))


def _even(seen: NumbersSeen, starts: Ints, counts: Ints, storage: str) -> Bools:
    """Whether no step of a run is much wider than its middle one."""
    found = np.zeros(starts.size, np.bool_)
    for count in np.unique(counts).tolist():
        mine = np.flatnonzero(counts == count)
        steps = np.diff(seen.at(starts[mine], storage, count), axis=1)
        found[mine] = (steps.min(1) > 0) & (steps.max(1) <= STEEP * np.median(steps, axis=1))
    return found


def _bending_little(seen: NumbersSeen, placed: Placed) -> Placed:
    """Those places whose blocks bend little; each block is looked at once, whatever axes stand before it."""
    key = (placed.values << 12) | (placed.rows << 6) | placed.columns
    blocks, back = np.unique(key, return_inverse=True)
    values, rows, columns = blocks >> 12, (blocks >> 6) & 63, blocks & 63
    bends = np.full(blocks.size, np.nan)
    for wide in np.unique(columns).tolist():
        mine = np.flatnonzero(columns == wide)
        starts, again = np.unique(values[mine], return_inverse=True)
        mine = mine[_bends_at_first(seen, starts, placed.storage, wide)[again]]
        bent = bending_at(seen, placed.storage, values[mine], rows[mine], wide)
        # Where all numbers are of one sign the same block is found without signs.
        good = ~bent.more_above & (bent.both_signs | (placed.storage not in SIGNED))
        bends[mine] = np.where(good, bent.bends, np.nan)
    placed = replace(placed, bends=bends[back])
    with np.errstate(invalid="ignore"):
        return placed.only(placed.bends < LOOSE)


def _bends_at_first(seen: NumbersSeen, starts: Ints, storage: str, columns: int) -> Bools:
    """Whether the first four rows bend little from row to row, and the row before them does not go on."""
    found = may_begin(seen, storage, starts, columns)
    four = bending_at(seen, storage, starts[found], np.full(int(found.sum()), 4), columns)
    with np.errstate(invalid="ignore"):
        found[found] = (four.bends < AT_FIRST) & ~four.more_above
    return found
