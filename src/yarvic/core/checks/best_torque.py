"""How far the spark stands from best torque: by what torque did where another map lit earlier or later."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from yarvic.core.checks.against_baseline import kind_of
from yarvic.core.checks.baseline import as_in_air_of, both
from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import PASS, Finding
from yarvic.core.checks.signature import GIVEN, LEAST_BANDS, Signature

# Torque falls with the square of the way from best torque, by this share for each deg squared: some 4 per cent at 10 deg
# and 10 at 15 (Heywood 1988, figure 9-3, read from memory).
PARABOLA = 4.2e-4
# The maps must differ by so much in spark, and by no more than so much in what else makes torque. Our choice.
LEAST_APART_DEG, ELSE_ALIKE = 0.8, 0.015
ELSE = ("lambda_measured", "boost_pressure", "filling")
# A torque that differs by less is told by no two pulls. Our choice.
REPEATS = 0.006
KNOCKS = ("knock_retard", "knock_repeats", "knock_duration", "knock_heard")


def best_torque(data: PullEvidence, found: list[Finding]) -> list[Finding]:
    """Degrees past best torque, where the baseline is of maps that light elsewhere and nothing else differs.

    The slope between two points of a parabola is that at their middle: slope = -2 k (way past best). An engine that is
    retarded for knock is not asked: what falls there is the knock's. `found` are the findings of the pull so far.
    """
    if data.baseline is None or not data.sweeps or data.engine.ignition != "spark":
        return []
    if any(f.check in KNOCKS and f.severity != PASS for f in found):
        return []
    own, one = data.signature, data.baseline.pulls[0]
    told = _told(data, own, one)
    if told is None:
        return []
    slope, apart, band = told
    past = -slope / (2.0 * PARABOLA) + 0.5 * apart
    rpm = own.centre_rpm(band)
    where = replace(data.where("spark_advance"), speed_rpm=rpm, time_s=data.when_at(rpm))
    way = "earlier" if apart > 0.0 else "later"
    note = f"{abs(apart):.1f} deg {way} than {data.baseline.title} changed torque by {slope * apart * 100.0:+.1f} %."
    words, holds = "Spark is past best torque", "Spark is not past best torque"
    made = data.found("past_best", max(past, 0.0), words, where, note=note, holds=holds)
    return [replace(made, family="Power and torque")]


def _told(data: PullEvidence, own: Signature, one: Signature) -> tuple[float, float, int] | None:
    """The slope of torque with spark (share for each deg) and how far apart they are lit, on average; and a band of it."""
    given = next((k for k in GIVEN if k in own.means and k in one.means), None)
    factor = as_in_air_of(one, own, kind_of(data.engine))
    if given is None or factor is None or not all("spark_advance" in s.means for s in (own, one)):
        return None
    before, now = both(one.means["spark_advance"], one, own.means["spark_advance"], own)
    torque_before, torque = both(one.means[given], one, own.means[given] * factor, own)
    if now.size < LEAST_BANDS:
        return None
    both_told = [k for k in ELSE if k in own.means and k in one.means]
    if "lambda_measured" not in both_told or len(both_told) < 2:
        return None  # what else moved torque is not known
    apart = now - before
    with np.errstate(divide="ignore", invalid="ignore"):
        change = torque / torque_before - 1.0
    use = np.isfinite(apart) & np.isfinite(change) & (np.abs(apart) >= LEAST_APART_DEG)
    for key in both_told:
        a, b = both(one.means[key], one, own.means[key], own)
        with np.errstate(divide="ignore", invalid="ignore"):
            use &= np.abs(b / a - 1.0) <= ELSE_ALIKE
    if np.count_nonzero(use) < LEAST_BANDS or np.ptp(np.sign(apart[use])):
        return None
    if abs(float(change[use].mean())) < REPEATS:
        return None
    slopes = change[use] / apart[use]
    low = max(own.first, one.first) - own.first
    return float(slopes.mean()), float(apart[use].mean()), low + int(np.flatnonzero(use)[np.argmin(slopes)])
