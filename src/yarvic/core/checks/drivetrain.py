"""Slip between engine and wheels: their speeds keep one ratio in a gear."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import PASS, Finding
from yarvic.core.errors import EvidenceError

# Speeds behind clutch and gearbox, the nearest first.
BEHIND = ("roller_speed", "vehicle_speed")
# The ratio where nothing slips is the lowest of the pull, and its highest the slip: a tenth and a fiftieth are left to
# noise. Our choice.
LOWEST, HIGHEST = 10.0, 98.0
STANDING_SHARE = 0.05  # of its highest speed: below it no ratio is formed. Our choice.


def drivetrain(data: PullEvidence) -> list[Finding]:
    """How far engine speed ran ahead of the wheels, where both were logged in a sweep."""
    behind = next((key for key in BEHIND if key in data.log.channels), None)
    if behind is None or "engine_speed" not in data.log.channels or not data.sweeps:
        return []
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
    free, most = np.percentile(ratio, (LOWEST, HIGHEST))
    where = data.where("engine_speed", float(at[int(np.argmin(np.abs(ratio - most)))]))
    found = data.found("slip", float(most / free - 1.0), "Engine speed runs ahead of the wheels", where)
    return [replace(found, statement="Engine speed and wheels keep one ratio") if found.severity == PASS else found]
