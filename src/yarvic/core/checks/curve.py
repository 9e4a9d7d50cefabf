"""Power, torque and engine speed against what the components carry."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import PASS, Finding

NO_LOSS = "a limit is at the crank and the drivetrain's loss is not stated"


def curve(data: PullEvidence) -> list[Finding]:
    """Peak wheel power and torque, uncorrected: it is the real load that a part must bear, not the standard day's."""
    findings = []
    # On a road, at a held speed, of a bare log and without a ledger nobody asks for a curve.
    on_roller = data.conditions is not None and data.conditions.engine_per_roller is not None
    asks = data.sweeps and on_roller and data.limits.components is not None
    asked = (("power", "Power"), ("torque", "Torque")) if asks else ()
    for key, title in asked:
        limit = data.limits.component(key)
        if limit is None:
            findings.append(data.not_known(key, f"the job states no limit for {key}", "roller_speed"))
            continue
        if limit.basis == "crank":
            findings.append(data.not_known(key, NO_LOSS, "roller_speed"))
            continue
        if data.curve is None:
            findings.append(data.not_known(key, "no dyno curve belongs to this pull", "roller_speed"))
            continue
        value, rpm = data.curve.peak_power if key == "power" else data.curve.peak_torque
        speed = data.log.channel("engine_speed")
        inside = (speed.time_s >= data.pull.start_s) & (speed.time_s <= data.pull.end_s)
        at = int(np.nanargmin(np.abs(np.where(inside, speed.values, np.inf) - rpm)))
        where = replace(data.where("engine_speed", float(speed.time_s[at])), speed_rpm=rpm)
        found = data.found(
            key,
            value,
            f"{title} for the {limit.component}",
            where,
            rule=limit.rule(f"{title} against the components"),
        )
        if found.severity == PASS and data.limits.at_crank(key):
            findings.append(data.not_known(key, NO_LOSS, "roller_speed"))
            continue
        findings.append(replace(found, basis=f"{limit.basis}, uncorrected"))
    if data.limits.component("piston_speed") is not None:
        findings.append(
            data.not_known("piston_speed", "piston speed is limited and the stroke is not stated", "engine_speed")
        )
    limit = data.limits.component("engine_speed")
    if limit is not None:
        statement = f"Engine speed for the {limit.component}"
        findings.append(data.highest("engine_speed", "engine_speed", statement, limit.rule("Engine speed")))
    return findings
