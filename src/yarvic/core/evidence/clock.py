"""The time of a log: the unit of its stamps, where it starts anew, where its counter wrapped."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from yarvic.core.errors import UnitError, in_plain, times
from yarvic.core.evidence.dictionary import TIME, read_header
from yarvic.core.evidence.mapping import Column
from yarvic.core.evidence.raw import RawColumn, RawLog
from yarvic.core.physics import FloatArray
from yarvic.core.units import read_unit, unit

# No clock of a logger is further from its zero, in s: three thousand years, the seconds since 1970 among them.
MOST_TIME_S = 1e11
# Seconds since 1970 between 2001 and 2096, which no run lasts; the same in ms, us and ns.
EPOCH_S = (1.0e9, 4.0e9)
# A step of a logger's clock in s lies between these, and no engine changes its speed faster. Our choices.
LEAST_STEP_S, MOST_STEP_S = 2e-4, 5.0
FASTEST_RPM_S = 40_000.0
SLOWEST_PULL_RPM_S = 15.0
# What a person says of a clock of two numbers that shows hours and minutes.
MINUTES = "min"
# Days since 1900 between 1982 and 2105, as spreadsheets count them; steps of a log are tiny shares of them.
EXCEL_DAYS, _DAY_S = (30_000.0, 75_000.0), 86_400.0
# Counters of loggers end here: of 16, 24 and 32 bits.
_WRAPS = (2.0**16, 2.0**24, 2.0**31, 2.0**32)
# Time that falls back by more than this share of what it had counted begins a new recording.
RESTART_SHARE, LEAST_ROWS, MOST_RESTARTS_SHARE = 0.5, 3, 0.02


def stamps(raw: RawLog, speed: FloatArray | None = None) -> Column:
    """What the column of time means.

    `speed` is engine speed in rpm row by row, where it is known: it tells seconds from milliseconds that look alike.
    Where nothing tells, the column carries a question and is read as seconds.
    """
    time = raw.time
    assert time is not None
    if raw.clock == "row" and raw.sheet:
        return _said(time, "s", "its rows, counted: a curve has no time")
    if raw.clock == "row":
        might = next((f" (such as '{in_plain(c.name, 40)}', which rises steadily)" for c in rising(raw)), "")
        asked = f"there is no column of time: read one as Time{might}, or say how long a row lasts"
        return _guessed(_said(time, "s", "its rows, counted")).changed(question=asked, about="time", confidence=0.5)
    if raw.clock != "number":
        said = _said(time, "s", "a clock" if raw.clock == "clock" else "date and time")
        return _guessed(said).changed(question=time.doubt, about="time", confidence=0.5) if time.doubt else said
    header = read_header(time.name, time.unit)
    words = header.unit.strip() or ("ms" if "ms" in time.name.lower().replace("_", " ").split() else "")
    known = time.values[np.isfinite(time.values)]
    first = float(known[0]) if known.size else 0.0
    epoch = next((u for u in ("s", "ms", "us", "ns") if EPOCH_S[0] <= first * unit(u).factor <= EPOCH_S[1]), "")
    by_numbers = f"counted in {epoch} since 1970, by its numbers"
    if words:
        try:
            found = read_unit(words, quantity="time")[0]
        except UnitError:
            found = None
        if found is not None:
            # A number may have been written as it came, whatever stands above it: 1.7e12 counts no seconds.
            if epoch and epoch != found.label and abs(first) * found.factor > MOST_TIME_S:
                return _guessed(_said(time, epoch, by_numbers))
            return _said(time, found.label, "by its name and unit")
        if not epoch:
            asked = f"its unit '{words}' is none of time" if not re.fullmatch(r"[hmsHMS:.,fF ]+", words) else ""
            if asked:
                return _guessed(_said(time, "s", asked)).changed(question=asked, about="time", confidence=0.5)
    if epoch:
        return _guessed(_said(time, epoch, by_numbers))
    label, question, reason = _by_steps(known, speed)
    column = _guessed(_said(time, label, reason))
    return column.changed(question=question, about="time", confidence=0.5) if question else column


def seconds(values: FloatArray, column: Column, raw: RawLog) -> FloatArray:
    """Stamps as they stand in the file, in s; those that count from 1970 are counted from the first of the log."""
    assert raw.time is not None
    if raw.clock == "row":
        return values * unit(column.unit).factor
    if raw.clock != "number":
        # Two numbers are read as minutes and seconds; where a person says minutes, they are hours and minutes.
        return values * unit(MINUTES).factor if column.unit == MINUTES else values
    factor = unit(column.unit).factor
    first = float(raw.time.values[0]) if raw.time.values.size else 0.0
    if abs(first * factor) >= EPOCH_S[0] and abs(first * factor) <= MOST_TIME_S:
        return (values - first) * factor
    return values if factor == 1.0 else values * factor


def rising(raw: RawLog) -> list[RawColumn]:
    """The columns whose numbers rise from row to row, as those of time do."""
    return [c for c in raw.columns if c.values.size > 2 and not c.states and bool(np.all(np.diff(c.values) > 0))]


def _guessed(column: Column) -> Column:
    return column.changed(how="guessed", confidence=0.95)


def _said(time: RawColumn, label: str, reason: str) -> Column:
    return Column(
        name=time.name, header_unit=time.unit, channel=TIME, unit=label, how="used", confidence=1.0, reason=reason
    )


def _by_steps(known: FloatArray, speed: FloatArray | None) -> tuple[str, str, str]:
    """Label of the unit, question (empty when none is left) and reason, by the steps and by how fast the engine turns up."""
    steps = np.diff(known)
    steps = steps[steps > 0]
    step = float(np.median(steps)) if steps.size else 0.0
    if known.size and EXCEL_DAYS[0] < known[0] < EXCEL_DAYS[1] and LEAST_STEP_S <= step * _DAY_S <= MOST_STEP_S:
        return "d", "", "counted in days, as spreadsheets do, by its numbers"
    as_s, as_ms = (LEAST_STEP_S <= step * f <= MOST_STEP_S for f in (1.0, 1e-3))
    if as_s and as_ms and speed is not None and speed.size == known.size and known.size > 2:
        rate = _fastest(known, speed)
        if rate is not None:
            as_ms = rate * 1e3 <= FASTEST_RPM_S
            as_s = as_s and rate >= SLOWEST_PULL_RPM_S
    if as_s and not as_ms:
        return "s", "", "no unit is stated; its steps can only be seconds"
    if as_ms and not as_s:
        return "ms", "", "no unit is stated; its steps can only be milliseconds"
    return "s", "whether it counts seconds or milliseconds cannot be told", "no unit is stated"


def _fastest(known: FloatArray, speed: FloatArray) -> float | None:
    """How fast engine speed changed, in rpm per unit of time, over steps of a tenth of the log; None where it did not."""
    good = np.isfinite(speed)
    if np.count_nonzero(good) < 5 or np.ptp(speed[good]) < 500.0:
        return None
    t, v = known[good], speed[good]
    far = max(1, t.size // 50)
    dt, dv = t[far:] - t[:-far], np.abs(v[far:] - v[:-far])
    rates = dv[dt > 0] / dt[dt > 0]
    return float(rates.max()) if rates.size else None


def parts(raw: RawLog) -> list[RawLog]:
    """The recordings of a log whose time starts anew, one after the other; counters that wrapped are set right first."""
    if raw.time is None or raw.time.values.size < 2 * LEAST_ROWS:
        return [raw]
    _unwrap(raw)
    t = raw.time.values
    falls = np.flatnonzero(np.diff(t) < 0) + 1
    # Time that falls again and again is no row of recordings: it is left as it is, and named where it is judged.
    many = falls.size > max(MOST_RESTARTS_SHARE * t.size, 1.0)
    if not falls.size or many or any(c.time_s is not None for c in raw.columns):
        return [raw]
    cuts, begin = [0], 0
    for at in falls:
        counted = t[at - 1] - t[begin]
        if t[at - 1] - t[at] > RESTART_SHARE * counted and at - begin >= LEAST_ROWS and t.size - at >= LEAST_ROWS:
            cuts.append(int(at))
            begin = int(at)
    if len(cuts) == 1:
        return [raw]
    ends = [*cuts[1:], t.size]
    notes = [*raw.notes, f"its time starts anew {times(len(cuts) - 1)}: it was read as {len(cuts)} recordings"]
    return [
        _between(raw, a, b, f"part {n} of {len(cuts)}", notes)
        for n, (a, b) in enumerate(zip(cuts, ends, strict=True), 1)
    ]


def _between(raw: RawLog, first: int, last: int, part: str, notes: list[str]) -> RawLog:
    assert raw.time is not None
    return replace(
        raw,
        columns=[replace(c, values=c.values[first:last]) for c in raw.columns],
        time=replace(raw.time, values=raw.time.values[first:last]),
        part=f"{raw.part}, {part}" if raw.part else part,
        notes=list(notes),
    )


def _unwrap(raw: RawLog) -> None:
    """Go on counting where a counter of so many bits began again at zero."""
    assert raw.time is not None
    t = raw.time.values
    steps = np.diff(t)
    usual = float(np.median(steps[steps > 0])) if np.any(steps > 0) else 0.0
    falls = np.flatnonzero(steps < 0)
    if not falls.size or usual <= 0.0 or not np.array_equal(t, np.rint(t)):
        return
    for size in _WRAPS:
        near = [abs(size + steps[i]) <= 3.0 * usual for i in falls]
        if all(near):
            turns = np.zeros(t.size)
            turns[falls + 1] = size
            raw.time = replace(raw.time, values=t + np.cumsum(turns))
            raw.notes.append(f"its counter of time wrapped at {size:,.0f} {times(len(falls))} and was counted on")
            return
