"""Slip between engine and wheels: their speeds keep one ratio in a gear."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import PASS, Finding
from yarvic.core.errors import EvidenceError

# Speeds behind clutch and gearbox, the nearest first.
BEHIND = ("roller_speed", "vehicle_speed")
SMOOTHED = 5  # samples whose median is taken: what a single one says is noise. Our choice.
STANDING_SHARE = 0.05  # of its highest speed: below it no ratio is formed. Our choice.


def drivetrain(data: PullEvidence) -> list[Finding]:
    """How far engine speed ran ahead of the wheels, where both were logged in a sweep."""
    behind = next((key for key in BEHIND if key in data.log.channels), None)
    if behind is None or "engine_speed" not in data.log.channels or not data.sweeps:
        return []
    from scipy.ndimage import median_filter  # not needed at start

    try:
        t, engine = data.series("engine_speed")
        data.series(behind)
        speed = data.log.at(behind, t)
    except EvidenceError as error:
        return [data.not_known("slip", str(error), behind)]
    turns = np.isfinite(speed) & (speed > STANDING_SHARE * np.nanmax(speed))
    if np.count_nonzero(turns) < 5:
        return [data.not_known("slip", "the wheels hardly turn in the pull", behind)]
    ratio, at = engine[turns] / speed[turns], t[turns]
    smooth = median_filter(ratio, size=SMOOTHED, mode="nearest")
    # A converter slips until it locks, and that is its work: what counts is how far the ratio rises again.
    slip = smooth / np.minimum.accumulate(smooth) - 1.0
    most = int(np.argmax(slip))
    where = data.where("engine_speed", float(at[most]))
    found = data.found("slip", float(slip[most]), "Engine speed runs ahead of the wheels", where)
    return [replace(found, statement="Engine speed and wheels keep one ratio") if found.severity == PASS else found]
