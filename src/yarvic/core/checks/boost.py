"""Boost against its target."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from yarvic.core.checks.evidence_of_pull import PullEvidence, worst_by_check
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.log import NO_BAROMETER
from yarvic.core.evidence.stretches import longest
from yarvic.core.physics import FloatArray

# Boost swings within this time; a log of coarser steps cannot show it. Our choice.
SWING_S, SLOWEST_SWING_S = 0.8, 0.1
# Half the lowest barometer: further apart than this, two pressures of unknown zero may have two. Our choice.
MOST_APART_PA = 45e3
IntArray = NDArray[np.intp]


def boost(data: PullEvidence) -> list[Finding]:
    """Overshoot and shortfall after the target was first reached, and the highest boost against components."""
    found = [f for key in data.members("boost_pressure") for f in _against_target(data, key)]
    return worst_by_check(found) + _duty(data) + _against_components(data)


def _against_target(data: PullEvidence, key: str) -> list[Finding]:
    try:
        t, pressure = data.series(key, despite="reference")
        data.series("boost_target", despite="reference")  # not known without a target to hold it against
        target = data.log.at("boost_target", t)
        _from_one_zero(data, key, pressure - target)
    except EvidenceError as error:
        return [data.not_known(c, str(error), key) for c in ("boost_overshoot", "boost_shortfall")]
    reached = np.flatnonzero(pressure >= data.limits.sensor["boost_reached"] * target)
    findings = []
    # Never reached: then the second half of the pull says by how much.
    first = int(reached[0]) if reached.size else t.size // 2
    error_pa = pressure[first:] - target[first:]
    over, under = int(np.nanargmax(error_pa)), int(np.nanargmin(error_pa))
    findings.append(
        data.found(
            "boost_overshoot",
            max(float(error_pa[over]), 0.0),
            "Boost overshoots its target" if error_pa[over] > 0 else "Boost stays under its target",
            data.where(key, float(t[first + over])),
        )
    )
    findings.append(
        data.found(
            "boost_shortfall",
            max(-float(error_pa[under]), 0.0),
            _shortfall(bool(reached.size), float(error_pa[under])),
            data.where(key, float(t[first + under])),
        )
    )
    return findings + _coming_and_holding(data, key, t, pressure, target, reached)


def _coming_and_holding(
    data: PullEvidence, key: str, t: FloatArray, pressure: FloatArray, target: FloatArray, reached: IntArray
) -> list[Finding]:
    """How much of the sweep passed before boost first reached its target, and how it swings about it afterwards."""
    findings = []
    span = data.pull.to_rpm - data.pull.from_rpm
    # A share of a pressure that may be counted from another zero is no share.
    known = data.log.channel(key).doubt is None
    if known and data.sweeps and span > 0.0 and "engine_speed" in data.log.channels:
        at = float(t[int(reached[0])]) if reached.size else data.pull.end_s
        where = data.where(key, at)
        speed = where.speed_rpm if where.speed_rpm is not None else data.pull.to_rpm
        share = min(max((speed - data.pull.from_rpm) / span, 0.0), 1.0) if reached.size else 1.0
        words = "Boost comes late in the sweep" if reached.size else "Boost never reaches its target"
        findings.append(data.found("boost_reach", share, words, where, holds="Boost comes early enough"))
    coarse = data.step_s(t) > SLOWEST_SWING_S
    if coarse and findings:
        findings[0] = replace(findings[0], note="The log is too coarse to show whether boost swings.")
    if reached.size and not coarse:
        swing = _swing(t[int(reached[0]) :], (pressure - target)[int(reached[0]) :], data.step_s(t))
        if swing is not None:
            size, at = swing
            findings.append(
                data.found(
                    "boost_swing",
                    size,
                    "Boost swings about its target",
                    data.where(key, at),
                    holds="Boost holds still",
                )
            )
    return findings


def _swing(t: FloatArray, error_pa: FloatArray, step: float) -> tuple[float, float] | None:
    """The standard deviation of the error about its own running mean, Pa, where it is greatest, and the time there."""
    count = round(SWING_S / step) if step > 0.0 else 0
    if count < 4 or t.size < 2 * count:
        return None
    known = np.nan_to_num(error_pa, nan=float(np.nanmedian(error_pa)))
    window = np.ones(count) / count
    slow = np.convolve(np.pad(known, (count // 2, count - count // 2 - 1), mode="edge"), window, mode="valid")
    size = np.sqrt(np.convolve((known - slow) ** 2, window, mode="valid"))
    # What boost does as it arrives is overshoot, and judged as that; at the end half of the mean is missing.
    size = size[count : size.size - count // 2]
    if not size.size:
        return None
    most = int(np.argmax(size))
    return float(size[most]), float(t[min(most + count + count // 2, t.size - 1)])


def _duty(data: PullEvidence) -> list[Finding]:
    """How long in one stretch the turbocharger's duty stands on its end once boost is there: nothing is left to steer by."""
    key = next((k for k in ("wastegate_duty", "vane_position") if k in data.log.channels), None)
    if key is None or not data.sweeps:
        return []
    try:
        t, duty = data.series(key)
    except EvidenceError as error:
        return [data.not_known("duty_on_end", str(error), key)]
    late = t >= data.pull.start_s + 0.5 * data.pull.length_s
    on_end = late & (duty >= data.limits.sensor["duty_end"])
    seconds, at = longest(t, on_end)
    return [
        data.found(
            "duty_on_end",
            seconds,
            "The turbocharger's duty stands on its end",
            data.where(key, at),
            holds="Duty has room to steer",
        )
    ]


def _from_one_zero(data: PullEvidence, key: str, apart_pa: FloatArray) -> None:
    """Raises EvidenceError unless pressure and target are known to count from the same zero, wherever that is."""
    doubts = [data.log.channel(k).doubt for k in (key, "boost_target")]
    if doubts[0] != doubts[1]:
        raise EvidenceError("pressure and target may be counted from different zeros")
    if doubts[0] is None or doubts[0].sentence == NO_BAROMETER:
        return
    # Neither is known: one absolute and one gauge would lie a barometer apart.
    if not abs(float(np.nanmedian(apart_pa))) < MOST_APART_PA:
        raise EvidenceError("pressure and target lie so far apart that one may be absolute and the other gauge")


def _shortfall(reached: bool, error_pa: float) -> str:
    if not reached:
        return "Boost never reaches its target"
    return "Boost is below its target" if error_pa < 0.0 else "Boost holds its target"


def _against_components(data: PullEvidence) -> list[Finding]:
    limit = data.limits.component("boost")
    if limit is None:
        return []
    rule = limit.rule("Boost against the components")
    return [data.highest("boost_limit", "boost_pressure", f"Highest boost for the {limit.component}", rule)]
