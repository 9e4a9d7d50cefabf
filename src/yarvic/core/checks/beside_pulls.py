"""What a log shows beside its pulls: trims at cruise, sensors that stand still, the manifold of a standing engine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import STOP, WATCH, Finding
from yarvic.core.evidence.driving import Driven, driven
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.physics import FloatArray

# What warms and cools as an engine is driven; each is looked at over the whole of a log.
MOVING = ("coolant_temperature", "oil_temperature", "charge_temperature", "exhaust_temperature")
AT_REST_RPM = 50.0
CLOCK_HZ = 10.0
LEAST_SAMPLES = 5
TRIMS = ("fuel_trim", "long_trim")


def beside_pulls(data: PullEvidence, log: Log, pulls: Sequence[Pull]) -> list[Finding]:
    """Findings of the whole log, with the pull that they are told with. What was not logged is not asked."""
    found = [*_cruise(data, log, pulls), *_still(data, log), *_at_rest(data, log)]
    return [f for f in found if f.value is not None]


def _cruise(data: PullEvidence, log: Log, pulls: Sequence[Pull]) -> list[Finding]:
    """Both trims and what is left of the error, in sum, over the cruise where they are furthest from nought."""
    keys = [k for k in TRIMS if k in log.channels and log.channels[k].doubt is None]
    if data.engine.ignition != "spark" or not keys:
        return []
    cruises = [d for d in driven(log, pulls) if d.kind == "cruise"]
    sums = [(_mean_sum(log, keys, d), d) for d in cruises]
    known = [(v, d) for v, d in sums if np.isfinite(v)]
    if not known:
        return []
    value, cruise = max(known, key=lambda s: abs(s[0]))
    middle = 0.5 * (cruise.start_s + cruise.end_s)
    where = replace(data.where(keys[0], middle), speed_rpm=cruise.speed_rpm)
    way = "adds" if value > 0.0 else "takes away"
    statement = f"At cruise the unit {way} fuel to hold its mixture"
    note = f"{cruise.title}, beside the pull; one of {len(cruises)}." if len(cruises) > 1 else f"{cruise.title}."
    found = data.found("cruise_trim", abs(value), statement, where, note=note, holds="The trims stay small at cruise")
    return [replace(found, family="Mixture")]


def _mean_sum(log: Log, keys: Sequence[str], d: Driven) -> float:
    clock = np.arange(d.start_s, d.end_s, 1.0 / CLOCK_HZ)
    parts: list[FloatArray] = [log.at(k, clock) for k in keys]
    lambdas = [log.channels.get(k) for k in ("lambda_measured", "lambda_target")]
    if all(c is not None and c.doubt is None for c in lambdas):
        parts.append(log.at("lambda_measured", clock) / log.at("lambda_target", clock) - 1.0)
    total = np.sum(parts, axis=0)
    good = np.isfinite(total)
    return float(total[good].mean()) if np.count_nonzero(good) >= LEAST_SAMPLES else float("nan")


def _still(data: PullEvidence, log: Log) -> list[Finding]:
    """The longest time for which a temperature repeats one number: a sensor that moves no more judges nothing."""
    worst: tuple[float, float, str] | None = None
    for key in MOVING:
        c = log.channels.get(key)
        if c is None or c.time_s.size < LEAST_SAMPLES:
            continue
        changes = np.flatnonzero(c.values[1:] != c.values[:-1]) + 1
        edges = np.concatenate(([c.time_s[0]], c.time_s[changes], [c.time_s[-1]]))
        spans = np.diff(edges)
        at = int(np.argmax(spans))
        if worst is None or spans[at] > worst[0]:
            worst = float(spans[at]), float(edges[at]), key
    if worst is None:
        return []
    seconds, at_s, key = worst
    title = log.channels[key].title
    found = data.found(
        "sensor_still",
        seconds,
        f"{title} repeats one number: its sensor may stand still",
        data.where(key, at_s),
        holds="The temperatures move as the engine is driven",
    )
    # A warm engine may stay warm: it is to be looked at, and stops nothing.
    return [replace(found, family="Sensors", severity=WATCH if found.severity == STOP else found.severity)]


def _at_rest(data: PullEvidence, log: Log) -> list[Finding]:
    """How far manifold and barometer lie apart while the engine stands: both then read the same air."""
    speed, boost, air = (log.channels.get(k) for k in ("engine_speed", "boost_pressure", "ambient_pressure"))
    if speed is None or boost is None or air is None or boost.doubt is not None or air.doubt is not None:
        return []
    rest = boost.time_s[log.at("engine_speed", boost.time_s) < AT_REST_RPM]
    apart = log.at("boost_pressure", rest) - log.at("ambient_pressure", rest)
    apart = apart[np.isfinite(apart)]
    if apart.size < LEAST_SAMPLES:
        return []
    value = abs(float(np.median(apart)))
    where = data.where("boost_pressure", float(rest[0]))
    found = data.found(
        "rest_apart",
        value,
        "Manifold and barometer differ while the engine stands",
        where,
        holds="Manifold and barometer agree while the engine stands",
    )
    return [replace(found, family="Sensors")]
