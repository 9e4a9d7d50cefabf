"""Which units the numbers of a column can be in, by the bounds within which each channel's numbers lie."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.dictionary import Words
from yarvic.core.evidence.meaning import OPEN, pressure_reference
from yarvic.core.physics import FloatArray
from yarvic.core.physics.constants import STANDARD_PRESSURE_PA
from yarvic.core.units import Reference, from_canonical, unit

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


def units_that_fit(words: Words, values: FloatArray) -> list[str]:
    """The units, of those that a header may leave unsaid, in which these numbers lie within the bounds."""
    return [u for u in words.unstated if fits(words, values * unit(u).factor + unit(u).offset)]


def pressures_that_fit(
    words: Words, values: FloatArray, around: Around, units: tuple[str, ...], references: tuple[Reference, ...]
) -> Iterator[tuple[str, Reference]]:
    """The units and references in which numbers can be a pressure in or before an intake, with what its throttle says."""
    for label in units:
        pressure_pa = values * unit(label).factor
        compelled = pressure_reference(pressure_pa, around.throttle, around.speed_rpm)
        for reference in references:
            if compelled in ("", reference) and fits(words, pressure_pa, reference):
                opened = pressure_pa[(around.throttle >= OPEN) & np.isfinite(pressure_pa)]
                if reference == "gauge" and opened.size and float(np.median(opened)) < MOST_OPEN_VACUUM_PA:
                    continue
                yield label, reference
