"""What chosen runs say of the cells of a table; pure, for the worker."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType

import numpy as np

from yarvic.core.calibration.table import Table
from yarvic.core.evidence.cells import CellEvidence, Mask, Mean, cell_evidence, mean_by_cell, weights_of
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Log
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, from_canonical, to_canonical
from yarvic.state.results import PullResult

# Where no table asks for it: a channel, and the one that it is to follow.
TARGETS: Mapping[str, str] = MappingProxyType(
    {"lambda_measured": "lambda_target", "boost_pressure": "boost_target", "rail_pressure": "rail_target"}
)
MOST_TRACE = 3000  # points of the trace that is drawn


@dataclass(frozen=True)
class Facts:
    """What the chosen runs say of a table. Means and errors are in canonical units of `channel`."""

    evidence: CellEvidence | None
    pulls: int
    channel: str = ""
    mean: Mean | None = None
    error: Mean | None = None
    trace: tuple[tuple[FloatArray, FloatArray], ...] = ()  # by run, places on the two axes in the table's units
    left_out: tuple[str, ...] = ()  # revisions whose table had other axes there


def gather(
    table: Table,
    runs: list[PullResult],
    same: list[Mask | None],
    whole: bool,
    channel: str,
    target: str,
    limit_deg: float,
    left_out: tuple[str, ...],
) -> Facts:
    """What runs say of a table."""
    found = cell_evidence(table, [(p.log, p.pull) for p in runs], whole=whole, limit_deg=limit_deg, same=same)
    means, errors, traces = [], [], []
    seen: set[str] = set()
    for p, mask in zip(runs, same, strict=True):
        if whole and p.evidence.id in seen:
            continue
        seen.add(p.evidence.id)
        log = p.log
        weights = weights_of(table, log, None if whole else (p.pull.start_s, p.pull.end_s), mask)
        if weights is None or not weights.time_s.size:
            continue
        if channel in log.channels and log.channels[channel].doubt is None:
            values = log.at(channel, weights.time_s)
            means.append((weights, values))
            wanted = _wanted(table, log, weights.time_s, channel, target)
            if wanted is not None:
                errors.append((weights, values - wanted))
        traces.append(_trace(table, log, weights.time_s))
    shape = table.values.shape
    return Facts(
        found,
        len(runs),
        channel,
        mean_by_cell(means, shape) if means else None,
        mean_by_cell(errors, shape) if errors else None,
        tuple(traces),
        left_out,
    )


def _wanted(table: Table, log: Log, times: FloatArray, channel: str, target: str) -> FloatArray | None:
    """What a channel was to be: what the table asks for where it is the table of it, else the logged target."""
    if channel == target and table.unit in UNITS and UNITS[table.unit].quantity == CHANNELS[channel].quantity:
        x, y = _places(table, log, times)
        return np.asarray(to_canonical(table.look_up(x, y), table.unit), dtype=np.float64)
    key = TARGETS.get(channel, "")
    return log.at(key, times) if key in log.channels and log.channels[key].doubt is None else None


def _places(table: Table, log: Log, times: FloatArray) -> tuple[FloatArray, FloatArray]:
    x = from_canonical(log.at(table.x.input, times), table.x.unit)
    y = np.zeros(times.size) if table.is_curve else from_canonical(log.at(table.y.input, times), table.y.unit)
    return np.asarray(x), np.asarray(y)


def _trace(table: Table, log: Log, times: FloatArray) -> tuple[FloatArray, FloatArray]:
    return _places(table, log, times[:: max(1, times.size // MOST_TRACE)])
