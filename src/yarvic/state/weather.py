"""The air of a run as a person states it: a barometer that may be reduced to sea level, humidity or a dew point."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from yarvic.core.errors import UnitError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.physics.air import humidity_of_dew_point, station_pressure

At = Literal["", "station", "sea level"]


STATION_PA = (20e3, 120e3)  # between which a barometer can stand


@dataclass(frozen=True)
class Weather:
    """What was said: pressure (Pa) with what it is counted at, altitude (m), dew point (K). None and empty: not said."""

    pressure_pa: float | None = None
    at: At = ""
    altitude_m: float | None = None
    dew_point_k: float | None = None

    def __post_init__(self) -> None:
        for value, (low, high, unit) in (
            (self.pressure_pa, (*STATION_PA, "Pa")),
            (self.altitude_m, (-450.0, 6000.0, "m")),
            (self.dew_point_k, (200.0, 340.0, "K")),
        ):
            if value is not None and not low <= value <= high:
                shown = {"Pa": ("mbar", 100.0, 0.0), "m": ("m", 1.0, 0.0), "K": ("degC", 1.0, 273.15)}[unit]
                a, b = ((v - shown[2]) / shown[1] for v in (low, high))
                raise UnitError(f"must be between {a:.0f} and {b:.0f} {shown[0]}", remedy="Check its unit.")

    @property
    def question(self) -> str:
        """What is missing before the pressure is one."""
        if self.pressure_pa is None:
            return ""
        if not self.at:
            return "Say whether it is the station's pressure, or reduced to sea level."
        if self.at == "sea level" and self.altitude_m is None:
            return "A pressure that is reduced to sea level needs the altitude."
        return ""

    @property
    def station_pa(self) -> float | None:
        """The pressure at the station, Pa; None where it is not known."""
        if self.pressure_pa is None or self.question:
            return None
        if self.at == "sea level":
            assert self.altitude_m is not None
            return float(station_pressure(self.pressure_pa, self.altitude_m))
        return self.pressure_pa

    def of(self, conditions: Conditions) -> Conditions:
        """Conditions with this air. Raises UnitError for a dew point above the temperature."""
        said = {"pressure_pa": self.station_pa}
        if self.dew_point_k is not None:
            if conditions.temperature_k is None:
                raise UnitError("a dew point needs the temperature", remedy="State it first.")
            said["relative_humidity"] = humidity_of_dew_point(self.dew_point_k, conditions.temperature_k)
        return conditions.changed(**said)
