"""A log: channels, each with its own time stamps, in canonical units."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.physics import FloatArray

# A hole longer than this many usual steps is a gap: nothing is interpolated across it. Our choice.
GAP_STEPS = 8.0


@dataclass(frozen=True)
class Doubt:
    """What of a channel is not known: its `reference` (what a pressure counts from), `sign`, `unit`, `time`, the `fuel`
    of an air-fuel ratio, or which `column` it is.
    """

    about: Literal["reference", "sign", "unit", "time", "fuel", "column"]
    sentence: str


# The doubts that something beside the file settles.
NO_BAROMETER = "is gauge pressure, and no barometer was logged: state it with the import"
NO_FUEL = "is an air-fuel ratio, which means nothing without its fuel: state it with the import"


@dataclass(frozen=True)
class Channel:
    """One signal: `values` (canonical unit of `quantity`) at `time_s`; both one-dimensional, of equal length.

    With a `doubt` its numbers may be drawn, and not be judged by. `states` are the words of a channel that holds
    words: its values count into them.
    """

    key: str
    title: str
    quantity: str
    unit: str
    time_s: FloatArray
    values: FloatArray
    doubt: Doubt | None = None
    states: tuple[str, ...] = ()

    @cached_property
    def step_s(self) -> float:
        """The usual step between two samples, s; NaN for fewer than two."""
        return float(np.median(np.diff(self.time_s))) if self.time_s.size > 1 else float("nan")


@dataclass(frozen=True)
class Log:
    """A set of channels recorded together. `notes` say what was taken for granted when it was read."""

    channels: Mapping[str, Channel]
    notes: tuple[str, ...] = ()

    def channel(self, key: str) -> Channel:
        """The channel with this key. Raises EvidenceError when it was not logged."""
        try:
            return self.channels[key]
        except KeyError:
            what = CHANNELS[key].title if key in CHANNELS else repr(key)
            raise EvidenceError(f"{what} is not in this log", remedy="Log it and pull again.") from None

    def span(self) -> tuple[float, float]:
        """First and last time stamp over all channels."""
        starts = [c.time_s[0] for c in self.channels.values() if c.time_s.size]
        ends = [c.time_s[-1] for c in self.channels.values() if c.time_s.size]
        if not starts:
            raise EvidenceError("the log holds no samples", remedy="Choose another log.")
        return float(min(starts)), float(max(ends))

    def at(self, key: str, times: FloatArray) -> FloatArray:
        """Values of a channel at other times: linear between samples, NaN in gaps, past the ends and next to NaN."""
        channel = self.channel(key)
        t, v = channel.time_s, channel.values
        if t.size < 2:
            return np.full(times.shape, np.nan)
        result = np.interp(times, t, v, left=np.nan, right=np.nan)
        before = np.clip(np.searchsorted(t, times, side="right") - 1, 0, t.size - 2)
        wide = t[before + 1] - t[before] > GAP_STEPS * channel.step_s
        in_hole = wide & (times > t[before]) & (times < t[before + 1])
        result[in_hole] = np.nan
        return result

    def cut(self, start_s: float, end_s: float) -> Log:
        """The part of the log between two times, ends included."""
        parts = {}
        for key, c in self.channels.items():
            keep = slice(*np.searchsorted(c.time_s, [start_s, np.nextafter(end_s, np.inf)]))
            parts[key] = replace(c, time_s=c.time_s[keep], values=c.values[keep])
        return replace(self, channels=parts)
