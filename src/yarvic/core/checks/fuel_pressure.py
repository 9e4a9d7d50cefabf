"""Rail pressure against its target, and the window the injectors need."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import HOLDS, Finding
from yarvic.core.errors import EvidenceError


def fuel_pressure(data: PullEvidence) -> list[Finding]:
    """Deepest sag of the rail relative to its target, and the most of the injection window used."""
    findings = []
    try:
        t, rail = data.series("rail_pressure")
        data.series("rail_target")
        target = data.log.at("rail_target", t)
        settled = t >= data.pull.start_s + data.limits.sensor["settle"]
        error = np.where(settled, rail / target - 1.0, np.nan)
        low = int(np.nanargmin(error))
        found = data.found(
            "rail_sag",
            min(float(error[low]), 0.0),
            "Rail pressure sags",
            data.where("rail_pressure", float(t[low])),
        )
        findings.append(_renamed(found, "Rail pressure holds"))
    except (EvidenceError, ValueError) as error_:
        findings.append(data.not_known("rail_sag", str(error_), "rail_pressure"))
    try:
        t, window = data.series("injector_window")
        top = int(np.argmax(window))
        findings.append(
            data.found(
                "injector_window",
                float(window[top]),
                "Injector window used",
                data.where("injector_window", float(t[top])),
            )
        )
    except EvidenceError as error_:
        findings.append(data.not_known("injector_window", str(error_), "injector_window"))
    return findings


def _renamed(finding: Finding, statement: str) -> Finding:
    from dataclasses import replace

    return replace(finding, statement=statement) if finding.severity == HOLDS else finding
