"""Exhaust, coolant and oil temperature."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import STOP, Finding, amount
from yarvic.core.checks.probe_lag import LAGS_S, probe_lag
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.stretches import longest

# The end of a pull over which a probe's slope is taken, and how few samples tell nothing.
RISE_OVER_S, LEAST_SAMPLES = 1.0, 4
# Gas heats by less than this through a sweep (the simulated engines: up to 35 K/s), and a sheathed probe lags so much.
# Our choice.
FASTEST_GAS_K_S, SLOW_PROBE_S = 45.0, 3.0
LEAST_BEHIND_K = 20.0  # a probe whose lag is told lies behind by so much, or is not said to. Our choice.


def temperatures(data: PullEvidence) -> list[Finding]:
    """Highest temperature of each against its limit; the exhaust's comes from the job's components where they state one."""
    key = "exhaust_temperature"
    limit = data.limits.component(key)
    if limit is None:
        exhaust = data.highest(key, key, "Exhaust temperature")
    else:
        statement = f"Exhaust temperature at the {limit.component}"
        exhaust = data.highest(key, key, statement, limit.rule("Exhaust temperature"))
    exhaust = _still_rising(data, exhaust)
    exhaust_for = _sustained(data, exhaust)
    gearbox = "gearbox_temperature"
    found = [data.highest(gearbox, gearbox, "Gearbox temperature")] if gearbox in data.log.channels else []
    return [
        exhaust,
        *exhaust_for,
        data.highest("coolant_temperature", "coolant_temperature", "Coolant temperature"),
        data.highest("oil_temperature", "oil_temperature", "Oil temperature"),
        *found,
    ]


def _still_rising(data: PullEvidence, exhaust: Finding) -> Finding:
    """The finding of the exhaust, or no data where its probe was still on its way as the pull ended.

    Behind a first-order lag the gas is hotter than the reading by lag times slope: the lag that its fall behind the pull
    tells, where the log goes on for long enough. Else a slope that no gas has in a sweep, and that would carry it past
    the limit behind a slow probe, leaves open what the gas was.
    """
    if exhaust.severity == STOP or exhaust.value is None or exhaust.rule is None or not data.sweeps:
        return exhaust
    try:
        t, values = data.series(exhaust.where.channel or "exhaust_temperature", despite="end")
    except EvidenceError:
        return exhaust
    tail = t >= data.pull.end_s - RISE_OVER_S
    if np.count_nonzero(tail) < LEAST_SAMPLES:
        return exhaust
    slope, level = np.polyfit(t[tail] - t[-1], values[tail], 1)
    if level + LAGS_S[-1] * slope <= exhaust.rule.stop_canonical:
        return exhaust  # whatever the lag
    told = probe_lag(data.whole or data.log, exhaust.where.channel or "exhaust_temperature", data.pull.end_s)
    lag = told if told is not None else SLOW_PROBE_S
    behind = float(level + lag * slope)
    gas_may = slope < FASTEST_GAS_K_S if told is None else lag * slope < LEAST_BEHIND_K
    if gas_may or behind <= exhaust.rule.stop_canonical:
        return exhaust
    why = (
        f"The reading still rises by {slope:.0f} K/s as the pull ends, at {amount(float(level), 'degC')}: behind a probe"
        f" with a lag of {lag:.1f} s{' (by how it cools behind the pull)' if told is not None else ''} the gas is at"
        f" {amount(behind, 'degC')}. Hold the pull for longer, or fit a"
        " faster probe"
    )
    return data.not_known(exhaust.check, why, exhaust.where.channel or "exhaust_temperature")


def _sustained(data: PullEvidence, exhaust: Finding) -> list[Finding]:
    """How long in one stretch the exhaust is hotter than it is watched from: a moment's ceiling is none for a climb."""
    if exhaust.rule is None or exhaust.value is None:
        return []
    try:
        t, values = data.series(exhaust.where.channel or "exhaust_temperature")
    except EvidenceError:
        return []
    seconds, at = longest(t, values > exhaust.rule.watch_canonical)
    where = data.where(exhaust.where.channel or "exhaust_temperature", at)
    return [data.found("exhaust_time", seconds, "Exhaust stays hot", where, holds="Exhaust does not stay hot")]
