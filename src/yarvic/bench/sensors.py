"""Sensors as they are: lag, transport delay, noise, steps, end stops, each channel at its own rate."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel
from yarvic.core.physics import FloatArray
from yarvic.core.units import CANONICAL


@dataclass(frozen=True)
class Sensor:
    """How one channel is measured; lag in s (first order), noise as standard deviation, all in canonical units."""

    rate_hz: float
    lag_s: float = 0.0
    noise: float = 0.0
    step: float = 0.0
    low: float = -np.inf
    high: float = np.inf


# Lags and noise from memory of usual parts; lambda's range: common practice, no published source.
SENSORS: dict[str, Sensor] = {
    "engine_speed": Sensor(100, 0.010, 4.0, 1.0),
    "throttle": Sensor(100, 0.010, 0.001, 0.001, 0.0, 1.0),
    "boost_pressure": Sensor(100, 0.012, 350.0, 100.0),
    "boost_target": Sensor(100, 0.0, 0.0, 100.0),
    "rail_pressure": Sensor(100, 0.015, 1.2e5, 1e4),
    "rail_target": Sensor(100, 0.0, 0.0, 1e4),
    "roller_speed": Sensor(100, 0.0, 0.05, 0.0),
    "lambda_measured": Sensor(50, 0.07, 0.004, 0.001, 0.65, 1.30),
    "lambda_target": Sensor(50, 0.0, 0.0, 0.001),
    "fuel_trim": Sensor(50, 0.0, 0.0, 0.001),
    "injector_window": Sensor(50, 0.0, 0.0, 0.001),
    "spark_advance": Sensor(50, 0.0, 0.0, 0.1),
    "spark_correction_1": Sensor(50, 0.0, 0.0, 0.0),
    "spark_correction_2": Sensor(50, 0.0, 0.0, 0.0),
    "spark_correction_3": Sensor(50, 0.0, 0.0, 0.0),
    "wastegate_duty": Sensor(50, 0.0, 0.0, 0.001),
    "filling": Sensor(50, 0.0, 0.0, 0.001),
    "torque_estimate": Sensor(50, 0.0, 0.0, 0.1),
    "charge_temperature": Sensor(50, 0.9, 0.08, 0.1),
    "exhaust_temperature": Sensor(50, 1.1, 1.0, 0.5),
    "coolant_temperature": Sensor(50, 4.0, 0.05, 0.1),
    "oil_temperature": Sensor(50, 6.0, 0.05, 0.1),
    "vehicle_speed": Sensor(50, 0.05, 0.02, 0.01),
}

# Transport delay of the exhaust to the lambda sensor: a + b / mass flow. From memory.
LAMBDA_DELAY_S = 0.03
LAMBDA_DELAY_KG = 0.004


def measure(
    key: str, time_s: FloatArray, truth: FloatArray, clock_s: FloatArray, rng: np.random.Generator
) -> Channel:
    """The channel that a sensor records on `clock_s` of a true signal given on the even grid `time_s`."""
    sensor = SENSORS[key]
    values = truth
    if sensor.lag_s > 0.0:
        values = _first_order(values, float(time_s[1] - time_s[0]), sensor.lag_s)
    sampled = np.interp(clock_s, time_s, values)
    if sensor.noise:
        sampled = sampled + rng.normal(0.0, sensor.noise, sampled.shape)
    if sensor.step:
        sampled = np.round(sampled / sensor.step) * sensor.step
    sampled = np.clip(sampled, sensor.low, sensor.high)
    kind = CHANNELS[key]
    return Channel(key, kind.title, kind.quantity, CANONICAL[kind.quantity], clock_s, sampled)


def _first_order(values: FloatArray, dt: float, lag_s: float) -> FloatArray:
    from scipy.signal import lfilter

    keep = float(np.exp(-dt / lag_s))
    filtered, _ = lfilter([1.0 - keep], [1.0, -keep], values, zi=[keep * values[0]])
    return np.asarray(filtered, dtype=np.float64)


def delayed_lambda(time_s: FloatArray, truth: FloatArray, exhaust_kg_s: FloatArray) -> FloatArray:
    """Lambda as it reaches the sensor: each sample looks back by the delay of its own exhaust flow."""
    delay = LAMBDA_DELAY_S + LAMBDA_DELAY_KG / np.maximum(exhaust_kg_s, 0.004)
    return np.asarray(np.interp(time_s - delay, time_s, truth), dtype=np.float64)
