"""The raw signal of a knock sensor: a window of each cycle, with the block's noise and the ring of real knock."""

from __future__ import annotations

from collections.abc import Sequence
from math import pi

import numpy as np

from yarvic.bench.plant import SparkEngine
from yarvic.bench.spark_burn import Cycle
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel
from yarvic.core.physics import FloatArray
from yarvic.core.physics.knock import knock_tones
from yarvic.core.units import CANONICAL

RATE_HZ = 80_000.0
WINDOW_FROM_DEG, WINDOW_TO_DEG = 5.0, 65.0  # after top centre
# Volts at the sensor. Shapes and sizes from memory of such signals; the tones are Draper's.
BACKGROUND_V = 0.012  # at 1000 rpm; valves and pistons hit harder as the square root of speed cubed
BACKGROUND_EXPONENT = 1.5
RESONANCES_HZ = (3300.0, 11_800.0, 16_400.0)  # of block and sensor mount
RESONANCE_SHARE = (0.9, 0.5, 0.3)
RESONANCE_WIDTH = 0.06
KNOCK_V = 6.0  # per unit of charge that burns at once
TONE_SHARE = (1.0, 0.45, 0.25)
RING_S = 0.9e-3  # the tone dies in about this time
CYLINDER_LOUDNESS = 0.12  # by how much a farther cylinder is heard less, per place
SENSOR_END_V = 5.0
RESOLUTION_V = 5.0 / 4096.0


def knock_channels(p: SparkEngine, cycles: Sequence[Cycle], rng: np.random.Generator) -> dict[str, Channel]:
    """One channel per cylinder: its window of every cycle, at 80 kHz, one after the other."""
    times: list[list[FloatArray]] = [[] for _ in range(p.cylinders)]
    values: list[list[FloatArray]] = [[] for _ in range(p.cylinders)]
    for cycle in cycles:
        for i in range(p.cylinders):
            start = cycle.time_s + (i * 720.0 / p.cylinders + WINDOW_FROM_DEG) / (6.0 * cycle.speed_rpm)
            v = burst(p, cycle.speed_rpm, cycle.intensity[i], cycle.onset_deg[i], i, rng)
            times[i].append(start + np.arange(v.size) / RATE_HZ)
            values[i].append(v)
    found = {}
    for i in range(p.cylinders):
        kind = CHANNELS[f"knock_signal_{i + 1}"]
        stamps, signal = (np.concatenate(x[i]) if x[i] else np.empty(0) for x in (times, values))
        # The next cycle's window never begins before this one's end: at 720 degrees a cycle they lie far apart.
        found[kind.key] = Channel(kind.key, kind.title, kind.quantity, CANONICAL[kind.quantity], stamps, signal)
    return found


def burst(
    p: SparkEngine, speed_rpm: float, intensity: float, onset_deg: float, cylinder: int, rng: np.random.Generator
) -> FloatArray:
    """The window of one cycle of one cylinder, V. `intensity` is the share of the charge that burnt at once."""
    count = int((WINDOW_TO_DEG - WINDOW_FROM_DEG) / (6.0 * speed_rpm) * RATE_HZ)
    t = np.arange(count) / RATE_HZ
    level = BACKGROUND_V * (speed_rpm / 1000.0) ** BACKGROUND_EXPONENT
    signal = level * rng.normal(0.0, 1.0, count)
    for tone, share in zip(RESONANCES_HZ, RESONANCE_SHARE, strict=True):
        off = tone * (1.0 + RESONANCE_WIDTH * rng.normal())
        signal += level * share * rng.normal() * np.sin(2.0 * pi * (off * t + rng.random()))
    if intensity > 0.0:
        begins = max(onset_deg - WINDOW_FROM_DEG, 0.0) / (6.0 * speed_rpm)
        since = t - begins
        ring = np.where(since >= 0.0, np.exp(-np.maximum(since, 0.0) / RING_S), 0.0)
        heard = KNOCK_V * intensity * (1.0 - CYLINDER_LOUDNESS * abs(cylinder - (p.cylinders - 1) / 2.0))
        for tone, share in zip(knock_tones(p.bore_m), TONE_SHARE, strict=True):
            signal += heard * share * ring * np.sin(2.0 * pi * float(tone) * since)
    steps = np.round(np.clip(signal, -SENSOR_END_V, SENSOR_END_V) / RESOLUTION_V)
    return np.asarray(steps * RESOLUTION_V, dtype=np.float64)
