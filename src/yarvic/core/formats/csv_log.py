"""Logs as CSV: a header of names with their units in brackets, one row per time stamp."""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from yarvic.core.errors import FormatError, UnitError
from yarvic.core.evidence.channels import CHANNELS, find_channel
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.formats.csv_dialect import Dialect, find_dialect
from yarvic.core.physics import FloatArray
from yarvic.core.units import CANONICAL, from_canonical, is_afr, lambda_from_afr, parse_unit, unit

if TYPE_CHECKING:
    import polars

_HEADER = re.compile(r"^\s*(?P<name>.*?)\s*(?:[\[(](?P<unit>[^\])]*)[\])])?\s*$")
_TIME_NAMES = {"time", "t", "timestamp", "elapsed"}
UNKNOWN = "unknown quantity"
# How loggers write a number that is not there, besides leaving the field empty.
_MISSING = ["-", "--", "NaN", "nan", "n/a", " ", ""]


def read_csv_log(path: Path, *, stoichiometric_afr: float | None = None) -> Log:
    """A log from a CSV file, in canonical units.

    Columns may be separated by commas, semicolons or tabs, decimals may have commas, and units may stand in a line of
    their own under the names. Names are matched to known channels; an unknown name is kept under its own name without
    a unit. The time column is called time and has s or ms. Air-fuel ratios need `stoichiometric_afr`. Missing numbers
    become NaN. Raises FormatError naming file and column when the header or a number cannot be understood.
    """
    dialect = find_dialect(path)
    columns = _read(path, dialect)
    headers = [c.name for c in columns]
    names = [_HEADER.match(c) for c in headers]
    parsed = [(m.group("name"), m.group("unit") or "") if m else (c, "") for m, c in zip(names, headers, strict=True)]
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
    channels: dict[str, Channel] = {}
    for index, (name, words) in enumerate(parsed):
        if index == time_index:
            continue
        # Each column leaves its table as it is taken, so that the log never stands in memory twice.
        column, columns[index] = columns[index], columns[time_index]
        channel = _channel(path, column, name, words, time_s, stoichiometric_afr)
        if channel.key in channels:
            raise FormatError(
                f"{headers[index]!r} names {channel.title!r} a second time",
                concerns=str(path),
                remedy="Remove or rename one of the columns.",
            )
        channels[channel.key] = channel
    if not channels:
        raise FormatError("there are no channels beside time", concerns=str(path), remedy="Choose another file.")
    return Log(channels)


def _read(path: Path, dialect: Dialect) -> list[polars.Series]:
    import polars as pl

    try:
        frame = pl.read_csv(
            path,
            infer_schema_length=1000,
            separator=dialect.separator,
            decimal_comma=dialect.decimal_comma,
            encoding="utf8" if dialect.encoding == "utf-8" else dialect.encoding,
            skip_rows_after_header=1 if dialect.units else 0,
        )
    except (pl.exceptions.PolarsError, OSError) as error:
        raise FormatError(
            "cannot be read as CSV",
            concerns=str(path),
            remedy="Export it again with one header line, and commas, semicolons or tabs between columns.",
            details=str(error),
        ) from None
    if frame.height == 0:
        raise FormatError("holds no rows", concerns=str(path), remedy="Choose another file.")
    return frame.get_columns()


def _numbers(series: polars.Series, path: Path) -> FloatArray:
    import polars as pl

    if series.dtype == pl.String:
        series = series.replace(_MISSING, [None] * len(_MISSING))
        number = series.cast(pl.Float64, strict=False)
        bad = (number.is_null() & series.is_not_null()).arg_true()
        if bad.len():
            row = int(bad[0])
            raise FormatError(
                f"{series[row]!r} in column {series.name!r} is not a number",
                concerns=f"{path.name}, line {row + 2}",
                remedy="Correct or empty that field.",
            )
        series = number
    elif not series.dtype.is_numeric():
        if series.dtype != pl.Null:
            raise FormatError(f"column {series.name!r} holds {series.dtype}, not numbers", concerns=str(path))
        series = series.cast(pl.Float64)
    return np.asarray(series.cast(pl.Float64).to_numpy(), dtype=np.float64)


def _unit_of(path: Path, column: str, words: str, quantity: str) -> float:
    try:
        return parse_unit(words, quantity=quantity).factor
    except UnitError as error:
        raise FormatError(f"column {column!r}: {error.what}", concerns=str(path), remedy=error.remedy) from None


def _channel(
    path: Path,
    series: polars.Series,
    name: str,
    words: str,
    time_s: FloatArray,
    stoichiometric: float | None,
) -> Channel:
    values = _numbers(series, path)
    kind = find_channel(name)
    if kind is None:
        return Channel(name, name, UNKNOWN, words, time_s, values)
    column = series.name
    if kind.quantity == "mixture" and (is_afr(words) or (not words and "afr" in name.lower())):
        if stoichiometric is None:
            raise FormatError(
                f"column {column!r} holds an air-fuel ratio, which means nothing without its fuel",
                concerns=str(path),
                remedy="State the fuel with the import.",
            )
        values = lambda_from_afr(values, stoichiometric)
    elif words or kind.quantity != "mixture":
        if not words:
            raise FormatError(
                f"column {column!r} has no unit",
                concerns=str(path),
                remedy=f"Write the unit behind the name, such as '{name} [{kind.unit}]'.",
            )
        try:
            found = parse_unit(words, quantity=kind.quantity)
        except UnitError as error:
            raise FormatError(f"column {column!r}: {error.what}", concerns=str(path), remedy=error.remedy) from None
        if found.factor != 1.0 or found.offset != 0.0:
            values = values * found.factor + found.offset
    return Channel(kind.key, kind.title, kind.quantity, CANONICAL[kind.quantity], time_s, values)


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
            columns[f"{c.title} [{label}]"] = np.round(from_canonical(log.at(key, times), label), places)
        else:
            columns[f"{c.title} [{c.unit}]" if c.unit else c.title] = log.at(key, times)
    out = io.BytesIO()
    pl.DataFrame(columns).fill_nan(None).write_csv(out)
    return out.getvalue().decode("utf-8")
