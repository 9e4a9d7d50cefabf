"""Lambda against its target, with the sensor's delay and range considered."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from yarvic.core.checks.evidence_of_pull import PullEvidence, worst_by_check
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import members
from yarvic.core.evidence.stretches import stretches
from yarvic.core.physics import FloatArray

# A wideband on its end writes one number and no noise: so long, and it is off the scale wherever that end lies.
FLAT_FOR_S = 0.3
TRIMS = ("fuel_trim", "long_trim")
# Errors are judged on a running mean, so that one noisy sample is not a lean engine. Our choice.
MEAN_OVER_S = 0.25


def mixture(data: PullEvidence) -> list[Finding]:
    """Largest lean and rich error. A trace on the sensor's end is reported as off the scale, never as a number."""
    if data.engine.ignition != "spark":
        return _smoke(data)
    found = [f for key in data.members("lambda_measured") for f in _of_sensor(data, key)]
    return worst_by_check(found) + _trims(data) + _banks(data)


def _trims(data: PullEvidence) -> list[Finding]:
    """The sum of both trims under load, whichever way it goes: what the maps do not know of the engine."""
    return worst_by_check([_trim_sum(data, keys) for keys in trims_by_bank(data.log.channels)])


def trims_by_bank(channels: Iterable[str]) -> list[list[str]]:
    """The trims that count together: those of the engine, and those of each bank that has its own."""
    there = list(channels)
    which = sorted({k.removeprefix(family) for family in TRIMS for k in members(family, there)})
    return [[f"{family}{w}" for family in TRIMS if f"{family}{w}" in there] for w in which]


def _trim_sum(data: PullEvidence, keys: list[str]) -> Finding:
    try:
        series = [data.series(k) for k in keys]
    except EvidenceError as error:
        return data.not_known("trim_sum", str(error), keys[0])
    t = series[0][0]
    total = np.sum([np.interp(t, own, values) for own, values in series], axis=0)
    mean = _running_mean(total, data.step_s(t))
    most = int(np.argmax(np.abs(mean)))
    way = "adds" if mean[most] > 0.0 else "takes away"
    where = data.where(keys[0], float(t[min(most, t.size - 1)]))
    words, holds = f"The unit {way} fuel to hold its mixture", "The trims stay small"
    return data.found("trim_sum", float(abs(mean[most])), words, where, holds=holds)


def _banks(data: PullEvidence) -> list[Finding]:
    """How far the banks differ in mixture; nothing is asked where there is one."""
    keys = [k for k in data.members("lambda_measured") if "bank" in k]
    if len(keys) < 2:
        return []
    try:
        series = [data.series(k) for k in keys]
    except EvidenceError as error:
        return [data.not_known("bank_difference", str(error), keys[0])]
    t = series[0][0]
    means = [_running_mean(np.interp(t, own, values), data.step_s(t)) for own, values in series]
    apart = np.max(means, axis=0) - np.min(means, axis=0)
    settled = t[: apart.size] >= data.pull.start_s + data.limits.sensor["settle"]
    if not settled.any():
        return [data.not_known("bank_difference", "the pull is too short for the sensors to settle", keys[0])]
    most = int(np.flatnonzero(settled)[np.argmax(apart[settled])])
    where = data.where(keys[0], float(t[most]))
    return [
        data.found(
            "bank_difference", float(apart[most]), "The banks differ in mixture", where, holds="The banks agree"
        )
    ]


def _of_sensor(data: PullEvidence, key: str) -> list[Finding]:
    """What one sensor says; a bank with a target of its own is held against that."""
    checks = ("lambda_lean", "lambda_rich")
    sensor = data.limits.sensor
    own = key.replace("lambda_measured", "lambda_target")
    asked = own if own in data.log.channels else "lambda_target"
    try:
        t, measured = data.series(key, despite="stuck end")
        data.series(asked)
        target = data.log.at(asked, t - sensor["lambda_delay"])
    except EvidenceError as error:
        return [data.not_known(c, str(error), key) for c in checks]
    low, high = float(measured.min()), float(measured.max())
    low_end = measured <= sensor["lambda_low"] + 1e-6
    if low < sensor["lambda_flat_low"]:
        low_end |= _lies_flat(t, measured, low)
    high_end = measured >= sensor["lambda_high"] - 1e-6
    if high > sensor["lambda_flat_high"]:
        high_end |= _lies_flat(t, measured, high)
    for ends, word in ((low_end, "rich"), (high_end, "lean")):
        if np.count_nonzero(ends) > sensor["end_share"] * t.size:
            seconds = float(np.count_nonzero(ends) * data.step_s(t))
            why = f"the trace stays at the sensor's {word} end for {seconds:.1f} s: off the scale"
            return [data.not_known(c, why, key) for c in checks]
    ill = data.illness(key)
    if ill is not None:
        return [data.not_known(c, ill.sentence, key) for c in checks]
    settled = (t >= data.pull.start_s + sensor["settle"]) & np.isfinite(target)
    if np.count_nonzero(settled) < 5:
        why = "the pull is too short for the sensor to settle"
        return [data.not_known(c, why, key) for c in checks]
    error_lambda = _running_mean((measured - np.nan_to_num(target))[settled], data.step_s(t))
    t = t[settled]
    lean, rich = int(np.argmax(error_lambda)), int(np.argmin(error_lambda))
    return [
        data.found(
            "lambda_lean",
            max(float(error_lambda[lean]), 0.0),
            "Mixture runs leaner than its target",
            data.where(key, float(t[lean])),
        ),
        data.found(
            "lambda_rich",
            min(float(error_lambda[rich]), 0.0),
            "Mixture runs richer than its target",
            data.where(key, float(t[rich])),
        ),
    ]


def _lies_flat(t: FloatArray, values: FloatArray, end: float) -> NDArray[np.bool_]:
    """Where a trace repeats its own extreme for longer than noise would let it."""
    flat = np.zeros(values.shape, dtype=bool)
    for first, last in stretches(values == end):
        if t[last - 1] - t[first] >= FLAT_FOR_S:
            flat[first:last] = True
    return flat


def _smoke(data: PullEvidence) -> list[Finding]:
    """A diesel's mixture: the least air it had for its fuel, and the smoke that shows."""
    each = []
    for key in data.members("lambda_measured"):
        try:
            t, measured = data.series(key)
            mean = _running_mean(measured, data.step_s(t))
            low = int(np.argmin(mean))
            where = data.where(key, float(t[min(low, t.size - 1)]))
            each.append(data.found("smoke_lambda", float(mean[low]), "Least air for the fuel", where))
        except EvidenceError as error:
            each.append(data.not_known("smoke_lambda", str(error), key))
    found = worst_by_check(each)
    if "smoke" in data.log.channels:
        found.append(data.highest("smoke_opacity", "smoke", "Smoke opacity"))
    return found


def _running_mean(values: FloatArray, step_s: float) -> FloatArray:
    count = max(1, round(MEAN_OVER_S / max(step_s, 1e-6)))
    if values.size <= count:
        return np.array([values.mean()])
    sums = np.cumsum(np.concatenate(([0.0], values)))
    mean = (sums[count:] - sums[:-count]) / count
    # The mean stands at the middle of its window; the ends repeat the first and the last.
    return np.pad(mean, (count // 2, values.size - mean.size - count // 2), mode="edge")
