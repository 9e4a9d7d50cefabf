"""The simulated test cell: its dynos, and the weather with the station that reads it."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from math import pi, sin

import numpy as np

from yarvic.core.errors import LinkError
from yarvic.core.physics.air import Air, vapour_pressure


@dataclass(frozen=True)
class Dyno:
    """A roller with its brake; `tyre_loss` is the share of the power lost between tyre and roller."""

    key: str
    title: str
    roller_inertia_kg_m2: float
    roller_radius_m: float
    tyre_loss: float
    brake_nm: float


@cache
def dynos() -> dict[str, Dyno]:
    """The dynos of data/cells.toml by their key."""
    text = files("yarvic.bench").joinpath("data/cells.toml").read_text("utf-8")
    return {key: Dyno(key, **values) for key, values in tomllib.loads(text).items()}


def dyno(key: str) -> Dyno:
    """The dyno with this key. Raises LinkError when there is none."""
    if key not in dynos():
        raise LinkError(f"there is no dyno {key!r}", remedy=f"Dynos: {', '.join(dynos())}.")
    return dynos()[key]


# How a day goes in the valley: warmest in mid-afternoon, pressure wandering by a millibar or two. Invented.
DAY_S = 86400.0
WARMEST_HOUR = 15.0
TEMPERATURE_SWING_K = 4.5
PRESSURE_SWING_PA = 160.0
PRESSURE_WAVES_H = (7.0, 11.0)
DRIEST, WETTEST = 0.02, 1.0
# What a usual weather station misses by (standard deviation) and resolves. From memory.
STATION = {"temperature_k": (0.15, 0.1), "pressure_pa": (20.0, 10.0), "relative_humidity": (0.012, 0.01)}


@dataclass(frozen=True)
class Weather:
    """A day: the air at `hour` o'clock, and how it drifts from there. The water in the air stays; its share does not."""

    air: Air
    hour: float = 9.0
    drifts: bool = True
    seed: int = 0

    def at(self, elapsed_s: float) -> Air:
        """The air `elapsed_s` seconds after the day's beginning."""
        if not self.drifts or elapsed_s == 0.0:
            return self.air
        start, now = self.hour * 3600.0, self.hour * 3600.0 + elapsed_s
        temperature = self.air.temperature_k + self._warmth(now) - self._warmth(start)
        pressure = self.air.pressure_pa + self._pressure(now) - self._pressure(start)
        held = Air(pressure, temperature, WETTEST)
        humidity = vapour_pressure(self.air) / vapour_pressure(held)
        return Air(pressure, temperature, float(np.clip(humidity, DRIEST, WETTEST)))

    @staticmethod
    def _warmth(second: float) -> float:
        return TEMPERATURE_SWING_K * sin(2.0 * pi * (second / DAY_S - (WARMEST_HOUR - 6.0) / 24.0))

    def _pressure(self, second: float) -> float:
        phases = np.random.default_rng((self.seed, 77)).uniform(0.0, 2.0 * pi, len(PRESSURE_WAVES_H))
        waves = [sin(2.0 * pi * second / (h * 3600.0) + p) for h, p in zip(PRESSURE_WAVES_H, phases, strict=True)]
        return PRESSURE_SWING_PA * sum(waves) / len(waves)


def station_reading(air: Air, rng: np.random.Generator) -> Air:
    """The air as the weather station shows it: a little off, and rounded to its display."""

    def seen(name: str, value: float) -> float:
        deviation, step = STATION[name]
        return round((value + rng.normal(0.0, deviation)) / step) * step

    humidity = min(max(seen("relative_humidity", air.relative_humidity), 0.0), 1.0)
    return Air(seen("pressure_pa", air.pressure_pa), seen("temperature_k", air.temperature_k), humidity)
