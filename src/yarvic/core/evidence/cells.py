"""Which cells of a table an engine ran in, and what happened there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType

import numpy as np

from yarvic.core.calibration.table import Axis, Table
from yarvic.core.evidence.channels import SPARK_CORRECTIONS
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.physics import FloatArray
from yarvic.core.units import from_canonical

# The channel that measures what an axis stands for.
AXIS_CHANNEL: Mapping[str, str] = MappingProxyType(
    {
        "Engine speed": "engine_speed",
        "Cylinder filling": "filling",
        "Manifold pressure": "boost_pressure",
        "Throttle": "throttle",
        "Boost target": "boost_target",
        "Pedal": "throttle",
        "Quantity": "injected_quantity",
        "Torque": "torque_estimate",
    }
)


@dataclass(frozen=True)
class CellEvidence:
    """Arrays of the table's shape: seconds spent nearest to each cell, and the deepest knock retard there (deg).

    `retard_deg` is NaN in cells that were not visited.
    """

    seconds: FloatArray
    retard_deg: FloatArray


def cell_evidence(table: Table, runs: list[tuple[Log, Pull]]) -> CellEvidence | None:
    """Evidence by cell over the pulls of several logs; None when an axis has no channel."""
    if table.x.title not in AXIS_CHANNEL or table.y.title not in AXIS_CHANNEL:
        return None
    seconds = np.zeros(table.values.shape)
    retard = np.full(table.values.shape, np.nan)
    for log, pull in runs:
        keys = AXIS_CHANNEL[table.x.title], AXIS_CHANNEL[table.y.title]
        if any(key not in log.channels for key in keys):
            continue
        t = log.channel(keys[0]).time_s
        t = t[(t >= pull.start_s) & (t <= pull.end_s)]
        if t.size < 2:
            continue
        x, y = log.at(keys[0], t), log.at(keys[1], t)
        good = np.isfinite(x) & np.isfinite(y)
        column, row = _nearest(table.x, x[good]), _nearest(table.y, y[good])
        np.add.at(seconds, (row, column), float(np.median(np.diff(t))))
        corrections = [log.at(key, t[good]) for key in SPARK_CORRECTIONS if key in log.channels]
        if corrections:
            deepest = np.nanmax(np.stack([np.maximum(-c, 0.0) for c in corrections]), axis=0)
            filled = np.where(np.isnan(retard), 0.0, retard)
            np.fmax.at(filled, (row, column), deepest)
            visited = np.zeros(table.values.shape, dtype=bool)
            visited[row, column] = True
            retard = np.where(visited | ~np.isnan(retard), filled, np.nan)
    return CellEvidence(seconds, retard)


def _nearest(axis: Axis, canonical: FloatArray) -> np.ndarray:
    values = from_canonical(canonical, axis.unit)
    middles = (axis.values[1:] + axis.values[:-1]) / 2.0
    return np.asarray(np.searchsorted(middles, values))
