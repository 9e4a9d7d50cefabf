"""Knock: auto-ignition of the unburned gas, and the tone of the knocking cylinder."""

from __future__ import annotations

import numpy as np

from yarvic.core.physics import FloatArray, Value
from yarvic.core.physics.constants import DRAPER_ROOTS, KNOCK_DELAY, SOUND_SPEED_BURNED, STANDARD_PRESSURE_PA


def ignition_delay(pressure_pa: Value, unburned_temperature_k: Value, octane: Value) -> Value:
    """Auto-ignition delay in s. Douaud and Eyzat, SAE paper 780080."""
    a, b, c, d = KNOCK_DELAY
    return (
        1e-3
        * a
        * (octane / 100.0) ** b
        * (pressure_pa / STANDARD_PRESSURE_PA) ** c
        * np.exp(d / unburned_temperature_k)
    )


def knock_integral(step_s: Value, delay_s: FloatArray) -> FloatArray:
    """Running integral of dt / tau along the last axis, by the trapezoid rule; auto-ignition where it reaches 1.

    Livengood and Wu (1955), 5th Symposium on Combustion. `step_s` is the time between samples.
    """
    rate = 1.0 / delay_s
    inner = 0.5 * (rate[..., 1:] + rate[..., :-1]) * step_s
    zero = np.zeros((*rate.shape[:-1], 1))
    return np.concatenate([zero, np.cumsum(inner, axis=-1)], axis=-1)


def knock_tones(bore_m: Value, sound_speed: float = SOUND_SPEED_BURNED) -> tuple[Value, ...]:
    """Frequencies in Hz of the first three transverse modes, f = alpha c / (pi B). Draper, NACA report 493."""
    return tuple(root * sound_speed / (np.pi * bore_m) for root in DRAPER_ROOTS)
