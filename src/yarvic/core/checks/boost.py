"""Boost against its target."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence, worst_by_check
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError


def boost(data: PullEvidence) -> list[Finding]:
    """Overshoot and shortfall after the target was first reached, and the highest boost against components."""
    found = [f for key in data.members("boost_pressure") for f in _against_target(data, key)]
    return worst_by_check(found) + _against_components(data)


def _against_target(data: PullEvidence, key: str) -> list[Finding]:
    try:
        t, pressure = data.series(key, despite="reference")
        data.series("boost_target", despite="reference")  # not known without a target to hold it against
        if (data.log.channel(key).doubt is None) != (data.log.channel("boost_target").doubt is None):
            raise EvidenceError("of pressure and target only one is known to be absolute")
        target = data.log.at("boost_target", t)
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
