"""Three ways in which the simulated loggers write the same run as CSV: other names, units, separators."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Log
from yarvic.core.physics import FloatArray
from yarvic.core.units import from_canonical, unit


@dataclass(frozen=True)
class Style:
    """How a logger writes: `header` gives the lines above the numbers from (title, unit) pairs."""

    key: str
    title: str
    rate_hz: float
    separator: str
    decimal_comma: bool
    units: dict[str, str]
    names: dict[str, str]
    header: Callable[[list[tuple[str, str]], str], list[str]]
    time: tuple[str, str, float]


def _joined(fields: list[str], separator: str) -> str:
    return separator.join(f'"{f}"' if separator in f else f for f in fields)


def _bracketed(columns: list[tuple[str, str]], separator: str) -> list[str]:
    return [_joined([f"{name} [{label}]" for name, label in columns], separator)]


def _in_parentheses(columns: list[tuple[str, str]], separator: str) -> list[str]:
    return [_joined([f"{name} ({label})" for name, label in columns], separator)]


def _two_lines(columns: list[tuple[str, str]], separator: str) -> list[str]:
    return [_joined([name for name, _ in columns], separator), _joined([label for _, label in columns], separator)]


STYLES: dict[str, Style] = {
    s.key: s
    for s in (
        Style("plain", "full names, units in brackets", 100.0, ",", False, {}, {}, _bracketed, ("time", "s", 1.0)),
        Style(
            "imperial", "short names, imperial units, AFR", 20.0, ",", False,
            {"pressure": "psi", "temperature": "degF", "torque": "lb-ft", "speed": "mph", "mixture": "AFR",
             "mass flow": "lb/min"},
            {"engine_speed": "RPM", "throttle": "TPS", "boost_pressure": "MAP", "boost_target": "Boost setpoint",
             "charge_temperature": "IAT", "coolant_temperature": "ECT", "exhaust_temperature": "EGT",
             "lambda_measured": "AFR", "lambda_target": "AFR target", "vehicle_speed": "Speed",
             "fuel_trim": "STFT", "long_trim": "LTFT", "air_flow": "MAF"},
            _in_parentheses, ("Time", "ms", 1000.0),
        ),
        Style(
            "two-line", "names over units, semicolons, decimal commas", 50.0, ";", True,
            {"pressure": "mbar", "temperature": "degC", "speed": "km/h", "mass flow": "kg/h"},
            {"engine_speed": "n", "throttle": "pedal", "oil_temperature": "oil temp"},
            _two_lines, ("t", "s", 1.0),
        ),
    )
}  # fmt: skip

# How this logger writes a unit, where it is not our label.
_WRITTEN = {"degC": "°C", "degF": "°F", "rpm": "1/min", "N m": "Nm"}


def write_log(log: Log, style: Style, *, stoichiometric_afr: float) -> str:
    """A run as CSV text in a style, on an even clock of the style's rate.

    The air-fuel ratio of a style that shows one needs the stoichiometric ratio it was shown for. Samples that
    were lost stay empty; raw sensor signals are left out.
    """
    start, end = log.span()
    clock = np.arange(start, end + 1e-9, 1.0 / style.rate_hz)
    name, label, factor = style.time
    columns: list[tuple[str, str]] = [(name, label)]
    values: list[FloatArray] = [np.round((clock - start) * factor, 4)]
    digits = [0 if label == "ms" else 3]
    for key, channel in log.channels.items():
        kind = CHANNELS.get(key)
        if kind is None or kind.waveform:
            continue
        wanted = style.units.get(kind.quantity, kind.unit)
        seen = log.at(key, clock)
        if wanted == "AFR":
            shown, places = seen * stoichiometric_afr, 2
        else:
            shown, places = np.asarray(from_canonical(seen, wanted)), unit(wanted).decimals + 1
        written = _WRITTEN.get(wanted, wanted) if style.key == "two-line" else wanted
        columns.append((style.names.get(key, channel.title), written))
        values.append(shown)
        digits.append(places)
    lines = style.header(columns, style.separator)
    table = np.column_stack(values)
    for row in table:
        fields = [f"{v:.{d}f}" if np.isfinite(v) else "" for v, d in zip(row, digits, strict=True)]
        text = style.separator.join(fields)
        lines.append(text.replace(".", ",") if style.decimal_comma else text)
    return "\n".join(lines) + "\n"
