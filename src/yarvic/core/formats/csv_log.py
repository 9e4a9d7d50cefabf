"""Logs as CSV: a header of names with their units in brackets, one row per time stamp."""

from __future__ import annotations

import io
import re
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from yarvic.core.errors import FormatError, UnitError, in_plain
from yarvic.core.evidence.channels import CHANNELS, ChannelKind, find_channel, numbered_from_zero
from yarvic.core.evidence.log import Channel, Doubt, Log
from yarvic.core.evidence.meaning import mixture_kind, pressure_reference, retard_sign
from yarvic.core.formats.csv_dialect import Dialect, find_dialect
from yarvic.core.physics import FloatArray
from yarvic.core.physics.constants import STANDARD_PRESSURE_PA
from yarvic.core.reading import check_file, check_memory, reader
from yarvic.core.units import (
    CANONICAL,
    Reference,
    from_canonical,
    is_afr,
    lambda_from_afr,
    parse_unit,
    read_unit,
    unit,
)

if TYPE_CHECKING:
    import polars

_HEADER = re.compile(r"^\s*(?P<name>.*?)\s*(?:[\[(](?P<unit>[^\[\]()]*(?:\([^()]*\))?[^\[\]()]*)[\])])?\s*$")
# `Boost bar(g)`: the bracket holds only what the pressure is counted from; its unit stands before it.
_BARE_PRESSURE = re.compile(
    r"^(?P<name>.*?)\s*\b(?P<unit>\w+\s*[\[(]\s*(?:a|abs|g|gauge|rel|d)\s*[\])])\s*$", re.IGNORECASE
)
_TIME_NAMES = {"time", "t", "timestamp", "elapsed"}
UNKNOWN = "unknown quantity"
MOST_BYTES = 4 * 1024**3
# No clock of a logger is further from its zero, in s: three thousand years, the seconds since 1970 among them.
MOST_TIME_S = 1e11
# What reading takes at its peak for each number: its eight bytes, and the reader's own (see benchmarks).
BYTES_PER_NUMBER = 8 * 2.5
_THOUSANDS = r"^\s*[+-]?\d{1,3}(,\d{3})+\s*$"
# How loggers write a number that is not there, besides leaving the field empty.
_MISSING = ["-", "--", "NaN", "nan", "n/a", " ", ""]


@dataclass
class _Column:
    """A column on its way: its channel (None: not known), the sign its name gives it, what its unit says of its zero."""

    header: str
    name: str
    kind: ChannelKind | None
    values: FloatArray
    unit: str = ""
    sign: int = 1
    reference: Reference = ""
    doubt: Doubt | None = None


@reader("csv log", "Log, CSV", ".csv", MOST_BYTES)
def read_csv_log(path: Path, *, stoichiometric_afr: float | None = None, barometer_pa: float | None = None) -> Log:
    """A log from a CSV file, in canonical units.

    Columns may be separated by commas, semicolons or tabs, decimals may have commas, and units may stand in a line of
    their own under the names. Names are matched to known channels; an unknown name is kept under its own name without
    a unit. The time column is called time and has s or ms. Air-fuel ratios need `stoichiometric_afr`. Gauge pressures
    become absolute by the logged barometer, by `barometer_pa`, or by the standard one, which is then noted. Missing
    numbers become NaN. What a header leaves open and the numbers do not compel is kept as the channel's doubt.

    Raises FormatError naming file and column when the header or a number cannot be understood.
    """
    dialect = find_dialect(path)
    check_memory(check_file(path, MOST_BYTES) / dialect.bytes_per_number * BYTES_PER_NUMBER, str(path))
    columns = _read(path, dialect)
    headers = [c.name for c in columns]
    parsed = [split_header(c) for c in headers]
    if len(dialect.units) == len(parsed):
        parsed = [(name, words or below) for (name, words), below in zip(parsed, dialect.units, strict=True)]
    time_index = next((i for i, (n, _) in enumerate(parsed) if n.strip().lower() in _TIME_NAMES), None)
    if time_index is None:
        raise FormatError(
            "there is no time column", concerns=str(path), remedy="Name one column 'time [s]' or 'time [ms]'."
        )
    time_s = _numbers(columns[time_index], path)
    scale = _unit_of(path, headers[time_index], parsed[time_index][1] or "s", "time")
    if scale != 1.0:
        time_s = time_s * scale
    if not np.all(np.isfinite(time_s)):
        line = int(np.flatnonzero(~np.isfinite(time_s))[0]) + 2
        raise FormatError("a time stamp is missing", concerns=f"{path.name}, line {line}", remedy="Remove that line.")
    notes = []
    if np.abs(time_s).max() > MOST_TIME_S:
        raise FormatError(
            "a time stamp is none that a clock can show", concerns=str(path), remedy="Correct the column of time."
        )
    from_zero = numbered_from_zero(name for name, _ in parsed)
    found: dict[str, _Column] = {}
    for index, (name, words) in enumerate(parsed):
        if index == time_index:
            continue
        # Each column leaves its table as it is taken, so that the log never stands in memory twice.
        column, columns[index] = columns[index], columns[time_index]
        taken = _read_column(path, column, find_channel(name, from_zero), name, words, stoichiometric_afr)
        key = taken.kind.key if taken.kind is not None else name
        if key in found:
            raise FormatError(
                f"{_short(headers[index])} names {taken.kind.title if taken.kind else _short(name)} a second time",
                concerns=str(path),
                remedy="Remove or rename one of the columns.",
            )
        found[key] = taken
        notes += _without_infinity(taken)
    if not found:
        raise FormatError("there are no channels beside time", concerns=str(path), remedy="Choose another file.")
    notes += [
        f"{first}: cylinders are numbered from 0; this one was read as cylinder 1" for first in from_zero.values()
    ]
    notes += _settle_pressures(found, barometer_pa)
    return Log({key: _channel(key, c, time_s) for key, c in found.items()}, tuple(notes))


def _without_infinity(c: _Column) -> list[str]:
    """Make what has no end a missing number, and say so."""
    endless = np.isinf(c.values)
    count = int(np.count_nonzero(endless))
    if not count:
        return []
    c.values = np.where(endless, np.nan, c.values)
    return [f"{in_plain(c.header, 60)}: {count:,} numbers without end were read as missing"]


def split_header(header: str) -> tuple[str, str]:
    """Name and unit words of a header: `Boost [kPa]`, `Boost (bar(g))`, `Boost bar(g)`."""
    bare = _BARE_PRESSURE.match(header)
    if bare and bare.group("name") and not re.search(r"[\[(]\s*\w*$", bare.group("name")):
        return bare.group("name").strip(), bare.group("unit")
    match = _HEADER.match(header)
    return (match.group("name"), (match.group("unit") or "").strip()) if match else (header, "")


def _read(path: Path, dialect: Dialect) -> list[polars.Series]:
    import polars as pl

    def read(**how: Any) -> polars.DataFrame:
        return pl.read_csv(
            path,
            separator=dialect.separator,
            encoding="utf8" if dialect.encoding == "utf-8" else dialect.encoding,
            skip_rows_after_header=1 if dialect.units else 0,
            **how,
        )

    try:
        try:
            frame = read(infer_schema_length=1000, decimal_comma=dialect.decimal_comma)
        except pl.exceptions.ComputeError:
            # Further down stand other numbers than the first rows promised, or none: field by field it is told which.
            frame = read(infer_schema=False)
            if dialect.separator != ",":
                frame = frame.with_columns(_with_points(column, dialect) for column in frame.get_columns())
    except (pl.exceptions.PolarsError, OSError) as error:
        raise FormatError(
            "cannot be read as CSV",
            concerns=str(path),
            remedy="Export it again with one header line, and commas, semicolons or tabs between columns.",
            details=type(error).__name__,
        ) from None
    if frame.height == 0:
        raise FormatError("holds no rows", concerns=str(path), remedy="Choose another file.")
    return frame.get_columns()


def _with_points(column: polars.Series, dialect: Dialect) -> polars.Series:
    """A column of texts with its decimal commas as points, where they can only be that.

    Beside points they may be anything, and so may those that all stand before three digits: such fields stay as they
    are, and are named as no numbers.
    """
    commas = column.filter(column.str.contains(",", literal=True))
    points = column.str.contains(".", literal=True).any()
    thousands = not dialect.decimal_comma and bool(commas.str.contains(_THOUSANDS).all())
    return column if not commas.len() or points or thousands else column.str.replace(",", ".", literal=True)


def _numbers(series: polars.Series, path: Path) -> FloatArray:
    import polars as pl

    if series.dtype == pl.String:
        series = series.replace(_MISSING, [None] * len(_MISSING))
        number = series.cast(pl.Float64, strict=False)
        bad = (number.is_null() & series.is_not_null()).arg_true()
        if bad.len():
            row = int(bad[0])
            raise FormatError(
                f"a field of column {_short(series.name)} is not a number",
                concerns=f"{path.name}, line {row + 2}",
                remedy="Correct or empty that field.",
            )
        series = number
    elif not series.dtype.is_numeric():
        if series.dtype != pl.Null:
            raise FormatError(
                f"column {_short(series.name)} holds {series.dtype}, not numbers",
                concerns=str(path),
                remedy="Remove that column.",
            )
        series = series.cast(pl.Float64)
    return np.asarray(series.cast(pl.Float64).to_numpy(), dtype=np.float64)


def _short(header: str) -> str:
    """A header as it may stand in a sentence."""
    return f"'{in_plain(header, 60)}'"


def _unit_of(path: Path, column: str, words: str, quantity: str) -> float:
    try:
        return parse_unit(words, quantity=quantity).factor
    except UnitError as error:
        raise FormatError(f"column {_short(column)}: {error.what}", concerns=str(path), remedy=error.remedy) from None


def _read_column(
    path: Path,
    series: polars.Series,
    known: tuple[ChannelKind, int] | None,
    name: str,
    words: str,
    stoichiometric: float | None,
) -> _Column:
    """A column with its channel, where it is known, converted as far as its header says how."""
    values, column = _numbers(series, path), str(series.name)
    if known is None:
        return _Column(column, name, None, values, words)
    kind, sign = known
    taken = _Column(column, name, kind, values, CANONICAL[kind.quantity], sign)
    if kind.quantity == "mixture":
        _read_mixture(path, taken, words, stoichiometric)
        return taken
    if not words:
        raise FormatError(
            f"column {_short(column)} has no unit",
            concerns=str(path),
            remedy=f"Write the unit behind the name, such as '{name} [{kind.unit}]'.",
        )
    try:
        found, taken.reference = read_unit(words, quantity=kind.quantity)
    except UnitError as error:
        raise FormatError(f"column {_short(column)}: {error.what}", concerns=str(path), remedy=error.remedy) from None
    if found.factor != 1.0 or found.offset != 0.0:
        taken.values = values * found.factor + found.offset
    if kind.sign:
        _settle_sign(taken)
    return taken


def _read_mixture(path: Path, taken: _Column, words: str, stoichiometric: float | None) -> None:
    """Lambda, from a lambda or from an air-fuel ratio: what the header says, held against what the numbers say."""
    stated = "ratio" if is_afr(words) or (not words and re.search(r"\bafr\b", taken.name.lower())) else "lambda"
    if words and stated == "lambda":
        try:
            parse_unit(words, quantity="mixture")
        except UnitError as error:
            raise FormatError(
                f"column {_short(taken.header)}: {error.what}", concerns=str(path), remedy=error.remedy
            ) from None
    seen = mixture_kind(taken.values)
    if not words and seen:
        stated = seen
    if seen and seen != stated:
        as_seen = "lambda" if seen == "lambda" else "an air-fuel ratio"
        taken.doubt = Doubt("unit", f"its header says otherwise, but its numbers are those of {as_seen}")
    elif not seen and not words and np.isfinite(taken.values).any():
        taken.doubt = Doubt("unit", "its numbers may be lambda or an air-fuel ratio: write the unit behind the name")
    elif stated == "ratio":
        if stoichiometric is None:
            raise FormatError(
                f"column {_short(taken.header)} holds an air-fuel ratio, which means nothing without its fuel",
                concerns=str(path),
                remedy="State the fuel with the import.",
            )
        taken.values = lambda_from_afr(taken.values, stoichiometric)


def _settle_sign(taken: _Column) -> None:
    sign = retard_sign(taken.values, taken.sign)
    if sign == 0:
        taken.doubt = Doubt(
            "sign",
            "whether a positive number is advance or retard cannot be told:"
            " call the column 'Knock retard' with positive numbers, or 'Spark correction' with negative ones",
        )
    elif sign == -1:
        taken.values = -taken.values


def _settle_pressures(found: dict[str, _Column], barometer_pa: float | None) -> list[str]:
    """Bring gauge pressures to absolute ones; gives what was taken for granted on the way."""
    notes: list[str] = []
    nothing = np.full(next(iter(found.values())).values.shape, np.nan)
    throttle, speed = (found[k].values if k in found else nothing for k in ("throttle", "engine_speed"))
    ambient = found.get("ambient_pressure")
    asked = {key: c for key, c in found.items() if c.kind is not None and c.kind.reference == "absolute"}
    for key, c in asked.items():
        if key == "ambient_pressure":
            c.reference = c.reference or "absolute"
            continue
        named = re.search(r"\b(absolute|abs|gauge|relative)\b", c.name.lower())
        if not c.reference and named:
            c.reference = "absolute" if named.group(1).startswith("abs") else "gauge"
        if not c.reference and key != "boost_target":
            c.reference = pressure_reference(c.values, throttle, speed)
            if c.reference:
                notes.append(f"{c.header}: read as {c.reference} pressure, by its numbers")
    target, boost = asked.get("boost_target"), asked.get("boost_pressure")
    if target is not None and not target.reference:
        # A unit states target and pressure alike.
        target.reference = (
            boost.reference if boost is not None else pressure_reference(target.values, throttle, speed)
        )
    for c in asked.values():
        if c.reference == "difference":
            c.doubt = Doubt("reference", "is a pressure difference, where an absolute pressure is asked for")
        elif not c.reference:
            c.doubt = Doubt(
                "reference",
                "whether it is absolute or gauge pressure cannot be told: write for example kPa abs or bar(g)",
            )
        elif c.reference == "gauge":
            compared = c in (target, boost) and _mixed(target, boost)
            _make_absolute(c, _barometer(c, ambient, barometer_pa), compared, notes)
    return notes


def _make_absolute(c: _Column, barometer_pa: float | None, compared: bool, notes: list[str]) -> None:
    """A gauge pressure as an absolute one; `compared` is whether it is held against one that is absolute already."""
    if barometer_pa is None:
        barometer_pa = STANDARD_PRESSURE_PA
        notes.append(f"{c.header}: no barometer was logged; the standard one was used, {barometer_pa / 100:.0f} mbar")
        if compared:
            c.doubt = Doubt(
                "reference",
                "is gauge pressure, what it is compared with is absolute, and no barometer was logged:"
                " state it with the import",
            )
    c.values = c.values + barometer_pa


def _mixed(one: _Column | None, other: _Column | None) -> bool:
    return one is not None and other is not None and one.reference != other.reference


def _barometer(c: _Column, ambient: _Column | None, stated_pa: float | None) -> float | None:
    if stated_pa is not None:
        return stated_pa
    if ambient is not None and ambient is not c and np.isfinite(ambient.values).any():
        return float(np.nanmedian(ambient.values))
    return None


def _channel(key: str, c: _Column, time_s: FloatArray) -> Channel:
    if c.kind is None:
        return Channel(key, c.name, UNKNOWN, c.unit, time_s, c.values)
    return Channel(key, c.kind.title, c.kind.quantity, c.unit, time_s, c.values, c.doubt)


def write_csv_log(log: Log, step_s: float | None = None) -> str:
    """A log as CSV text, all channels on the time stamps of the fastest one (or an even `step_s`), in usual units.

    Raw sensor signals are left out: they stand in no table beside others.
    """
    import polars as pl

    tabled = {k: c for k, c in log.channels.items() if k not in CHANNELS or not CHANNELS[k].waveform}
    fastest = max(tabled.values(), key=lambda c: c.time_s.size).time_s
    times = fastest if step_s is None else np.arange(fastest[0], fastest[-1] + step_s / 2, step_s)
    columns: dict[str, FloatArray] = {"time [s]": np.round(times, 4)}
    for key, c in tabled.items():
        if key in CHANNELS:
            label = CHANNELS[key].unit
            places = unit(label).decimals + 2
            # An absolute pressure says so, or whoever reads it would have to guess.
            unit_words = f"{label} abs" if CHANNELS[key].reference == "absolute" else label
            columns[f"{c.title} [{unit_words}]"] = np.round(from_canonical(log.at(key, times), label), places)
        else:
            columns[f"{c.title} [{c.unit}]" if c.unit else c.title] = log.at(key, times)
    out = io.BytesIO()
    pl.DataFrame(columns).fill_nan(None).write_csv(out)
    return out.getvalue().decode("utf-8")
