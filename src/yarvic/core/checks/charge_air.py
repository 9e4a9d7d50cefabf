"""Charge temperature: its rise in the pull and its distance from ambient."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError


def charge_air(data: PullEvidence) -> list[Finding]:
    """Rise from start to highest, and highest over the ambient temperature of the conditions or the log."""
    try:
        t, charge = data.series("charge_temperature")
    except EvidenceError as error:
        return [data.not_known(c, str(error), "charge_temperature") for c in ("charge_rise", "charge_over_ambient")]
    top = int(np.argmax(charge))
    where = data.where("charge_temperature", float(t[top]))
    findings = []
    if data.sweeps:
        rise = float(charge[top] - charge[0])
        findings.append(data.found("charge_rise", rise, "Charge temperature rises in the pull", where))
    if data.conditions is not None and data.conditions.temperature_k is not None:
        ambient = data.conditions.temperature_k
    else:
        try:
            ambient = float(np.median(data.series("ambient_temperature")[1]))
        except EvidenceError as error:
            unknown = data.not_known("charge_over_ambient", f"no ambient temperature: {error}", "charge_temperature")
            return [*findings, unknown]
    findings.append(
        data.found("charge_over_ambient", float(charge[top] - ambient), "Charge temperature over ambient", where)
    )
    return findings
