"""Knock, read from what the unit takes off the spark, cylinder by cylinder."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import STOP, WATCH, Finding
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import SPARK_CORRECTIONS
from yarvic.core.physics import FloatArray


def knock(data: PullEvidence) -> list[Finding]:
    """Worst retard of any cylinder and the spread between cylinders.

    A single dip is no proof: it is worth watching, and the note says so. More than one past the limit stops.
    """
    if not data.engine.knock_control:
        return [_not_listened_for(data)]
    retard: dict[int, tuple[FloatArray, FloatArray]] = {}
    for key in SPARK_CORRECTIONS:
        if key not in data.log.channels:
            continue
        try:
            t, correction = data.series(key)
        except EvidenceError as error:
            return [data.not_known(c, str(error), key) for c in ("knock_retard", "knock_spread")]
        retard[int(key.rsplit("_", 1)[1])] = (t, np.maximum(-correction, 0.0))
    if not retard:
        why = "no cylinder's spark correction was logged"
        return [data.not_known(c, why, SPARK_CORRECTIONS[0]) for c in ("knock_retard", "knock_spread")]
    worst = max(retard, key=lambda c: float(retard[c][1].max()))
    t, taken = retard[worst]
    deepest = int(np.argmax(taken))
    value = float(taken[deepest])
    events = int(np.count_nonzero(np.diff(taken) > 0.1))
    statement = f"Cylinder {worst} knocked" if value > 0.0 else "No cylinder was retarded"
    found = data.found(
        "knock_retard",
        value,
        statement,
        data.where(f"spark_correction_{worst}", float(t[deepest]), worst),
        note=f"Retarded {events} times in the pull." if events > 1 else "",
    )
    if found.severity == STOP and events < 2:
        found = replace(found, severity=WATCH, note="One dip only, which may be noise: pull again.")
    grid = t
    stack = np.stack([np.interp(grid, *retard[c]) for c in retard])
    spread = stack.max(axis=0) - stack.min(axis=0)
    at = int(np.argmax(spread))
    return [
        found,
        data.found(
            "knock_spread",
            float(spread[at]),
            "Cylinders differ in knock retard",
            data.where(f"spark_correction_{worst}", float(grid[at]), worst),
        ),
    ]


def _not_listened_for(data: PullEvidence) -> Finding:
    """An engine whose unit has no knock control: nothing was heard because nothing listened."""
    return Finding(
        "knock_retard",
        WATCH,
        "Nothing listened for knock",
        None,
        None,
        data.where("spark_advance"),
        "This unit has no knock control: record a knock sensor, or keep the spark on the safe side.",
    )
