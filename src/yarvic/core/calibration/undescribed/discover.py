"""Places in a raw image that look like tables: blocks of numbers that bend little from row to row, with or without rising
numbers before them. Proposed with a confidence, for a person to confirm; nothing is taken for known.

First those right behind their own axes, then, in what is left, those whose shape two axes elsewhere have. Our own method;
how well it does is in docs/table-finder.md.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Callable, Container
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from threading import Lock

import numpy as np

from yarvic.core.calibration.storing import SIZES
from yarvic.core.calibration.undescribed.axes_alone import lengths_alone
from yarvic.core.calibration.undescribed.axes_elsewhere import Blocks, blocks_of
from yarvic.core.calibration.undescribed.behind_axes import LOOSE, Placed, behind_axes
from yarvic.core.calibration.undescribed.byte_order import SIGNS, Order, likely_order
from yarvic.core.calibration.undescribed.longer_blocks import from_flat_rows, longer
from yarvic.core.calibration.undescribed.numbers_seen import AXIS_TYPES, Bools, Free, NumbersSeen

CHUNK, OVERLAP, AT_ONCE = 1 << 20, 1 << 13, 2  # bytes searched at a time, and parts at a time
# Confidence: with axes before it, without; for bending little, for size, for counts before the axes. Our choice,
# held against images of random layouts in docs/table-finder.md.
BEHIND, ELSEWHERE, FOR_SMOOTH, FOR_SIZE, FOR_COUNTS, SURE = 0.60, 0.25, 0.22, 0.10, 0.07, 0.99
FOR_LENGTH = 0.1
# What a block weighs that begins or ends with rows of one number.
FOR_FLAT = 0.3
# What a block without axes before it weighs, where so many others have its lengths: more with each. Those count that bend
# so little.
BY_LENGTHS, EVEN = (0.1, 4.0), 0.06
LARGE = 150.0  # values of a large table
Progress = Callable[[float], None]
Cancelled = Callable[[], bool]


@dataclass(frozen=True)
class FoundAxis:
    """Numbers that rise: where they lie, of which type, how many."""

    address: int
    storage: str
    count: int

    @property
    def end(self) -> int:
        """The address behind the last."""
        return self.address + self.count * SIZES[self.storage]


@dataclass(frozen=True)
class FoundTable:
    """A place that looks like a table; without axes where none lies before it. `confidence` is from 0 to 1."""

    address: int
    storage: str
    rows: int
    columns: int
    x: FoundAxis | None
    y: FoundAxis | None
    bends: float
    counted: bool
    confidence: float
    lengths_elsewhere: int = 0  # how many of its two lengths axes elsewhere have

    @property
    def end(self) -> int:
        """The address behind the last number."""
        return self.address + self.rows * self.columns * SIZES[self.storage]

    @property
    def start(self) -> int:
        """Where its first axis begins, or its values where it has none."""
        return min([self.address, *(a.address for a in (self.x, self.y) if a is not None)])

    def moved(self, by: int) -> FoundTable:
        """The same further on in the image."""
        axes = [replace(a, address=a.address + by) if a is not None else None for a in (self.x, self.y)]
        return replace(self, address=self.address + by, x=axes[0], y=axes[1])


@dataclass(frozen=True)
class Discovered:
    """What was found, the likeliest first, and the byte order that its numbers lie in."""

    byte_order: Order
    tables: tuple[FoundTable, ...]


class _Likely:
    """One place of many of the same kind, before it is known whether another explains the same bytes better."""

    __slots__ = ("counted", "end", "gain", "lengths", "n", "offset", "part", "start")

    def __init__(self, offset: int, part: Placed | Blocks, n: int, counted: bool, weight: float = 1.0) -> None:
        self.offset, self.part, self.n, self.counted, self.lengths = offset, part, n, counted, 0
        size = SIZES[part.storage] * int(part.rows[n]) * int(part.columns[n])
        at = int(part.values[n])
        start = at
        if isinstance(part, Placed):
            start = min(int(part.runs.first[n]), at)
        self.start, self.end = offset + start, offset + at + size
        self.gain = (self.end - self.start) * (1.0 - float(part.bends[n]) / LOOSE) ** 2
        self.gain *= weight * (1.3 if isinstance(self.part, Placed) else 1.4) * (1.5 if counted else 1.0)

    def known(self, lengths: Container[int]) -> None:
        """Note how many of its lengths axes have that stand somewhere, where none stand before it."""
        if isinstance(self.part, Blocks):
            rows, columns = int(self.part.rows[self.n]), int(self.part.columns[self.n])
            self.lengths = (rows in lengths) + (columns in lengths)

    def weighed(self, usual: Counter[int]) -> None:
        """Weigh by how many other blocks have its lengths, where no axes stand before it: tables share their axes."""
        if isinstance(self.part, Blocks):
            rows, columns = int(self.part.rows[self.n]), int(self.part.columns[self.n])
            many = min(usual[rows], usual[columns]) if rows != columns else usual[rows] / 2.0
            least, half = BY_LENGTHS
            self.gain *= (many + least) / (many + half)

    def laid(self) -> tuple[int, int, int]:
        """How its rows lie: bytes of a number, columns, and where rows begin."""
        size, columns = SIZES[self.part.storage], int(self.part.columns[self.n])
        return size, columns, int(self.part.values[self.n]) % (size * columns)

    def moved(self, by: int) -> _Likely:
        """The same further on."""
        self.offset += by
        self.start += by
        self.end += by
        return self

    def table(self) -> FoundTable:
        """What is proposed."""
        part, n = self.part, self.n
        rows, columns, bends = int(part.rows[n]), int(part.columns[n]), float(part.bends[n])
        x = y = None
        base = ELSEWHERE
        if isinstance(part, Placed):
            base = BEHIND
            runs = part.runs
            first = FoundAxis(int(runs.first[n]), AXIS_TYPES[int(runs.first_type[n])], int(runs.first_count[n]))
            second = FoundAxis(int(runs.second[n]), AXIS_TYPES[int(runs.second_type[n])], int(runs.second_count[n]))
            x, y = (first, second) if part.first_is_x[n] else (second, first)
        sure = base + FOR_SMOOTH * (1.0 - bends / LOOSE) + FOR_SIZE * min(rows * columns / LARGE, 1.0)
        sure = min(sure + FOR_COUNTS * self.counted + FOR_LENGTH * self.lengths, SURE)
        table = FoundTable(
            int(part.values[n]), part.storage, rows, columns, x, y, bends, self.counted, sure, self.lengths
        )
        return table.moved(self.offset)


class _Inside:
    """Blocks by how their rows lie: what tells a table behind axes from rows of a table that rise as axes do."""

    def __init__(self, blocks: list[_Likely]) -> None:
        self._spans: dict[tuple[int, int, int], list[tuple[int, int]]] = {}
        for one in blocks:
            self._spans.setdefault(one.laid(), []).append((one.start, one.end))
        for spans in self._spans.values():
            spans.sort()
            # Those that end before one that begins earlier hold nothing that it does not.
            kept: list[tuple[int, int]] = []
            for start, end in spans:
                if not kept or end > kept[-1][1]:
                    kept.append((start, end))
            spans[:] = kept

    def has(self, one: _Likely) -> bool:
        """Whether its axes and its numbers are rows of a block: at least one whole row before its numbers."""
        spans = self._spans.get(one.laid())
        if not spans:
            return False
        values = one.offset + int(one.part.values[one.n])
        size, columns, _ = one.laid()
        before = values - 2 * size * columns
        at = bisect_right(spans, (before, 1 << 62)) - 1
        return at >= 0 and one.end <= spans[at][1]


class _Ground:
    """Which bytes are taken by a table already."""

    def __init__(self, size: int) -> None:
        self.taken = np.zeros(size, np.bool_)

    def take(self, start: int, end: int) -> bool:
        """Take a stretch; False where another has some of it."""
        if self.taken[start:end].any():
            return False
        self.taken[start:end] = True
        return True


def discover(
    data: bytes, progress: Progress = lambda share: None, cancelled: Cancelled = lambda: False
) -> Discovered:
    """The tables of an image. Linear in its size. What was found so far is given where it is cancelled."""
    order = likely_order(data)
    firsts = [max(start - OVERLAP, 0) for start in range(0, max(len(data), 1), CHUNK)]
    likely: list[_Likely] = []
    lengths: dict[int, int] = {}

    steps, lock = iter(range(1, 2 * len(firsts) + 1)), Lock()

    def step() -> None:
        with lock:
            progress(next(steps) / (2 * len(firsts)))

    def part(first: int) -> tuple[list[_Likely], dict[int, int]]:
        return _searched(NumbersSeen(data[first : first + CHUNK + OVERLAP], SIGNS[order]), step, cancelled)

    with ThreadPoolExecutor(AT_ONCE) as pool:
        for n, (mine, alone) in enumerate(pool.map(part, firsts)):
            likely += [one.moved(firsts[n]) for one in mine]
            for length, many in alone.items():
                lengths[length] = lengths.get(length, 0) + many
    for one in likely:
        one.known(lengths)
    usual: Counter[int] = Counter()
    for table in _apart(len(data), likely):
        if table.x is None and table.bends < EVEN:
            usual.update((table.rows, table.columns))
    for one in likely:
        one.weighed(usual)
    return Discovered(order, _apart(len(data), likely))


def _searched(
    seen: NumbersSeen, step: Callable[[], None], cancelled: Cancelled
) -> tuple[list[_Likely], dict[int, int]]:
    """What a part of an image may hold, and how many axes of each length stand alone in it; nothing where cancelled."""
    likely = [] if cancelled() else _with_axes(seen, cancelled)
    if cancelled():
        return [], {}
    step()
    ground = _Ground(len(seen.data))
    for one in sorted(likely, key=lambda t: -t.gain):
        if one.counted:
            ground.take(one.start, one.end)
    free = Free(ground.taken)
    blocks = blocks_of(seen, free)
    elsewhere = _without_axes(blocks) + _without_axes(longer(seen, free, blocks))
    inside = _Inside(elsewhere)
    likely = [one for one in likely if not inside.has(one)]
    with_axes = {(one.laid(), one.end) for one in likely}
    likely += [one for one in elsewhere if (one.laid(), one.end) not in with_axes]
    ground = _Ground(len(seen.data))
    for one in sorted(likely, key=lambda t: -t.gain):
        ground.take(one.start, one.end)
    alone = lengths_alone(seen, Free(ground.taken))
    likely += _without_axes(from_flat_rows(seen, free, alone), FOR_FLAT)
    step()
    return likely, alone


def _apart(size: int, likely: list[_Likely]) -> tuple[FoundTable, ...]:
    """Of those that lie over each other the one that explains most; the likeliest first."""
    ground = _Ground(size)
    kept = [t.table() for t in sorted(likely, key=lambda t: (-t.gain, t.start)) if ground.take(t.start, t.end)]
    return tuple(sorted(kept, key=lambda t: (-t.confidence, t.address)))


def _with_axes(seen: NumbersSeen, cancelled: Cancelled = lambda: False) -> list[_Likely]:
    """Tables right behind their axes."""
    found: list[_Likely] = []
    for part in behind_axes(seen):
        if cancelled():
            break
        counted = _counted(seen, part)
        for n in range(part.values.size):
            found.append(_Likely(0, part, n, bool(counted[n])))
    return found


def _without_axes(blocks: list[Blocks], weight: float = 1.0) -> list[_Likely]:
    return [_Likely(0, part, n, False, weight) for part in blocks for n in range(part.values.size)]


def _counted(seen: NumbersSeen, placed: Placed) -> Bools:
    """Whether the two counts stand right before the axes, as bytes or words."""
    found = np.zeros(placed.values.size, np.bool_)
    counts = np.sort(np.stack([placed.rows, placed.columns], axis=1).astype(np.float64), axis=1)
    for storage in ("u8", "u16"):
        for gap in (0, 1, 2, 3):
            there = seen.at(placed.runs.first - 2 * SIZES[storage] - gap, storage, 2)
            found |= (np.sort(there, axis=1) == counts).all(1)
    return found
