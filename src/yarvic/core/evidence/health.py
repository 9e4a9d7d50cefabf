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
from yarvic.core.physics.constants import STANDARD_PRESSURE_PA

Ill = Literal["stuck", "end"]
# Signals that no engine keeps alike to the last digit while it goes through its speeds; the rest may stand still for long.
ALIVE = frozenset(
    {"boost_pressure", "airbox_pressure", "lambda_measured", "rail_pressure", "feed_pressure", "air_flow",
     "exhaust_temperature", "filling", "torque_estimate", "smoke"}
)  # fmt: skip
# Temperatures that follow load within a log; they may stand for a pull, and not for a whole log of driving.
SLOW = frozenset({"charge_temperature", "coolant_temperature", "oil_temperature", "gearbox_temperature"})
# One number for so long, while engine speed went through so much: the sensor stands still. A signal that is written in
# coarse steps may stand longer. Our choice.
STUCK_S, STUCK_COARSE_S, STUCK_SAMPLES, STUCK_RPM = 1.5, 4.0, 8, 800.0
# A signal is written finely where its smallest step is no more than this, in canonical units: under the noise of its
# sensor, so that it never holds still. Our choice.
FINE = {
    "boost_pressure": 300.0, "airbox_pressure": 300.0, "lambda_measured": 0.003, "rail_pressure": 1e5,
    "feed_pressure": 5e3, "air_flow": 5e-4, "exhaust_temperature": 1.5, "charge_temperature": 0.3,
    "coolant_temperature": 0.3, "oil_temperature": 0.3, "gearbox_temperature": 0.3, "filling": 0.003,
    "torque_estimate": 0.5, "smoke": 0.003,
}  # fmt: skip
# A temperature that shows one number for so long, over driving, stands still. Our choice.
STILL_S, STILL_COARSE_S = 45.0, 240.0
# A compressor that raises its pressure by so much heats its air: charge that shows one number for so long is none. Ours.
COMPRESSED_PA, COMPRESSED_S = 30e3, 4.0
# Charge that shows one number through a whole log of so long, idle and load: its sensor may stand still. Our choice.
WHOLE_S = 12.0
# On its own highest or lowest number for so long and so many samples, where it is written finely: its end. Our choice.
END_S, END_SAMPLES = 0.8, 12
# Or on it with such a share of the samples of a stretch, above and below of it what else there is. Our choice.
END_SHARE = 0.4
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
    value: float = 0.0


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
        return self._mostly_on_end(key, channel, start_s, end_s) if family in ALIVE else None

    def _mostly_on_end(self, key: str, channel: Channel, start_s: float, end_s: float) -> Illness | None:
        """Whether most of a stretch lies on the highest or lowest number of a channel that is written finely."""
        inside = channel.values[slice(*np.searchsorted(channel.time_s, [start_s, end_s]))]
        inside = inside[np.isfinite(inside)]
        if inside.size < END_SAMPLES or not self._swept(start_s, end_s):
            return None
        for word, end in (("highest", float(inside.max())), ("lowest", float(inside.min()))):
            share = float(np.count_nonzero(inside == end)) / inside.size
            if share >= END_SHARE and end != 0.0 and _is_fine(channel.values, FINE[CHANNELS[key].family]):
                return Illness(
                    "end", f"{channel.title} lies on its {word} number in {share * 100:.0f} % of the samples"
                )
        return None

    def _judged(
        self, channel: Channel, still: _Still, first: float, last: float, fine: bool, *, slow: bool
    ) -> Illness | None:
        """Whether a stretch of one number is a fault between two times."""
        long = still.end_s - still.start_s
        if CHANNELS[channel.key].family == "smoke" and still.value == 0.0:
            return None  # a filter leaves none to be measured
        if CHANNELS[channel.key].family == "charge_temperature":
            if self._compressed(first, last, fine=fine):
                why = f"one number for {last - first:.1f} s while boost builds"
                return Illness("stuck", f"{channel.title} shows {why}: its sensor stands still")
            if long >= WHOLE_S and self._swept(first, last) and _is_one(channel.values):
                return Illness(
                    "stuck", f"{channel.title} shows one number in all {long:.0f} s of the log: it may stand still"
                )
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
            family = CHANNELS[key].family
            least_s = COMPRESSED_S if family == "charge_temperature" else STILL_S if slow else min(STUCK_S, END_S)
            step = FINE[family]
            found = self._stills[key] = _stills(channel.time_s, channel.values, least_s, step)
        return found

    def _compressed(self, start_s: float, end_s: float, *, fine: bool) -> bool:
        """Whether a compressor worked between two times, long enough for its heat to be felt; of a charge temperature that
        is written in coarse steps, whether its pressure rose by much as well.
        """
        boost = self.log.channels.get("boost_pressure")
        if boost is None or end_s - start_s < COMPRESSED_S:
            return False
        inside = boost.values[slice(*np.searchsorted(boost.time_s, [start_s, end_s]))]
        inside = inside[np.isfinite(inside)]
        if inside.size < 2:
            return False
        works = float(np.median(inside)) >= STANDARD_PRESSURE_PA + COMPRESSED_PA and self._swept(start_s, end_s)
        return bool(np.ptp(inside) >= COMPRESSED_PA) or (fine and works)

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
    fine = _is_fine(v, fine_step)
    found = []
    for a, b in zip(first[keep], last[keep], strict=True):
        many = b - a + 1 >= END_SAMPLES and high > low
        end = (1 if v[a] == high else -1 if v[a] == low else 0) if many else 0
        found.append(_Still(float(t[a]), float(t[b]), end, float(v[a])))
    return found, fine


def _is_one(values: FloatArray) -> bool:
    """Whether a channel holds one number alone."""
    known = values[np.isfinite(values)]
    return bool(known.size and known.min() == known.max())


def _is_fine(values: FloatArray, fine_step: float) -> bool:
    """Whether a channel is written in steps that are under the noise of its sensor; one number alone may be."""
    steps = np.diff(np.unique(values[np.isfinite(values)]))
    return not steps.size or float(steps.min()) <= fine_step * 1.001
