"""From a log as a file holds it to channels in canonical units, by what its columns mean."""

from __future__ import annotations

from collections.abc import Callable
from collections.abc import Mapping as Table
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from yarvic.core.errors import FormatError, in_plain
from yarvic.core.evidence.as_told import as_told, scaled, still_time, time_place, with_rows
from yarvic.core.evidence.barometer import to_absolute
from yarvic.core.evidence.bounds import Around, glance, percentiles
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.clock import MOST_TIME_S, rising, seconds, stamps
from yarvic.core.evidence.counted import Guess, canonical, settle
from yarvic.core.evidence.dictionary import TIME, Dictionary, Header, Named, dictionary, read_header, squeezed
from yarvic.core.evidence.doubles import settle_doubles
from yarvic.core.evidence.guess import guess_columns, is_sure
from yarvic.core.evidence.log import NO_FUEL, Channel, Doubt, Log
from yarvic.core.evidence.mapping import AFR, PHI, Column, CurveSaid, Facts, Mapping, fingerprint
from yarvic.core.evidence.raw import RawColumn, RawLog
from yarvic.core.evidence.sheet.columns import by_identity, curve_said, sheet_columns
from yarvic.core.evidence.sheet.words import for_sheets
from yarvic.core.evidence.vote import STATED
from yarvic.core.physics import FloatArray
from yarvic.core.units import CANONICAL, UNITS, unit

UNKNOWN = "unknown quantity"
# By these a gauge pressure becomes absolute.
_TELLING = frozenset({"ambient_pressure", "engine_speed", "boost_pressure"})
# An air-fuel ratio beside a lambda shows its fuel where one is the other times a number: within this share and what
# rounding takes, over so many rows, while both move by this share at least. Our choice.
ALIKE, LEAST_ALIKE_OF, LEAST_MOVED = 0.001, 20, 0.03


@dataclass(frozen=True)
class Understood:
    """What a log's columns mean: `time` and one for each of its columns, in their order."""

    time: Column
    columns: tuple[Column, ...]
    curve: CurveSaid | None = None

    def mapping(self, raw: RawLog, title: str = "") -> Mapping:
        """The same as it is kept and shared."""
        assert raw.time is not None
        pairs = zip(raw.columns, self.columns, strict=True)
        return Mapping(
            title=title,
            fingerprint=fingerprint([raw.time, *raw.columns]),
            columns=(self.time, *(_with_seen(scaled(raw, c, m)[0], m) for c, m in pairs)),
            curve=self.curve,
        )


def understand(
    raw: RawLog, known: Mapping | None = None, words: Dictionary | None = None, source: str = ""
) -> Understood:
    """What every column means: as a person confirmed it before (`known`), else by name, unit and numbers.

    A recording without a column of time is given its rows as one, and that is asked. Raises FormatError where there are
    no rows either, and for a mapping of which no column is there.
    """
    words = words or dictionary()
    with_rows(raw)
    if raw.time is None:
        raise no_time(raw, source)
    if raw.sheet:
        words = for_sheets(words)
    guess = partial(sheet_columns if raw.sheet else guess_columns, raw, words)
    told: Column | None = None
    if known is not None:
        told, columns = _confirmed(raw, known, guess, words, source)
    else:
        columns = guess()
    numbers = replace(raw, columns=[scaled(raw, c, m)[0] for c, m in zip(raw.columns, columns, strict=True)])
    columns = settle_doubles(numbers, columns)
    if raw.sheet:
        columns = by_identity(numbers, columns)
    time = stamps(raw, _engine_speed(numbers, columns))
    if (
        told is not None
        and told.unit
        and (raw.clock in ("number", "row") or (time.question and told.how == "confirmed"))
    ):
        time = told
    named = time_place(columns)
    if named is not None:
        time = time.left_aside(f"'{columns[named].name}' was named as time")
    said = curve_said(raw, columns, known.curve if known is not None else None) if raw.sheet else None
    return Understood(time, tuple(columns), said)


def might_be_log(raw: RawLog, understood: Understood) -> bool:
    """Whether a recording without a column of time is worth asking for one: it names a channel, or something rises."""
    return any(c.channel for c in understood.columns) or bool(rising(raw))


def no_time(raw: RawLog, source: str) -> FormatError:
    """The error for a log without a column of time: it says which of its columns might be one."""
    might_be = rising(raw)
    might = (
        f" Column '{in_plain(might_be[0].name, 60)}' rises steadily: if it is time, say so with its unit."
        if might_be
        else ""
    )
    return FormatError(
        "there is no time column",
        concerns=source,
        remedy=f"Name one column 'time [s]' or 'time [ms]'.{might} A dyno sheet needs engine speed beside power or torque.",
    )


def _same(raw: RawColumn, column: Column) -> bool:
    return squeezed(raw.name) == squeezed(column.name) and squeezed(raw.unit) == squeezed(column.header_unit)


def _confirmed(
    raw: RawLog, known: Mapping, guess: Callable[[], list[Column]], words: Dictionary, source: str
) -> tuple[Column | None, list[Column]]:
    """The columns as they were confirmed, the others as they are guessed; and that of time, where it was confirmed.

    The same header may stand over other units another day: numbers that do not fit what was confirmed are asked anew.
    """
    assert raw.time is not None
    left = list(known.columns)
    told = next((c for c in left if c.channel == TIME and _same(raw.time, c)), None)
    found: list[Column | None] = []
    hits = 0 if told is None else 1
    for column in raw.columns:
        mine = next((c for c in left if c is not told and _same(column, c)), None)
        found.append(None if mine is None else _still_fits(scaled(raw, column, mine)[0], mine, words))
        if mine is not None:
            left.remove(mine)
            hits += 1
    if not hits and known.columns:
        raise FormatError(
            "is a mapping of another logger: none of its columns is in this log",
            concerns=source,
            remedy="Choose the mapping that was made for this kind of file.",
        )
    lost = [c.name for c in left if c.channel and c is not told and (c.channel != TIME or c.name)]
    if lost:
        raw.notes.append(
            f"the mapping names {len(lost)} columns that are not there, such as '{in_plain(lost[0], 60)}'"
        )
    # Guessing looks at all columns together: it is spared where every one of them was confirmed.
    guessed = guess() if None in found else []
    return told, [c if c is not None else guessed[n] for n, c in enumerate(found)]


def _still_fits(raw: RawColumn, mine: Column, words: Dictionary) -> Column:
    """A confirmed column, with a question where its numbers lie where they cannot."""
    taken = Column(**{**mine.entries(), "how": "confirmed", "confidence": 1.0, "reason": "as confirmed"})
    if mine.channel == TIME:
        return still_time(raw, taken)
    if not mine.channel or raw.states:
        return taken
    if not mine.unit or mine.question:
        return Column(
            **{
                **mine.entries(),
                "how": "guessed",
                "confidence": 0.5,
                "question": mine.question or "no unit was confirmed",
            }
        )
    if not np.isfinite(raw.values).any():
        return taken
    kind = CHANNELS[mine.channel]
    bounds = words.words[kind.family if kind.family in words.words else mine.channel]
    header = Header(mine.name, mine.header_unit, Named(kind.family))
    numbers = replace(raw, values=raw.values * mine.sign) if not kind.sign else raw
    anew = Guess(numbers, header, mine.channel, bounds, mine.unit, mine.reference)
    nothing = np.full(anew.values.shape, np.nan)
    settle(anew, Around(nothing, nothing), {})
    other = _as_last_time(anew, mine)
    if other:
        question = f"was confirmed as {mine.unit_in_words}; in {other} its numbers would lie where they lay then"
        return Column(**{**taken.entries(), "confidence": 0.5, "question": question, "about": "unit"})
    if anew.ballot is not None and mine.seen is not None:
        # What a person said weighs as much as a header again: an idle log reaches no boost, and is in the same unit.
        anew.ballot.add(lambda r: STATED if (r.unit, r.reference) == (mine.unit, mine.reference) else 0.0)
        best = anew.ballot.best()
        if best is None or best[0].unit == mine.unit:
            return taken
    if not anew.question or anew.ballot is None or anew.ballot.best() is None:
        return taken
    question = f"was confirmed as {mine.unit_in_words}, and its numbers here do not fit that"
    return Column(**{**taken.entries(), "confidence": 0.5, "question": question, "about": "unit"})


def _with_seen(raw: RawColumn, meant: Column) -> Column:
    """A column with where its numbers lie, for the next file of its logger."""
    if not meant.channel or not meant.unit or meant.question or raw.states:
        return meant
    ends = percentiles(canonical(glance(raw.values), meant.unit))
    return meant if ends is None else Column(**{**meant.entries(), "seen": ends})


# A unit is asked about again where another brings the numbers so near to the last file's and it does not, as shares of
# what they spanned then, or of their level. Our choice.
AS_LAST, UNLIKE_LAST = 0.25, 0.45


def _as_last_time(anew: Guess, mine: Column) -> str:
    """The unit in which numbers lie as they lay when they were confirmed, where in the confirmed one they do not."""
    ends = percentiles(anew.values)
    if mine.seen is None or ends is None or mine.unit not in UNITS:
        return ""
    before = mine.seen
    width = max(mine.seen[1] - mine.seen[0], 0.05 * max(map(abs, mine.seen)), 1e-9)

    def off(label: str) -> float:
        return max(abs(float(canonical(np.asarray(e), label)) - s) for e, s in zip(ends, before, strict=True)) / width

    if off(mine.unit) < UNLIKE_LAST:
        return ""
    others = [u for u in anew.words.unstated if u != mine.unit and off(u) < AS_LAST]
    return min(others, key=off) if others else ""


def _engine_speed(raw: RawLog, columns: list[Column]) -> FloatArray | None:
    for column, meant in zip(raw.columns, columns, strict=True):
        if meant.channel == "engine_speed" and meant.unit and column.time_s is None:
            return np.asarray(column.values * unit(meant.unit).factor)
    return None


def take(raw: RawLog, understood: Understood, facts: Facts | None = None, source: str = "") -> Log:
    """The log in canonical units. What is not known of a channel stays with it as its doubt.

    The raw columns are used up on the way, so that the log never stands in memory twice. Raises FormatError where
    a time stamp is missing or none that a clock can show.
    """
    facts = facts or Facts()
    raw, time, meant_as = as_told(raw, understood.time, understood.columns)
    understood = replace(understood, time=time, columns=meant_as)
    time_s = _seconds(raw, understood.time, source)
    doubtful_time = Doubt("time", understood.time.question) if understood.time.question else None
    notes = list(raw.notes)
    notes += [
        f"{c.name}: {c.reason}"
        for c in (understood.time, *understood.columns)
        if c.how == "guessed" and not c.question
    ]
    channels: dict[str, Channel] = {}
    pairs = list(zip(raw.columns, understood.columns, strict=True))
    stated = dict(_stoichiometric(pairs, facts))
    raw.columns = []
    while pairs:
        column, meant = pairs.pop(0)
        note = column.note
        if note:
            notes.append(f"{in_plain(column.name, 60)}: {note}")
        times = time_s if column.time_s is None else seconds(column.time_s, understood.time, raw)
        key = meant.channel or _own_key(column, channels)
        channel = _channel(key, column, meant, times, stated.get(id(column)))
        if doubtful_time is not None and channel.doubt is None:
            channel = replace(channel, doubt=doubtful_time)
        channels[key] = channel
    to_absolute(channels, understood.columns, facts, notes)
    return Log(channels, tuple(dict.fromkeys(in_plain(n, 300) for n in notes)))


def _own_key(column: RawColumn, channels: Table[str, Channel]) -> str:
    name, key, n = column.name or column.place, column.name or column.place, 2
    while key in channels or key in CHANNELS:
        key, n = f"{name} ({n})", n + 1
    return key


def _seconds(raw: RawLog, time: Column, source: str) -> FloatArray:
    assert raw.time is not None
    if not np.all(np.isfinite(raw.time.values)):
        raise FormatError("a time stamp is missing", concerns=source, remedy="Remove that line.")
    found = seconds(raw.time.values, time, raw)
    if found.size and np.abs(found).max() > MOST_TIME_S:
        raise FormatError(
            "a time stamp is none that a clock can show", concerns=source, remedy="Correct the column of time."
        )
    return found


def tells(column: Column) -> bool:
    """Whether other columns are read by this one: a gauge pressure by a barometer, a ratio by the lambda beside it."""
    kind = CHANNELS.get(column.channel)
    return kind is not None and (kind.family in _TELLING or kind.quantity == "mixture")


def _channel(key: str, raw: RawColumn, meant: Column, times: FloatArray, stoichiometric: float | None) -> Channel:
    """One channel in its canonical unit, with what is asked of it as its doubt; a gauge pressure is still one."""
    kind, values = CHANNELS.get(meant.channel), raw.values
    if kind is None:
        return Channel(key, raw.name or raw.place, UNKNOWN, raw.unit, times, values, states=raw.states)
    doubt = Doubt(meant.about or "column", meant.question) if meant.question else None
    if doubt is None and not is_sure(meant):
        doubt = Doubt("unit", f"{meant.reason}: confirm it with the import")
    if meant.unit == AFR:
        if stoichiometric is None:
            doubt = doubt or Doubt("fuel", NO_FUEL)
        else:
            values = values / stoichiometric
    if meant.unit == PHI:
        values = np.divide(1.0, values, out=np.full(values.shape, np.nan), where=values > 0.0)
    factor, offset = 1.0, 0.0
    if meant.unit and meant.unit not in (AFR, PHI):
        u = unit(meant.unit)
        factor, offset = u.factor, u.offset
    if meant.sign == -1:
        factor, offset = -factor, -offset
    if factor != 1.0:
        values = values * factor
        if offset != 0.0:
            values += offset
    elif offset != 0.0:
        values = values + offset
    return Channel(key, kind.title, kind.quantity, CANONICAL[kind.quantity], times, values, doubt)


def _stoichiometric(pairs: list[tuple[RawColumn, Column]], facts: Facts) -> list[tuple[int, float]]:
    """The ratio by which each column in AFR is counted: its own, that of the run, or what a lambda beside it shows.

    A measured ratio only follows a lambda that is a target: where the two are of one name rounding is allowed for, else
    they must be the same number but for the factor.
    """
    lambdas = [(r, _mixture_named(r)) for r, m in pairs if m.unit == "lambda" and not m.question]
    ratios = [(r, _mixture_named(r)) for r, m in pairs if m.unit == AFR or (not m.channel and _mixture_named(r))]
    tried = (
        _constant_ratio(ratio.values, of.values, one_name=named == of_named)
        for ratio, named in ratios
        for of, of_named in lambdas
        if ratio is not of and ratio.values.shape == of.values.shape
    )
    shown = next((found for found in tried if found is not None), None)
    stated = [(r, m.stoichiometric_afr or facts.stoichiometric_afr or shown) for r, m in pairs if m.unit == AFR]
    return [(id(raw), ratio) for raw, ratio in stated if ratio is not None]


def _mixture_named(raw: RawColumn) -> str:
    """The channel that a column's name stands for, where that is a mixture; also of one that was left aside."""
    key = read_header(raw.name, raw.unit).key
    kind = CHANNELS.get(key)
    return key if kind is not None and kind.quantity == "mixture" else ""


def _constant_ratio(ratio: FloatArray, of_lambda: FloatArray, *, one_name: bool) -> float | None:
    """What an air-fuel ratio is of a lambda that was logged beside it, where it is the same all along."""
    with np.errstate(divide="ignore", invalid="ignore"):
        each = ratio / of_lambda
    known = np.isfinite(each) & (of_lambda > 0.0)
    if np.count_nonzero(known) < LEAST_ALIKE_OF:
        return None
    low, high = np.percentile(of_lambda[known], (2, 98))
    middle = float(np.median(each[known]))
    if not 5.0 < middle < 20.0 or high < low * (1.0 + LEAST_MOVED):
        return None
    allowed = ALIKE + (
        sum(_step(v[known]) / float(np.median(v[known])) for v in (ratio, of_lambda)) if one_name else 0.0
    )
    return middle if float(np.percentile(np.abs(each[known] / middle - 1.0), 98)) < allowed else None


def _step(values: FloatArray) -> float:
    """The smallest step between numbers of a column: what it was rounded to, at the most."""
    steps = np.diff(np.unique(values))
    return float(steps.min()) if steps.size else 0.0
