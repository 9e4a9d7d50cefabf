"""Rail pressure against its target, and the window the injectors need."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import HOLDS, Finding
from yarvic.core.errors import EvidenceError


def fuel_pressure(data: PullEvidence) -> list[Finding]:
    """Deepest sag of the rail relative to its target, and the most of the injection window used."""
    findings = [_rail(data)] if data.engine.rail else []
    try:
        t, window = data.series("injector_window")
        top = int(np.argmax(window))
        where = data.where("injector_window", float(t[top]))
        findings.append(data.found("injector_window", float(window[top]), "Injector window used", where))
    except EvidenceError as error:
        findings.append(data.not_known("injector_window", str(error), "injector_window"))
    return findings


def _rail(data: PullEvidence) -> Finding:
    try:
        t, rail = data.series("rail_pressure")
        data.series("rail_target")
        target = data.log.at("rail_target", t)
        settled = t >= data.pull.start_s + data.limits.sensor["settle"]
        off = np.where(settled, rail / target - 1.0, np.nan)
        low = int(np.nanargmin(off))
        found = data.found(
            "rail_sag",
            min(float(off[low]), 0.0),
            "Rail pressure sags",
            data.where("rail_pressure", float(t[low])),
        )
    except (EvidenceError, ValueError) as error:
        return data.not_known("rail_sag", str(error), "rail_pressure")
    return replace(found, statement="Rail pressure holds") if found.severity == HOLDS else found
