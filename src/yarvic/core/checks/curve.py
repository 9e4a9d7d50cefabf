"""Power, torque and engine speed against what the components carry."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import PASS, Finding
from yarvic.core.evidence.dyno import Curve

# A rise is read over so many rpm, which every rate of samples tells, and stated for 100. Our choice.
STEP_RPM, STATED_RPM = 300.0, 100.0
# Torque as means over so many rpm; what is smooth: a parabola over so many. A curve whose numbers stand for more than the
# third is too coarse for a wobble. Our choice.
MEAN_RPM, SMOOTH_RPM, COARSE_RPM, ORDER = 450.0, 2050.0, 550.0, 2
# As a pull begins the throttle opens and the drivetrain winds up: so much of the speeds says nothing of the shape.
BEGINS = 0.2
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
        findings += [*_step(data, data.curve), *_shape(data, data.curve)]
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


def _shape(data: PullEvidence, found_curve: Curve) -> list[Finding]:
    """The deepest hole in torque, as the prominence of its valley, and how torque wobbles about a smooth curve.

    Both are shares of peak torque, of means over a width that logs of all rates show alike. The smooth curve is that of
    Savitzky and Golay (Analytical Chemistry 36 (1964) 1627).
    """
    from scipy.signal import find_peaks, savgol_filter  # not needed at start

    rpm, low, high = found_curve.speed_rpm, float(found_curve.speed_rpm[0]), float(found_curve.speed_rpm[-1])
    good = np.isfinite(found_curve.torque_nm) & (rpm >= low + BEGINS * (high - low))
    speed, torque = rpm[good], found_curve.torque_nm[good]
    step = float(np.median(np.diff(speed))) if speed.size > 1 else 0.0
    narrow, window = (2 * round(0.5 * width / step) + 1 if step > 0.0 else 0 for width in (MEAN_RPM, SMOOTH_RPM))
    if not 3 <= narrow < torque.size:
        return []
    mean = np.convolve(np.pad(torque, narrow // 2, mode="edge"), np.ones(narrow) / narrow, mode="valid")
    most = float(mean.max())
    valleys, about = find_peaks(-mean, prominence=0.0)
    depths = about["prominences"]
    hole, at = (
        (float(depths.max()), float(speed[valleys[np.argmax(depths)]])) if depths.size else (0.0, float(speed[0]))
    )
    found = [_at(data, at, "torque_hole", hole / most, "Torque has a hole", "Torque has no hole")]
    if not window < mean.size:
        return found
    if not found_curve.resolution_rpm <= COARSE_RPM:
        # A sheet does not say how its curve was smoothed.
        why = (
            "is too coarse to show"
            if np.isfinite(found_curve.resolution_rpm)
            else "does not say how it was smoothed, nor"
        )
        return [replace(found[0], note=f"The curve {why} whether torque wobbles.")]
    # At the ends the means repeat the first and the last, and the smooth curve is a guess.
    off = (mean - savgol_filter(mean, window, ORDER))[narrow:-narrow]
    where = float(speed[narrow:-narrow][int(np.argmax(np.abs(off)))])
    wobble = float(off.std()) / most
    return [*found, _at(data, where, "torque_wobble", wobble, "Torque wobbles", "Torque runs smooth")]


def _at(data: PullEvidence, rpm: float, check: str, value: float, words: str, holds: str) -> Finding:
    where = replace(data.where("engine_speed", data.when_at(rpm)), speed_rpm=rpm)
    return data.found(check, value, words, where, holds=holds)
