"""How long something lasts in one stretch."""

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
    edges = np.flatnonzero(np.diff(np.concatenate(([False], over, [False])).astype(np.int8)))
    ends = np.append(time_s, time_s[-1])
    stretches = zip(edges[::2], edges[1::2], strict=True)
    return max((float(ends[b] - time_s[a]), float(time_s[a])) for a, b in stretches)
