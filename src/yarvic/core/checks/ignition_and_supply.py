"""Misfires that the unit counted, and the supply of unit, coils, pumps and injectors."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError

OF_12_V = 18.0  # more than this, and it is a supply of 24 V. Our choice.


def ignition_and_supply(data: PullEvidence) -> list[Finding]:
    """Both, where they were logged."""
    found = []
    if "misfires" in data.log.channels and data.engine.ignition == "spark":
        found.append(_misfires(data))
    if "supply_voltage" in data.log.channels:
        found.append(_supply(data))
    return found


def _misfires(data: PullEvidence) -> Finding:
    """What the counter rose by in the pull; where it begins anew, what it counted before stays counted."""
    try:
        t, counted = data.series("misfires")
    except EvidenceError as error:
        return data.not_known("misfires", str(error), "misfires")
    rises = np.maximum(np.diff(counted), 0.0)
    at = float(t[1 + int(np.argmax(rises))]) if rises.size else None
    total = float(np.sum(rises))
    words = "The engine misfires" if total else "No misfire is counted"
    return data.found("misfires", total, words, data.where("misfires", at))


def _supply(data: PullEvidence) -> Finding:
    try:
        t, volts = data.series("supply_voltage")
    except EvidenceError as error:
        return data.not_known("supply_voltage", str(error), "supply_voltage")
    if float(np.median(volts)) > OF_12_V:
        return data.not_known(
            "supply_voltage", "the supply is one of 24 V, and the limit is for 12 V", "supply_voltage"
        )
    low = int(np.argmin(volts))
    where = data.where("supply_voltage", float(t[low]))
    return data.found(
        "supply_voltage", float(volts[low]), "Supply voltage is low", where, holds="Supply voltage holds"
    )
