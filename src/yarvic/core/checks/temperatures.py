"""Exhaust, coolant and oil temperature."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import PASS, Finding
from yarvic.core.errors import EvidenceError


def temperatures(data: PullEvidence) -> list[Finding]:
    """Highest temperature of each against its limit; the exhaust's comes from the job's components where they state one."""
    key = "exhaust_temperature"
    limit = data.limits.component(key)
    if limit is None:
        exhaust = data.highest(key, key, "Exhaust temperature")
    else:
        statement = f"Exhaust temperature at the {limit.component}"
        exhaust = data.highest(key, key, statement, limit.rule("Exhaust temperature"))
    exhaust_for = _sustained(data, exhaust)
    gearbox = "gearbox_temperature"
    found = [data.highest(gearbox, gearbox, "Gearbox temperature")] if gearbox in data.log.channels else []
    return [
        exhaust,
        *exhaust_for,
        data.highest("coolant_temperature", "coolant_temperature", "Coolant temperature"),
        data.highest("oil_temperature", "oil_temperature", "Oil temperature"),
        *found,
    ]


def _sustained(data: PullEvidence, exhaust: Finding) -> list[Finding]:
    """How long in one stretch the exhaust is hotter than it is watched from: a moment's ceiling is none for a climb."""
    if exhaust.rule is None or exhaust.value is None:
        return []
    try:
        t, values = data.series(exhaust.where.channel or "exhaust_temperature")
    except EvidenceError:
        return []
    over = np.concatenate(([False], values > exhaust.rule.watch_canonical, [False])).astype(np.int8)
    edges = np.flatnonzero(np.diff(over))
    stretches = [
        (float(t[min(b, t.size - 1)] - t[a]), float(t[a])) for a, b in zip(edges[::2], edges[1::2], strict=True)
    ]
    seconds, at = max(stretches, default=(0.0, float(t[-1])))
    where = data.where(exhaust.where.channel or "exhaust_temperature", at)
    found = data.found("exhaust_time", seconds, "Exhaust stays hot", where)
    return [replace(found, statement="Exhaust does not stay hot") if found.severity == PASS else found]
