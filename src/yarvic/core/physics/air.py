"""Air: humid air and the standard atmosphere."""

from __future__ import annotations

from dataclasses import dataclass

from yarvic.core.errors import UnitError
from yarvic.core.physics import Value
from yarvic.core.physics.constants import ISA_EXPONENT, ISA_LAPSE_PER_M, STANDARD_PRESSURE_PA


@dataclass(frozen=True, slots=True)
class Air:
    """The state of the ambient air: static pressure in Pa, temperature in K, relative humidity 0 to 1."""

    pressure_pa: float
    temperature_k: float
    relative_humidity: float

    def __post_init__(self) -> None:
        if not 20e3 <= self.pressure_pa <= 120e3:
            raise UnitError(
                f"an air pressure of {self.pressure_pa / 100:.0f} mbar is outside 200 to 1200 mbar",
                remedy="Give the station pressure with its unit, not the pressure above atmosphere.",
            )
        if not 200.0 <= self.temperature_k <= 340.0:
            raise UnitError(
                f"an air temperature of {self.temperature_k - 273.15:.0f} degC is outside -73 to 67 degC",
                remedy="Check the unit of the temperature.",
            )
        if not 0.0 <= self.relative_humidity <= 1.0:
            raise UnitError(
                f"a relative humidity of {self.relative_humidity * 100:.0f} % is outside 0 to 100 %",
                remedy="Give it in per cent, such as 40%.",
            )


def vapour_pressure(air: Air) -> float:
    """Partial pressure of water vapour in Pa. ASHRAE Handbook Fundamentals ch. 1, through psychrolib."""
    import psychrolib

    psychrolib.SetUnitSystem(psychrolib.SI)
    return float(air.relative_humidity * psychrolib.GetSatVapPres(air.temperature_k - 273.15))


def dry_pressure(air: Air) -> float:
    """Partial pressure of dry air in Pa: static pressure less the vapour's."""
    return air.pressure_pa - vapour_pressure(air)


def density(air: Air) -> float:
    """Density of humid air in kg/m3. ASHRAE Handbook Fundamentals ch. 1, through psychrolib."""
    import psychrolib

    psychrolib.SetUnitSystem(psychrolib.SI)
    celsius = air.temperature_k - 273.15
    ratio = psychrolib.GetHumRatioFromRelHum(celsius, air.relative_humidity, air.pressure_pa)
    return float(psychrolib.GetMoistAirDensity(celsius, ratio, air.pressure_pa))


def isa_pressure(altitude_m: Value) -> Value:
    """Pressure in Pa of the standard atmosphere at an altitude in m, below 11 km. ICAO Doc 7488."""
    return STANDARD_PRESSURE_PA * (1.0 - ISA_LAPSE_PER_M * altitude_m) ** ISA_EXPONENT


def isa_altitude(pressure_pa: Value) -> Value:
    """Altitude in m at which the standard atmosphere has a pressure in Pa: the inverse of `isa_pressure`. ICAO Doc 7488."""
    return (1.0 - (pressure_pa / STANDARD_PRESSURE_PA) ** (1.0 / ISA_EXPONENT)) / ISA_LAPSE_PER_M


def station_pressure(sea_level_pa: Value, altitude_m: Value) -> Value:
    """Pressure in Pa at a station from the one that was reduced to sea level by the standard atmosphere (QNH).

    ICAO Doc 7488: both lie in that atmosphere, `altitude_m` apart.
    """
    return isa_pressure(isa_altitude(sea_level_pa) + altitude_m)


def humidity_of_dew_point(dew_point_k: float, temperature_k: float) -> float:
    """Relative humidity, 0 to 1, of air of a temperature and a dew point in K: the ratio of both saturation pressures.

    ASHRAE Handbook Fundamentals ch. 1, through psychrolib. Raises UnitError for a dew point above the temperature.
    """
    import psychrolib

    if dew_point_k > temperature_k + 0.5:
        raise UnitError(
            f"a dew point of {dew_point_k - 273.15:.1f} degC is above the air's {temperature_k - 273.15:.1f} degC",
            remedy="Check both.",
        )
    psychrolib.SetUnitSystem(psychrolib.SI)
    celsius = min(dew_point_k, temperature_k) - 273.15
    return float(psychrolib.GetRelHumFromTDewPoint(temperature_k - 273.15, celsius))
