"""What a pull is, and how good a one: what of it keeps a judgement from being sharp, each with its reason."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.log import GAP_STEPS, Log
from yarvic.core.evidence.pulls import STANDS_RPM, Pull
from yarvic.core.evidence.slip import BEHIND, slip

FULL = 0.95
# A sweep that is shorter, narrower, or told by fewer samples than this, is so: it is said. Our choice.
SHORT_S, NARROW_RPM, FEW_SAMPLES = 2.5, 1800.0, 25
# An engine that never goes past this speed goes through little: then narrow is less than this share of that. Our choice.
SLOW_ENGINE_RPM, NARROW_SHARE = 2600.0, 0.6
# The ratio of engine to wheels may vary by this share in a gear; more, and something slips. Our choice.
SLIPS = 0.04
# Behind its end the engine stays within so many rpm for so long with an open throttle: it ran into the limiter.
LIMITER_RPM, LIMITER_S, OPEN = 150.0, 0.4, 0.5
FALLS_RPM, LOOKS_S = 300.0, 0.8


@dataclass(frozen=True)
class Quality:
    """What a pull is in words, how it ends, and what is to be held against it; empty where nothing is."""

    kind: str
    ends: str
    reasons: tuple[str, ...]

    @property
    def sentence(self) -> str:
        """All of it in a sentence."""
        against = f"; {', '.join(self.reasons)}" if self.reasons else ""
        return f"{self.kind}, ends {self.ends}{against}"


def quality(log: Log, pull: Pull) -> Quality:
    """What a pull of a log is, and what is to be held against it. Rates of samples change nothing but what they hide."""
    throttle = "full throttle" if pull.throttle >= FULL else f"{pull.throttle * 100.0:.0f} % throttle"
    kind = f"Sweep at {throttle}, {pull.from_rpm:,.0f} to {pull.to_rpm:,.0f} rpm in {pull.length_s:.1f} s"
    reasons = []
    if pull.length_s < SHORT_S:
        reasons.append(f"short: {pull.length_s:.1f} s")
    if pull.to_rpm - pull.from_rpm < _narrow(log):
        reasons.append(f"narrow: {pull.to_rpm - pull.from_rpm:,.0f} rpm")
    reasons += _samples(log, pull)
    slipped = _slip(log, pull)
    if slipped > SLIPS:
        reasons.append(f"a wheel, clutch or converter slips by {slipped * 100.0:.0f} %")
    return Quality(kind, _ends(log, pull), tuple(reasons))


def _narrow(log: Log) -> float:
    """How far a sweep climbs that is not narrow, rpm."""
    channel = log.channels.get("engine_speed")
    runs = channel.values[np.isfinite(channel.values) & (channel.values > STANDS_RPM)] if channel is not None else ()
    if not len(runs):
        return NARROW_RPM
    low, high = np.quantile(runs, [0.001, 0.999])
    return NARROW_RPM if high > SLOW_ENGINE_RPM else min(NARROW_RPM, NARROW_SHARE * float(high - low))


def _samples(log: Log, pull: Pull) -> list[str]:
    speed = log.channels.get("engine_speed")
    if speed is None:
        return []
    inside = (speed.time_s >= pull.start_s) & (speed.time_s <= pull.end_s)
    t = speed.time_s[inside]
    found = []
    if t.size < FEW_SAMPLES:
        found.append(f"told by {t.size} samples")
    if t.size > 2:
        steps = np.diff(t)
        holes = steps[steps > GAP_STEPS * float(np.median(steps))]
        if holes.size:
            found.append(f"{float(holes.sum()):.1f} s of it are missing")
    return found


def _slip(log: Log, pull: Pull) -> float:
    """By what share engine speed runs ahead of the wheels at most; nought where that was not logged."""
    key = next((k for k in BEHIND if k in log.channels), None)
    speed = log.channels.get("engine_speed")
    if key is None or speed is None:
        return 0.0
    inside = (speed.time_s >= pull.start_s) & (speed.time_s <= pull.end_s)
    slips, _ = slip(speed.values[inside], log.at(key, speed.time_s[inside]))
    return float(slips.max()) if slips.size else 0.0


def _ends(log: Log, pull: Pull) -> str:
    """What ended it: the limiter, a gear change, a lift, or the log itself."""
    end = log.span()[1]
    after = pull.end_s + np.arange(0.05, LOOKS_S, 0.05)
    if not {"engine_speed", "throttle"} <= set(log.channels) or end - pull.end_s < 0.1:
        return "with the log"
    speed, throttle = log.at("engine_speed", after), log.at("throttle", after)
    held = np.isfinite(speed) & (throttle > OPEN)
    near = held & (np.abs(speed - pull.to_rpm) <= LIMITER_RPM)
    if np.count_nonzero(near) * 0.05 >= LIMITER_S:
        return "at the limiter"
    lifted = np.isfinite(throttle) & (throttle < OPEN)
    falls = np.isfinite(speed) & (pull.to_rpm - speed > FALLS_RPM)
    if falls.any() and (not lifted.any() or (throttle[np.isfinite(throttle)][-1:] > OPEN).any()):
        return "with a gear change"
    return "with a lift" if lifted.any() else "with the sweep"
