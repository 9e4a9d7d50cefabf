"""Stamps that are written as a clock or as date and time, as seconds from the first of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from yarvic.core.evidence.raw import LAID, Clock
from yarvic.core.physics import FloatArray

if TYPE_CHECKING:
    import polars

_TIME = r"(?:(\d{1,3}):)?(\d{1,2}):(\d{1,2})(?:[.,:](\d+))?\s*([AaPp])?\.?[Mm]?\.?"
_ZONE = r"\s*(?:Z|UTC|GMT|([+-]\d\d:?\d\d))?"
# Months by the letters that they begin with, in languages of loggers; the numbers stand for them before a date is read.
_MONTHS = (
    "jan|gen|ene|led",
    "feb|fev|fév|úno|lut|helmi",
    "mar|mär|mrz|mae|brez|bře",
    "apr|avr|abr|dub|kwi|huhti",
    "may|mai|mag|mei|kvě",
    "jun|juin|giu|čvn|cze",
    "jul|juil|lug|lip|čvc",
    "aug|aoû|aou|ago|srp|sie",
    "sep|set|wrz|zář",
    "oct|okt|ott|out|paź|říj",
    "nov|lis",
    "dec|dez|dic|déc|pro|gru",
)
_NAMED = r"^\s*(?:[A-Za-z]{2,4}[,.]?\s+)?(\d{1,2})[.\s-]+([^\W\d]{3,})[.,\s-]+(\d{4}|\d{2})\b"
_NAME_FIRST = r"^\s*(?:[A-Za-z]{2,4}[,.]?\s+)?([^\W\d]{3,})[.\s-]+(\d{1,2})[.,\s-]+(\d{4})\b"
_CLOCK = rf"^\s*{_TIME}{_ZONE}\s*$"
_YEAR_FIRST = rf"^\s*(\d{{4}})[-/.](\d{{1,2}})[-/.](\d{{1,2}})[T ,;]+{_TIME}{_ZONE}\s*$"
_YEAR_LAST = rf"^\s*(\d{{1,2}})[-/.](\d{{1,2}})[-/.](\d{{2,4}})[T ,;]+{_TIME}{_ZONE}\s*$"
_HOUR, _DAY = 3600.0, 86400.0
# Written to a whole second, and so many rows to each on average: they lie evenly within it.
ROWS_TO_A_SECOND = 1.5


@dataclass
class Stamps:
    """Stamps in s, NaN where there is none; `started` is the first, date and time in ISO 8601, where it has a date."""

    seconds: FloatArray
    clock: Clock
    started: str = ""
    note: str = ""
    doubt: str = ""


def read_stamps(texts: polars.Series, *, minutes_first: bool = False) -> Stamps | None:
    """Seconds of a column of clocks or of dates with time, from the first; None where it is neither.

    `minutes_first`: two numbers are minutes and seconds, as the header says. A clock that passes midnight goes on.
    """
    texts = _months_as_numbers(texts)
    for pattern, dated in ((_YEAR_FIRST, 1), (_YEAR_LAST, 2), (_CLOCK, 0)):
        if not texts.drop_nulls().head(50).str.contains(pattern).all() or texts.null_count() == texts.len():
            continue
        parts = [_part(texts, pattern, n) for n in range(1, 9 if dated else 6)]
        zone = _zone_s(_part(texts, pattern, 9 if dated else 6))
        days, started = _days(parts[:3], dated) if dated else (None, "")
        hour, minute, second, fraction, half = parts[3:] if dated else parts
        clock, doubt = _of_day(hour, minute, second, fraction, half, minutes_first)
        if days is not None:
            # Counted from the first day: seconds since 1970 leave few digits for what is behind the point.
            # In doubt, what is counted as seconds may be minutes (`evidence.clock.seconds`), of which a day has fewer.
            clock = clock + (days - np.nanmin(days)) * (_DAY / 60.0 if doubt else _DAY)
        else:
            falls = np.diff(np.nan_to_num(clock)) < -0.5 * _DAY
            clock = clock + np.concatenate(([0.0], np.cumsum(falls))) * _DAY
        if dated and zone is not None:
            clock = clock - zone  # the same moment, whatever the clock on the wall was set to meanwhile
        known = clock[np.isfinite(clock)]
        if started and known.size and not doubt:
            started += f"T{_of_clock(float(known[0]) % _DAY)}"
        clock = clock - (known[0] if known.size else 0.0)
        note = ""
        if fraction.drop_nulls().len() == 0:
            clock, note = within_seconds(clock)
        return Stamps(clock, "date" if dated else "clock", started, note, doubt)
    return None


def _months_as_numbers(texts: polars.Series) -> polars.Series:
    """Dates with the name of a month as year, month and day; the texts as they are where they hold none."""
    import polars as pl

    first = texts.drop_nulls().head(20)
    for pattern, day, month in ((_NAMED, 1, 2), (_NAME_FIRST, 2, 1)):
        if not first.len() or not first.str.contains(pattern).all():
            continue
        names = texts.str.extract(pattern, month).str.to_lowercase()
        number = pl.Series([None] * texts.len(), dtype=pl.String)
        for n, begins in enumerate(_MONTHS, 1):
            number = number.set(names.str.contains(f"^(?:{begins})").fill_null(False), f"{n:02d}")
        if number.null_count() > texts.null_count():
            return texts
        year = texts.str.extract(pattern, 3).str.zfill(4).str.replace("^00", "20")
        return year + "-" + number + "-" + texts.str.extract(pattern, day) + texts.str.replace(pattern, "")
    return texts


def _zone_s(offsets: polars.Series) -> FloatArray | None:
    """What each clock is ahead of universal time by, in s, less the first one's; None where it is the same all along."""
    if offsets.drop_nulls().n_unique() < 2:
        return None
    hours, minutes = (_number(offsets.str.replace(":", "").str.slice(at, size)) for at, size in ((0, 3), (3, 2)))
    found = hours * _HOUR + np.sign(hours) * minutes * 60.0
    return np.asarray(found - found[np.isfinite(found)][0], dtype=np.float64)


def _of_clock(second_of_day: float) -> str:
    """The time of a day, to the second, as ISO 8601."""
    whole = int(second_of_day)
    return f"{whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}"


def _part(texts: polars.Series, pattern: str, group: int) -> polars.Series:
    return texts.str.extract(pattern, group)


def _number(texts: polars.Series) -> FloatArray:
    import polars as pl

    return np.asarray(texts.cast(pl.Float64, strict=False).to_numpy(), dtype=np.float64)


def _of_day(
    hour: polars.Series, minute: polars.Series, second: polars.Series, fraction: polars.Series, half: polars.Series,
    minutes_first: bool,
) -> tuple[FloatArray, str]:  # fmt: skip
    """Seconds of the day, and what is not known of them."""
    h, m, s = _number(hour), _number(minute), _number(second)
    part = _number("0." + fraction)
    part = np.where(np.isfinite(part), part, 0.0)
    doubt = ""
    if np.isnan(h).all():
        # Two numbers: with a fraction the second one is seconds.
        if not minutes_first and fraction.drop_nulls().len() == 0:
            doubt = "whether its clock shows hours and minutes or minutes and seconds cannot be told"
        h = np.zeros(h.shape)
    afternoon = half.str.to_lowercase() == "p"
    twelve = np.asarray(half.is_not_null().to_numpy(), dtype=bool)
    h = np.where(twelve, h % 12, h) + 12.0 * np.asarray(afternoon.fill_null(False).to_numpy(), dtype=np.float64)
    return h * _HOUR + m * 60.0 + s + part, doubt


def _days(parts: list[polars.Series], dated: int) -> tuple[FloatArray, str]:
    """Days since 1970 of each stamp, and the first date as ISO 8601; the days tell which of two numbers is the month."""
    a, b, c = (_number(p) for p in parts)
    if dated == 1:
        return _civil(a, b, c), _iso(a, b, c)
    year = np.where(c < 100, c + 2000, c)
    day_first = _civil(year, b, a)
    if np.nanmax(b) > 12:
        return _civil(year, a, b), _iso(year, a, b)
    if np.nanmax(a) > 12:
        return day_first, _iso(year, b, a)
    month_first = _civil(year, a, b)
    # 03/04 is in March or in April: the way in which the log lasts less time is the right one.
    if np.ptp(month_first[np.isfinite(month_first)]) < np.ptp(day_first[np.isfinite(day_first)]):
        return month_first, _iso(year, a, b)
    return day_first, "" if np.nanmax(a) != np.nanmax(b) else _iso(year, b, a)


def _civil(year: FloatArray, month: FloatArray, day: FloatArray) -> FloatArray:
    """Days since 1970-01-01; NaN where there is no date."""
    good = np.isfinite(year) & np.isfinite(month) & np.isfinite(day)
    y, m, d = (np.where(good, v, 1.0).astype(np.int64) for v in (year, month, day))
    months = (y - 1970).astype("M8[Y]").astype("M8[M]") + (m - 1).astype("m8[M]")
    days = (months.astype("M8[D]") + (d - 1).astype("m8[D]")).astype(np.int64)
    return np.where(good, days.astype(np.float64), np.nan)


def _iso(year: FloatArray, month: FloatArray, day: FloatArray) -> str:
    known = np.flatnonzero(np.isfinite(year) & np.isfinite(month) & np.isfinite(day))
    return f"{year[known[0]]:04.0f}-{month[known[0]]:02.0f}-{day[known[0]]:02.0f}" if known.size else ""


def within_seconds(clock: FloatArray) -> tuple[FloatArray, str]:
    """Stamps, and what was done: rows that share a stamp of whole seconds, laid evenly within it, where several do."""
    steps = np.diff(clock)
    if clock.size < 4 or np.any(steps < 0) or not np.all(np.isfinite(clock)):
        return clock, ""
    starts = np.concatenate(([0], np.flatnonzero(steps > 0) + 1))
    if clock.size < ROWS_TO_A_SECOND * starts.size:
        return clock, ""
    counts = np.diff(np.concatenate((starts, [clock.size])))
    # The first second may have begun before the log did, the last may end after it: they go at the usual pace.
    usual = float(np.median(counts[1:-1])) if counts.size > 2 else float(counts.max())
    within = np.arange(clock.size) - np.repeat(starts, counts)
    per = np.maximum(counts.astype(np.float64), usual)
    offset = np.where(np.arange(counts.size) == 0, usual - counts, 0.0).clip(min=0.0)
    return clock + (within + np.repeat(offset, counts)) / np.repeat(per, counts), LAID
