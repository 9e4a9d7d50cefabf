"""Which units the numbers of a column can be in, by the bounds within which each channel's numbers lie."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.dictionary import Words
from yarvic.core.physics import FloatArray
from yarvic.core.physics.constants import STANDARD_PRESSURE_PA
from yarvic.core.units import Reference, from_canonical

# A glance at a long column: so many of its numbers at most.
GLANCE = 4000
# A gauge without any vacuum that never shows this boost shows no engine: it is a unit mistaken for another. Our choice.
LEAST_BOOST_PA, LEAST_VACUUM_PA = 25e3, -1e3
# Behind an open throttle no engine draws more vacuum than this. Our choice.
MOST_OPEN_VACUUM_PA = -45e3


@dataclass(frozen=True, slots=True)
class Around:
    """What the rest of the log says at the samples of a column: throttle (0 to 1) and engine speed, NaN if not known."""

    throttle: FloatArray
    speed_rpm: FloatArray


def glance(values: FloatArray) -> FloatArray:
    """A column's numbers, or a share of them that lies evenly over it."""
    return values[:: max(1, -(-values.size // GLANCE))]


def percentiles(values: FloatArray) -> tuple[float, float] | None:
    """2nd and 98th percentile of the numbers that are there; None where there are none."""
    known = values[np.isfinite(values)]
    if not known.size:
        return None
    low, high = np.percentile(known, (2, 98))
    return float(low), float(high)


def fits(words: Words, canonical: FloatArray, reference: Reference = "") -> bool:
    """Whether numbers in the canonical unit lie within a channel's bounds; a gauge pressure is taken at sea level."""
    ends = percentiles(canonical)
    if ends is None:
        return True
    if reference == "gauge":
        stands = ends[0] > LEAST_VACUUM_PA and ends[1] < LEAST_BOOST_PA
        if ends[0] < -STANDARD_PRESSURE_PA or stands:
            return False
        ends = ends[0] + STANDARD_PRESSURE_PA, ends[1] + STANDARD_PRESSURE_PA
    low, high = (float(from_canonical(e, words.in_unit)) for e in ends)
    return words.lowest[0] <= low <= words.lowest[1] and words.highest[0] <= high <= words.highest[1]
