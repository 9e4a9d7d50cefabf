"""Tables right behind their own axes: two runs of rising numbers, then a block of that shape that bends little.

All places at once: where runs of four and more may end, which other run ends where that began, which shapes that gives;
a first look at four rows drops nearly all, a close look at the whole block is left to few.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, fields

import numpy as np

from yarvic.core.calibration.storing import SIZES
from yarvic.core.calibration.undescribed.bending import bending_at, may_begin, row_goes_on, rows_bend_little
from yarvic.core.calibration.undescribed.numbers_seen import AXIS_TYPES, SIGNED, VALUE_TYPES, Bools, Ints, NumbersSeen
from yarvic.core.physics import FloatArray

# Break points of an axis, and of both together at least. Our choice.
LEAST_POINTS, MOST_POINTS, LEAST_TOGETHER = 4, 40, 9
LOOSE = 0.14  # bending over span of what is still a table
PAIRS_AT_ONCE = 100_000  # bounds the memory that an image of nothing but rising numbers takes
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


def behind_axes(
    seen: NumbersSeen, axes: Sequence[str] = AXIS_TYPES, values: Sequence[str] = VALUE_TYPES
) -> Iterator[Placed]:
    """All places for each type of values, of axes of some types; those over each other included."""
    pairs: list[Runs] = []
    for second in axes:
        ends, counts = _run_ends(seen, second)
        for start, gap in itertools.product(range(0, ends.size, PAIRS_AT_ONCE), PADDING):
            some = slice(start, start + PAIRS_AT_ONCE)
            fits = start + np.flatnonzero(_padded(seen, ends[some] - counts[some] * SIZES[second], gap))
            for first in axes:
                pairs.append(_before(seen, first, second, ends[fits], counts[fits], gap))
                if sum(p.end.size for p in pairs) > PAIRS_AT_ONCE:
                    yield from _behind_all(seen, Runs.all(pairs), values)
                    pairs = []
    if pairs:
        yield from _behind_all(seen, Runs.all(pairs), values)


def _behind_all(seen: NumbersSeen, runs: Runs, types: Sequence[str]) -> Iterator[Placed]:
    """The places behind all pairs of runs, of some at a time."""
    for start in range(0, runs.end.size, PAIRS_AT_ONCE):
        yield from _behind(seen, runs.only(slice(start, start + PAIRS_AT_ONCE)), types)


def _behind(seen: NumbersSeen, runs: Runs, types: Sequence[str]) -> Iterator[Placed]:
    """The places behind some pairs of runs."""
    parts: list[tuple[Ints, Ints, Bools]] = []
    for behind in PADDING:
        there = np.flatnonzero(_padded(seen, runs.end + behind, behind))
        for along in (True, False):
            parts.append((there, runs.end[there] + behind, np.full(there.size, along)))
    which = np.concatenate([p[0] for p in parts])
    values = np.concatenate([p[1] for p in parts])
    first_is_x = np.concatenate([p[2] for p in parts])
    columns = np.where(first_is_x, runs.first_count[which], runs.second_count[which])
    rows = runs.first_count[which] + runs.second_count[which] - columns
    # Each block is looked at once, whatever axes stand before it: those before which its own rows may go on apart.
    for storage in types:
        own_type = runs.second_type[which] == AXIS_TYPES.index(storage)
        blocks, back = np.unique((values << 13) | (rows << 7) | (columns << 1) | own_type, return_inverse=True)
        bends = _bends(
            seen, storage, blocks >> 13, (blocks >> 7) & 63, (blocks >> 1) & 63, (blocks & 1).astype(np.bool_)
        )[back]
        good = np.flatnonzero(bends < LOOSE)
        yield Placed(
            storage, runs.only(which[good]), first_is_x[good], rows[good], columns[good], values[good], bends[good]
        )


def _run_ends(seen: NumbersSeen, storage: str) -> tuple[Ints, Ints]:
    """Addresses behind runs of a type, and how many rise up to there."""
    size = SIZES[storage]
    ends: list[Ints] = []
    counts: list[Ints] = []
    for phase in range(size):
        view = seen.seen(storage, phase)
        last = np.flatnonzero(view.ends & (view.rising >= LEAST_POINTS))
        ends.append(phase + (last + 1) * size)
        counts.append(view.rising[last].astype(np.int64))
    keys, lengths = lengths_of(seen, storage, np.concatenate(ends), np.concatenate(counts))
    behind = np.concatenate(ends)[keys]
    even = _even(seen, behind - lengths * size, lengths, storage)
    return behind[even], lengths[even]


def lengths_of(seen: NumbersSeen, storage: str, ends: Ints, rising: Ints) -> tuple[Ints, Ints]:
    """The lengths that a run may have, as (which end, length): all that rise, up to three less, from a jump on."""
    keys: list[Ints] = []
    lengths: list[Ints] = []
    index = np.arange(ends.size)
    for less in range(SPARE + 1):
        fits = index[(rising - less >= LEAST_POINTS) & (rising - less <= MOST_POINTS)]
        keys.append(fits)
        lengths.append(rising[fits] - less)
    long = index[rising > LEAST_POINTS + SPARE]
    many = np.minimum(rising[long] - SPARE - 1, MOST_POINTS) - LEAST_POINTS + 1
    of, firsts = np.repeat(long, many), np.repeat(np.cumsum(many) - many, many)
    counts = LEAST_POINTS + np.arange(of.size) - firsts
    jumps = seen.jumps_after(ends[of] - counts * SIZES[storage], storage)
    keys.append(of[jumps])
    lengths.append(counts[jumps])
    return np.concatenate(keys), np.concatenate(lengths)


def _before(seen: NumbersSeen, first_type: str, second_type: str, ends: Ints, counts: Ints, gap: int) -> Runs:
    """Runs of a type that end so many bytes before others, and these."""
    seconds = ends - counts * SIZES[second_type]
    keys, lengths = lengths_of(seen, first_type, seconds - gap, seen.rising_up_to(seconds - gap, first_type))
    enough = lengths + counts[keys] >= LEAST_TOGETHER
    keys, lengths = keys[enough], lengths[enough]
    first = seconds[keys] - gap - lengths * SIZES[first_type]
    one, other = (np.full(keys.size, AXIS_TYPES.index(t)) for t in (first_type, second_type))
    runs = Runs(one, other, first, lengths, seconds[keys], counts[keys], ends[keys])
    return runs.only(_even(seen, runs.first, runs.first_count, first_type))


def _padded(seen: NumbersSeen, ends: Ints, gap: int) -> Bools:
    """Whether so many bytes before each address fill up to it: noughts or ones before an even one."""
    if gap == 0:
        return np.ones(ends.size, np.bool_)
    found = (ends % 4 == 0) | ((gap == 1) & (ends % 2 == 0))
    found &= (ends >= gap) & (ends <= len(seen.data))
    mine = np.flatnonzero(found)
    before = seen.bytes[ends[mine][:, None] - 1 - np.arange(gap)]
    found[mine] = (before == 0).all(1) | (before == 0xFF).all(1)
    return np.asarray(found)


def _even(seen: NumbersSeen, starts: Ints, counts: Ints, storage: str) -> Bools:
    """Whether no step of a run is much wider than its middle one; one with signs has numbers of both."""
    found = np.zeros(starts.size, np.bool_)
    for count in np.unique(counts).tolist():
        mine = np.flatnonzero(counts == count)
        numbers = seen.at(starts[mine], storage, count)
        steps = np.sort(np.diff(numbers, axis=1), axis=1)
        found[mine] = (steps[:, 0] > 0) & (steps[:, -1] <= STEEP * steps[:, (count - 1) // 2])
        if storage in SIGNED:
            # Where all numbers are of one sign the same run is found without signs.
            found[mine] &= (numbers[:, 0] < 0) & (numbers[:, -1] >= 0)
    return found


def _bends(seen: NumbersSeen, storage: str, values: Ints, rows: Ints, columns: Ints, own_type: Bools) -> FloatArray:
    """How much blocks bend; NaN where a cheaper look told that there is none.

    Two rows of a table may rise as axes do, in numbers of the same type (`own_type`): then its other rows go on as they do.
    """
    bends = np.full(values.size, np.nan)
    fits = np.flatnonzero(seen.may_hold(values, storage, rows * columns))
    fits = fits[~seen.of_smaller(values[fits], storage, (rows * columns)[fits])]
    for look in (_smooth_at_an_end, rows_bend_little):
        fits = fits[look(seen, storage, values[fits], rows[fits], columns[fits])]
    fits = fits[~(own_type[fits] & row_goes_on(seen, storage, values[fits], columns[fits]))]
    bent = bending_at(seen, storage, values[fits], rows[fits], columns[fits], placed=True)
    bends[fits] = bent.bends
    return bends


def _smooth_at_an_end(seen: NumbersSeen, storage: str, starts: Ints, rows: Ints, columns: Ints) -> Bools:
    """Whether the first or the last three rows bend little, or not at all: each such place is looked at once."""
    found = np.zeros(starts.size, np.bool_)
    for ends in (starts, starts + (rows - 3) * columns * SIZES[storage]):
        left = np.flatnonzero(~found)
        begins, again = np.unique((ends[left] << 6) | columns[left], return_inverse=True)
        found[left] = may_begin(seen, storage, begins >> 6, begins & 63)[again]
    return found
