"""Power, torque and engine speed against what the components carry."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import PASS, Finding
from yarvic.core.evidence.dyno import Curve

# A rise is read over so many rpm, which every rate of samples tells, and stated for 100. Our choice.
STEP_RPM, STATED_RPM = 300.0, 100.0
NO_LOSS = "a limit is at the crank and the drivetrain's loss is not stated"
NO_LOSS_OF_CRANK = "a limit is at the wheels, the curve is at the crank, and the drivetrain's loss between is unknown"


def curve(data: PullEvidence) -> list[Finding]:
    """Peak power and torque, uncorrected: it is the real load that a part must bear, not the standard day's.

    A limit is held against a curve of its own basis, wheel or crank; against the other it is not known.
    """
    findings = []
    # On a road, at a held speed, of a bare log and without a ledger nobody asks for a curve.
    on_roller = data.conditions is not None and data.conditions.engine_per_roller is not None
    asks = data.sweeps and (on_roller or data.curve is not None) and data.limits.components is not None
    asked = (("power", "Power"), ("torque", "Torque")) if asks else ()
    for key, title in asked:
        limit = data.limits.component(key)
        if limit is None:
            findings.append(data.not_known(key, f"the job states no limit for {key}", "roller_speed"))
            continue
        if data.curve is None and limit.basis == "crank":
            findings.append(data.not_known(key, NO_LOSS, "roller_speed"))
            continue
        if data.curve is None:
            findings.append(data.not_known(key, "no dyno curve belongs to this pull", "roller_speed"))
            continue
        if limit.basis in ("wheel", "crank") and limit.basis != data.curve.basis:
            why = NO_LOSS if limit.basis == "crank" else NO_LOSS_OF_CRANK
            findings.append(data.not_known(key, why, "roller_speed"))
            continue
        if data.curve.correction.standard != "none":
            why = f"the curve was corrected by {data.curve.correction.title}, and by which factor is unknown"
            findings.append(data.not_known(key, why, "roller_speed"))
            continue
        value, rpm = data.curve.peak_power if key == "power" else data.curve.peak_torque
        where = replace(data.where("engine_speed", data.when_at(rpm)), speed_rpm=rpm)
        found = data.found(
            key,
            value,
            f"{title} for the {limit.component}",
            where,
            rule=limit.rule(f"{title} against the components"),
        )
        if found.severity == PASS and data.curve.basis == "wheel" and data.limits.at_crank(key):
            findings.append(data.not_known(key, NO_LOSS, "roller_speed"))
            continue
        findings.append(replace(found, basis=f"{limit.basis}, uncorrected"))
    if data.curve is not None and data.sweeps:
        findings += _step(data, data.curve)
    if data.limits.component("piston_speed") is not None:
        findings.append(
            data.not_known("piston_speed", "piston speed is limited and the stroke is not stated", "engine_speed")
        )
    limit = data.limits.component("engine_speed")
    if limit is not None:
        statement = f"Engine speed for the {limit.component}"
        findings.append(data.highest("engine_speed", "engine_speed", statement, limit.rule("Engine speed")))
    return findings


def _step(data: PullEvidence, found_curve: Curve) -> list[Finding]:
    """How steeply torque rises, as a share of its peak in 100 rpm: what the driver feels as a jolt."""
    torque, speed = found_curve.torque_nm, found_curve.speed_rpm
    good = np.isfinite(torque)
    if np.count_nonzero(good) < 6:
        return []
    speed, torque = speed[good], torque[good]
    ahead = np.interp(speed + STEP_RPM, speed, torque, right=np.nan)
    rise = (ahead - torque) / float(torque.max()) * (STATED_RPM / STEP_RPM)
    if not np.isfinite(rise).any():
        return []
    most = int(np.nanargmax(rise))
    where = replace(data.where("engine_speed", data.when_at(float(speed[most]))), speed_rpm=float(speed[most]))
    value = max(float(rise[most]), 0.0)
    return [data.found("torque_step", value, "Torque comes like a switch", where, holds="Torque rises evenly")]
