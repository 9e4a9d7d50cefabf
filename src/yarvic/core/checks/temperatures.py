"""Exhaust, coolant and oil temperature."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.checks.limits import Rule
from yarvic.core.errors import EvidenceError


def temperatures(data: PullEvidence) -> list[Finding]:
    """Highest temperature of each against its limit; the exhaust's limit comes from the components of the job."""
    findings = []
    exhaust = data.limits.component("exhaust_temperature")
    if exhaust is None:
        why = "the job states no limit for the exhaust temperature"
        findings.append(data.not_known("exhaust_temperature", why, "exhaust_temperature"))
    else:
        rule = exhaust.rule("Exhaust temperature")
        findings.append(
            _highest(data, "exhaust_temperature", f"Exhaust temperature at the {exhaust.component}", rule)
        )
    findings.append(_highest(data, "coolant_temperature", "Coolant temperature"))
    findings.append(_highest(data, "oil_temperature", "Oil temperature"))
    return findings


def _highest(data: PullEvidence, key: str, statement: str, rule: Rule | None = None) -> Finding:
    try:
        t, value = data.series(key)
    except EvidenceError as error:
        return data.not_known(key, str(error), key)
    top = int(np.argmax(value))
    return data.found(key, float(value[top]), statement, data.where(key, float(t[top])), rule=rule)
