"""One channel over another, with a third beside it: the points of a span, at the samples of the one that stands upright."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.log import Log
from yarvic.core.physics import FloatArray

# More points than this nobody sees, and every so manieth is taken; the lowest and highest of each stretch stay.
MOST_POINTS = 20_000


@dataclass(frozen=True)
class Points:
    """`x`, `y`, `shade` (NaN without a third channel) and `time_s` of each point, canonical units; `of` how many there
    were before they were thinned.
    """

    x: FloatArray
    y: FloatArray
    shade: FloatArray
    time_s: FloatArray
    of: int


def against(log: Log, x: str, y: str, shade: str, start_s: float, end_s: float) -> Points:
    """The points of a span. A point of which x or y is unknown is none. Raises EvidenceError for what was not logged."""
    c = log.channel(y)
    first, last = np.searchsorted(c.time_s, [start_s, np.nextafter(end_s, np.inf)])
    t, value = c.time_s[first:last], c.values[first:last]
    across = log.at(x, t) if x != y else value
    third = log.at(shade, t) if shade else np.full(t.shape, np.nan)
    good = np.isfinite(value) & np.isfinite(across)
    keep = _thinned(value, np.flatnonzero(good))
    return Points(across[keep], value[keep], third[keep], t[keep], int(np.count_nonzero(good)))


def _thinned(value: FloatArray, places: np.ndarray) -> np.ndarray:
    """Few enough of the places: of each stretch that with the lowest and that with the highest value."""
    if places.size <= MOST_POINTS:
        return places
    kept = [
        part[[int(np.argmin(value[part])), int(np.argmax(value[part]))]]
        for part in np.array_split(places, MOST_POINTS // 2)
    ]
    return np.unique(np.concatenate(kept))
