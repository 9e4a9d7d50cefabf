"""Boost against its target."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence, worst_by_check
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.log import NO_BAROMETER
from yarvic.core.physics import FloatArray

# Half the lowest barometer: further apart than this, two pressures of unknown zero may have two. Our choice.
MOST_APART_PA = 45e3


def boost(data: PullEvidence) -> list[Finding]:
    """Overshoot and shortfall after the target was first reached, and the highest boost against components."""
    found = [f for key in data.members("boost_pressure") for f in _against_target(data, key)]
    return worst_by_check(found) + _against_components(data)


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
    return findings


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
