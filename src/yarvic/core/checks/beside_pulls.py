"""What a log shows beside its pulls: trims at cruise, sensors that stand still, the manifold of a standing engine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.checks.mixture import trims_by_bank
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.driving import Driven, driven
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.evidence.stretches import stretches
from yarvic.core.physics import FloatArray

# What warms and cools as an engine is driven; each is looked at over the whole of a log.
MOVING = ("coolant_temperature", "oil_temperature", "charge_temperature", "exhaust_temperature")
AT_REST_RPM = 50.0
CLOCK_HZ = 10.0
LEAST_SAMPLES = 5


def beside_pulls(data: PullEvidence, log: Log, pulls: Sequence[Pull]) -> list[Finding]:
    """Findings of the whole log, with the pull that they are told with. What was not logged is not asked."""
    found = [*_cruise(data, log, pulls), *_still(data, log), *_at_rest(data, log)]
    return [f for f in found if f.value is not None]


def _cruise(data: PullEvidence, log: Log, pulls: Sequence[Pull]) -> list[Finding]:
    """Both trims and what is left of the error, in sum, over the cruise where they are furthest from nought."""
    banks = [keys for keys in trims_by_bank(log.channels) if all(log.channels[k].doubt is None for k in keys)]
    if data.engine.ignition != "spark" or not banks:
        return []
    cruises = [d for d in driven(log, pulls) if d.kind == "cruise"]
    sums = [(_mean_sum(log, keys, d), d, keys) for d in cruises for keys in banks]
    known = [each for each in sums if np.isfinite(each[0])]
    if not known:
        return []
    value, cruise, keys = max(known, key=lambda s: abs(s[0]))
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
    bank = keys[0].removeprefix(CHANNELS[keys[0]].family)
    asked = next((k for k in (f"lambda_target{bank}", "lambda_target") if k in log.channels), "")
    measured = log.channels.get(f"lambda_measured{bank}")
    if measured is not None and asked and measured.doubt is None and log.channels[asked].doubt is None:
        parts.append(log.at(measured.key, clock) / log.at(asked, clock) - 1.0)
    total = np.sum(parts, axis=0)
    good = np.isfinite(total)
    return float(total[good].mean()) if np.count_nonzero(good) >= LEAST_SAMPLES else float("nan")


def _still(data: PullEvidence, log: Log) -> list[Finding]:
    """The longest time for which a temperature repeats one number while the engine turns: a sensor that moves no more
    judges nothing. What lies in a gap was not seen to stand still.
    """
    spans = [(*_repeats(log, log.channels[k]), k) for k in MOVING if k in log.channels and _told(log.channels[k])]
    if not spans or not _told(log.channels.get("engine_speed")):
        return []
    seconds, at_s, key = max(spans)
    words = f"{log.channels[key].title} repeats one number: its sensor may stand still"
    holds = "The temperatures move as the engine is driven"
    found = data.found("sensor_still", seconds, words, data.where(key, at_s), holds=holds)
    # A warm engine may stay warm.
    return [replace(found, family="Sensors").watched_at_most()]


def _told(c: Channel | None) -> bool:
    return c is not None and c.doubt is None and c.time_s.size >= LEAST_SAMPLES


def _repeats(log: Log, c: Channel) -> tuple[float, float]:
    """The longest time for which a channel repeats a number while the engine turns, s, and when it begins."""
    same = np.concatenate(([False], c.values[1:] == c.values[:-1]))
    if "engine_speed" in log.channels:
        same &= np.nan_to_num(log.at("engine_speed", c.time_s)) > AT_REST_RPM
    same[c.clock.gaps + 1] = False
    spans = [(float(c.time_s[b - 1] - c.time_s[a - 1]), float(c.time_s[a - 1])) for a, b in stretches(same)]
    return max(spans, default=(0.0, float(c.time_s[0])))


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
