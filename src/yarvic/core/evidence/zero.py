"""What a pressure is counted from: the vote of rest, vacuum, open and shut throttle, range, and the pressure beside."""

from __future__ import annotations

import numpy as np

from yarvic.core.evidence.bounds import LEAST_BOOST_PA, LEAST_VACUUM_PA, MOST_OPEN_VACUUM_PA, Around, percentiles
from yarvic.core.evidence.dictionary import Words
from yarvic.core.evidence.meaning import (
    AT_REST_RPM,
    HIGHEST_BAROMETER_PA,
    LEAST_ABSOLUTE_PA,
    LEAST_OPEN_ABSOLUTE_PA,
    LOWEST_BAROMETER_PA,
    NOISE_PA,
    OPEN,
    SHUT,
)
from yarvic.core.evidence.vote import CANNOT, STATED, Ballot, Reading, in_range, odd_readings
from yarvic.core.physics import BoolArray, FloatArray
from yarvic.core.physics.constants import STANDARD_PRESSURE_PA
from yarvic.core.units import Reference, unit

# Logarithms of likelihood ratios. Our choice.
REST, BLANK_REST = (
    6.0,
    2.0,
)  # an engine that stands; one whose numbers are all exactly zero may be a logger that waits
VACUUM, TOO_THIN, OPEN_THIN, SHUT_LOW = 9.0, 9.0, 7.0, 6.0
NEAR, FAR, ALIKE = 2.0, -6.0, 3.0  # a target near its pressure, far from it, and counted as it is
NO_BOOST = -4.9  # neither vacuum nor boost: an engine without either is rarely logged so
# Rows in a row: fewer are a dropout. Our choice.
LEAST_ROWS = 5
# Boost stays nearer to its target than this. Our choice.
MOST_OFF_TARGET_PA, NEAR_TARGET_PA = 45e3, 8e3


def pressure_ballot(
    words: Words, values: FloatArray, around: Around, stated_unit: str, stated: Reference, *, target: bool
) -> Ballot:
    """The units and zeros that an intake pressure's numbers can have, with what speaks for each.

    `values` as the file holds them, `around` at the same samples. What a unit asks for (`target`) follows no throttle.
    """
    units = dict.fromkeys(([stated_unit] if stated_unit else []) + list(words.unstated))
    references: tuple[Reference, ...] = ("absolute", "gauge")
    priors = {Reading(u, r): 0.0 for u in units for r in references}
    if not stated_unit:
        priors.update(odd_readings(values))
    ballot = Ballot(list(priors))
    ballot.add(priors.__getitem__)
    ballot.add(lambda r: STATED if stated_unit and r.unit == stated_unit else 0.0)
    ballot.add(lambda r: STATED if stated and r.reference == stated else 0.0)

    def of_numbers(reading: Reading) -> float:
        if reading.odd:
            return 0.0
        pressure_pa = values * unit(reading.unit).factor
        found = _range(words, pressure_pa, reading.reference)
        return found if target else found + zero_score(pressure_pa, around, reading.reference)

    ballot.add(of_numbers)
    return ballot


def _range(words: Words, pressure_pa: FloatArray, reference: Reference) -> float:
    """How well numbers fit the channel's range; a gauge pressure is taken at sea level."""
    ends = percentiles(pressure_pa)
    if ends is None or reference == "absolute":
        return in_range(words, ends)
    no_engine = ends[0] > LEAST_VACUUM_PA and ends[1] < LEAST_BOOST_PA
    if ends[0] < -STANDARD_PRESSURE_PA:
        return CANNOT
    if no_engine:
        return NO_BOOST
    return in_range(words, (ends[0] + STANDARD_PRESSURE_PA, ends[1] + STANDARD_PRESSURE_PA))


def zero_score(pressure_pa: FloatArray, around: Around, reference: Reference) -> float:
    """What moments of known pressure say for a zero, as a logarithm: hints are added, and none of them needs one row."""
    known = np.isfinite(pressure_pa)
    p, throttle, speed = pressure_pa[known], around.throttle[known], around.speed_rpm[known]
    if p.size < LEAST_ROWS:
        return 0.0
    gauge = reference == "gauge"
    score = _at_rest(p[_in_a_row(speed < AT_REST_RPM)], gauge)
    below = float(np.percentile(p, 5))
    if not gauge and (_in_a_row(p < -NOISE_PA).any() or below < -NOISE_PA):
        score -= VACUUM
    elif not gauge and below < LEAST_ABSOLUTE_PA:
        score -= TOO_THIN
    opened, shut = p[throttle >= OPEN], p[throttle <= SHUT]
    if opened.size >= LEAST_ROWS:
        if not gauge and float(np.percentile(opened, 10)) < LEAST_OPEN_ABSOLUTE_PA:
            score -= OPEN_THIN
        if gauge and float(np.median(opened)) < MOST_OPEN_VACUUM_PA:
            score -= OPEN_THIN
        # Nothing boosts a petrol engine whose throttle is nearly shut: what is read there is vacuum or the barometer. A
        # diesel's pedal shuts nothing, and its charger stands then.
        if gauge and shut.size >= LEAST_ROWS and float(np.median(shut)) > LEAST_ABSOLUTE_PA:
            score -= SHUT_LOW
    return score


def _at_rest(rest: FloatArray, gauge: bool) -> float:
    """What an engine that stands says: the barometer, or nothing. A logger that waits writes zeros, and says little."""
    if not rest.size:
        return 0.0
    middle = float(np.median(rest))
    weight = BLANK_REST if np.all(rest == 0.0) else REST
    if abs(middle) < LEAST_ABSOLUTE_PA:
        return weight if gauge else -weight
    if LOWEST_BAROMETER_PA < middle < HIGHEST_BAROMETER_PA:
        return -weight if gauge else weight
    return -weight


def _in_a_row(where: BoolArray) -> BoolArray:
    """The rows of stretches that are long enough to be no dropout."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], where, [False])).astype(np.int8)))
    found = np.zeros(where.shape, bool)
    for first, last in zip(edges[::2], edges[1::2], strict=True):
        found[first:last] = last - first >= LEAST_ROWS
    return found


def read_near(
    target: FloatArray, reading: Reading, beside: FloatArray, label: str, reference: Reference, around: Around
) -> float:
    """What the pressure beside says for a reading of its target: read right, both come near each other."""
    if reading.odd:
        return 0.0
    zero = {"absolute": 0.0, "gauge": STANDARD_PRESSURE_PA}
    wanted = target * unit(reading.unit).factor + zero.get(reading.reference, 0.0)
    there = beside * unit(label).factor + zero.get(reference, 0.0)
    ends = [percentiles(v) for v in (wanted, there)]
    if ends[0] is None or ends[1] is None:
        return 0.0
    apart = abs(ends[0][1] - ends[1][1])
    opened = around.throttle >= OPEN
    if opened.any() and wanted.shape == there.shape and np.isfinite(wanted[opened] - there[opened]).any():
        # Boost that is still coming lies under its target: what counts is what it reaches.
        apart = abs(float(np.nanmedian(wanted[opened]) - np.nanpercentile(there[opened], 90)))
    near = max(0.0, 1.0 - max(apart - NEAR_TARGET_PA, 0.0) / MOST_OFF_TARGET_PA)
    return FAR + (NEAR - FAR) * near + (ALIKE if reading.unit == label and reading.reference == reference else 0.0)
