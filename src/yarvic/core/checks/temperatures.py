"""Exhaust, coolant and oil temperature."""

from __future__ import annotations

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.stretches import longest


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
    seconds, at = longest(t, values > exhaust.rule.watch_canonical)
    where = data.where(exhaust.where.channel or "exhaust_temperature", at)
    return [data.found("exhaust_time", seconds, "Exhaust stays hot", where, holds="Exhaust does not stay hot")]
