"""Logs that hold their columns as such: Parquet, and the sheets of a workbook."""

from __future__ import annotations

import datetime
from typing import TYPE_CHECKING, Any, BinaryIO

import numpy as np

from yarvic.core.errors import FormatError, in_plain
from yarvic.core.evidence.raw import RawColumn, RawLog
from yarvic.core.formats.logs.assemble import recordings
from yarvic.core.formats.logs.structure import MOST_COLUMNS, find_structure
from yarvic.core.formats.logs.text import Section
from yarvic.core.formats.workbook_shape import check_shape
from yarvic.core.reading import check_memory

if TYPE_CHECKING:
    import polars

MOST_SHEETS, MOST_ROWS = 60, 1_100_000
_TAB = "\t"


def read_parquet(file: BinaryIO, source: str) -> list[RawLog]:
    """The recording of a Parquet file (Apache Parquet format): its columns by name; times become seconds."""
    import polars as pl

    try:
        schema = pl.read_parquet_schema(file)
        file.seek(0)
        rows = (
            pl.read_parquet(file, columns=[]).height
            if not schema
            else pl.scan_parquet(file).select(pl.len()).collect().item()
        )
        file.seek(0)
        if len(schema) > MOST_COLUMNS:
            raise FormatError(
                f"has {len(schema):,} columns, at most {MOST_COLUMNS:,} are read",
                concerns=source,
                remedy="Log fewer.",
            )
        check_memory(float(rows) * len(schema) * 8 * 3, source)
        frame = pl.read_parquet(file)
    except (pl.exceptions.PolarsError, pl.exceptions.PanicException, OSError) as error:
        raise FormatError(
            "cannot be read as Parquet", concerns=source, remedy="Export it again.", details=type(error).__name__
        ) from None
    if not frame.height:
        raise FormatError("holds no rows", concerns=source, remedy="Choose another file.")
    names, units, columns = [], [], []
    for name in frame.columns:
        series, unit = _plain(frame[name])
        names.append(name)
        units.append(unit)
        columns.append(series)
    section = Section(names, units, columns, False, range(1, frame.height + 1))
    return recordings([section], source, "parquet")


def _plain(series: polars.Series) -> tuple[polars.Series, str]:
    """A column as numbers or texts, with its unit where its type has one."""
    import polars as pl

    kind = series.dtype
    if kind == pl.Duration:
        return series.dt.total_microseconds().cast(pl.Float64) / 1e6, "s"
    if kind == pl.Datetime:
        return series.dt.strftime("%Y-%m-%d %H:%M:%S%.6f"), ""
    if kind == pl.Time:
        return series.dt.strftime("%H:%M:%S%.6f"), ""
    if kind == pl.Date:
        return series.dt.strftime("%Y-%m-%d"), ""
    if kind in (pl.Categorical, pl.Enum):
        return series.cast(pl.String), ""
    if kind.is_numeric() or kind in (pl.String, pl.Boolean, pl.Null):
        return series, ""
    return pl.Series(series.name, [None] * series.len(), dtype=pl.Null), ""


def read_workbook(file: BinaryIO, source: str) -> list[RawLog]:
    """The recordings of a workbook (Office Open XML, ISO/IEC 29500), sheet by sheet; sheets without numbers are left out."""
    import openpyxl

    check_shape(file.read(), source)
    found: list[RawLog] = []
    refused: FormatError | None = None
    try:
        book = openpyxl.load_workbook(file, read_only=True, data_only=True, keep_links=False)
    except Exception as error:  # noqa: BLE001 - the library lets out whatever its parts raise
        raise _unread(source, error) from None
    try:
        for sheet in book.worksheets[:MOST_SHEETS]:
            title = in_plain(sheet.title, 60)
            try:
                logs = recordings([_sheet(sheet, f"{source}, sheet {title}")], source, "xlsx")
            except FormatError as error:
                refused = refused or error
                continue
            for log in logs:
                log.part = f"sheet {title}" + (f", {log.part}" if log.part else "")
                log.notes += _without_values(file, sheet.title, log)
            found += logs
        alone = len(book.sheetnames) == 1
    except Exception as error:  # noqa: BLE001
        raise _unread(source, error) from None
    finally:
        book.close()
    if not found:
        raise refused or FormatError("holds no log", concerns=source, remedy="Choose another file.")
    if len(found) == 1 and alone:
        found[0].part = ""
    return found


def _without_values(file: BinaryIO, title: str, log: RawLog) -> list[str]:
    """What is to be said of columns whose cells are formulas without a value: whoever wrote them never worked them out."""
    import openpyxl

    empty = [c for c in log.columns if not np.isfinite(c.values).all()]
    if not empty:
        return []
    file.seek(0)
    book = openpyxl.load_workbook(file, read_only=True, data_only=False, keep_links=False)
    count: dict[int, int] = {}
    try:
        for row in book[title].iter_rows(values_only=True):
            for place, value in enumerate(row[:MOST_COLUMNS]):
                if isinstance(value, str) and value.startswith("="):
                    count[place] = count.get(place, 0) + 1
    finally:
        book.close()
    return [
        f"{in_plain(c.name, 60)}: {count[place]:,} cells hold a formula without its value: open the workbook in a"
        " spreadsheet and save it, or export it as CSV"
        for c in empty
        if (place := _place_of(c)) in count and count[place] > np.count_nonzero(np.isfinite(c.values))
    ]


def _place_of(column: RawColumn) -> int:
    """The place of a column in its sheet, by what it says of itself; -1 where it says nothing of it."""
    digits = "".join(c for c in column.place if c.isdigit())
    return int(digits) - 1 if digits else -1


def _unread(source: str, error: Exception) -> FormatError:
    return FormatError(
        "cannot be read as a workbook", concerns=source, remedy="Save it again as XLSX or CSV.",
        details=type(error).__name__,
    )  # fmt: skip


def _sheet(sheet: Any, source: str) -> Section:
    """One sheet as a section: header, units and first row are found as in a text."""
    import polars as pl

    rows: list[tuple[Any, ...]] = []
    for row in sheet.iter_rows(values_only=True):
        if len(row) > MOST_COLUMNS:
            raise FormatError(
                f"has {len(row):,} columns, at most {MOST_COLUMNS:,} are read", concerns=source, remedy="Log fewer."
            )
        rows.append(row)
        if len(rows) > MOST_ROWS:
            raise FormatError("has rows without end", concerns=source, remedy="Export it as CSV.")
    lines = [_TAB.join(_text(v).replace(_TAB, " ").replace("\n", " ") for v in row) for row in rows[:400]]
    found = find_structure([line.rstrip(_TAB) if not line.strip() else line for line in lines], source)
    if found.separator != _TAB:
        raise FormatError("holds no rows of numbers under a header", concerns=source, remedy="Choose another sheet.")
    numbers = [n for n, row in enumerate(rows) if n >= found.data and any(v is not None for v in row)]
    columns: list[polars.Series] = []
    for place in range(found.width):
        values = [rows[n][place] if place < len(rows[n]) else None for n in numbers]
        plain = all(v is None or (isinstance(v, int | float) and not isinstance(v, bool)) for v in values)
        if plain:
            columns.append(pl.Series(str(place), values, dtype=pl.Float64, strict=False))
        else:
            columns.append(pl.Series(str(place), [None if v is None else _text(v) for v in values], dtype=pl.String))
    return Section(found.names, found.units, columns, False, [n + 1 for n in numbers], facts=found.facts)


def _text(value: Any) -> str:
    """A cell as it would stand in a text."""
    if value is None:
        return ""
    if isinstance(value, datetime.datetime):
        return value.isoformat(sep=" ")
    if isinstance(value, datetime.timedelta):
        return str(value.total_seconds())
    if isinstance(value, datetime.date | datetime.time):
        return value.isoformat()
    return str(value)
