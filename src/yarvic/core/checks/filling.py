"""What the air loses on its way into an engine that breathes by itself: filter, pipe and throttle at full opening."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError

# Where an engine without boost is opened so far, the throttle itself takes next to nothing. Our choice.
FULL_THROTTLE = 0.95
HIGHEST = 98.0  # per cent of the pull: what lies above is left to noise. Our choice.
AIRBOX, BAROMETER = "airbox_pressure", "ambient_pressure"


def filling(data: PullEvidence) -> list[Finding]:
    """The share of the barometer that is missing in the airbox at full throttle, where both were logged."""
    logged = AIRBOX in data.log.channels and BAROMETER in data.log.channels
    if data.engine.boosted or not logged or data.pull.throttle < FULL_THROTTLE:
        return []
    try:
        t, airbox = data.series(AIRBOX)
        data.series(BAROMETER)
        lost = 1.0 - airbox / data.log.at(BAROMETER, t)
    except EvidenceError as error:
        return [data.not_known("restriction", str(error), AIRBOX)]
    open_ = t >= data.pull.start_s + data.limits.sensor["settle"]
    if np.count_nonzero(open_) < 5:
        return [data.not_known("restriction", "the pull is too short for the throttle to be open", AIRBOX)]
    most = float(np.nanpercentile(lost[open_], HIGHEST))
    at = float(t[open_][int(np.nanargmin(np.abs(lost[open_] - most)))])
    return [
        data.found(
            "restriction",
            max(most, 0.0),
            "The intake is restricted",
            data.where(AIRBOX, at),
            holds="The intake lets the air through",
        )
    ]
