"""The logger of the bench: rows of truth in, channels out, in blocks of bounded memory."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from yarvic.bench.sensors import JITTER_S, LOST_SHARE, SENSORS, Probe, Sensor
from yarvic.core.evidence.log import Channel, Log

BLOCK_ROWS = 4096


class Recorder:
    """Takes one row of true values per step of `dt`. `names` that no sensor knows are not recorded.

    `sensors` replaces single sensors by faulty ones; `rate_hz` asks for another rate of all channels; `flow` names
    the exhaust's mass flow among `names`, which delays sensors down the pipe.
    """

    def __init__(
        self,
        names: Sequence[str],
        dt: float,
        seed: tuple[int, ...],
        *,
        sensors: Mapping[str, Sensor] | None = None,
        rate_hz: float | None = None,
        lost: float = LOST_SHARE,
        jitter: float = JITTER_S,
        flow: str = "exhaust_flow",
    ) -> None:
        self.names, self.dt = list(names), dt
        fitted = {**SENSORS, **(sensors or {})}
        if rate_hz is not None:
            fitted = {key: replace(s, rate_hz=rate_hz) for key, s in fitted.items()}
        self._probes = [
            (i, Probe(n, fitted[n], dt, seed, lost=lost, jitter=jitter))
            for i, n in enumerate(self.names)
            if n in fitted
        ]
        self._flow = self.names.index(flow) if flow in self.names else None
        self._block = np.empty((BLOCK_ROWS, len(self.names)))
        self._filled = 0
        self.rows = 0

    def add(self, row: tuple[float, ...]) -> None:
        """The true values of the next step."""
        self._block[self._filled] = row
        self._filled += 1
        self.rows += 1
        if self._filled == BLOCK_ROWS:
            self._flush()

    def _flush(self) -> None:
        if not self._filled:
            return
        block = self._block[: self._filled]
        first = self.rows - self._filled
        time_s = np.arange(first, self.rows, dtype=np.float64) * self.dt
        flow = block[:, self._flow].copy() if self._flow is not None else None
        for i, probe in self._probes:
            probe.sample(time_s, block[:, i].copy(), flow)
        self._filled = 0

    def log(self) -> Log:
        """Everything recorded so far."""
        self._flush()
        channels: dict[str, Channel] = {}
        stamps: list[Channel] = []
        for _, probe in self._probes:
            c = probe.channel()
            # Channels of one message carry the same stamps: held once, stored once.
            same = next((s for s in stamps if np.array_equal(s.time_s, c.time_s)), None)
            if same is None:
                stamps.append(c)
            else:
                c = replace(c, time_s=same.time_s)
            channels[c.key] = c
        return Log(channels)
