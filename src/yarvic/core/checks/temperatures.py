"""Exhaust, coolant and oil temperature."""

from __future__ import annotations

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding


def temperatures(data: PullEvidence) -> list[Finding]:
    """Highest temperature of each against its limit; the exhaust's comes from the job's components where they state one."""
    key = "exhaust_temperature"
    limit = data.limits.component(key)
    if limit is None:
        exhaust = data.highest(key, key, "Exhaust temperature")
    else:
        statement = f"Exhaust temperature at the {limit.component}"
        exhaust = data.highest(key, key, statement, limit.rule("Exhaust temperature"))
    gearbox = "gearbox_temperature"
    found = [data.highest(gearbox, gearbox, "Gearbox temperature")] if gearbox in data.log.channels else []
    return [
        exhaust,
        data.highest("coolant_temperature", "coolant_temperature", "Coolant temperature"),
        data.highest("oil_temperature", "oil_temperature", "Oil temperature"),
        *found,
    ]
