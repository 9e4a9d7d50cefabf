"""Stretches of samples for which something holds: where they are, and how long they last."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from yarvic.core.physics import FloatArray


def longest(time_s: FloatArray, over: NDArray[np.bool_]) -> tuple[float, float]:
    """The longest time in one stretch of samples for which `over` holds, s, and when it began; nought, at the first
    sample, where there is none. A sample stands for the time up to the next one.
    """
    if not over.any():
        return 0.0, float(time_s[0])
    ends = np.append(time_s, time_s[-1])
    return max((float(ends[b] - time_s[a]), float(time_s[a])) for a, b in stretches(over))


def stretches(over: NDArray[np.bool_], offset: int = 0) -> list[tuple[int, int]]:
    """The stretches of samples for which `over` holds, as (first, one past last), counted from `offset`."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], over, [False])).astype(np.int8)))
    return [(int(a) + offset, int(b) + offset) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def longest_run(over: NDArray[np.bool_]) -> int:
    """The most samples in a row for which `over` holds."""
    return max((b - a for a, b in stretches(over)), default=0)


def in_windows(begins: NDArray[np.bool_], width: int, count: int) -> NDArray[np.bool_]:
    """Which of so many samples lie in a window of `width` that begins at a sample for which `begins` holds."""
    marks = np.zeros(count + 1, dtype=np.int64)
    at = np.flatnonzero(begins)
    np.add.at(marks, at, 1)
    np.add.at(marks, at + width, -1)
    return np.asarray(np.cumsum(marks[:-1]) > 0)
