"""Slip between engine and wheels in a pull."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.slip import BEHIND, slip


def drivetrain(data: PullEvidence) -> list[Finding]:
    """How far engine speed ran ahead of the wheels, where both were logged in a sweep."""
    behind = next((key for key in BEHIND if key in data.log.channels), None)
    if behind is None or "engine_speed" not in data.log.channels or not data.sweeps:
        return []
    try:
        t, engine = data.series("engine_speed")
        data.series(behind)
        slips, turns = slip(engine, data.log.at(behind, t))
    except EvidenceError as error:
        return [data.not_known("slip", str(error), behind)]
    if not slips.size:
        return [data.not_known("slip", "the wheels hardly turn in the pull", behind)]
    most = int(np.argmax(slips))
    where = data.where("engine_speed", float(t[turns][most]))
    words, holds = "Engine speed runs ahead of the wheels", "Engine speed and wheels keep one ratio"
    return [data.found("slip", float(slips[most]), words, where, holds=holds)]
