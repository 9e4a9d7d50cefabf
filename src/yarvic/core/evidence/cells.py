"""Which cells of a table an engine ran in, and what happened there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.calibration.table import Axis, Table
from yarvic.core.evidence.channels import CHANNELS, SPARK_CORRECTIONS
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, from_canonical


@dataclass(frozen=True)
class CellEvidence:
    """Arrays of the table's shape: seconds spent nearest to each cell, and the deepest knock retard there (deg).

    `retard_deg` is NaN in cells that were not visited.
    """

    seconds: FloatArray
    retard_deg: FloatArray


def cell_evidence(table: Table, runs: list[tuple[Log, Pull]]) -> CellEvidence | None:
    """Evidence by cell over the pulls of several logs; None when nobody knows what measures an axis.

    An axis goes by the channel that is its input, never by its title.
    """
    keys = (table.x.input,) if table.is_curve else (table.x.input, table.y.input)
    if any(key not in CHANNELS for key in keys) or not all(_measures(a) for a in (table.x, table.y)[: len(keys)]):
        return None
    seconds = np.zeros(table.values.shape)
    retard = np.full(table.values.shape, np.nan)
    for log, pull in runs:
        if any(key not in log.channels for key in keys):
            continue
        t = log.channel(keys[0]).time_s
        t = t[(t >= pull.start_s) & (t <= pull.end_s)]
        if t.size < 2:
            continue
        x = log.at(keys[0], t)
        y = log.at(keys[1], t) if len(keys) > 1 else np.zeros(t.size)
        good = np.isfinite(x) & np.isfinite(y)
        column = _nearest(table.x, x[good])
        row = _nearest(table.y, y[good]) if len(keys) > 1 else np.zeros(column.size, dtype=np.int64)
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


def _measures(axis: Axis) -> bool:
    """Whether the axis is in a unit of what its input measures: numbers of another are not laid over it."""
    return axis.unit in UNITS and UNITS[axis.unit].quantity == CHANNELS[axis.input].quantity


def _nearest(axis: Axis, canonical: FloatArray) -> np.ndarray:
    values = from_canonical(canonical, axis.unit)
    middles = (axis.values[1:] + axis.values[:-1]) / 2.0
    return np.asarray(np.searchsorted(middles, values))
