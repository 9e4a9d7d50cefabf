"""A log: channels, each with its own time stamps, in canonical units."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.overview import Overview
from yarvic.core.physics import FloatArray

# A hole longer than this many usual steps is a gap: nothing is interpolated across it. Our choice.
GAP_STEPS = 8.0
LONG = 10_000  # samples; in a longer trace only a part is looked at
MOST_STEPS = 20_000  # of more steps than this the usual one is told by a share of them


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


class Clock:
    """Time stamps that several channels share, with what follows from them and is worked out once."""

    def __init__(self, time_s: FloatArray) -> None:
        self.time_s = time_s

    @cached_property
    def step_s(self) -> float:
        """The usual step between two stamps, s; NaN for fewer than two. Of very many a share that is spread evenly."""
        t = self.time_s
        if t.size < 2:
            return float("nan")
        if t.size <= MOST_STEPS:
            return float(np.median(np.diff(t)))
        some = np.linspace(0, t.size - 2, MOST_STEPS).astype(np.intp)
        return float(np.median(t[some + 1] - t[some]))

    @cached_property
    def gaps(self) -> NDArray[np.intp]:
        """The stamps behind which nothing was logged for many usual steps."""
        return np.flatnonzero(np.diff(self.time_s) > GAP_STEPS * self.step_s)


@dataclass(frozen=True)
class Channel:
    """One signal: `values` (canonical unit of `quantity`) at `time_s`; both one-dimensional, of equal length.

    With a `doubt` its numbers may be drawn, and not be judged by. `states` are the words of a channel that holds
    words: its values count into them. A `shared` clock counts while it is of these time stamps.
    """

    key: str
    title: str
    quantity: str
    unit: str
    time_s: FloatArray
    values: FloatArray
    doubt: Doubt | None = None
    states: tuple[str, ...] = ()
    shared: Clock | None = field(default=None, repr=False, compare=False)

    @property
    def clock(self) -> Clock:
        """Its time stamps, with what is known of them."""
        return self.shared if self.shared is not None and self.shared.time_s is self.time_s else self._own_clock

    @cached_property
    def _own_clock(self) -> Clock:
        return Clock(self.time_s)

    @property
    def step_s(self) -> float:
        """The usual step between two samples, s; NaN for fewer than two."""
        return self.clock.step_s

    @cached_property
    def overview(self) -> Overview:
        """It in fewer points, for drawing."""
        return Overview(self.time_s, self.values)


@dataclass(frozen=True)
class Log:
    """A set of channels recorded together. `notes` say what was taken for granted when it was read."""

    channels: Mapping[str, Channel]
    notes: tuple[str, ...] = ()

    @cached_property
    def derived(self) -> dict[object, Channel]:
        """Channels that were worked out of this log, by what they are: it never changes, and they stay with it."""
        return {}

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
        near = slice(None)
        if t.size > LONG:
            # Only what lies around these times: numbers that may not be written to are copied by what interpolates.
            asked = times[np.isfinite(times)]
            first, last = np.searchsorted(t, [asked.min(), asked.max()]) if asked.size else (0, 0)
            near = slice(max(min(int(first) - 1, t.size - 2), 0), int(last) + 2)
        result = np.interp(times, t[near], v[near], left=np.nan, right=np.nan)
        if channel.clock.gaps.size:
            before = np.clip(np.searchsorted(t, times, side="right") - 1, 0, t.size - 2)
            in_hole = np.isin(before, channel.clock.gaps) & (times > t[before]) & (times < t[before + 1])
            result[in_hole] = np.nan
        return result

    def cut(self, start_s: float, end_s: float) -> Log:
        """The part of the log between two times, ends included."""
        parts, clocks = {}, dict[int, tuple[slice, Clock]]()
        for key, c in self.channels.items():
            if id(c.time_s) not in clocks:
                keep = slice(*np.searchsorted(c.time_s, [start_s, np.nextafter(end_s, np.inf)]))
                clocks[id(c.time_s)] = keep, Clock(c.time_s[keep])
            keep, clock = clocks[id(c.time_s)]
            parts[key] = Channel(
                key, c.title, c.quantity, c.unit, clock.time_s, c.values[keep], c.doubt, c.states, clock
            )
        return replace(self, channels=parts)
