"""What the air loses on its way into an engine that breathes by itself: filter, pipe and throttle at full opening."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError

# Where an engine without boost is opened so far, the throttle itself takes next to nothing. Our choice.
FULL_THROTTLE = 0.95
HIGHEST = 98.0  # per cent of the pull: what lies above is left to noise. Our choice.
AIRBOX, MANIFOLD, BAROMETER = "airbox_pressure", "boost_pressure", "ambient_pressure"
RUNNERS, SWITCHED = "intake_length", 0.5
# So many rpm before and behind a switch are laid beside each other, without what lies within the second number.
BESIDE_RPM, SWITCHING_RPM, LEAST_SAMPLES = 250.0, 60.0, 3


def filling(data: PullEvidence) -> list[Finding]:
    """The share of the barometer that is missing before or in the manifold at full throttle, where both were logged, and
    what the filling loses where the intake switches its length.
    """
    return [*_restriction(data), *_runners(data)]


def _restriction(data: PullEvidence) -> list[Finding]:
    logged = BAROMETER in data.log.channels
    if data.engine.boosted or not logged or data.pull.throttle < FULL_THROTTLE:
        return []
    if AIRBOX in data.log.channels:
        return _lost(data, AIRBOX, "restriction")
    return _lost(data, MANIFOLD, "restriction_manifold") if MANIFOLD in data.log.channels else []


def _lost(data: PullEvidence, key: str, check: str) -> list[Finding]:
    try:
        t, airbox = data.series(key)
        data.series(BAROMETER)
        lost = 1.0 - airbox / data.log.at(BAROMETER, t)
    except EvidenceError as error:
        return [data.not_known(check, str(error), key)]
    open_ = t >= data.pull.start_s + data.limits.sensor["settle"]
    if np.count_nonzero(open_) < 5:
        return [data.not_known(check, "the pull is too short for the throttle to be open", key)]
    most = float(np.nanpercentile(lost[open_], HIGHEST))
    at = float(t[open_][int(np.nanargmin(np.abs(lost[open_] - most)))])
    return [
        data.found(
            check,
            max(most, 0.0),
            "The intake is restricted",
            data.where(key, at),
            holds="The intake lets the air through",
        )
    ]


def _runners(data: PullEvidence) -> list[Finding]:
    """What share of its filling, or of its air for each turn, an engine loses behind the switch of its intake."""
    key = next((k for k in ("filling", "air_flow") if k in data.log.channels), None)
    if key is None or RUNNERS not in data.log.channels or not data.sweeps:
        return []
    try:
        t, length = data.series(RUNNERS)
        data.series(key)
        speed, filled = data.log.at("engine_speed", t), data.log.at(key, t)
    except EvidenceError as error:
        return [data.not_known("runner_step", str(error), RUNNERS)]
    if key == "air_flow":
        filled = filled / np.maximum(speed, 1.0)
    steps = np.flatnonzero((length[1:] >= SWITCHED) != (length[:-1] >= SWITCHED)) + 1
    worst: tuple[float, float] | None = None
    for at in (float(speed[i]) for i in steps):
        off = speed - at
        before = filled[(off > -BESIDE_RPM) & (off < -SWITCHING_RPM) & np.isfinite(filled)]
        behind = filled[(off < BESIDE_RPM) & (off > SWITCHING_RPM) & np.isfinite(filled)]
        if min(before.size, behind.size) >= LEAST_SAMPLES:
            lost = 1.0 - float(behind.mean() / before.mean())
            worst = max(worst, (lost, at)) if worst is not None else (lost, at)
    if worst is None:
        return []
    where = data.where(RUNNERS, data.when_at(worst[1]))
    words, holds = "The engine loses filling where its intake switches", "The intake switches where it gains"
    return [data.found("runner_step", max(worst[0], 0.0), words, where, holds=holds)]
