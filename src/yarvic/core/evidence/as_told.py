"""A recording as a person says it is read: which column is its time, by what its numbers are scaled, what is added."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np

from yarvic.core.errors import UnitError, in_plain
from yarvic.core.evidence.clock import stamps
from yarvic.core.evidence.dictionary import TIME
from yarvic.core.evidence.mapping import AFR, PHI, Column
from yarvic.core.evidence.raw import LAID, RawColumn, RawLog
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, unit

# Time that falls in more than this share of its steps is hardly time. Our choice.
MOST_FALLS = 0.02
LEAST_ROWS = 3


def with_rows(raw: RawLog) -> None:
    """Give a recording without a column of time its rows as one, counted: how far they are apart is for a person to say."""
    rows = max((c.values.size for c in raw.columns if c.time_s is None), default=0)
    if raw.time is None and rows >= LEAST_ROWS:
        raw.time = RawColumn("", "", np.arange(float(rows)), "no column")
        raw.clock = "row"


def time_place(columns: Sequence[Column]) -> int | None:
    """The place of the column that a person named as time; None while that is the recording's own."""
    return next((n for n, c in enumerate(columns) if c.channel == TIME), None)


def needed(time: Column, columns: Sequence[Column], names: Sequence[str], places: Iterable[int]) -> list[int]:
    """These places with those that they rest on: the column named as time, and columns that are added. `names` are of
    the columns as they stand in the file.
    """
    chosen = set(places)
    named = time_place(columns)
    if named is not None:
        chosen.add(named)
    added = {c.plus for c in (time, *(columns[n] for n in chosen)) if c.plus}
    return sorted(chosen | {n for n, name in enumerate(names) if name in added})


def may_be_time(column: RawColumn) -> str:
    """Why a column cannot be named as time; empty where it can."""
    if column.states:
        return f"'{in_plain(column.name, 60)}' holds words, not numbers"
    if column.time_s is not None:
        return f"'{in_plain(column.name, 60)}' has time stamps of its own: it cannot be the time of the others"
    if np.count_nonzero(np.isfinite(column.values)) < LEAST_ROWS:
        return f"'{in_plain(column.name, 60)}' holds too few numbers for a column of time"
    return ""


def still_time(column: RawColumn, meant: Column) -> Column:
    """A column that was confirmed as time, asked again where it does not rise, left aside where it cannot be time."""
    why = may_be_time(column)
    if why:
        return meant.left_aside(why)
    clean = column.values[np.isfinite(column.values)]
    falls = int(np.count_nonzero(np.diff(clean) <= 0.0))
    if falls <= MOST_FALLS * clean.size:
        return meant
    question = f"does not rise at {falls:,} of {clean.size:,} rows, as time does"
    return meant.changed(question=question, about="time", confidence=0.5, how="guessed")


def named_time(raw: RawLog, place: int, speed: FloatArray | None = None) -> Column:
    """What a column means that a person names as time: its unit by its header and its steps, else it is asked.

    Raises UnitError for a column that cannot be time.
    """
    column = raw.columns[place]
    why = may_be_time(column)
    if why:
        raise UnitError(why, remedy="Name another column.")
    good = np.isfinite(column.values)
    clean = replace(column, values=column.values[good])
    found = stamps(
        RawLog([], clean), speed[good] if speed is not None and speed.shape == good.shape else None
    ).changed(how="confirmed", confidence=1.0, reason="named as time")
    if found.question:
        return found.changed(confidence=0.5, how="guessed")
    return still_time(clean, found)


def renamed_time(
    raw: RawLog, time: Column, columns: Sequence[Column], place: int | None
) -> tuple[Column, list[Column]]:
    """The meanings where the column in a place is the time from now on; None: the recording's own column is it again.

    Raises UnitError for a column that cannot be time.
    """
    speed = next((_rpm(r, c) for r, c in zip(raw.columns, columns, strict=True) if c.channel == "engine_speed"), None)
    other = "another column was named as time"
    found = [c.left_aside(other) if c.channel == TIME else c for c in columns]
    if place is None:
        return (time if time.channel == TIME else stamps(raw, speed)), found
    found[place] = named_time(raw, place, speed)
    return time.left_aside(f"'{in_plain(found[place].name, 60)}' was named as time"), found


def _rpm(raw: RawColumn, meant: Column) -> FloatArray | None:
    known = raw.time_s is None and meant.unit in UNITS
    return np.asarray(raw.values * unit(meant.unit).factor) if known else None


def scaled(raw: RawLog, column: RawColumn, meant: Column) -> tuple[RawColumn, str]:
    """A column with its numbers in the unit that it is said to be in, and what keeps them from being that.

    Its number times `factor` plus `offset`, plus the number of the column that is added, in its own unit.
    """
    if not meant.scaled or column.states:
        return column, ""
    values = np.asarray(column.values * meant.factor + meant.offset)
    if meant.plus:
        beside = [raw.time] if raw.time is not None and raw.clock != "row" else []
        others = [c for c in (*beside, *raw.columns) if c.name == meant.plus and c is not column]
        name = in_plain(meant.plus, 60)
        if len(others) != 1:
            there = f"{len(others)} columns have that name" if others else "there is no such column"
            return column, f"'{name}' is to be added, and {there}"
        other = others[0]
        if other.states or other.time_s is not column.time_s or other.values.shape != values.shape:
            return column, f"'{name}' is to be added, and was not sampled with it"
        values = values + other.values * _of_one(meant)
    return replace(column, values=values), ""


def _of_one(meant: Column) -> float:
    """How many of a column's unit one of the unit of what is added is."""
    if not meant.plus_unit or meant.plus_unit == meant.unit or meant.unit in ("", AFR, PHI):
        return 1.0
    return unit(meant.plus_unit).factor / unit(meant.unit).factor


def as_told(raw: RawLog, time: Column, columns: Sequence[Column]) -> tuple[RawLog, Column, tuple[Column, ...]]:
    """The recording with its numbers scaled and its time in the column that a person named, and what its columns mean.

    The same recording where nothing of that was said. Rows without a stamp are left out, and said.
    """
    if not time.scaled and not any(c.scaled or c.channel == TIME for c in columns):
        return raw, time, tuple(columns)
    made: list[RawColumn] = []
    meant: list[Column] = []
    for column, said in zip(raw.columns, columns, strict=True):
        found, fault = scaled(raw, column, said)
        made.append(found)
        meant.append(said.changed(question=fault, about="column", confidence=0.5, how="guessed") if fault else said)
    place = time_place(columns)
    if place is None:
        if time.plus and LAID in raw.notes:
            raw = _whole_seconds(raw)
        assert raw.time is not None
        clock, fault = scaled(raw, raw.time, time)
        if fault:
            time = time.changed(question=fault, about="time", confidence=0.5, how="guessed")
        if not time.scaled or fault:
            return replace(raw, columns=made), time, tuple(meant)
        return _on(replace(raw, columns=made), clock, None if time.plus else time), time, tuple(meant)
    named, said = made.pop(place), meant.pop(place)
    if raw.clock != "row" and raw.time is not None:
        # What the file calls its time is a column as any other now, in whatever it is said to be.
        made.append(raw.time)
        meant.append(time if time.channel != TIME else time.left_aside(f"'{named.name}' was named as time"))
    before = replace(raw, columns=made)
    found_log, kept = _with_stamps(before, named)
    return replace(_on(found_log, named, None), clock="number", time=kept), said, tuple(meant)


def _whole_seconds(raw: RawLog) -> RawLog:
    """The recording with its stamps of whole seconds as they stood in the file: what is added to them is the rest."""
    assert raw.time is not None
    whole = np.floor(raw.time.values + 1e-6)
    return replace(raw, time=replace(raw.time, values=whole), notes=[n for n in raw.notes if n != LAID])


def _with_stamps(raw: RawLog, named: RawColumn) -> tuple[RawLog, RawColumn]:
    """The recording and its new time without rows that have no stamp."""
    good = np.isfinite(named.values)
    if good.all():
        return raw, named
    gone = int(np.count_nonzero(~good))
    note = f"{gone:,} row{'s' * (gone != 1)} without a time stamp {'were' if gone != 1 else 'was'} left out"
    columns = [
        replace(c, values=c.values[good]) if c.time_s is None and c.values.shape == good.shape else c
        for c in raw.columns
    ]
    return replace(raw, columns=columns, notes=[*raw.notes, note]), replace(named, values=named.values[good])


def _on(raw: RawLog, clock: RawColumn, by: Column | None) -> RawLog:
    """The recording on another time; columns with stamps of their own are moved along with it, `by` a factor and an
    offset where the two clocks differ in nothing else.
    """
    assert raw.time is not None
    before, after = raw.time.values, clock.values
    columns = []
    for column in raw.columns:
        if column.time_s is not None:
            column = (
                replace(column, time_s=column.time_s * by.factor + by.offset)
                if by is not None
                else _moved(column, before, after)
            )
        columns.append(column)
    return replace(raw, columns=columns, time=clock)


def _moved(column: RawColumn, before: FloatArray, after: FloatArray) -> RawColumn:
    """A column whose stamps were of one clock on another: between rows of both; outside of them it has none."""
    assert column.time_s is not None
    both = np.isfinite(before) & np.isfinite(after) if before.shape == after.shape else np.zeros(0, dtype=bool)
    if both.size < LEAST_ROWS or np.any(np.diff(before[both]) <= 0.0):
        return replace(column, time_s=np.zeros(0), values=np.zeros(0), note="its stamps are of another clock")
    moved = np.interp(column.time_s, before[both], after[both], left=np.nan, right=np.nan)
    good = np.isfinite(moved)
    return replace(column, time_s=moved[good], values=column.values[good])
