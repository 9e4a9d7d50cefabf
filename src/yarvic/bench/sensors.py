"""Sensors as they are: lag, transport delay, noise, steps, end stops, each at its own rate, with lost samples.

A probe takes the truth block by block and keeps only what the logger would have written, so that an hour of driving
needs the memory of its log and no more. Where the blocks are cut changes nothing.
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass, replace

import numpy as np

from yarvic.core.evidence.channels import CHANNELS, SPARK_CORRECTIONS
from yarvic.core.evidence.log import Channel
from yarvic.core.physics import FloatArray
from yarvic.core.units import CANONICAL


@dataclass(frozen=True)
class Sensor:
    """How one channel is measured: lag in s (first order), noise as standard deviation, in canonical units.

    `counts` makes it an encoder: counts per revolution into which the angle is divided, `noise` then in revolutions.
    `gain` and `offset` are what is wrong with it. `own_clock` channels are stamped by the cell, not by a bus: they
    are even and complete.
    """

    rate_hz: float
    lag_s: float = 0.0
    noise: float = 0.0
    step: float = 0.0
    low: float = -np.inf
    high: float = np.inf
    gain: float = 1.0
    offset: float = 0.0
    counts: float = 0.0
    delayed: bool = False
    own_clock: bool = False


# Lags and noise from memory of usual parts; lambda's range: common practice, no published source.
_TEMPERATURE = Sensor(10, 4.0, 0.05, 0.1)
SENSORS: dict[str, Sensor] = {
    "engine_speed": Sensor(100, 0.010, 4.0, 1.0),
    "throttle": Sensor(100, 0.010, 0.001, 0.001, 0.0, 1.0),
    "boost_pressure": Sensor(100, 0.012, 350.0, 100.0, 20e3, 400e3),
    "boost_target": Sensor(100, 0.0, 0.0, 100.0),
    "airbox_pressure": Sensor(100, 0.012, 250.0, 100.0, 10e3, 120e3),
    "rail_pressure": Sensor(100, 0.015, 1.2e5, 1e4, 0.0, 2200e5),
    "rail_target": Sensor(100, 0.0, 0.0, 1e4),
    "feed_pressure": Sensor(50, 0.05, 2e3, 1e3, 0.0, 1000e3),
    "roller_speed": Sensor(100, 0.0, 2.0e-5, 0.0, counts=36000.0, own_clock=True),
    "roller_torque": Sensor(100, 0.05, 2.0, 0.1, own_clock=True),
    "lambda_measured": Sensor(50, 0.07, 0.004, 0.001, 0.65, 1.30, delayed=True),
    "lambda_target": Sensor(50, 0.0, 0.0, 0.001),
    "fuel_trim": Sensor(50, 0.0, 0.0, 0.001),
    "long_trim": Sensor(10, 0.0, 0.0, 0.001),
    "injector_window": Sensor(50, 0.0, 0.0, 0.001),
    "injection_time": Sensor(50, 0.0, 0.0, 1e-6),
    "injected_quantity": Sensor(50, 0.0, 0.0, 1e-7),
    "quantity_limit": Sensor(50, 0.0, 0.0, 1e-7),
    "injection_start": Sensor(50, 0.0, 0.0, 0.1),
    "spark_advance": Sensor(50, 0.0, 0.0, 0.1),
    **dict.fromkeys(SPARK_CORRECTIONS, Sensor(50)),
    "cam_phase": Sensor(50, 0.0, 0.1, 0.1),
    "wastegate_duty": Sensor(50, 0.0, 0.0, 0.001, 0.0, 1.0),
    "vane_position": Sensor(50, 0.0, 0.0, 0.001, 0.0, 1.0),
    "shutter_position": Sensor(10, 0.0, 0.0, 0.01, 0.0, 1.0),
    "intake_length": Sensor(50, 0.0, 0.0, 1.0, 0.0, 1.0),
    "air_flow": Sensor(100, 0.020, 2e-4, 1e-5, 0.0, 0.6),
    "filling": Sensor(50, 0.0, 0.0, 0.001),
    "torque_estimate": Sensor(50, 0.0, 0.0, 0.1),
    "smoke": Sensor(20, 0.30, 0.004, 0.001, 0.0, 1.0),
    "misfires": Sensor(10, 0.0, 0.0, 1.0),
    "charge_temperature": Sensor(20, 0.9, 0.08, 0.1),
    "exhaust_temperature": Sensor(20, 1.1, 1.0, 0.5, 223.15, 1373.15),
    "coolant_temperature": _TEMPERATURE,
    "oil_temperature": replace(_TEMPERATURE, lag_s=6.0),
    "gearbox_temperature": replace(_TEMPERATURE, lag_s=6.0),
    "ambient_pressure": Sensor(10, 0.5, 20.0, 100.0),
    "ambient_temperature": Sensor(10, 8.0, 0.05, 0.5),
    "supply_voltage": Sensor(10, 0.2, 0.02, 0.1),
    "vehicle_speed": Sensor(50, 0.05, 0.02, 0.01),
    "gps_speed": Sensor(10, 0.15, 0.03, 0.01),
    "acceleration": Sensor(100, 0.010, 0.08, 0.01, -40.0, 40.0, offset=0.02),
    "grade": Sensor(10, 0.5, 0.0005, 0.0001),
}

# Transport delay of the exhaust to the lambda sensor: a + b / mass flow. From memory.
LAMBDA_DELAY_S = 0.03
LAMBDA_DELAY_KG = 0.004
LEAST_FLOW_KG_S = 0.004
LONGEST_DELAY_S = LAMBDA_DELAY_S + LAMBDA_DELAY_KG / LEAST_FLOW_KG_S
# How a bus loses and shifts samples. Our choice: a healthy logger.
LOST_SHARE = 0.001
JITTER_S = 0.0006


class Probe:
    """One channel being recorded from blocks of truth on an even grid of `dt` seconds."""

    def __init__(self, key: str, sensor: Sensor, dt: float, seed: tuple[int, ...], *, lost: float, jitter: float):
        self.key, self.sensor, self.dt = key, sensor, dt
        # Each channel has its own noise, so that one channel more leaves the others as they were. Channels of one
        # rate travel in one message: they are stamped, and lost, together.
        self._noise = np.random.default_rng((*seed, zlib.crc32(key.encode("ascii"))))
        self._loss = np.random.default_rng((*seed, round(sensor.rate_hz * 1000.0)))
        self._lost = 0.0 if sensor.own_clock else lost
        self._jitter = 0.0 if sensor.own_clock else jitter
        self._filter: FloatArray | None = None
        self._tail_t: FloatArray = np.empty(0)
        self._tail_v: FloatArray = np.empty(0)
        self._count = 0  # samples that were due so far
        self._turns = 0.0
        self._last_angle: float | None = None
        self._edge: tuple[float, float] | None = None  # time and value at the end of the last block
        self._times: list[FloatArray] = []
        self._values: list[FloatArray] = []

    def sample(self, time_s: FloatArray, truth: FloatArray, flow_kg_s: FloatArray | None) -> None:
        """The next block of truth; `flow_kg_s` is the exhaust's, for a sensor down the pipe."""
        s = self.sensor
        source = self._delayed(time_s, truth, flow_kg_s) if s.delayed and flow_kg_s is not None else truth
        if s.counts:
            source = self._turns + np.cumsum(source) * self.dt / 60.0
            self._turns = float(source[-1])
        if s.lag_s > 0.0:
            source = self._lagged(source)
        self._sample(time_s, source)
        self._edge = (float(time_s[-1]), float(source[-1]))

    def _delayed(self, time_s: FloatArray, truth: FloatArray, flow_kg_s: FloatArray) -> FloatArray:
        t = np.concatenate([self._tail_t, time_s])
        v = np.concatenate([self._tail_v, truth])
        keep = t >= time_s[-1] - LONGEST_DELAY_S - 2.0 * self.dt
        self._tail_t, self._tail_v = t[keep], v[keep]
        delay = LAMBDA_DELAY_S + LAMBDA_DELAY_KG / np.maximum(flow_kg_s, LEAST_FLOW_KG_S)
        return np.asarray(np.interp(time_s - delay, t, v), dtype=np.float64)

    def _lagged(self, values: FloatArray) -> FloatArray:
        from scipy.signal import lfilter

        keep = float(np.exp(-self.dt / self.sensor.lag_s))
        start = self._filter if self._filter is not None else np.array([keep * values[0]])
        filtered, self._filter = lfilter([1.0 - keep], [1.0, -keep], values, zi=start)
        return np.asarray(filtered, dtype=np.float64)

    def _sample(self, time_s: FloatArray, values: FloatArray) -> None:
        s = self.sensor
        due = int(np.floor(time_s[-1] * s.rate_hz + 1e-6)) + 1
        clock = np.arange(self._count, due, dtype=np.float64) / s.rate_hz
        self._count = due
        if not clock.size:
            return
        if self._edge is not None:
            # A sample may be due between the last block and this one.
            time_s = np.concatenate([[self._edge[0]], time_s])
            values = np.concatenate([[self._edge[1]], values])
        seen = np.interp(clock, time_s, values)
        if s.counts:
            seen = self._encoder(seen)
        else:
            seen = seen * s.gain + s.offset
            if s.noise:
                seen = seen + self._noise.normal(0.0, s.noise, seen.shape)
        if s.step:
            seen = np.round(seen / s.step) * s.step
        seen = np.clip(seen, s.low, s.high)
        chance = self._loss.random((clock.size, 2))
        kept = chance[:, 0] >= self._lost
        stamps = clock + self._jitter * chance[:, 1]
        self._times.append(stamps[kept])
        self._values.append(seen[kept])

    def _encoder(self, turns: FloatArray) -> FloatArray:
        """Speed from the counted angle: each count is seen a little early or late."""
        s = self.sensor
        angle = np.floor((turns + self._noise.normal(0.0, s.noise, turns.shape)) * s.counts) / s.counts
        first = self._last_angle if self._last_angle is not None else 2.0 * angle[0] - angle[min(1, angle.size - 1)]
        self._last_angle = float(angle[-1])
        return np.asarray(np.diff(angle, prepend=first) * s.rate_hz * 60.0, dtype=np.float64)

    def channel(self) -> Channel:
        """What was written."""
        kind = CHANNELS[self.key]
        empty: FloatArray = np.empty(0)
        times = np.concatenate(self._times) if self._times else empty
        values = np.concatenate(self._values) if self._values else empty
        return Channel(self.key, kind.title, kind.quantity, CANONICAL[kind.quantity], times, values)
