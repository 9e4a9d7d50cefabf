"""Charge temperature: its rise in the pull and its distance from ambient."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError

LEAST_LOSS = 0.005  # less of the density is not worth a word. Our choice.


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
        note = _costs(data, float(charge[0]), float(charge[top]))
        findings.append(data.found("charge_rise", rise, "Charge temperature rises in the pull", where, note=note))
        findings += _soak(data, float(t[0]), float(charge[0]))
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


def _costs(data: PullEvidence, cold_k: float, hot_k: float) -> str:
    """What a rise takes of the density of the charge at one pressure (ideal gas), and of power where a curve says it."""
    lost = 1.0 - cold_k / hot_k if hot_k > 0.0 else 0.0
    if lost < LEAST_LOSS:
        return ""
    words = f"It takes {lost * 100.0:.1f} % of the charge's density"
    if data.curve is None or data.engine.ignition != "spark":
        return f"{words}."
    # Half of it in power: the share of charge that is missing burns with less heat lost (Heywood 1988, 2.12: T^-0.5).
    power = data.curve.peak_power[0] * (1.0 - (cold_k / hot_k) ** 0.5) if hot_k > 0.0 else 0.0
    return f"{words}, about {power / 1e3:.1f} kW."


def _soak(data: PullEvidence, time_s: float, start_k: float) -> list[Finding]:
    """By how much hotter this pull begins than the first of its log did."""
    first = data.charge_first_k
    if first is None or not np.isfinite(first) or data.first:
        return []
    words, holds = "Heat has soaked in since the first pull", "The charge begins as cool as in the first pull"
    where = data.where("charge_temperature", time_s)
    # It is how the pulls were made, and not the map's: to be looked at.
    return [data.found("heat_soak", max(start_k - first, 0.0), words, where, holds=holds).watched_at_most()]
