"""Correction of measured power and torque to a standard atmosphere."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Any

from yarvic.core.errors import UnitError
from yarvic.core.physics.air import Air, dry_pressure

STANDARDS = ("none", "std", "sae-j1349", "din-70020", "iso-1585", "jis-d1001")


@cache
def _data() -> dict[str, Any]:
    text = files("yarvic.core.physics").joinpath("data/correction.toml").read_text("utf-8")
    return tomllib.loads(text)


def title(standard: str) -> str:
    """The standard's own name for display."""
    return str(_entry(standard)["title"])


def _entry(standard: str) -> dict[str, Any]:
    if standard not in STANDARDS:
        raise UnitError(f"correction standard {standard!r} is unknown", remedy=f"Use one of: {', '.join(STANDARDS)}.")
    entry: dict[str, Any] = _data()[standard]
    return entry


@dataclass(frozen=True, slots=True)
class Correction:
    """A factor for power and torque, the air it was computed from and what must be said about it.

    `air` is None where it is not known; `factor` is NaN where numbers came corrected by one that nobody stated.
    """

    standard: str
    title: str
    factor: float
    air: Air | None
    warnings: tuple[str, ...] = ()


def correction(
    standard: str, air: Air, *, boost_controlled: bool = False, compression_ignition: bool = False
) -> Correction:
    """The factor of a spark-ignition standard for the given air.

    `boost_controlled` states that the engine holds its own boost: then any corrected number over-reads in thin air,
    and the result says so; so it does for a compression-ignition engine, for which these formulas are not made.
    Formulas and ranges: data/correction.toml, each with its source.
    Raises UnitError for an unknown standard.
    """
    entry = _entry(standard)
    dry_mbar = dry_pressure(air) / 100.0
    factor = _factor(standard, entry, air, dry_mbar)
    off = abs(factor - 1.0)
    warnings: list[str] = []
    if "warn_past" in entry and off > entry["warn_past"]:
        warnings.append(
            f"factor {factor:.3f} is past the {entry['warn_past'] * 100:.0f} % that {entry['title']} is valid for"
        )
    elif "note_past" in entry and off > entry["note_past"]:
        warnings.append(
            f"factor {factor:.3f} is more than {entry['note_past'] * 100:.0f} % from 1: note the conditions"
        )
    if boost_controlled and standard != "none":
        warnings.append("the engine controls its own boost: read the uncorrected number beside this one")
    if compression_ignition and standard != "none":
        warnings.append("this formula is made for spark ignition: for a diesel read the uncorrected number")
    return Correction(standard, str(entry["title"]), factor, air, tuple(warnings))


def _factor(standard: str, entry: dict[str, Any], air: Air, dry_mbar: float) -> float:
    if standard == "none":
        return 1.0
    celsius = air.temperature_k - 273.15
    heat = (celsius + entry["celsius_zero_k"]) / entry["reference_temperature_k"]
    reference = entry["reference_pressure_mbar"]
    if standard == "din-70020":
        return float(reference / (air.pressure_pa / 100.0) * heat**0.5)
    if standard == "std":
        return float(reference / dry_mbar * heat**0.5)
    if standard == "sae-j1349":
        gain = entry["gain"]
        return float(gain * (reference / dry_mbar) * heat**0.5 - (gain - 1.0))
    return float((reference / dry_mbar) ** entry["pressure_exponent"] * heat ** entry["temperature_exponent"])


def compression_ignition_factor(
    air: Air, *, fuel_mg_per_litre_cycle: float, boost_ratio: float, turbo: bool
) -> float:
    """Factor of ISO 1585 and SAE J1349 for compression ignition: f_a to the power f_m.

    `fuel_mg_per_litre_cycle` is q, `boost_ratio` r; f_m comes from q/r. Constants: data/correction.toml.
    Raises UnitError when an argument is not positive.
    """
    if fuel_mg_per_litre_cycle <= 0.0 or boost_ratio <= 0.0:
        raise UnitError("fuel quantity and boost ratio must be above zero", remedy="Check both.")
    d = _data()["compression-ignition"]
    kind = "turbo" if turbo else "aspirated"
    atmospheric = (99e3 / dry_pressure(air)) ** d[f"{kind}_pressure_exponent"] * (
        (air.temperature_k - 0.15) / 298.0
    ) ** d[f"{kind}_temperature_exponent"]
    corrected_fuel = fuel_mg_per_litre_cycle / boost_ratio
    if corrected_fuel < d["engine_low_below"]:
        engine = d["engine_low"]
    elif corrected_fuel > d["engine_high_above"]:
        engine = d["engine_high"]
    else:
        engine = d["engine_slope"] * corrected_fuel + d["engine_intercept"]
    return float(atmospheric**engine)
