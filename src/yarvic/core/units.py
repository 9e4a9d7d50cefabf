"""Quantities and units: conversion at the border, one canonical unit inside.

Inside, every quantity is in its SI unit and float64, with two units that the SI brochure (9th edition,
table 8) accepts for use with the SI and that the trade reads without thought: the minute, in engine
speed (1/min), and the degree of angle. Mixture strength is carried as lambda; an air-fuel ratio is only
ever read or shown together with the stoichiometric ratio of its fuel.
"""

from __future__ import annotations

import math
import re
import unicodedata
from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from yarvic.core.errors import UnitError


@dataclass(frozen=True, slots=True)
class Unit:
    """`canonical = value * factor + offset`; `label` is how the unit is written beside a number.

    `logged_only`: files count in it, such as tenths of a degree, and nobody wants to read it.
    """

    label: str
    quantity: str
    factor: float
    offset: float = 0.0
    decimals: int = 1
    logged_only: bool = False


# Conversion factors: NIST SP 811 (2008), appendix B.8, except PS: 75 kgf m/s with g = 9.80665 m/s2.
_DEFINED: tuple[Unit, ...] = (
    Unit("Pa", "pressure", 1.0, decimals=0),
    Unit("kPa", "pressure", 1e3, decimals=1),
    Unit("bar", "pressure", 1e5, decimals=2),
    Unit("mbar", "pressure", 1e2, decimals=0),
    Unit("MPa", "pressure", 1e6, decimals=2),
    Unit("psi", "pressure", 6894.757293168, decimals=1),
    Unit("inHg", "pressure", 3386.389, decimals=2),
    Unit("mmHg", "pressure", 133.3224, decimals=0),
    Unit("kgf/cm2", "pressure", 98066.5, decimals=2),
    Unit("K", "temperature", 1.0, decimals=1),
    Unit("degC", "temperature", 1.0, 273.15, decimals=1),
    Unit("degF", "temperature", 5.0 / 9.0, 459.67 * 5.0 / 9.0, decimals=1),
    Unit("K diff", "temperature difference", 1.0, decimals=1),
    Unit("N m", "torque", 1.0, decimals=1),
    Unit("lb-ft", "torque", 1.3558179483314, decimals=1),
    Unit("kgf m", "torque", 9.80665, decimals=2),
    Unit("W", "power", 1.0, decimals=0),
    Unit("kW", "power", 1e3, decimals=1),
    Unit("PS", "power", 735.49875, decimals=1),
    Unit("hp", "power", 745.69987158227, decimals=1),
    Unit("rpm", "engine speed", 1.0, decimals=0),
    Unit("rad/s", "engine speed", 60.0 / (2.0 * math.pi), decimals=1),
    Unit("m/s", "speed", 1.0, decimals=2),
    Unit("km/h", "speed", 1.0 / 3.6, decimals=1),
    Unit("mph", "speed", 0.44704, decimals=1),
    Unit("kg/s", "mass flow", 1.0, decimals=4),
    Unit("g/s", "mass flow", 1e-3, decimals=1),
    Unit("kg/h", "mass flow", 1.0 / 3600.0, decimals=1),
    Unit("lb/min", "mass flow", 0.45359237 / 60.0, decimals=2),
    Unit("m3/s", "volume flow", 1.0, decimals=4),
    Unit("L/min", "volume flow", 1e-3 / 60.0, decimals=1),
    Unit("cc/min", "volume flow", 1e-6 / 60.0, decimals=0),
    Unit("L/h", "volume flow", 1e-3 / 3600.0, decimals=1),
    Unit("m3/h", "volume flow", 1.0 / 3600.0, decimals=1),
    Unit("cfm", "volume flow", 0.3048**3 / 60.0, decimals=0),
    Unit("lambda", "mixture", 1.0, decimals=3),
    Unit("deg", "angle", 1.0, decimals=1),
    Unit("rad", "angle", 180.0 / math.pi, decimals=3),
    Unit("m", "length", 1.0, decimals=3),
    Unit("mm", "length", 1e-3, decimals=1),
    Unit("in", "length", 0.0254, decimals=2),
    Unit("ft", "length", 0.3048, decimals=0),
    Unit("km", "length", 1e3, decimals=0),
    Unit("mi", "length", 1609.344, decimals=0),
    Unit("kg", "mass", 1.0, decimals=1),
    Unit("mg", "mass", 1e-6, decimals=1),
    Unit("lb", "mass", 0.45359237, decimals=1),
    Unit("m2", "area", 1.0, decimals=2),
    Unit("m3", "volume", 1.0, decimals=6),
    Unit("L", "volume", 1e-3, decimals=1),
    Unit("cm3", "volume", 1e-6, decimals=0),
    Unit("mm3", "volume", 1e-9, decimals=1),
    Unit("gal", "volume", 3.785411784e-3, decimals=1),
    Unit("kg/J", "specific consumption", 1.0, decimals=10),
    Unit("g/kWh", "specific consumption", 1e-3 / 3.6e6, decimals=0),
    Unit("J/kg", "heating value", 1.0, decimals=0),
    Unit("MJ/kg", "heating value", 1e6, decimals=1),
    Unit("Hz", "frequency", 1.0, decimals=0),
    Unit("kHz", "frequency", 1e3, decimals=2),
    Unit("Pa/s", "leak rate", 1.0, decimals=1),
    Unit("kPa/min", "leak rate", 1e3 / 60.0, decimals=1),
    Unit("fraction", "ratio", 1.0, decimals=3),
    Unit("%", "ratio", 1e-2, decimals=1),
    Unit("s", "time", 1.0, decimals=2),
    Unit("ms", "time", 1e-3, decimals=2),
    Unit("us", "time", 1e-6, decimals=0),
    Unit("ns", "time", 1e-9, decimals=0),
    Unit("min", "time", 60.0, decimals=2),
    Unit("h", "time", 3600.0, decimals=1),
    Unit("V", "voltage", 1.0, decimals=1),
    Unit("mV", "voltage", 1e-3, decimals=0),
    Unit("m/s2", "acceleration", 1.0, decimals=2),
    Unit("g", "acceleration", 9.80665, decimals=2),
    Unit("count", "count", 1.0, decimals=0),
    Unit("deg/s", "angle rate", 1.0, decimals=2),
    Unit("knot", "speed", 1852.0 / 3600.0, decimals=1),
    *(
        Unit(label, quantity, factor, offset, decimals, logged_only=True)
        for label, quantity, factor, offset, decimals in (
            ("0.1 s", "time", 0.1, 0.0, 0),
            ("0.01 s", "time", 0.01, 0.0, 0),
            ("d", "time", 86_400.0, 0.0, 6),
            ("10 rpm", "engine speed", 10.0, 0.0, 1),
            ("0.1 rpm", "engine speed", 0.1, 0.0, 0),
            ("0.1 degC", "temperature", 0.1, 273.15, 0),
            ("0.1 degF", "temperature", 0.5 / 9.0, 459.67 * 5.0 / 9.0, 0),
            ("0.1 psi", "pressure", 689.4757293168, 0.0, 0),
            ("0.1 bar", "pressure", 1e4, 0.0, 1),
            ("0.1 %", "ratio", 1e-3, 0.0, 0),
            ("0.1 km/h", "speed", 0.1 / 3.6, 0.0, 0),
            ("0.1 deg", "angle", 0.1, 0.0, 0),
            ("0.1 lambda", "mixture", 0.1, 0.0, 2),
            ("0.01 lambda", "mixture", 0.01, 0.0, 1),
            ("0.001 lambda", "mixture", 0.001, 0.0, 0),
            ("factor", "ratio", 1.0, -1.0, 3),  # around one: 1.05 adds five per cent
        )
    ),
)

UNITS: Mapping[str, Unit] = MappingProxyType({unit.label: unit for unit in _DEFINED})

CANONICAL: Mapping[str, str] = MappingProxyType(
    {unit.quantity: unit.label for unit in _DEFINED if unit.factor == 1.0 and unit.offset == 0.0}
)

# Words as they stand in log headers, lower case without blanks, dots and degree signs.
_WORDS: Mapping[str, str] = MappingProxyType(
    {
        **{re.sub(r"[ .]", "", unit.label.lower()): unit.label for unit in _DEFINED},
        "c": "degC", "celsius": "degC", "celcius": "degC", "f": "degF", "fahrenheit": "degF", "kelvin": "K",
        "degk": "K", "degcelsius": "degC", "gradc": "degC", "grdc": "degC", "degfahrenheit": "degF",
        "hpa": "mbar", "millibar": "mbar", "lb/in2": "psi", "lbf/in2": "psi", "in-hg": "inHg", '"hg': "inHg",
        "inchhg": "inHg", "mm-hg": "mmHg", "torr": "mmHg", "kg/cm2": "kgf/cm2", "kp/cm2": "kgf/cm2",
        "kilopascal": "kPa", "kilopascals": "kPa", "кпа": "kPa", "бар": "bar", "мбар": "mbar", "гпа": "mbar",
        "newtonmetre": "N m", "n-m": "N m", "lbft": "lb-ft", "ft-lb": "lb-ft", "ftlb": "lb-ft", "ftlbs": "lb-ft",
        "ft-lbs": "lb-ft", "lbs-ft": "lb-ft", "lbf-ft": "lb-ft", "lbfft": "lb-ft", "ft-lbf": "lb-ft", "lbsft": "lb-ft",
        "kgm": "kgf m", "mkg": "kgf m", "kg-m": "kgf m", "kpm": "kgf m", "mkp": "kgf m", "kgf-m": "kgf m",
        "bhp": "hp", "whp": "hp", "rwhp": "hp", "fwhp": "hp", "awhp": "hp", "chp": "hp", "horsepower": "hp",
        "metrichp": "PS", "hpmetric": "PS", "cv": "PS", "pk": "PS", "ch": "PS", "hk": "PS", "wkw": "kW", "wps": "PS",
        "wnm": "N m", "wtq": "lb-ft", "лс": "PS", "квт": "kW", "нм": "N m", "ftlbf": "lb-ft",
        "1/min": "rpm", "/min": "rpm", "min-1": "rpm", "min^-1": "rpm", "u/min": "rpm", "r/min": "rpm",
        "rev/min": "rpm", "tr/min": "rpm", "giri/min": "rpm", "obr/min": "rpm", "ot/min": "rpm", "varv/min": "rpm",
        "omw/min": "rpm", "upm": "rpm", "umdr/min": "rpm", "umin": "rpm", "об/мин": "rpm", "revs/min": "rpm",
        "kph": "km/h", "kmh": "km/h", "km/t": "km/h", "км/ч": "km/h", "mi/h": "mph", "ft3/min": "cfm",
        "cm3/min": "cc/min", "l/m": "L/min", "kg/hr": "kg/h", "lbs/min": "lb/min", "lbm/min": "lb/min",
        "lb/minute": "lb/min", "kn": "knot", "kt": "knot",
        "kts": "knot", "knots": "knot", "knoten": "knot", "noeud": "knot", "nœud": "knot", "nudos": "knot", "nodi": "knot",
        "kmph": "km/h", "kilometersperhour": "km/h", "g/sec": "g/s", "gram/s": "g/s", "gps": "g/s",
        "lam": "lambda", "λ": "lambda", "percent": "%", "pct": "%", "prozent": "%", "procent": "%", "ratio": "fraction",
        "-": "fraction", "1": "fraction", "sec": "s", "second": "s", "seconds": "s", "sek": "s", "sekunden": "s",
        "secs": "s", "с": "s", "msec": "ms", "millisec": "ms", "milliseconds": "ms", "millisecond": "ms", "мс": "ms",
        "microseconds": "us", "usec": "us", "minutes": "min", "hours": "h", "days": "d",
        "day": "d", "1/10s": "0.1 s", "100ms": "0.1 s", "1/10sec": "0.1 s", "1/100s": "0.01 s", "10ms": "0.01 s",
        "1/100sec": "0.01 s",
        "volt": "V", "volts": "V", "в": "V",
        "degca/s": "deg/s", "degcrk/s": "deg/s", "degkw/s": "deg/s",
        "crankdeg": "deg", "degca": "deg", "degcad": "deg", "degcrk": "deg", "degcrank": "deg", "degkw": "deg",
        "degcra": "deg", "degckw": "deg", "gradkw": "deg", "grdkw": "deg", "cad": "deg", "degcrs": "deg",
        "degbtdc": "deg", "degree": "deg", "degrees": "deg", "grad": "deg", "grader": "deg", "gradi": "deg",
        "grados": "deg", "graus": "deg", "degrés": "deg", "btdc": "deg", "degvot": "deg", "degcabtdc": "deg",
        "inch": "in", "feet": "ft", "foot": "ft",
        "metres": "m", "meters": "m", "m/s^2": "m/s2", "mg/stroke": "mg", "mg/str": "mg", "mg/hub": "mg", "mg/cyc": "mg",
        "mg/cycle": "mg", "mg/slag": "mg", "mg/stk": "mg", "mg/cyl": "mg",
        "mm3/hub": "mm3", "mm3/stk": "mm3", "mm3/str": "mm3", "mm3/stroke": "mm3", "mm^3": "mm3", "cm^3": "cm3", "cc": "cm3",
        "m^3/h": "m3/h", "l/hr": "L/h", "counts": "count", "#": "count", "litre": "L", "liter": "L",
    }
)  # fmt: skip

# What follows a unit of pressure, and what the number is then counted from.
Reference = Literal["", "absolute", "gauge", "difference"]
_REFERENCE_WORDS: Mapping[str, Reference] = MappingProxyType(
    {
        "a": "absolute", "abs": "absolute", "absolute": "absolute",
        "absolut": "absolute", "absolu": "absolute", "assoluta": "absolute", "absoluta": "absolute",
        "g": "gauge", "gauge": "gauge", "gage": "gauge", "rel": "gauge", "relative": "gauge", "ü": "gauge",
        "relativ": "gauge", "relativo": "gauge", "relativa": "gauge", "über": "gauge",
        "d": "difference", "diff": "difference", "delta": "difference",
    }
)  # fmt: skip
_PRESSURES: Mapping[str, tuple[str, Reference]] = MappingProxyType(
    {
        f"{words}{joint}{end}": (label, reference)
        for words, label in _WORDS.items()
        if UNITS[label].quantity == "pressure"
        for end, reference in _REFERENCE_WORDS.items()
        for joint in ("", "-", "_")
        if f"{words}{joint}{end}" not in _WORDS
    }
)
_AFR_WORDS = frozenset(
    {"afr", "air/fuel", "a/f", "airfuel", "a/fratio", "afr:1", ":1", "afrgas", "afrpetrol", "gasafr", "kg/kg", "g/g"}
)


def unit(label: str) -> Unit:
    """The unit with this label. Raises UnitError when there is none."""
    try:
        return UNITS[label]
    except KeyError:
        raise UnitError(f"unit {label!r} is unknown", remedy=f"Known units: {', '.join(sorted(UNITS))}.") from None


def _plain(words: str) -> str:
    """Words of a unit without blanks, dots and brackets; a degree sign is read as the word."""
    # Other forms of the same letters: superscripts, the degree that is an ordinal, the sign of the inch.
    key = unicodedata.normalize("NFKC", words.replace("Â°", "°").replace("º", "°").replace("˚", "°").strip()).lower()
    key = key.replace("°", "deg").replace("−", "-").replace("μ", "u").replace("″", '"')
    return re.sub(r"[\s\[\](){}.·*⋅]", "", key)


def read_unit(words: str, *, quantity: str | None = None) -> tuple[Unit, Reference]:
    """The unit meant by the words of a log header, such as `°C`, `Nm`, `1/min` or `bar(g)`, and for a pressure what
    it is counted from (empty where the words do not say).

    With `quantity` the unit must measure it. Raises UnitError for unknown words, for the wrong quantity,
    and for an air-fuel ratio, which means nothing without its fuel.
    """
    key = _plain(words)
    if key in _AFR_WORDS:
        raise UnitError(
            "an air-fuel ratio means nothing without its fuel",
            concerns=words,
            remedy="State the fuel, so that the ratio can be carried as lambda.",
        )
    label, reference = _PRESSURES.get(key, (_WORDS.get(key, ""), ""))
    if not label:
        raise UnitError(f"unit {words!r} is unknown", remedy="Use a unit such as kPa, degC, N m, kW or rpm.")
    found = UNITS[label]
    if quantity is not None and found.quantity != quantity:
        raise UnitError(
            f"unit {words!r} measures {found.quantity}, not {quantity}",
            remedy=f"Use one of: {', '.join(units_of(quantity))}.",
        )
    return found, reference


def parse_unit(words: str, *, quantity: str | None = None) -> Unit:
    """The unit meant by such words where a pressure is an absolute one.

    Raises UnitError as `read_unit` does, and for a gauge pressure or a difference, which would be taken for absolute.
    """
    found, reference = read_unit(words, quantity=quantity)
    if reference in ("gauge", "difference"):
        what = "a gauge pressure" if reference == "gauge" else "a pressure difference"
        raise UnitError(
            f"{words!r} is {what}, and an absolute one is asked for",
            remedy="Add the barometer, and write it absolute.",
        )
    return found


_PHI_WORDS = frozenset({"phi", "φ", "ϕ", "equivalenceratio"})


def is_phi(words: str) -> bool:
    """Whether a header's unit words stand for the equivalence ratio, one over lambda."""
    return _plain(words) in _PHI_WORDS


def is_afr(words: str) -> bool:
    """Whether a header's unit words stand for an air-fuel ratio."""
    return _plain(words) in _AFR_WORDS


def units_of(quantity: str) -> tuple[str, ...]:
    """Labels of the units of a quantity that numbers are shown in, in the order defined."""
    return tuple(u.label for u in _DEFINED if u.quantity == quantity and not u.logged_only)


def logged_units_of(quantity: str) -> tuple[str, ...]:
    """Labels of all units of a quantity that files count in: those that are shown, then the others."""
    return units_of(quantity) + tuple(u.label for u in _DEFINED if u.quantity == quantity and u.logged_only)


def to_canonical(value: Any, label: str) -> Any:
    """A number or array in unit `label`, converted to the canonical unit of its quantity."""
    u = unit(label)
    return value * u.factor + u.offset


def from_canonical(value: Any, label: str) -> Any:
    """A number or array in canonical units, converted to unit `label`."""
    u = unit(label)
    return (value - u.offset) / u.factor


def convert(value: Any, source: str, target: str) -> Any:
    """Convert between two units of one quantity. Raises UnitError when the quantities differ."""
    a, b = unit(source), unit(target)
    if a.quantity != b.quantity:
        raise UnitError(
            f"{source} measures {a.quantity} and {target} measures {b.quantity}",
            remedy="Choose a unit of the same quantity.",
        )
    return value if a is b else (value * a.factor + a.offset - b.offset) / b.factor


def lambda_from_afr(afr: Any, stoichiometric_afr: float) -> Any:
    """Lambda of an air-fuel ratio by mass: lambda = AFR / AFR_stoichiometric."""
    if not stoichiometric_afr > 0.0:
        raise UnitError("the stoichiometric ratio must be above zero", remedy="Choose the fuel again.")
    return afr / stoichiometric_afr


def afr_from_lambda(mixture_lambda: Any, stoichiometric_afr: float) -> Any:
    """Air-fuel ratio by mass of a lambda, for the fuel with this stoichiometric ratio."""
    if not stoichiometric_afr > 0.0:
        raise UnitError("the stoichiometric ratio must be above zero", remedy="Choose the fuel again.")
    return mixture_lambda * stoichiometric_afr


def to_places(values: NDArray[np.float64], places: int) -> NDArray[np.float64]:
    """Numbers rounded to digits behind the point; those with no such digits left in a float64 stay as they are."""
    found = np.asarray(values, dtype=np.float64)
    with np.errstate(over="ignore", invalid="ignore"):
        scaled = np.abs(found) * 10.0 ** min(places, 308)
        return np.where(scaled < 2.0**53, np.round(found, min(places, 308)), found)
