"""Columns of texts as numbers, or as states where they are words. What is neither is missing, and is said."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from yarvic.core.errors import in_plain
from yarvic.core.physics import FloatArray

if TYPE_CHECKING:
    import polars

# How loggers write a number that is not there, besides leaving the field empty.
MISSING = (
    "", "-", "--", "---", "----", "*", "?", ".", "NaN", "nan", "NAN", "-nan", "nan(ind)", "-nan(ind)", "n/a", "N/A", "na",
    "NA", "#N/A", "null", "NULL", "None", "none", "NIL", "nil", "invalid", "Invalid", "n.a.", "#NV", "#VALUE!", "err",
    "ERR", "Error", "error",
)  # fmt: skip
_THOUSANDS_COMMA = r"^[+-]?\d{1,3}(,\d{3})+(\.\d+)?$"
_THOUSANDS_POINT = r"^[+-]?\d{1,3}(\.\d{3})+(,\d+)?$"
_THOUSANDS_BLANK = r"^[+-]?\d{1,3}([ '\u00a0\u202f’]\d{3})+([.,]\d+)?$"
_WITH_UNIT = r"^([+-]?(?:\d[\d.,]*|[.,]\d+)(?:[eE][+-]?\d+)?)\s*([^\d\s.,+-][^\d]*)$"
# A column of which this share is numbers is one of numbers; more words than so many are no states but text.
NUMBERS = 0.5
MOST_STATES = 2_000
MOST_STATE_LETTERS = 100
# Of a long column so many numbers are looked at, and so many different ones tell. Our choice.
MOST_LOOKED_AT, LEAST_DISTINCT = 4000, 4


@dataclass
class Field:
    """A column converted: numbers, NaN where there is none; states of words; the unit its fields carried; what was said."""

    values: FloatArray
    states: tuple[str, ...] = ()
    unit: str = ""
    note: str = ""
    doubt: str = ""
    first_bad: int = -1  # the row of the first field that is no number


def numeric(series: polars.Series) -> FloatArray:
    """A column of a numeric type as float64; nulls are NaN."""
    import polars as pl

    return np.asarray(series.cast(pl.Float64).to_numpy(), dtype=np.float64)


def convert(series: polars.Series, *, decimal_comma: bool) -> Field:
    """A column of texts as what it holds. `decimal_comma` says how the file writes decimals."""
    import polars as pl

    if series.dtype == pl.Boolean:
        return Field(numeric(series.cast(pl.Int8)), ("false", "true"))
    if series.dtype != pl.String:
        return (
            Field(numeric(series))
            if series.dtype.is_numeric() or series.dtype == pl.Null
            else _states(series.cast(pl.String))
        )
    texts = series.str.strip_chars(" \t\r\"'\u00a0")
    texts = texts.set(texts.is_in(MISSING), None)
    filled = texts.len() - texts.null_count()
    if not filled:
        return Field(np.full(texts.len(), np.nan))
    unit = ""
    number = _cast(texts, decimal_comma)
    if _found(number) < filled:
        bare, unit = _without_unit(texts)
        if unit:
            number = _cast(bare, decimal_comma)
            texts = bare
    points = _points_between_thousands(texts, decimal_comma)
    if points:
        texts = texts.str.replace_all(".", "", literal=True)
        number = _cast(texts, decimal_comma)
    doubted = _ambiguous(texts, decimal_comma)
    if doubted and _found(number) < NUMBERS * filled:
        # Read as thousands, and asked: with words instead of numbers nobody could answer.
        number = texts.str.replace_all(",", "", literal=True).cast(pl.Float64, strict=False)
    if _found(number) < NUMBERS * filled:
        return _states(texts)
    found = Field(numeric(number), unit=unit)
    bad = (number.is_null() & texts.is_not_null()).arg_true()
    if bad.len():
        # Half a thousand or one and a half: a comma that may be either is no number.
        found.first_bad = int(bad[0])
        found.note = _said(bad.len(), "are no numbers and were" if bad.len() > 1 else "is no number and was")
    elif doubted:
        found.doubt = "its commas may stand before decimals or between thousands"
    elif points and not decimal_comma:
        found.doubt = "its points stand between thousands, by its numbers: 999 is followed by 1.000"
    return found


def _points_between_thousands(texts: polars.Series, decimal_comma: bool) -> bool:
    """Whether the points of a column stand between thousands: each before three digits, in a file of decimal commas, or
    beside whole numbers that end at 999.
    """
    pointed = texts.str.contains(".", literal=True).fill_null(False)
    if not pointed.any() or texts.str.contains(",", literal=True).any():
        return False
    if not texts.filter(pointed).str.contains(r"^[+-]?\d{1,3}(\.\d{3})+$").all():
        return False
    import polars as pl

    return decimal_comma or thousands_by_numbers(numeric(texts.cast(pl.Float64, strict=False)))


def thousands_by_numbers(values: FloatArray) -> bool:
    """Whether numbers read with points for decimals look like 998, 999, 1.000, 1.001: whole numbers from 100 to 999 beside
    small ones of three decimals, and nothing between.
    """
    seen = np.abs(values[:: max(1, values.size // MOST_LOOKED_AT)])
    seen = seen[np.isfinite(seen)]
    if not seen.size:
        return False
    large, small = seen[seen >= 100.0], seen[(seen > 0.0) & (seen < 100.0)]
    if not large.size or not small.size or float(seen.max()) > 999.0 or np.any(large != np.rint(large)):
        return False
    broken = small[small != np.rint(small)]
    fine = np.abs(broken * 100.0 - np.rint(broken * 100.0)) > 1e-6
    return bool(np.unique(large).size >= LEAST_DISTINCT and broken.size >= LEAST_DISTINCT and np.mean(fine) > 0.5)


def _said(count: int, what: str) -> str:
    return f"{count:,} field{'s' if count > 1 else ''} {what} read as missing"


def _found(number: polars.Series) -> int:
    return number.len() - number.null_count()


def _cast(texts: polars.Series, decimal_comma: bool) -> polars.Series:
    """Texts as numbers where they are some: the file's decimal sign, and those between thousands that can be no other."""
    import polars as pl

    plain = texts
    blanks = plain.str.contains(_THOUSANDS_BLANK)
    if blanks.any():
        plain = pl.select(
            pl.when(blanks).then(plain.str.replace_all(r"[ '\u00a0\u202f’]", "")).otherwise(plain)
        ).to_series()
    comma = plain.str.contains(",", literal=True).any()
    if comma:
        point = plain.str.contains(".", literal=True)
        if decimal_comma:
            both = point & plain.str.contains(_THOUSANDS_POINT)
            plain = pl.select(
                pl.when(both).then(plain.str.replace_all(".", "", literal=True)).otherwise(plain)
            ).to_series()
            plain = plain.str.replace(",", ".", literal=True)
        elif (point & plain.str.contains(_THOUSANDS_COMMA)).any():
            thousands = plain.str.contains(_THOUSANDS_COMMA)
            plain = pl.select(
                pl.when(thousands).then(plain.str.replace_all(",", "", literal=True)).otherwise(plain)
            ).to_series()
        elif not point.any() and not _all_thousands(plain):
            plain = plain.str.replace(",", ".", literal=True)
    plain = plain.str.strip_suffix("%").str.strip_chars_end()
    return plain.cast(pl.Float64, strict=False)


def _all_thousands(texts: polars.Series) -> bool:
    """Whether every comma of a column stands before three digits, so that it may be a decimal one or not."""
    with_comma = texts.filter(texts.str.contains(",", literal=True))
    return bool(with_comma.len()) and bool(with_comma.str.contains(_THOUSANDS_COMMA).all())


def _ambiguous(texts: polars.Series, decimal_comma: bool) -> bool:
    return not decimal_comma and bool(texts.str.contains(",", literal=True).any()) and _all_thousands(texts)


def _without_unit(texts: polars.Series) -> tuple[polars.Series, str]:
    """Numbers that each carry the same unit, without it; the texts as they are where they do not."""
    ends = texts.str.extract(_WITH_UNIT, 2).str.strip_chars()
    known = ends.drop_nulls().unique()
    if known.len() != 1 or ends.null_count() > texts.null_count() + 0.2 * texts.len():
        return texts, ""
    bare = texts.str.extract(_WITH_UNIT, 1)
    return bare.fill_null(texts), str(known[0])


def _states(texts: polars.Series) -> Field:
    """A column of words as places in the list of its words."""
    import polars as pl

    short = texts.str.slice(0, MOST_STATE_LETTERS)
    words = short.drop_nulls().unique(maintain_order=True)
    if words.len() > MOST_STATES:
        return Field(
            np.full(texts.len(), np.nan), ("…",), note=f"it holds {words.len():,} texts, which were left out"
        )
    places = {str(w): float(i) for i, w in enumerate(words)}
    values = short.replace_strict(places, default=None, return_dtype=pl.Float64) if places else short.cast(pl.Float64)
    return Field(numeric(values), tuple(in_plain(w) for w in places) or ("…",))
