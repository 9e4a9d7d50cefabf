"""Whether a sensor can be believed over a stretch of a log: one that stands still or lies on its end is no evidence.

Every check reads its channels through this, so that what is wrong with a sensor reaches each verdict that rests on it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.physics import BoolArray, FloatArray

Ill = Literal["stuck", "end"]
# Signals that no engine keeps alike to the last digit while it goes through its speeds; the rest may stand still for long.
ALIVE = frozenset(
    {"boost_pressure", "airbox_pressure", "lambda_measured", "rail_pressure", "feed_pressure", "air_flow",
     "exhaust_temperature", "filling", "torque_estimate"}
)  # fmt: skip
# Temperatures that follow load within a log; they may stand for a pull, and not for a whole log of driving.
SLOW = frozenset({"charge_temperature", "coolant_temperature", "oil_temperature", "gearbox_temperature"})
# One number for so long, while engine speed went through so much: the sensor stands still. A signal that is written in
# coarse steps may stand longer. Our choice.
STUCK_S, STUCK_COARSE_S, STUCK_SAMPLES, STUCK_RPM = 1.5, 4.0, 8, 800.0
# A signal is written finely where its smallest step is no more than this, in canonical units: under the noise of its
# sensor, so that it never holds still. Our choice.
FINE = {
    "boost_pressure": 300.0, "airbox_pressure": 300.0, "lambda_measured": 0.003, "rail_pressure": 0.5e5,
    "feed_pressure": 1e3, "air_flow": 5e-4, "exhaust_temperature": 1.5, "charge_temperature": 0.3,
    "coolant_temperature": 0.3, "oil_temperature": 0.3, "gearbox_temperature": 0.3, "filling": 0.003,
    "torque_estimate": 0.5,
}  # fmt: skip
# A temperature that shows one number for so long, over driving, stands still. Our choice.
STILL_S, STILL_COARSE_S = 45.0, 240.0
# On its own highest or lowest number for so long and so many samples, where it is written finely: its end. Our choice.
END_S, END_SAMPLES = 0.8, 12
# Of a pull: what is stuck for less does not decide it.
LEAST_SHARE = 0.15


@dataclass(frozen=True)
class Illness:
    """What is wrong with a channel over a stretch, as a sentence, and which samples it leaves to be believed."""

    about: Ill
    sentence: str


@dataclass(frozen=True)
class _Still:
    """A stretch of one number, in s; `end` says that it is the channel's highest (1) or lowest (-1) one."""

    start_s: float
    end_s: float
    end: int


class Health:
    """The sensors of one log. Stretches of equal numbers are found once a channel, and asked about by stretch."""

    def __init__(self, log: Log) -> None:
        self.log = log
        self._stills: dict[str, tuple[list[_Still], bool]] = {}

    def illness(self, key: str, start_s: float, end_s: float) -> Illness | None:
        """What is wrong with a channel between two times; None where nothing is known to be."""
        kind = CHANNELS.get(key)
        channel = self.log.channels.get(key)
        if kind is None or channel is None or channel.values.size < STUCK_SAMPLES:
            return None
        family = kind.family
        if family not in ALIVE and family not in SLOW:
            return None
        stills, fine = self._of(key, channel, slow=family in SLOW)
        for still in stills:
            first, last = max(still.start_s, start_s), min(still.end_s, end_s)
            if last - first < LEAST_SHARE * max(end_s - start_s, 1e-9):
                continue
            found = self._judged(channel, still, first, last, fine, slow=family in SLOW)
            if found is not None:
                return found
        return None

    def _judged(
        self, channel: Channel, still: _Still, first: float, last: float, fine: bool, *, slow: bool
    ) -> Illness | None:
        """Whether a stretch of one number is a fault between two times."""
        long = still.end_s - still.start_s
        if slow:
            least = STILL_S if fine else STILL_COARSE_S
            if long < least or not self._swept(still.start_s, still.end_s):
                return None
            return Illness(
                "stuck", f"{channel.title} shows one number for {long:.0f} s of driving: its sensor stands still"
            )
        if not self._swept(first, last):
            return None
        if still.end and fine and last - first >= END_S:
            word = "highest" if still.end > 0 else "lowest"
            return Illness(
                "end", f"{channel.title} lies on its {word} number for {last - first:.1f} s: it may go further"
            )
        if last - first >= (STUCK_S if fine else STUCK_COARSE_S):
            said = (
                f"{channel.title} shows one number for {long:.1f} s while the engine goes on: its sensor stands still"
            )
            return Illness("stuck", said)
        return None

    def _of(self, key: str, channel: Channel, *, slow: bool) -> tuple[list[_Still], bool]:
        found = self._stills.get(key)
        if found is None:
            least_s, step = STILL_S if slow else min(STUCK_S, END_S), FINE[CHANNELS[key].family]
            found = self._stills[key] = _stills(channel.time_s, channel.values, least_s, step)
        return found

    def _swept(self, start_s: float, end_s: float) -> bool:
        """Whether engine speed went through much between two times."""
        speed = self.log.channels.get("engine_speed")
        if speed is None:
            return False
        inside = speed.values[slice(*np.searchsorted(speed.time_s, [start_s, end_s]))]
        inside = inside[np.isfinite(inside)]
        return bool(inside.size > 1 and np.ptp(inside) >= STUCK_RPM)


def _stills(time_s: FloatArray, values: FloatArray, least_s: float, fine_step: float) -> tuple[list[_Still], bool]:
    """The stretches over which a channel shows one number for so long at least; and whether it is written finely."""
    known = np.isfinite(values)
    if not known.any():
        return [], False
    t, v = (time_s, values) if known.all() else (time_s[known], values[known])
    same: BoolArray = np.diff(v) == 0.0
    edges = np.flatnonzero(np.diff(np.concatenate(([False], same, [False])).astype(np.int8)))
    first, last = edges[::2], edges[1::2]
    keep = (t[last] - t[first] >= least_s) & (last - first + 1 >= STUCK_SAMPLES)
    if not keep.any():
        return [], False
    low, high = float(v.min()), float(v.max())
    steps = np.diff(np.unique(v))
    fine = not steps.size or float(steps.min()) <= fine_step * 1.001
    found = []
    for a, b in zip(first[keep], last[keep], strict=True):
        many = b - a + 1 >= END_SAMPLES and high > low
        end = (1 if v[a] == high else -1 if v[a] == low else 0) if many else 0
        found.append(_Still(float(t[a]), float(t[b]), end))
    return found, fine
