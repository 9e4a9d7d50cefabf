"""The stretches of an image in which numbers step little: all that is looked at for tables whose axes lie elsewhere."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from yarvic.core.calibration.undescribed.behind_axes import LEAST_POINTS, MOST_POINTS
from yarvic.core.calibration.undescribed.numbers_seen import SIGNED, Bools, Counts, Ints, Numbers, Seen, counted

# A table steps little from number to number, by its row length at most so much of the span of a window. Our choice.
WINDOW, CALM = 24, {range(4, 12): (0.33, 0.5), range(12, 41): (0.23, 1.01)}
FAR = 400  # so many numbers away may be what tells of a table
WINDOWS = (16, 32, 64, 128)  # in which the span around a place is taken
LEAST_SPAN, LEAST_SPAN_FLOAT = 6.0, 1e-6
NONE, MOST_BEND = 1e12, 1e8  # what stands for no number, and the most that one place may bend in a sum


def calm_stretches(seen: Seen, open_: Bools, storage: str) -> Iterator[tuple[range, Calm]]:
    """For some row lengths at a time the stretches in which blocks of them may lie."""
    if seen.numbers.size < WINDOW:
        return
    filled = np.where(np.isnan(seen.numbers), np.float32(NONE), seen.numbers) if seen.none[-1] else seen.numbers
    open_ = open_ & ~_listed(seen.rising)
    span = _spans(filled, (WINDOW,))[WINDOW]
    steps = np.diff(filled)
    step = _means(np.abs(steps), WINDOW - 1)
    up = steps > 0.0
    turning = counted(up[1:] != up[:-1])
    turns = turning[WINDOW - 2 :] - turning[: 2 - WINDOW]
    least = LEAST_SPAN if storage != "f32" else LEAST_SPAN_FLOAT
    flat = span < least
    there = (span < NONE / 10.0) & ~flat
    if storage in SIGNED:
        there &= _near(filled[: span.size] < 0.0, FAR) & _near(filled[: span.size] >= 0.0, FAR)
    for lengths, (most, most_turns) in CALM.items():
        little = there & (step < most * span) & (turns < most_turns * (WINDOW - 2))
        # Part of a table may be all of one number; what is so for longer holds none.
        little |= flat & _near(little, FAR)
        yield lengths, Calm(filled, _covered(little, filled.size) & open_, least, lengths)


def _listed(rising: Counts) -> Bools:
    """Which numbers stand in a list that rises for longer than three rows of the widest table."""
    long = np.flatnonzero(rising >= 3 * MOST_POINTS)
    if not long.size:
        return np.zeros(rising.size, np.bool_)
    long = long[np.append(rising[long[1:]] <= rising[long[:-1]], True)]
    change = np.zeros(rising.size + 1, np.int32)
    change[long + 1 - rising[long]] += 1
    change[long + 1] -= 1
    return np.cumsum(change[:-1], dtype=np.int32) > 0


def _means(numbers: Numbers, window: int) -> Numbers:
    """The mean of so many from each place on."""
    sums = np.zeros(numbers.size + 1)
    np.cumsum(numbers, out=sums[1:])
    return np.asarray((sums[window:] - sums[:-window]) / window)


def _near(marks: Bools, far: int) -> Bools:
    """Whether a mark stands no farther than so many places before or behind each."""
    edges = _edges(marks)
    starts, ends = np.maximum(edges[::2] - far, 0), np.minimum(edges[1::2] + far, marks.size)
    apart = starts[1:] > ends[:-1]
    change = np.zeros(marks.size + 1, np.int8)
    change[starts[np.concatenate([[True], apart])[: starts.size]]] = 1
    change[ends[np.concatenate([apart, [True]])[: ends.size]]] = -1
    return np.cumsum(change[:-1], dtype=np.int8) > 0


def _edges(marks: Bools) -> Ints:
    """Where stretches of marks begin and end, in turn."""
    return np.flatnonzero(np.diff(np.concatenate([[False], marks, [False]]).view(np.int8)))


def _covered(windows: Bools, size: int) -> Bools:
    """Which places the windows reach that begin where marked; a table begins before the middle of its first window."""
    found = np.zeros(size, np.bool_)
    found[: windows.size] = windows
    return _near(found, WINDOW)


def _spans(numbers: Numbers, windows: Sequence[int]) -> dict[int, Numbers]:
    """Between the least and the greatest of so many numbers from each place on, for rising widths of windows."""
    found: dict[int, Numbers] = {}
    high = low = numbers
    wide = 1
    for window in windows:
        while wide < window:
            more = min(wide, window - wide)
            high, low = np.maximum(high[:-more], high[more:]), np.minimum(low[:-more], low[more:])
            wide += more
        found[window] = high - low
    return found


class Calm:
    """Stretches of a view, one behind the other, with what is no number before, between and behind them.

    `places`: where in the view each number stands.
    """

    def __init__(self, filled: Numbers, calm: Bools, least: float, lengths: range) -> None:
        edges = _edges(calm)
        long = edges[1::2] - edges[::2] >= LEAST_POINTS * LEAST_POINTS
        starts, counts = edges[::2][long], (edges[1::2] - edges[::2])[long]
        # Of each stretch its places, then one of no number.
        shift = np.repeat(starts - np.cumsum(counts + 1) + counts + 1, counts + 1)
        parts = np.arange(shift.size) + shift
        parts[np.cumsum(counts + 1) - 1] = -1
        room = np.full(2 * MOST_POINTS, -1)
        self.places = np.concatenate([room, parts, room]) if parts.size else parts
        self.numbers = np.where(self.places >= 0, filled[self.places], np.float32(NONE))
        spans = _spans(self.numbers, sorted({_window(4 * n) for n in lengths})) if parts.size else {}
        self.spans = {
            wide: np.where((span >= least) & (span < NONE / 10.0), span, np.float32(-1.0))
            for wide, span in spans.items()
        }
        along = np.abs(self.numbers[:-2] - 2.0 * self.numbers[1:-1] + self.numbers[2:])
        self.along = np.zeros(along.size + 1)
        np.cumsum(np.minimum(along, MOST_BEND), out=self.along[1:])

    def across(self, rows: Ints, columns: int | Ints) -> Numbers:
        """How much rows bend from column to column, mean; rows begin at places (n, several), columns of one or each."""
        last = np.reshape(columns, (-1, 1)) - 2
        return np.asarray((self.along[rows + last] - self.along[rows]).mean(1) / last[:, 0])

    def span(self, count: int) -> Numbers:
        """Between the least and the greatest of about so many numbers from each place on; below nought where none is."""
        return self.spans[_window(count)]


def _window(count: int) -> int:
    """That which comes closest to so many numbers."""
    return min(WINDOWS, key=lambda w: abs(w - count))
