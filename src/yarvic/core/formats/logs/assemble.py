"""From the sections of a file to recordings: which column is time, one value a row, rates that differ, parts."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from yarvic.core.errors import FormatError, in_plain
from yarvic.core.evidence.clock import parts
from yarvic.core.evidence.dictionary import TIME, dictionary, read_header
from yarvic.core.evidence.raw import Clock, RawColumn, RawLog
from yarvic.core.formats.logs.clocks import Stamps, read_stamps, within_seconds
from yarvic.core.formats.logs.fields import Field, convert
from yarvic.core.formats.logs.parted_time import is_part, put_together
from yarvic.core.formats.logs.text import Section
from yarvic.core.physics import FloatArray

if TYPE_CHECKING:
    import polars

# Rows of one value each: columns that say so in their header, and how many different names there can be.
_NAME_WORDS = frozenset(
    {"name", "signal", "channel", "parameter", "variable", "sensor", "item", "pid", "tag", "signalname", "kanal", "größe",
     "messgröße", "canal", "canale", "señal", "voie", "key", "label"}
)  # fmt: skip
_VALUE_WORDS = frozenset({"value", "wert", "valeur", "valor", "valore", "värde", "waarde", "reading", "data", "val"})
_UNIT_WORDS = frozenset({"unit", "units", "einheit", "unité", "unidad", "unità", "enhet", "eenheid"})
# A column that is filled in less than this share of its rows, evenly, was sampled more slowly.
SPARSE, EVEN = 0.75, 0.8
LEAST_SPARSE = 8
WORKERS = 4


def recordings(sections: Sequence[Section], source: str, reader: str) -> list[RawLog]:
    """The recordings that a file holds, in order: sections of one clock are one, time that starts anew begins another.

    Raises FormatError when there is no channel beside time anywhere.
    """
    logs = [_recording(s, reader) for s in sections]
    joined = _joined(logs)
    if not any(log.columns for log in joined):
        raise FormatError("there are no channels beside time", concerns=source, remedy="Choose another file.")
    found = [part for log in joined if log.columns for part in parts(log)]
    for log in found:
        _sparse(log.columns, log.time)
    return found


def _recording(section: Section, reader: str) -> RawLog:
    notes = list(section.notes)
    one = _one_value_a_row(section)
    if one is not None:
        return _long(section, *one, reader)
    time, clock, started = _time(section, _time_places(section), notes)

    def column(place: int) -> RawColumn | None:
        name, series = section.names[place], _taken(section, place)
        if not name.strip() and series.null_count() == series.len():
            return None
        unit = section.units[place] if place < len(section.units) else ""
        return _column(convert(series, decimal_comma=section.decimal_comma), name, unit, place, section)

    places = [n for n in range(len(section.names)) if time is None or time.place != f"column {n + 1}"]
    # Numbers are copied out of the library without holding the interpreter: side by side it takes half the time.
    with ThreadPoolExecutor(WORKERS) as pool:
        columns = [c for c in pool.map(column, places) if c is not None]
    return RawLog(columns, time, clock, reader=reader, started=started, notes=notes, facts=section.facts)


def _taken(section: Section, place: int) -> polars.Series:
    """A column out of its section, so that the log never stands in memory twice."""
    import polars as pl

    series, section.columns[place] = section.columns[place], pl.Series("", [], dtype=pl.Null)
    return series


def _column(found: Field, name: str, unit: str, place: int, section: Section) -> RawColumn:
    note = found.note
    if found.first_bad >= 0:
        note += f", the first in line {section.lines[found.first_bad]:,}"
    values = found.values
    gaps = not np.isfinite(values).all()
    if gaps and not found.states and np.isinf(values).any():
        endless = np.isinf(values)
        note = f"{note}; " if note else ""
        note += f"{int(np.count_nonzero(endless)):,} numbers without end were read as missing"
        values = np.where(endless, np.nan, values)
    return RawColumn(
        name.strip(), unit.strip() or found.unit, values, f"column {place + 1}", states=found.states, note=note,
        doubt=found.doubt, gaps=gaps,
    )  # fmt: skip


def _time_places(section: Section) -> list[int]:
    """Where columns stand that are named as time."""
    words = dictionary()
    found = []
    for place, name in enumerate(section.names):
        unit = section.units[place] if place < len(section.units) else ""
        header = read_header(name, unit, words)
        if header.named is not None and header.named.family == TIME:
            found.append(place)
    return found


def _time(section: Section, places: list[int], notes: list[str]) -> tuple[RawColumn | None, Clock, str]:
    """The column of time: numbers that rise before dates, dates before a clock alone, a date beside a clock with it."""
    parted = _parted(section, places, notes)
    if parted is not None:
        return parted
    numbers: list[tuple[int, FloatArray]] = []
    stamped: list[tuple[int, Stamps]] = []
    dates: list[int] = []
    import polars as pl

    for place in places:
        series = section.columns[place]
        if series.dtype == pl.String:
            stamps = read_stamps(series, minutes_first=_minutes_first(section, place))
            if stamps is not None:
                stamped.append((place, stamps))
                continue
            found = convert(series, decimal_comma=section.decimal_comma)
            if found.states:
                dates.append(place)
                continue
            values = found.values
        else:
            values = convert(series, decimal_comma=section.decimal_comma).values
        numbers.append((place, values))
    rising = [(p, v) for p, v in numbers if v.size and np.nanmax(v, initial=-np.inf) > np.nanmin(v, initial=np.inf)]
    if rising or (numbers and not stamped):
        place, values = max(rising or numbers, key=lambda n: np.unique(n[1][:2000]).size)
        # A date beside numbers that count still says when the log was begun.
        started = next((s.started for _, s in stamped if s.started), "")
        column = _time_column(section, place, values, notes)
        if np.all(column.values == np.rint(column.values)) and "ms" not in f"{column.name} {column.unit}".lower():
            column.values, note = within_seconds(column.values)
            notes += [note] if note else []
        return column, "number", started
    if not stamped:
        return None, "number", ""
    place, stamps = max(stamped, key=lambda s: (s[1].clock == "date", np.unique(s[1].seconds[:2000]).size))
    if stamps.clock == "clock" and dates:
        both = section.columns[dates[0]].str.strip_chars() + " " + section.columns[place].str.strip_chars()
        whole = read_stamps(both)
        if whole is not None:
            stamps = whole
    if stamps.note:
        notes.append(stamps.note)
    column = _time_column(section, place, stamps.seconds, notes)
    column.doubt = stamps.doubt
    return column, stamps.clock, stamps.started


def _parted(section: Section, places: list[int], notes: list[str]) -> tuple[RawColumn, Clock, str] | None:
    """Time from several columns, or from the digits of a clock; None where it stands in one column as it is."""
    import polars as pl

    numbers: dict[int, FloatArray] = {}
    clock: Stamps | None = None
    parts = [n for n, name in enumerate(section.names) if n in places or is_part(name)]
    if not parts:
        return None
    for place in parts:
        series = section.columns[place]
        stamps = read_stamps(series) if series.dtype == pl.String else None
        if stamps is not None:
            clock = stamps if stamps.note else clock  # to the whole second
            continue
        found = convert(series, decimal_comma=section.decimal_comma)
        if not found.states and found.values.size:
            numbers[place] = found.values
    whole = np.floor(clock.seconds + 1e-6) if clock is not None else None
    made = put_together(section.names, numbers, whole)
    if made is None:
        return None
    notes.append(made.note)
    column = RawColumn(section.names[made.places[0]].strip(), "s", made.seconds, f"column {made.places[0] + 1}")
    return column, "clock", clock.started if clock is not None else ""


def _minutes_first(section: Section, place: int) -> bool:
    words = f"{section.names[place]} {section.units[place] if place < len(section.units) else ''}".lower()
    return "mm:ss" in words and "hh" not in words


def _time_column(section: Section, place: int, values: FloatArray, notes: list[str]) -> RawColumn:
    """The stamps; rows without one are left out of every column, and that is said."""
    unit = section.units[place] if place < len(section.units) else ""
    good = np.isfinite(values)
    missing = int(np.count_nonzero(~good))
    if missing and good.any():
        import polars as pl

        line = section.lines[int(np.flatnonzero(~good)[0])]
        rows = "1 row has" if missing == 1 else f"{missing:,} rows have"
        notes.append(
            f"{rows} no time stamp and {'was' if missing == 1 else 'were'} left out, the first is line {line:,}"
        )
        keep = pl.Series(good)
        section.columns = [c.filter(keep) if c.len() == good.size else c for c in section.columns]
        section.lines = [n for n, k in zip(section.lines, good, strict=True) if k]
        values = values[good]
    return RawColumn(section.names[place].strip(), unit.strip(), values, f"column {place + 1}")


def _sparse(columns: list[RawColumn], time: RawColumn | None) -> None:
    """Give a column that is filled evenly in some rows only the stamps of those rows."""
    if time is None:
        return
    rasters: dict[bytes, FloatArray] = {}
    for c in columns:
        if c.states or not c.values.size or c.time_s is not None:
            continue
        if not c.gaps:
            continue
        good = np.flatnonzero(np.isfinite(c.values))
        if not LEAST_SPARSE <= good.size < SPARSE * c.values.size:
            continue
        strides = np.diff(good)
        usual = float(np.median(strides))
        if usual < 1.5 and np.count_nonzero(strides > 1) < 0.2 * strides.size:
            continue
        if np.count_nonzero(np.abs(strides - usual) <= max(1.0, 0.5 * usual)) < EVEN * strides.size:
            continue
        key = good.tobytes()
        c.time_s = rasters.setdefault(key, time.values[good])
        c.values = c.values[good]


def _one_value_a_row(section: Section) -> tuple[int, int, int, int | None] | None:
    """Places of time, name, value and unit where each row holds one value of a named channel."""
    import polars as pl

    if not 3 <= len(section.names) <= 8:
        return None
    words = dictionary()
    headers = [n.strip().casefold() for n in section.names]
    texts = [i for i, c in enumerate(section.columns) if c.dtype == pl.String]
    times = _time_places(section)
    named = [i for i in texts if headers[i] in _NAME_WORDS]
    for i in named or [i for i in texts if i not in times]:
        names = section.columns[i].drop_nulls().str.strip_chars().unique()
        if not 2 <= names.len() <= 2000 or names.len() * 3 > section.columns[i].len():
            continue
        known = sum(read_header(str(n), "", words).named is not None for n in names.head(200))
        if known < max(2, 0.2 * min(names.len(), 200)):
            continue
        unit = next((k for k in texts if k != i and headers[k] in _UNIT_WORDS), None)
        left = [k for k in range(len(headers)) if k not in (i, unit)]
        time = next((k for k in left if k in times), left[0])
        values = [k for k in left if k != time]
        value = next((k for k in values if headers[k] in _VALUE_WORDS), values[0] if values else None)
        if value is not None:
            return time, i, value, unit
    return None


def _long(section: Section, time: int, name: int, value: int, unit: int | None, reader: str) -> RawLog:
    """One value a row: each channel with its own stamps."""
    import polars as pl

    notes = list(section.notes)
    columns: list[RawColumn] = []
    series = section.columns[time]
    stamps = read_stamps(series) if series.dtype == pl.String else None
    seconds = stamps.seconds if stamps is not None else convert(series, decimal_comma=section.decimal_comma).values
    names = section.columns[name].str.strip_chars()
    for each in names.drop_nulls().unique(maintain_order=True):
        rows = (names == each).fill_null(False)
        found = convert(section.columns[value].filter(rows), decimal_comma=section.decimal_comma)
        words = ""
        if unit is not None:
            there = section.columns[unit].filter(rows).drop_nulls().unique()
            words = str(there[0]).strip() if there.len() == 1 else ""
            if there.len() > 1:
                found.doubt = f"its rows are in {there.len()} units"
        own = seconds[np.asarray(rows.to_numpy(), dtype=bool)]
        good = np.isfinite(own)
        order = np.argsort(own[good], kind="stable") if np.any(np.diff(own[good]) < 0) else slice(None)
        columns.append(
            RawColumn(
                in_plain(str(each), 200), words or found.unit, found.values[good][order], f"'{in_plain(str(each), 60)}'",
                time_s=own[good][order], states=found.states, note=found.note, doubt=found.doubt,
            )
        )  # fmt: skip
    # Stamps of all channels together lie closer than any of them was sampled: the densest stands for them.
    densest = max((c.time_s for c in columns if c.time_s is not None), key=len)
    unit_words = section.units[time] if time < len(section.units) else ""
    column = RawColumn(section.names[time].strip(), unit_words, densest, f"column {time + 1}")
    if stamps is not None:
        column.doubt = stamps.doubt
    clock = stamps.clock if stamps is not None else "number"
    return RawLog(
        columns, column, clock, reader=reader, started=stamps.started if stamps is not None else "", notes=notes,
        facts=section.facts,
    )  # fmt: skip


def _joined(logs: list[RawLog]) -> list[RawLog]:
    """Sections that were recorded together as one: the same columns go on, others stand beside them with their stamps."""
    found: list[RawLog] = []
    for log in logs:
        if not log.columns or log.time is None:
            if log.columns:
                found.append(log)
            continue
        last = found[-1] if found and found[-1].time is not None else None
        if last is None:
            found.append(log)
        elif [c.name for c in last.columns] == [c.name for c in log.columns]:
            found[-1] = _behind(last, log)
        elif _beside(last, log):
            found[-1] = _together(last, log)
        else:
            found.append(replace(log, part=f"section {len(found) + 1}"))
    return found


def _behind(first: RawLog, second: RawLog) -> RawLog:
    """Two sections of the same columns, one after the other; words that differ are counted anew."""
    assert first.time is not None and second.time is not None
    columns = []
    for a, b in zip(first.columns, second.columns, strict=True):
        if a.states != b.states:
            words = tuple(dict.fromkeys((*a.states, *b.states)))
            a, b = (_renumbered(c, words) for c in (a, b))
        own = a.time_s is not None and b.time_s is not None
        if (a.time_s is None) != (b.time_s is None):
            a, b = (
                replace(c, time_s=t.values if c.time_s is None else c.time_s)
                for c, t in ((a, first.time), (b, second.time))
            )
            own = True
        stamps = (
            np.concatenate((a.time_s, b.time_s)) if own and a.time_s is not None and b.time_s is not None else None
        )
        columns.append(replace(a, values=np.concatenate((a.values, b.values)), time_s=stamps))
    time = replace(first.time, values=np.concatenate((first.time.values, second.time.values)))
    return replace(first, columns=columns, time=time, notes=[*first.notes, *second.notes])


def _renumbered(column: RawColumn, words: tuple[str, ...]) -> RawColumn:
    if not column.states:
        return column
    places = np.array([words.index(w) for w in column.states], dtype=np.float64)
    values = np.full(column.values.shape, np.nan)
    good = np.isfinite(column.values)
    values[good] = places[column.values[good].astype(np.intp)]
    return replace(column, values=values, states=words)


def _beside(first: RawLog, second: RawLog) -> bool:
    """Whether two sections overlap in time and name other things."""
    assert first.time is not None and second.time is not None
    if {c.name for c in first.columns} & {c.name for c in second.columns}:
        return False
    if (
        first.clock != second.clock
        or first.time.unit != second.time.unit
        or not (first.time.values.size and second.time.values.size)
    ):
        return False
    a, b = first.time.values, second.time.values
    overlap = min(a.max(), b.max()) - max(a.min(), b.min())
    return bool(overlap > 0.5 * min(np.ptp(a), np.ptp(b)))


def _together(first: RawLog, second: RawLog) -> RawLog:
    assert second.time is not None
    stamps = second.time.values
    moved = [c if c.time_s is not None else replace(c, time_s=stamps) for c in second.columns]
    return replace(first, columns=[*first.columns, *moved], notes=[*first.notes, *second.notes])
