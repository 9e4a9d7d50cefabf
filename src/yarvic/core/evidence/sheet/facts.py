"""What the lines above a curve, and columns beside it, say of its conditions; what they leave open is asked."""

from __future__ import annotations

import re
from collections.abc import Mapping as Table
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from yarvic.core.errors import UnitError, YarvicError, in_plain
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.sheet.words import bounds, fact_named, fitting_units, marks_of, sheet_data
from yarvic.core.physics.air import humidity_of_dew_point, isa_pressure, station_pressure
from yarvic.core.typed_numbers import parse_number
from yarvic.core.units import read_unit

_NUMBER = re.compile(r"^\s*(?P<number>[-+]?[\d.,' ]*\d)\s*(?P<unit>.*?)\s*$")
_BRACKET = re.compile(r"^(?P<outer>.*?)\s*[\[(](?P<inside>[^\[\]()]*)[\])]\s*:?\s*$")
# Units that a bare number of a fact can be in.
_PRESSURES, _TEMPERATURES = ("kPa", "mbar", "inHg", "mmHg", "psi", "bar"), ("degC", "degF", "K")
EVEN_FACTOR = 0.002
FAN_WORDS = {"on": 1.0, "full": 1.0, "ein": 1.0, "an": 1.0, "marche": 1.0, "off": 0.0, "aus": 0.0, "arrêt": 0.0}
_PLAIN_TEXT = ("dyno", "fuel", "strapping", "note")
STATION = "whether the pressure is the station's or reduced to sea level cannot be told: say which, and the altitude"


@dataclass
class Facts:
    """Conditions as far as they are said, what is asked of them, and what was made of them, in sentences.

    `asked` is by what it concerns: pressure, temperature, humidity, factor. `pressure_pa` is what stands there, `at`
    what it is counted at: `station`, `sea level`, or empty where that is not known. `date` is ISO 8601.
    """

    conditions: Conditions
    asked: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    pressure_pa: float | None = None
    at: Literal["", "station", "sea level"] = ""
    altitude_m: float | None = None
    date: str = ""


def read_facts(facts: Table[str, str], log: Log | None = None, altitude_m: float | None = None) -> Facts:
    """The conditions of a measured run. `log` may hold its weather as columns, `altitude_m` is that of the shop.

    A pressure is taken for the station's only where a name, or the altitude, says so. Nothing is raised: what cannot
    be is asked.
    """
    said: dict[str, tuple[str, str]] = {}
    for name, text in facts.items():
        bare, inside = name.strip().rstrip(":"), ""
        if (bracket := _BRACKET.match(name)) is not None:
            bare, inside = bracket["outer"], bracket["inside"]
        fact = fact_named(bare) or fact_named(name)
        if fact and text.strip():
            said.setdefault(fact, (text.strip(), inside))
    found = Facts(Conditions(simulated=False, run="", fan=None))
    values: dict[str, Any] = {}
    for fact, (text, inside) in said.items():
        try:
            value = _value(fact, text, inside)
        except YarvicError as error:
            found.asked[_about(fact)] = f"{fact.replace('_', ' ')} '{in_plain(text, 40)}': {error}"
            continue
        if value is not None:
            values[fact] = value
    _beside(values, log)
    _weather(values, found, altitude_m)
    for key, mine in (("gear", "gear"), ("cool_down", "cool_down_s"), ("tyre_pressure", "tyre_pressure_pa"),
                      ("factor", "stated_factor"), ("fan", "fan"), *((k, k) for k in _PLAIN_TEXT)):  # fmt: skip
        if key in values:
            found.conditions = found.conditions.changed(**{mine: values[key]})
    found.date = values.get("date", "")
    return found


def _about(fact: str) -> str:
    return "pressure" if "pressure" in fact and fact != "tyre_pressure" else fact


def _value(fact: str, text: str, inside: str) -> Any:
    """A fact in SI; None for one that is of no use here. Raises UnitError where it cannot be."""
    if fact in _PLAIN_TEXT or fact == "run":
        return in_plain(text, 100)
    if fact == "date":
        return _date(text)
    if fact in ("correction", "basis", "ratio"):
        return None
    if fact == "fan" and text.strip().casefold() in FAN_WORDS:
        return FAN_WORDS[text.strip().casefold()]
    match = _NUMBER.match(text)
    if match is None:
        if fact in ("gear", "fan") or (fact == "factor" and marks_of(text)[1].corrected_by):
            return None  # a standard stands there, which is read with the columns
        raise UnitError("is no number", remedy="Write it as a number with its unit.")
    value, words = parse_number(match["number"].replace("'", "").replace(" ", "")), match["unit"] or inside
    if fact == "gear":
        return int(value) if value == int(value) and 1 <= value <= 40 else None
    if fact == "factor":
        low, high = bounds("factor")
        if not low <= value <= high:
            raise UnitError(f"no correction is as large as {low} to {high}", remedy="Check it.")
        return value
    if fact == "fan":
        return _share(value, words) if "%" in words or value <= 1.0 else None
    if fact == "humidity":
        return _share(value, words)
    return _measured(fact, value, words)


def _share(value: float, words: str) -> float:
    share = value / 100.0 if "%" in words or value > 1.5 else value
    if not 0.0 <= share <= 1.0:
        raise UnitError("lies outside 0 to 100 %", remedy="Give it in per cent.")
    return share


def _measured(fact: str, value: float, words: str) -> float | None:
    """A temperature, pressure, height or time in SI, by its unit, or by the only one in which it fits."""
    if fact in ("altitude", "cool_down"):
        quantity, usual = ("length", "m") if fact == "altitude" else ("time", "s")
        label = words or usual
        if fact == "altitude" and not words:
            raise UnitError("no unit is stated", remedy="Say m or ft.")
        found = value * read_unit(label, quantity=quantity)[0].factor
        low, high = bounds("altitude_m" if fact == "altitude" else "cool_down_s")
        if not low <= found <= high:
            raise UnitError(f"must be between {low:g} and {high:g} {usual}", remedy="Check its unit.")
        return found
    pressure = "pressure" in fact
    labels = _PRESSURES if pressure else _TEMPERATURES
    what = "tyre_pressure_pa" if fact == "tyre_pressure" else "pressure_pa" if pressure else "temperature_k"
    if fact == "vapour_pressure":
        return value * read_unit(words, quantity="pressure")[0].factor
    fits = fitting_units(value, what, labels)
    if not words:
        if len(fits) != 1:
            can = " or ".join(fits) if fits else "none"
            raise UnitError(f"no unit is stated, and it can be {can}", remedy="Write the unit behind it.")
        words = fits[0]
    u, reference = read_unit(words, quantity="pressure" if pressure else "temperature")
    if reference == "gauge" and fact != "tyre_pressure":
        raise UnitError("is a gauge pressure, which no barometer shows", remedy="Give the pressure of the air.")
    found = value * u.factor + u.offset
    low, high = bounds(what)
    if not low <= found <= high and fact != "dew_point":
        might = f" Read as {fits[0]} it would be one." if fits else ""
        raise UnitError(f"no air is at {value:g} {u.label}", remedy=f"Check its unit.{might}")
    return found


def _date(text: str) -> str | None:
    """A date as ISO 8601, where it can be no other."""
    if match := re.search(r"\b(\d{4})-(\d{2})-(\d{2})(?:[T ](\d{2}:\d{2}(?::\d{2})?))?", text):
        year, month, day, clock = match.groups()
    elif match := re.search(r"\b(\d{1,2})\.(\d{1,2})\.(\d{4})(?:\D+(\d{2}:\d{2}(?::\d{2})?))?", text):
        day, month, year, clock = match.groups()
    else:
        return None
    if not (1 <= int(month) <= 12 and 1 <= int(day) <= 31):
        return None
    return f"{year}-{int(month):02d}-{int(day):02d}" + (f"T{clock}" if clock else "")


def _beside(values: dict[str, Any], log: Log | None) -> None:
    """Weather that stands in columns, where no line says it: the middle of each; and a factor that is the same all along."""
    for name, c in log.channels.items() if log is not None else ():
        if fact_named(name) == "factor" and c.values.size and np.isfinite(c.values).all():
            low, high = bounds("factor")
            if low <= c.values.min() and c.values.max() <= high and np.ptp(c.values) < EVEN_FACTOR:
                values.setdefault("factor", float(np.median(c.values)))
    for fact, key in (
        ("temperature", "ambient_temperature"),
        ("pressure", "ambient_pressure"),
        ("humidity", "humidity"),
    ):
        channel = log.channels.get(key) if log is not None else None
        if channel is None or channel.doubt is not None or not np.isfinite(channel.values).any():
            continue
        if fact == "pressure" and values.keys() & {"station_pressure", "sea_level_pressure", "pressure"}:
            continue
        # A column is what a sensor in the cell showed; only a line may be the weather service's.
        values.setdefault("station_pressure" if fact == "pressure" else fact, float(np.nanmedian(channel.values)))


def _weather(values: dict[str, Any], found: Facts, altitude_m: float | None) -> None:
    """The air of the run: pressure at the station, temperature, humidity."""
    height = values.get("altitude", altitude_m)
    said: dict[str, float] = {}
    if "temperature" in values:
        said["temperature_k"] = values["temperature"]
    pressure = _station(values, found, height)
    if pressure is not None:
        said["pressure_pa"] = pressure
    try:
        humidity = _humidity(values, said)
        if humidity is not None:
            said["relative_humidity"] = humidity
    except YarvicError as error:
        found.asked["humidity"] = str(error)
    found.conditions = found.conditions.changed(**said)


def _station(values: dict[str, Any], found: Facts, height: float | None) -> float | None:
    found.altitude_m = height
    if "station_pressure" in values:
        found.pressure_pa, found.at = float(values["station_pressure"]), "station"
        return found.pressure_pa
    if "sea_level_pressure" in values:
        return _reduced(values["sea_level_pressure"], found, height)
    if "pressure" not in values:
        return None
    pressure = found.pressure_pa = float(values["pressure"])
    if height is None:
        found.asked["pressure"] = STATION
        return None
    share = float(sheet_data()["bounds"]["weather_share"])
    station, sea = (abs(pressure / float(isa_pressure(h)) - 1.0) <= share for h in (height, 0.0))
    if station and not sea:
        found.at = "station"
        found.notes.append(f"pressure {pressure / 100:.0f} mbar is that of the station, at {height:.0f} m")
        return pressure
    if sea and not station:
        return _reduced(pressure, found, height)
    found.asked["pressure"] = STATION if station else f"no air is at {pressure / 100:.0f} mbar at {height:.0f} m"
    return None


def _reduced(pressure: float, found: Facts, height: float | None) -> float | None:
    found.pressure_pa, found.at = pressure, "sea level"
    if height is None:
        found.asked["pressure"] = "the pressure is reduced to sea level: state the altitude"
        return None
    station = float(station_pressure(pressure, height))
    found.notes.append(
        f"pressure {pressure / 100:.0f} mbar is reduced to sea level: {station / 100:.0f} mbar at {height:.0f} m"
    )
    return station


def _humidity(values: dict[str, Any], said: dict[str, float]) -> float | None:
    if "humidity" in values:
        return float(values["humidity"])
    if "temperature_k" not in said:
        return None
    if "dew_point" in values:
        return humidity_of_dew_point(values["dew_point"], said["temperature_k"])
    if "vapour_pressure" in values:
        import psychrolib

        psychrolib.SetUnitSystem(psychrolib.SI)
        full = psychrolib.GetSatVapPres(said["temperature_k"] - 273.15)
        return _share(values["vapour_pressure"] / full, "")
    return None
