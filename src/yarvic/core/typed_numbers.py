"""Numbers as a person types them: with decimal commas, marks between thousands, units behind them."""

from __future__ import annotations

import math
import re
from collections.abc import Callable

from yarvic.core.errors import UnitError
from yarvic.core.units import parse_unit, to_canonical, unit, units_of

Fits = Callable[[float], bool]
# Digits in groups of three: the first group, the mark between groups, the mark before the fraction.
_GROUPED = re.compile(r"[-+]?(\d{1,3})([,.'\u2019\u066c\u00a0\u202f ])\d{3}(?:\2\d{3})*(?:([.,])\d+)?")
_PLAIN = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
_MARKS = str.maketrans({"\u2212": "-", "\u066b": "."})  # a printed minus; the decimal mark of Arabic and Persian


def parse_number(text: str, fits: Fits | None = None) -> float:
    """A bare number as a person writes it: `6600`, `80.5`, `80,5`, `1,234.5`, `1.234,5`, `6 600`.

    One comma before three digits, as in `1,025`, may be a decimal comma or stand between thousands: it is read as the one
    that `fits`, where the other does not. Raises UnitError where that tells nothing, for anything else, and for what has
    no end.
    """
    words = text.strip().translate(_MARKS)
    groups = _GROUPED.fullmatch(words)
    if groups is not None:
        first, mark, fraction = groups.groups()
        several = fraction is not None or words.count(mark) > 1 or mark not in ",."
        if several and not first.startswith("0") and fraction != mark:
            words = words.replace(mark, "")
        elif mark == "," and not several and first.strip("0"):
            return _one_of(text.strip(), words, fits)
    if words.count(",") == 1 and "." not in words:
        words = words.replace(",", ".")
    value = float(words) if _PLAIN.fullmatch(words) else math.nan
    if not math.isfinite(value):
        raise UnitError(f"{text.strip()!r} is not a number", remedy="Write it as digits.")
    return value


def _one_of(text: str, words: str, fits: Fits | None) -> float:
    """What a comma that may be either stands for. Raises UnitError where both fit, or neither."""
    either = words.replace(",", ""), f"{float(words.replace(',', '.')):g}"
    fitting = [float(each) for each in either if fits is not None and fits(float(each))]
    if len(fitting) != 1:
        raise UnitError(f"{text!r} may be {either[0]} or {either[1]}", remedy=f"Write {either[0]} or {either[1]}.")
    return fitting[0]


def parse_numbers(text: str) -> tuple[float, ...]:
    """Several bare numbers, with blanks, semicolons or commas between them.

    A comma with no blank behind it is a decimal comma where a blank or a semicolon stands between the numbers, as in
    `3,6 2,1`. Raises UnitError for anything else, and where commas may be either, as in `3,6,2,1`.
    """
    words = re.sub(r"\s*;\s*|,\s+|\s+", ";", text.strip())
    if ";" not in words and words.count(",") > (0 if "." in words else 1):
        if "." not in words:
            raise UnitError(
                f"{text.strip()!r} has commas that may stand within numbers or between them",
                remedy="Put a blank between the numbers.",
            )
        words = words.replace(",", ";")
    return tuple(parse_number(word) for word in words.split(";") if word)


_MEASURE = re.compile(
    r"([-+\u2212]?[\d.,'\u2019\u066b\u066c\u00a0\u202f ]*?[\d.](?:[eE][-+]?\d+)?)\s*((?:(?<=\s)1/|(?![\d.,])\S).*)"
)


def parse_measure(text: str, quantity: str, fits: Fits | None = None) -> float:
    """A number with its unit, such as `25C` or `990 mbar`, in canonical units; `fits` is asked as in `parse_number`.

    Raises UnitError when the number, the unit or the quantity does not fit.
    """
    match = _MEASURE.fullmatch(text.strip())
    if not match:
        raise UnitError(
            f"{text!r} is not a number with a unit",
            remedy=f"Write for example 20{units_of(quantity)[0]}; units: {', '.join(units_of(quantity))}.",
        )
    found = parse_unit(match.group(2), quantity=quantity)
    own = None if fits is None else lambda value: fits(value * found.factor + found.offset)
    return parse_number(match.group(1), own) * found.factor + found.offset


def parse_entry(text: str, usual: str, fits: Fits | None = None) -> float:
    """A number with its unit, or without one in unit `usual`, in canonical units; `fits` is asked as in `parse_number`.

    Raises UnitError.
    """
    words = text.strip()
    if _MEASURE.fullmatch(words):
        return parse_measure(words, unit(usual).quantity, fits)
    own = None if fits is None else lambda value: fits(float(to_canonical(value, usual)))
    return float(to_canonical(parse_number(words, own), usual))


MOST_RPM_PER_M_S = 1e4
_GEARING = re.compile(
    r"^\s*(?P<number>\d+(?:[.,]\d+)?)\s*(?:rpm|1/min|/min|min-1)\s*(?:per|/)\s*\(?\s*(?P<unit>[^)]+?)\s*\)?\s*$"
)


def parse_gearing(text: str) -> float:
    """Engine speed for road speed, in rpm per m/s, from words such as `42.5 rpm per km/h` or `70 rpm/mph`.

    Raises UnitError for anything else.
    """
    match = _GEARING.match(text)
    if match is None:
        raise UnitError(
            f"{text!r} is no engine speed for a road speed", remedy="Write for example 42.5 rpm per km/h."
        )
    found = parse_number(match["number"]) / parse_unit(match["unit"], quantity="speed").factor
    if not 0.0 < found <= MOST_RPM_PER_M_S:
        raise UnitError(f"{text!r} is no gearing that a vehicle has", remedy="Write for example 42.5 rpm per km/h.")
    return found


def parse_turns(text: str) -> float:
    """Turns of the engine for one of the roller, such as `3.2` or `3.2 rpm per rpm`. Raises UnitError."""
    words = re.sub(r"\s*(rpm\s*(per|/)\s*rpm|turns?)\s*$", "", text.strip(), flags=re.IGNORECASE)
    try:
        found = parse_number(words)
    except UnitError:
        found = 0.0
    if not 0.0 < found <= 1e3:
        raise UnitError(f"{text!r} is no number of engine turns per roller turn", remedy="Write for example 3.2.")
    return found


def parse_address(text: str) -> int:
    """An address, decimal or hexadecimal (0x). Raises UnitError for anything else."""
    try:
        found = int(text, 0)
    except ValueError:
        found = -1
    if not 0 <= found <= 0xFFFF_FFFF:
        raise UnitError(f"{text!r} is no address", remedy="Write it as 0x80000 or as 524288.")
    return found
