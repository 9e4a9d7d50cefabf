"""Whether the evidence of a revision answers what was expected of it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from yarvic.core.document import Document
from yarvic.core.evidence.channels import CHANNELS, SPARK_CORRECTIONS
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, from_canonical

# Knock retard is asked for as a positive angle; logs have it as a correction below zero, cylinder by cylinder.
KNOCK_RETARD = "knock_retard"


class Expected(Document):
    """What a revision is to bring about: a statistic of a channel against a limit, in the pulls of that revision.

    `limit` is in `unit`. `index` is one cylinder of the channel's family, 0 for any. `from_rpm` and `to_rpm` are the
    engine speeds between which it counts.
    """

    channel: Annotated[str, Field(min_length=1, max_length=100)]
    index: Annotated[int, Field(ge=0, le=16)] = 0
    statistic: Literal["greatest", "least", "mean"]
    way: Literal["below", "above"]
    limit: Annotated[float, Field(ge=-1e9, le=1e9)]
    unit: Annotated[str, Field(max_length=20)]
    from_rpm: Annotated[float, Field(ge=0, le=1e5)] | None = None
    to_rpm: Annotated[float, Field(ge=0, le=1e5)] | None = None

    @property
    def title(self) -> str:
        """The channel by its name, with the cylinder where it is one."""
        if self.channel == KNOCK_RETARD:
            return f"knock retard of cylinder {self.index}" if self.index else "knock retard"
        name = CHANNELS[self.channel].title if self.channel in CHANNELS else self.channel
        return f"{name[0].lower()}{name[1:]}"

    def sentence(self) -> str:
        """What is expected, in words."""
        where = ""
        if self.from_rpm is not None and self.to_rpm is not None:
            where = f" from {self.from_rpm:,.0f} to {self.to_rpm:,.0f} rpm"
        elif self.from_rpm is not None:
            where = f" from {self.from_rpm:,.0f} rpm on"
        elif self.to_rpm is not None:
            where = f" up to {self.to_rpm:,.0f} rpm"
        return f"{self.statistic} {self.title} {self.way} {self.limit:g} {self.unit}{where}"

    def holds(self, value: float) -> bool:
        """Whether a value in `unit` is what was expected."""
        return value < self.limit if self.way == "below" else value > self.limit


def answer(expected: Expected, runs: Sequence[tuple[Log, Pull]]) -> float | None:
    """What the pulls say, in the expectation's unit; None where none of them heard it."""
    found: list[FloatArray] = []
    for log, pull in runs:
        values = _values(expected, log, pull)
        if values is not None and values.size:
            found.append(values)
    if not found:
        return None
    all_ = np.concatenate(found)
    value = float(all_.max() if expected.statistic == "greatest" else all_.min())
    if expected.statistic == "mean":
        value = float(all_.mean())
    return float(from_canonical(value, expected.unit)) if expected.unit in UNITS else value


def _values(expected: Expected, log: Log, pull: Pull) -> FloatArray | None:
    """The numbers of one pull between the engine speeds, those that are numbers; None where it was not logged."""
    keys = [expected.channel]
    if expected.channel == KNOCK_RETARD:
        keys = [SPARK_CORRECTIONS[expected.index - 1]] if expected.index else [*SPARK_CORRECTIONS, "spark_correction"]
    keys = [key for key in keys if key in log.channels and log.channels[key].doubt is None]
    if not keys or "engine_speed" not in log.channels:
        return None
    t = log.channel(keys[0]).time_s
    t = t[(t >= pull.start_s) & (t <= pull.end_s)]
    speed = log.at("engine_speed", t)
    inside = np.isfinite(speed)
    if expected.from_rpm is not None:
        inside &= speed >= expected.from_rpm
    if expected.to_rpm is not None:
        inside &= speed <= expected.to_rpm
    sign = -1.0 if expected.channel == KNOCK_RETARD else 1.0
    values = np.concatenate([sign * log.at(key, t[inside]) for key in keys])
    return np.asarray(values[np.isfinite(values)], dtype=np.float64)
