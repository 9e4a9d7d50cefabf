"""Cylinders side by side: what each shows by engine speed, of whatever was logged for each of them."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from yarvic.core.evidence.channels import CHANNELS, SPARK_CORRECTION
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.physics import FloatArray

Way = Literal["lowest", "highest", "mean"]
BAND_RPM = 500.0
_CYLINDER = re.compile(r"cylinder_(\d{1,2})")


@dataclass(frozen=True)
class ByCylinder:
    """One number for each cylinder (rows) and band of engine speed (columns), canonical unit; NaN where there is none.

    `edges_rpm` bounds the bands; `whole` is that of each cylinder over all of them.
    """

    family: str
    cylinders: tuple[int, ...]
    edges_rpm: FloatArray
    values: FloatArray
    whole: FloatArray


def families_by_cylinder(log: Log) -> dict[str, dict[int, str]]:
    """The families of which several cylinders have a channel of their own: the key of each by its cylinder."""
    found: dict[str, dict[int, str]] = {}
    for key in log.channels:
        kind = CHANNELS.get(key)
        if kind is None or kind.waveform:
            continue
        told = _CYLINDER.fullmatch(kind.which)
        number = kind.index if kind.index is not None else int(told[1]) if told else None
        if number is not None:
            found.setdefault(kind.family, {})[number] = key
    return {f: dict(sorted(keys.items())) for f, keys in found.items() if len(keys) > 1}


def usual_way(family: str) -> Way:
    """What is looked at of a family: the deepest correction, the hottest temperature, else the mean."""
    if family == SPARK_CORRECTION:
        return "lowest"
    return "highest" if family.endswith("temperature") else "mean"


def by_cylinder(runs: Sequence[tuple[Log, Pull]], family: str, way: Way) -> ByCylinder:
    """What each cylinder shows over the pulls together. Samples without an engine speed are left out."""
    low = min(p.from_rpm for _, p in runs) // BAND_RPM
    high = max(p.to_rpm for _, p in runs) // BAND_RPM + 1
    edges = np.arange(low, high + 1) * BAND_RPM
    seen: dict[int, list[tuple[FloatArray, FloatArray]]] = {}
    for log, pull in runs:
        for number, key in families_by_cylinder(log).get(family, {}).items():
            c = log.channels[key]
            inside = (c.time_s >= pull.start_s) & (c.time_s <= pull.end_s) & np.isfinite(c.values)
            speed = log.at("engine_speed", c.time_s[inside])
            good = np.isfinite(speed)
            seen.setdefault(number, []).append((speed[good], c.values[inside][good]))
    return _table(family, edges, seen, way)


def _table(
    family: str, edges: FloatArray, seen: Mapping[int, list[tuple[FloatArray, FloatArray]]], way: Way
) -> ByCylinder:
    picks: dict[Way, Callable[[FloatArray], float]] = {"lowest": np.min, "highest": np.max, "mean": np.mean}
    pick = picks[way]
    numbers = tuple(sorted(seen))
    values = np.full((len(numbers), edges.size - 1), np.nan)
    whole = np.full(len(numbers), np.nan)
    for r, number in enumerate(numbers):
        speed, value = (np.concatenate(parts) for parts in zip(*seen[number], strict=True))
        if not value.size:
            continue
        whole[r] = pick(value)
        band = np.clip(np.searchsorted(edges, speed, side="right") - 1, 0, edges.size - 2)
        for n in np.unique(band):
            values[r, n] = pick(value[band == n])
    return ByCylinder(family, numbers, edges, values, whole)
