"""Time that stands in several columns, or in digits of a clock: put together as seconds, with what was done said."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.dictionary import squeezed
from yarvic.core.physics import FloatArray

_PARTS: Mapping[str, frozenset[str]] = {
    "hour": frozenset({"hour", "hours", "h", "hh", "stunde", "stunden", "std", "heure", "heures", "hora", "ora"}),
    "minute": frozenset({"minute", "minutes", "min", "mm", "minuten", "minuto", "minuti", "minutos"}),
    "second": frozenset(
        {"second", "seconds", "sec", "s", "ss", "sekunde", "sekunden", "seconde", "secondes", "segundo"}
    ),
    "milli": frozenset({"ms", "msec", "millis", "milli", "millisecond", "milliseconds", "millisekunden", "timems"}),
}
_OF_DAY = ("gps", "utc", "hhmmss", "timeofday", "tod")
DAY_S = 86_400.0
# A column of milliseconds begins anew with each second: so often of the seconds' steps at least. Our choice.
BEGINS_ANEW = 0.8
LEAST_FALLS = 2


@dataclass(frozen=True)
class PutTogether:
    """Seconds, the places of the columns that they are from, and what was done, in a sentence."""

    seconds: FloatArray
    places: tuple[int, ...]
    note: str


def put_together(
    names: Sequence[str], columns: Mapping[int, FloatArray], clock: FloatArray | None
) -> PutTogether | None:
    """Time from parts: hours, minutes and seconds apart; seconds, or a `clock` to the second, beside milliseconds; the
    digits of a clock, 135955.25. None where the columns of numbers (by place) are no such parts.
    """
    return _hours_apart(names, columns) or _beside_milliseconds(names, columns, clock) or _digits(names, columns)


def is_part(name: str) -> bool:
    """Whether a column's name is that of a part of a time, or of a clock."""
    bare = squeezed(name)
    return any(bare in words for words in _PARTS.values()) or any(word in bare for word in _OF_DAY)


def _places(names: Sequence[str], columns: Mapping[int, FloatArray], part: str) -> list[int]:
    return [n for n in columns if squeezed(names[n]) in _PARTS[part]]


def _within(values: FloatArray, below: float) -> bool:
    return bool(values.size and np.all(np.isfinite(values)) and values.min() >= 0.0 and values.max() < below)


def _hours_apart(names: Sequence[str], columns: Mapping[int, FloatArray]) -> PutTogether | None:
    found = [_places(names, columns, part) for part in ("hour", "minute", "second")]
    if not all(found):
        return None
    h, m, s = (columns[each[0]] for each in found)
    if not (_within(h, 24.0) and _within(m, 60.0) and _within(s, 61.0)):
        return None
    used = [each[0] for each in found]
    total = h * 3600.0 + m * 60.0 + s
    milli = next((n for n in _places(names, columns, "milli") if _within(columns[n], 1000.0)), None)
    if milli is not None and np.all(s == np.rint(s)):
        total, used = total + columns[milli] / 1000.0, [*used, milli]
    total = _past_midnight(total)
    return PutTogether(
        total - total[0], tuple(used), "its time stands in hours, minutes and seconds, which were added"
    )


def _past_midnight(seconds: FloatArray) -> FloatArray:
    falls = np.diff(seconds) < -0.5 * DAY_S
    return np.asarray(seconds + np.concatenate(([0.0], np.cumsum(falls))) * DAY_S)


def _beside_milliseconds(
    names: Sequence[str], columns: Mapping[int, FloatArray], clock: FloatArray | None
) -> PutTogether | None:
    """Milliseconds that begin anew with each whole second of the column beside."""
    for n in _places(names, columns, "milli"):
        milli = columns[n]
        falls = np.diff(milli) < 0.0
        if not _within(milli, 1000.0) or np.count_nonzero(falls) < LEAST_FALLS:
            continue
        whole = [
            (p, v) for p, v in columns.items() if p != n and np.all(v == np.rint(v)) and np.all(np.diff(v) >= 0.0)
        ]
        bases = [((), clock)] if clock is not None and clock.size == milli.size else []
        for place, base in [*(((p,), v) for p, v in whole), *bases]:
            steps = np.diff(base) > 0.0
            together = np.count_nonzero(steps & falls)
            if together >= BEGINS_ANEW * float(max(int(np.count_nonzero(steps)), int(np.count_nonzero(falls)), 1)):
                seconds = base + milli / 1000.0
                note = f"its seconds and the milliseconds of '{names[n].strip()[:40]}' were added"
                return PutTogether(seconds - seconds[0], (*place, n), note)
    return None


def _digits(names: Sequence[str], columns: Mapping[int, FloatArray]) -> PutTogether | None:
    """A clock as one number, hours, minutes and seconds as its digits: 135959.95 is followed by 140000.00."""
    for n, values in columns.items():
        if not _within(values, 240_000.0) or values.max() < 100.0:
            continue
        h, m, s = np.floor(values / 1e4), np.floor(values / 100.0) % 100.0, values % 100.0
        if h.max() >= 24.0 or m.max() >= 60.0 or s.max() >= 60.0:
            continue
        seconds = _past_midnight(h * 3600.0 + m * 60.0 + s)
        turned = bool(np.any(np.diff(m) != 0.0))
        named = any(word in squeezed(names[n]) for word in _OF_DAY)
        if np.any(np.diff(seconds) < 0.0) or not (named or (turned and _even(seconds) and not _even(values))):
            continue
        return PutTogether(seconds - seconds[0], (n,), "its time is a clock of digits, hours, minutes and seconds")
    return None


def _even(values: FloatArray) -> bool:
    """Whether steps are alike but for a few: none is many times the usual one."""
    steps = np.diff(values)
    usual = float(np.median(steps))
    return bool(usual > 0.0 and steps.max() < 5.0 * usual)
