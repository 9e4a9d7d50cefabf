"""What each column of a log means, with how sure that is and why; what the numbers leave open is asked."""

from __future__ import annotations

from collections.abc import Mapping as Table
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from yarvic.core.errors import UnitError
from yarvic.core.evidence.bounds import Around, fits, glance, percentiles, pressures_that_fit, units_that_fit
from yarvic.core.evidence.channels import CHANNELS, ChannelKind
from yarvic.core.evidence.dictionary import TIME, Dictionary, Header, Words, dictionary, read_header
from yarvic.core.evidence.mapping import AFR, SURE, About, Column, How
from yarvic.core.evidence.meaning import OPEN, mixture_kind, retard_sign
from yarvic.core.evidence.raw import RawColumn, RawLog
from yarvic.core.physics import FloatArray
from yarvic.core.units import Reference, is_afr, read_unit, unit

STATED, BY_NUMBERS, BY_COMPANY, ASKED = 1.0, 0.95, 0.7, 0.5
# Boost stays nearer to its target than this, and a barometer lies further off. Our choice.
MOST_OFF_TARGET_PA, MOST_OFF_WITHOUT_UNIT_PA = 45e3, 8e3
_WITHOUT_UNIT = ("", "-", "--", "1", "[-]", "none", "n/a")
_ORDER = ("engine_speed", "throttle", "ambient_pressure", "boost_pressure", "lambda_measured")


@dataclass
class _Guess:
    """A column on its way to its meaning."""

    raw: RawColumn
    header: Header
    key: str
    words: Words
    unit: str = ""
    reference: Reference = ""
    sign: int = 1
    confidence: float = STATED
    reasons: list[str] = field(default_factory=list)
    question: str = ""
    about: About = ""

    @property
    def kind(self) -> ChannelKind:
        return CHANNELS[self.key]

    @property
    def values(self) -> FloatArray:
        return glance(self.raw.values)

    def ask(self, about: About, question: str) -> None:
        """Leave something open: the first thing asked stands."""
        if not self.question:
            self.question, self.about = question, about
            self.confidence = min(self.confidence, ASKED)

    def canonical(self) -> FloatArray:
        """A glance at its numbers in the canonical unit, its own sign left as it is."""
        if self.unit in ("", AFR):
            return self.values
        return np.asarray(self.values * unit(self.unit).factor + unit(self.unit).offset)

    def column(self) -> Column:
        how: How = "used" if self.confidence >= STATED and not self.question else "guessed"
        return Column(
            name=self.raw.name, header_unit=self.raw.unit, channel=self.key, unit=self.unit, reference=self.reference,
            sign=-1 if self.sign == -1 else 1, how=how, confidence=self.confidence,
            reason="; ".join(self.reasons) or "by its name and unit", question=self.question, about=self.about,
        )  # fmt: skip


def guess_columns(raw: RawLog, words: Dictionary | None = None) -> list[Column]:
    """The meaning of every column, in their order, that of time aside.

    A guess that its name, unit and numbers do not compel carries a question. No column is refused.
    """
    words = words or dictionary()
    headers = [read_header(c.name, c.unit, words) for c in raw.columns]
    from_zero = {h.named.family for h in headers if h.named is not None and _is_zero(h.which)}
    made: dict[int, Column] = {}
    guesses: dict[int, _Guess] = {}
    for i, (column, header) in enumerate(zip(raw.columns, headers, strict=True)):
        started = _begin(column, header, from_zero, words)
        if isinstance(started, Column):
            made[i] = started
        else:
            guesses[i] = started
    known: dict[str, _Guess] = {}
    for i in sorted(guesses, key=lambda i: _rank(guesses[i].key)):
        g = guesses[i]
        around = _around(raw, g, known)
        _settle(g, around, known)
        if g.raw.doubt:
            g.ask("column", g.raw.doubt)
        known.setdefault(g.key, g)
    _by_company(list(guesses.values()))
    made.update({i: g.column() for i, g in guesses.items()})
    return [made[i] for i in range(len(raw.columns))]


def _rank(key: str) -> int:
    return _ORDER.index(key) if key in _ORDER else len(_ORDER)


def _is_zero(which: str) -> bool:
    return which == "0"


def _unknown(column: RawColumn, reason: str) -> Column:
    return Column(name=column.name, header_unit=column.unit, reason=reason)


def _begin(raw: RawColumn, header: Header, from_zero: set[str], words: Dictionary) -> Column | _Guess:
    """A guess begun by the name and what unit stands there; or a column that is not understood, with the reason."""
    if raw.states:
        return _unknown(raw, "it holds words, which are read as states")
    header, found, reference, why = _fitting(header, words)
    if header.named is None:
        return _unknown(raw, "its name is unknown")
    if header.named.family == TIME:
        return _unknown(raw, "a second column of time")
    if why:
        return _unknown(raw, why)
    key, reasons = header.key, []
    if header.named.family in from_zero and header.which.isdigit():
        key = f"{header.named.family}_{int(header.which) + 1}"
        reasons.append(f"cylinders are numbered from 0; this one was read as number {int(header.which) + 1}")
    if key not in CHANNELS:
        return _unknown(raw, f"there is no {header.named.family.replace('_', ' ')} {header.which.replace('_', ' ')}")
    sure = BY_NUMBERS if reasons else STATED
    g = _Guess(raw, header, key, words.words[header.named.family], found, reference, header.named.sign, sure, reasons)
    if not header.named.certain:
        g.ask("column", f"its name may stand for {CHANNELS[key].title.lower()} or for something else")
    return g


def _fitting(header: Header, words: Dictionary) -> tuple[Header, str, Reference, str]:
    """The header with the label and reference of its unit, and why it does not fit the channel (empty where it does)."""
    if header.named is None or header.named.family == TIME:
        return header, "", "", ""
    quantity = CHANNELS[header.named.family if header.named.family in CHANNELS else header.key].quantity
    stated = header.unit.strip()
    if quantity == "mixture" and is_afr(stated):
        return header, AFR, "", ""
    if stated in _WITHOUT_UNIT and (stated in ("", "none", "n/a") or quantity in ("mixture", "ratio")):
        return header, _named_unit(header, quantity), "", ""
    try:
        found, reference = read_unit(stated)
    except UnitError:
        return header, "", "", f"its unit '{stated}' is unknown"
    if found.quantity == quantity:
        return header, found.label, reference, ""
    # The unit may tell which of two things a name means: a speed in rpm is the engine's.
    other = words.find(f"{header.name} {found.label}")
    if other is not None and CHANNELS[other.family].quantity == found.quantity:
        return replace(header, named=other, which=""), found.label, reference, ""
    return header, "", "", f"{stated} measures {found.quantity}, not {quantity}"


def _named_unit(header: Header, quantity: str) -> str:
    """The unit that a name is: RPM, Lambda, AFR; empty for others."""
    last = header.name.replace("_", " ").split()
    for words in (header.name, *last):
        if quantity == "mixture" and is_afr(words):
            return AFR
        if quantity in ("mixture", "engine speed"):
            try:
                return read_unit(words, quantity=quantity)[0].label
            except UnitError:
                continue
    return ""


def _around(raw: RawLog, g: _Guess, known: Table[str, _Guess]) -> Around:
    """Throttle and engine speed at the samples of a column."""
    nothing = np.full(g.values.shape, np.nan)

    def at(key: str) -> FloatArray:
        other = known.get(key)
        if other is None or other.question or not other.unit:
            return nothing
        if other.raw.time_s is None and g.raw.time_s is None and other.raw.values.size == g.raw.values.size:
            return other.canonical()
        row = raw.time.values if raw.time is not None else None
        there, here = (c.time_s if c.time_s is not None else row for c in (other.raw, g.raw))
        good = np.isfinite(other.raw.values)
        if there is None or here is None or not good.any() or there.size != good.size:
            return nothing
        scale = unit(other.unit)
        return np.interp(glance(here), there[good], other.raw.values[good]) * scale.factor + scale.offset

    return Around(at("throttle"), at("engine_speed"))


def _settle(g: _Guess, around: Around, known: Table[str, _Guess]) -> None:
    """Find unit, reference and sign, or what has to be asked."""
    if not np.isfinite(g.values).any():
        g.reasons.append("it holds no numbers")
        g.unit = g.unit or g.kind.unit
    elif g.kind.quantity == "mixture":
        _mixture(g)
    elif g.kind.reference == "absolute":
        _pressure(g, around, known)
    else:
        _plain(g)
    if g.kind.sign:
        _sign(g)


def _plain(g: _Guess) -> None:
    """A unit that is not stated, by the bounds of the channel; one that is, held against them."""
    possible = units_that_fit(g.words, g.values)
    if not g.unit:
        if len(possible) == 1:
            g.unit, g.confidence = possible[0], BY_NUMBERS
            g.reasons.append(f"no unit stands there; its numbers can only be {g.unit}")
        elif possible:
            g.ask("unit", f"no unit stands there, and its numbers can be {_or(possible)}")
        else:
            g.ask("unit", "no unit stands there, and its numbers fit none")
    elif not fits(g.words, g.canonical()) and not g.kind.sign:
        _misfit(g, possible)


def _misfit(g: _Guess, possible: Sequence[str]) -> None:
    """Ask about a stated unit in which the numbers cannot be: another one would fit, or they are past all bounds."""
    ends = percentiles(g.canonical())
    assert ends is not None
    others = [u for u in possible if u != g.unit]
    low, high = (e / unit(g.words.in_unit).factor for e in ends)
    shift = unit(g.words.in_unit).offset / unit(g.words.in_unit).factor
    if others:
        g.ask("unit", f"its numbers do not fit {g.unit}, as its header says, but {_or(others)}")
    elif g.kind.quantity == "angle" and fits(g.words, -g.canonical()):
        g.ask("sign", "its numbers seem to be counted with the other sign")
    elif low - shift < g.words.lowest[0] or high - shift > g.words.highest[1]:
        g.ask("unit", f"its numbers lie where {g.kind.title.lower()} in {g.unit} cannot")


def _mixture(g: _Guess) -> None:
    seen = mixture_kind(g.values)
    stated = g.unit
    as_seen = AFR if seen == "ratio" else seen
    if stated and seen and as_seen != stated:
        words = "lambda" if seen == "lambda" else "an air-fuel ratio"
        g.ask("unit", f"its header says otherwise, but its numbers are those of {words}")
    elif not stated and seen:
        g.unit, g.confidence = as_seen, BY_NUMBERS
        g.reasons.append(
            f"no unit stands there; its numbers are those of {'lambda' if seen == 'lambda' else 'a ratio'}"
        )
    elif not stated or not seen:
        g.ask("unit", "its numbers may be lambda or an air-fuel ratio: write the unit behind the name")
    if g.unit == "lambda" and not g.question and not fits(g.words, g.values):
        g.ask("unit", "its numbers lie where lambda cannot")


def _pressure(g: _Guess, around: Around, known: Table[str, _Guess]) -> None:
    """A pressure before or in the intake: its unit and what it is counted from."""
    stated = g.reference or g.header.reference
    if g.reference and g.header.reference and g.reference != g.header.reference:
        g.ask("reference", f"its name says {g.header.reference}, its unit {g.reference}")
    if stated == "difference":
        g.ask("reference", "is a pressure difference, where an absolute pressure is asked for")
        return
    if g.kind.family == "ambient_pressure":
        _barometer(g)
        return
    alike = known.get("boost_pressure") if g.kind.family == "boost_target" else None
    if not stated and alike is not None and _counted_alike(g, alike, around):
        # A unit states target and pressure alike.
        stated = alike.reference
        g.unit, g.confidence = alike.unit, min(alike.confidence, BY_NUMBERS)
        g.reasons.append("counted as the pressure is")
    units = (g.unit,) if g.unit else g.words.unstated
    references: tuple[Reference, ...] = (stated,) if stated else ("absolute", "gauge")
    if g.kind.family == "boost_target":
        around = Around(*(np.full(g.values.shape, np.nan),) * 2)  # what a unit asks for follows no throttle
    possible = list(pressures_that_fit(g.words, g.values, around, units, references))
    g.reference = stated
    if len(possible) == 1 and (stated or g.kind.family != "boost_target"):
        _take_pressure(g, *possible[0])
        return
    if not possible:
        _no_pressure(g, around, stated)
    elif g.unit or len({u for u, _ in possible}) == 1:
        g.unit = g.unit or possible[0][0]
        g.ask(
            "reference",
            "whether it is absolute or gauge pressure cannot be told: write for example kPa abs or bar(g)",
        )
    else:
        g.ask("unit", f"no unit stands there, and its numbers can be {_or([f'{u} {r}' for u, r in possible])}")


def _counted_alike(target: _Guess, pressure: _Guess, around: Around) -> bool:
    """Whether a target is counted as its pressure is: read so, both come near each other under an open throttle."""
    if not pressure.reference or pressure.question or target.unit not in ("", pressure.unit):
        return False
    factor = unit(pressure.unit).factor
    ends = [percentiles(v) for v in (target.values, pressure.values)]
    if ends[0] is None or ends[1] is None:
        return False
    if not target.unit:
        # Without a unit of its own: only where its numbers can be in no other.
        nothing = Around(*(np.full(target.values.shape, np.nan),) * 2)
        possible = pressures_that_fit(
            target.words, target.values, nothing, target.words.unstated, ("absolute", "gauge")
        )
        if {u for u, _ in possible} != {pressure.unit}:
            return False
    apart = [abs(a - b) * factor for a, b in zip(ends[0], ends[1], strict=True)]
    opened = around.throttle >= OPEN
    if opened.any() and target.values.shape == pressure.values.shape:
        apart.append(abs(float(np.nanmedian(target.values[opened] - pressure.values[opened]))) * factor)
    # Without a unit of its own it must lie close by: other units come near as well.
    return apart[-1] < (MOST_OFF_TARGET_PA if target.unit else MOST_OFF_WITHOUT_UNIT_PA)


def _take_pressure(g: _Guess, label: str, reference: Reference) -> None:
    if not g.unit:
        g.unit, g.confidence = label, BY_NUMBERS
        g.reasons.append(f"no unit stands there; its numbers can only be {label}")
    if not g.reference:
        g.reference, g.confidence = reference, min(g.confidence, BY_NUMBERS)
        g.reasons.append(f"read as {reference} pressure, by its numbers")


def _no_pressure(g: _Guess, around: Around, stated: Reference) -> None:
    """Numbers that fit neither: another unit or reference would, or none does."""
    others = list(pressures_that_fit(g.words, g.values, around, g.words.unstated, ("absolute", "gauge")))
    said = f"{g.unit} {stated}".strip()
    if others and said:
        g.ask(
            "reference" if any(u == g.unit for u, _ in others) else "unit",
            f"its numbers do not fit {said}, as its header says, but {_or([f'{u} {r}' for u, r in others])}",
        )
    elif not g.unit or g.confidence < STATED:
        g.ask("unit", "no unit stands there, and its numbers fit none")
    else:
        known = percentiles(g.canonical())
        # An engine that stands or idles reaches no boost: too low is no fault of the unit.
        if known is None or known[1] > 520e3 or not g.unit or known[0] < -110e3:
            g.ask("unit", "its numbers lie where no intake pressure can")
        elif not stated:
            g.ask("reference", "whether it is absolute or gauge pressure cannot be told: write for example kPa abs")


def _barometer(g: _Guess) -> None:
    g.reference = g.reference or "absolute"
    _plain(g)
    if g.reference == "gauge":
        g.ask("reference", "a barometer that is counted from the barometer says nothing")


def _sign(g: _Guess) -> None:
    sign = retard_sign(g.values, g.sign)
    if sign == 0:
        g.ask(
            "sign",
            "whether a positive number is advance or retard cannot be told:"
            " call the column 'Knock retard' with positive numbers, or 'Spark correction' with negative ones",
        )
    else:
        g.sign = sign
    if g.unit and not g.question and not fits(g.words, g.canonical() * g.sign):
        g.ask("unit", f"its numbers lie where {g.kind.title.lower()} in {g.unit} cannot")


def _by_company(guesses: list[_Guess]) -> None:
    """Offer for a temperature without a unit the one that the other temperatures of the file can only have.

    It is offered, not taken: a file may hold two.
    """
    others = [g.unit for g in guesses if g.kind.quantity == "temperature" and g.unit and not g.question]
    if len(set(others)) != 1:
        return
    for g in guesses:
        if g.kind.quantity == "temperature" and not g.unit and others[0] in units_that_fit(g.words, g.values):
            g.unit, g.confidence = others[0], BY_COMPANY
            g.reasons.append(f"the other temperatures of the file are in {others[0]}")


def _or(words: Sequence[str]) -> str:
    return f"{', '.join(words[:-1])} or {words[-1]}" if len(words) > 1 else words[0]


def is_sure(column: Column) -> bool:
    """Whether a column may be judged by: nothing is asked of it, and no guess of it is less than sure."""
    return not column.question and (column.how in ("used", "confirmed") or column.confidence >= SURE)
