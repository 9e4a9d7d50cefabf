"""What each column of a log means, with how sure that is and why; what the numbers leave open is asked."""

from __future__ import annotations

from collections.abc import Mapping as Table
from dataclasses import replace

import numpy as np

from yarvic.core.errors import UnitError
from yarvic.core.evidence.bounds import Around, glance
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.counted import KNOWN, Guess, by_company, settle, settle_signs
from yarvic.core.evidence.dictionary import TIME, Dictionary, Header, dictionary, read_header
from yarvic.core.evidence.mapping import AFR, PHI, SURE, Column
from yarvic.core.evidence.raw import RawColumn, RawLog
from yarvic.core.physics import BoolArray, FloatArray
from yarvic.core.units import Reference, is_afr, is_phi, read_unit, unit

BY_NUMBERS = 0.95
# A row of zeros is one where so many columns that move show zero at once. Our choice.
LEAST_MOVING = 3
_WITHOUT_UNIT = ("", "-", "--", "1", "[-]", "none", "n/a")
_ORDER = ("engine_speed", "throttle", "ambient_pressure", "boost_pressure", "lambda_measured")


def guess_columns(raw: RawLog, words: Dictionary | None = None) -> list[Column]:
    """The meaning of every column, in their order, that of time aside.

    A guess that its name, unit and numbers do not compel carries a question. No column is refused.
    """
    words = words or dictionary()
    headers = [read_header(c.name, c.unit, words) for c in raw.columns]
    from_zero = {h.named.family for h in headers if h.named is not None and _is_zero(h.which)}
    made: dict[int, Column] = {}
    guesses: dict[int, Guess] = {}
    for i, (column, header) in enumerate(zip(raw.columns, headers, strict=True)):
        started = _begin(column, header, from_zero, words)
        if isinstance(started, Column):
            made[i] = started
        else:
            guesses[i] = started
    known: dict[str, Guess] = {}
    blank, arounds = blank_rows(raw), {}
    for i in sorted(guesses, key=lambda i: _rank(guesses[i].key)):
        g = guesses[i]
        g.blank = blank
        arounds[id(g)] = _around(raw, g, known)
        settle(g, arounds[id(g)], known)
        if g.raw.doubt:
            g.ask("column", g.raw.doubt)
        known.setdefault(g.key, g)
    settle_signs(list(guesses.values()), arounds)
    by_company(list(guesses.values()))
    made.update({i: g.column() for i, g in guesses.items()})
    return [made[i] for i in range(len(raw.columns))]


def blank_rows(raw: RawLog) -> BoolArray | None:
    """The rows in which a logger that waits or lost its link wrote nothing but zeros; None where there are none.

    They say nothing of zero, sign or unit. A row counts where every column that moves shows exactly zero at once.
    """
    moving = [
        c.values
        for c in raw.columns
        if c.time_s is None and not c.states and c.values.size and float(np.nanmax(c.values, initial=0.0)) > 0.0
    ]
    if len(moving) < LEAST_MOVING or len({v.size for v in moving}) != 1:
        return None
    found = np.ones(moving[0].size, bool)
    for values in moving:
        found &= (values == 0.0) | np.isnan(values)
        if not found.any():
            return None
    return found


def _rank(key: str) -> int:
    return _ORDER.index(key) if key in _ORDER else len(_ORDER)


def _is_zero(which: str) -> bool:
    return which == "0"


def _unknown(column: RawColumn, reason: str) -> Column:
    return Column(name=column.name, header_unit=column.unit, reason=reason)


def _begin(raw: RawColumn, header: Header, from_zero: set[str], words: Dictionary) -> Column | Guess:
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
    sure = BY_NUMBERS if reasons else KNOWN
    g = Guess(raw, header, key, words.words[header.named.family], found, reference, header.named.sign, sure, reasons)
    if not header.named.certain:
        g.ask("column", f"its name may stand for {CHANNELS[key].title.lower()} or for something else")
    return g


def _fitting(header: Header, words: Dictionary) -> tuple[Header, str, Reference, str]:
    """The header with the label and reference of its unit, and why it does not fit the channel (empty where it does)."""
    if header.named is None or header.named.family == TIME:
        return header, "", "", ""
    quantity = CHANNELS[header.named.family if header.named.family in CHANNELS else header.key].quantity
    stated = header.unit.strip()
    if quantity == "mixture" and (is_afr(stated) or is_phi(stated)):
        return header, AFR if is_afr(stated) else PHI, "", ""
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
        if quantity == "mixture" and (is_afr(words) or is_phi(words)):
            return AFR if is_afr(words) else PHI
        if quantity in ("mixture", "engine speed"):
            try:
                return read_unit(words, quantity=quantity)[0].label
            except UnitError:
                continue
    return ""


def _around(raw: RawLog, g: Guess, known: Table[str, Guess]) -> Around:
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


def is_sure(column: Column) -> bool:
    """Whether a column may be judged by: nothing is asked of it, and no guess of it is less than sure."""
    return not column.question and (column.how in ("used", "confirmed") or column.confidence >= SURE)
