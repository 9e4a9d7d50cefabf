"""How each column of a log is counted: its unit, what a pressure is counted from, which sign, by a vote of hints."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from collections.abc import Mapping as Table
from dataclasses import dataclass, field

import numpy as np

from yarvic.core.evidence.bounds import GLANCE, Around, fits, glance, percentiles
from yarvic.core.evidence.channels import CHANNELS, ChannelKind
from yarvic.core.evidence.dictionary import Header, Words
from yarvic.core.evidence.mapping import AFR, PHI, About, Column, How
from yarvic.core.evidence.meaning import engine_that_slow, mixture_under_load, retard_score
from yarvic.core.evidence.raw import RawColumn
from yarvic.core.evidence.vote import (
    CANNOT,
    COMPANY,
    STATED,
    SURE_ODDS,
    Ballot,
    Reading,
    in_range,
    odd_readings,
)
from yarvic.core.evidence.zero import pressure_ballot, read_near
from yarvic.core.physics import BoolArray, FloatArray
from yarvic.core.units import UNITS, Reference, unit

KNOWN, ASKED = 1.0, 0.5
# The stoichiometric ratio by which a column in AFR is taken where only its range is looked at; of petrol.
ABOUT_AFR = 14.6
# Logarithms of likelihood ratios. Our choice.
SCALED, NOT_SCALED = 5.0, -3.0  # the header says that its numbers are tenths or tens
RARE_SCALE, RARE_FACTOR, RARE_SIGN, RARE_PHI = -6.0, -1.5, -2.5, -4.0
NAMED = 1.0  # what a name says that is a unit too
POSSIBLE_TOO = 2.5  # a stated unit in which the numbers can be
AROUND_ONE = 5.0  # a trim that lies around one
SYSTEM = 1.0  # other units of the file are metric, or are not
_SCALES = ("0.1", "0.01", "0.001", "10")
_NOT_METRIC = frozenset({"psi", "inHg", "degF", "mph", "lb/min", "lb-ft", "hp", "cfm"})
# What is made by a plain analogue sensor, whose volts or counts a logger may write.
_ANALOG = frozenset({"pressure", "temperature", "ratio", "mixture"})


@dataclass
class Guess:
    """A column on its way to its meaning."""

    raw: RawColumn
    header: Header
    key: str
    words: Words
    unit: str = ""
    reference: Reference = ""
    sign: int = 1
    confidence: float = KNOWN
    reasons: list[str] = field(default_factory=list)
    question: str = ""
    about: About = ""
    blank: BoolArray | None = None  # rows in which the logger wrote nothing but zeros
    ballot: Ballot | None = None

    @property
    def kind(self) -> ChannelKind:
        return CHANNELS[self.key]

    @property
    def values(self) -> FloatArray:
        seen = glance(self.raw.values)
        if self.blank is None or self.raw.time_s is not None:
            return seen
        hidden = self.blank[:: max(1, -(-self.blank.size // GLANCE))]
        return np.where(hidden, np.nan, seen) if hidden.shape == seen.shape else seen

    def ask(self, about: About, question: str) -> None:
        """Leave something open: the first thing asked stands."""
        if not self.question:
            self.question, self.about = question, about
            self.confidence = min(self.confidence, ASKED)

    def canonical(self) -> FloatArray:
        """A glance at its numbers in the canonical unit, its own sign left as it is."""
        return canonical(self.values, self.unit)

    def take(self, reading: Reading, odds: float, *, only: bool) -> None:
        """Take a reading of which the header says nothing, with its odds."""
        self.unit, self.reference = reading.unit, reading.reference
        self.confidence = min(self.confidence, odds)
        self.reasons.append(f"no unit is stated; {_by_numbers(reading.words, odds, only=only)}")

    def column(self) -> Column:
        how: How = "used" if self.confidence >= KNOWN and not self.question else "guessed"
        return Column(
            name=self.raw.name, header_unit=self.raw.unit, channel=self.key, unit=self.unit, reference=self.reference,
            sign=-1 if self.sign == -1 else 1, how=how, confidence=self.confidence,
            reason="; ".join(self.reasons) or "by its name and unit", question=self.question, about=self.about,
        )  # fmt: skip


def _by_numbers(words: str, odds: float, *, only: bool) -> str:
    return (
        f"its numbers can only be {words}"
        if only
        else f"its numbers are {words}, {min(odds, 0.999) * 100:.3g} % likely"
    )


def canonical(values: FloatArray, label: str) -> FloatArray:
    """Numbers in a unit as canonical ones; those without a unit, and ratios of unknown fuel, as they stand."""
    if label in ("", AFR):
        return values
    if label == PHI:
        return np.asarray(np.divide(1.0, values, out=np.full(values.shape, np.nan), where=values > 0.0))
    return np.asarray(values * unit(label).factor + unit(label).offset)


def settle(g: Guess, around: Around, known: Table[str, Guess]) -> None:
    """Find unit, reference and sign, or what has to be asked."""
    if not np.isfinite(g.values).any():
        g.reasons.append("it holds no numbers")
        g.unit = g.unit or g.kind.unit
    elif g.kind.reference == "absolute":
        _pressure(g, around, known)
    else:
        g.ballot = _unit_ballot(g, around)
        _count(g)


def _unit_ballot(g: Guess, around: Around) -> Ballot:
    """The units that a column's numbers can be in, and what header and range say of each."""
    usable = list(dict.fromkeys(([g.unit] if g.unit else []) + list(g.words.unstated)))
    if g.kind.quantity == "mixture":
        usable = list(dict.fromkeys([*usable, "lambda", AFR, PHI]))
    priors = {Reading(u): 0.0 for u in usable}
    if PHI in usable and g.unit != PHI:
        priors[Reading(PHI)] = RARE_PHI
    for base in usable:
        for label in (f"{k} {base}" for k in _SCALES):
            if label in UNITS:
                priors.setdefault(Reading(label), SCALED if g.header.scaled else RARE_SCALE)
        if g.header.scaled:
            priors[Reading(base)] = NOT_SCALED
    if g.kind.family in ("fuel_trim", "long_trim"):
        priors.setdefault(Reading("factor"), RARE_FACTOR)
    if g.kind.family == "spark_advance":
        priors.update({Reading(u, sign=-1): RARE_SIGN for u in usable})
    stated = bool(g.unit) and not _only_named(g)
    if not stated and not g.header.scaled and g.kind.quantity in _ANALOG:
        priors.update(odd_readings(g.values))
    ballot = Ballot(list(priors))
    ballot.add(priors.__getitem__)
    ballot.add(lambda r: _as_stated(g, r))
    ballot.add(lambda r: 0.0 if r.odd else in_range(g.words, _ends(g, r)))
    if Reading("factor") in priors and _around_one(g.values):
        ballot.add(lambda r: AROUND_ONE if r.unit == "factor" else -AROUND_ONE / 2.0)
    under_load = _UNDER_LOAD.get(g.kind.quantity)
    if under_load is not None and (g.kind.quantity != "mixture" or not stated):
        ballot.add(lambda r: 0.0 if r.odd else under_load(_read(g, r), around.throttle))
    return ballot


# What a reading of a quantity says of an open throttle.
_UNDER_LOAD: Table[str, Callable[[FloatArray, FloatArray], float]] = {
    "mixture": mixture_under_load,
    "engine speed": engine_that_slow,
}


def _as_stated(g: Guess, reading: Reading) -> float:
    """What the header's unit is worth: more where the numbers can be that, however unusual they are."""
    if not g.unit or reading.unit != g.unit:
        return 0.0
    said = NAMED if _only_named(g) else STATED
    return said + (POSSIBLE_TOO if in_range(g.words, _ends(g, reading)) > CANNOT else 0.0)


def _only_named(g: Guess) -> bool:
    """Whether a mixture's unit is that of its name: a sensor is called by it too, whose volts a logger may write."""
    return g.kind.quantity == "mixture" and bool(g.unit) and not g.header.unit.strip()


def _around_one(values: FloatArray) -> bool:
    """Whether a trim lies around one and never near zero: per cents and shares of a trim lie around zero."""
    ends = percentiles(values)
    return ends is not None and ends[0] > 0.55 and ends[1] < 1.7 and abs(float(np.nanmedian(values)) - 1.0) < 0.2


def _read(g: Guess, reading: Reading) -> FloatArray:
    """A glance at the column's numbers as a reading has them; a ratio by about the fuel of most."""
    found = canonical(g.values, reading.unit) * reading.sign
    return found / ABOUT_AFR if reading.unit == AFR else found


def _ends(g: Guess, reading: Reading) -> tuple[float, float] | None:
    ends = percentiles(_read(g, reading))
    if ends is not None and g.kind.sign:  # counted either way: a range says nothing of the sign
        size = max(abs(ends[0]), abs(ends[1]))
        return (0.0, size) if size < 45.0 else ends
    return ends


def _count(g: Guess) -> None:
    """Take the reading that the vote gives, or ask."""
    assert g.ballot is not None
    best, possible = g.ballot.best(), g.ballot.possible
    if g.unit:
        _stated(g, best)
    elif best is None:
        g.ask("unit", "no unit is stated, and its numbers fit none")
    elif best[1] >= SURE_ODDS and not best[0].odd and best[0].sign == 1:
        g.take(best[0], best[1], only=len(possible) == 1)
    elif best[0].sign == -1 and best[0].unit in {r.unit for r in possible if r.sign == 1}:
        g.unit = best[0].unit
        g.ask("sign", "its numbers seem to be counted with the other sign")
    else:
        g.ask(
            "unit",
            f"no unit is stated, and its numbers can be {either([r.words for r in g.ballot.worth_saying()])}",
        )


def _stated(g: Guess, best: tuple[Reading, float] | None) -> None:
    """Hold a stated unit against the numbers: another may fit far better, or they lie where none can be."""
    assert g.ballot is not None
    if best is not None and best[0].unit == g.unit and best[0].sign == 1 and best[1] >= SURE_ODDS:
        return
    ends = percentiles(_read(g, Reading(g.unit)))
    assert ends is not None
    others = [r for r in g.ballot.worth_saying() if r.unit != g.unit]
    turned = any(r.unit == g.unit and r.sign == -1 for r in g.ballot.worth_saying())
    if (
        g.kind.quantity == "mixture"
        and best is not None
        and best[0].unit in ("lambda", AFR)
        and best[0].unit != g.unit
    ):
        seen = "lambda" if best[0].unit == "lambda" else "an air-fuel ratio"
        g.ask("unit", f"its header says otherwise, but its numbers are those of {seen}")
    elif turned:
        g.ask("sign", "its numbers seem to be counted with the other sign")
    elif g.header.scaled and best is not None and best[1] >= SURE_ODDS:
        g.unit, g.confidence = best[0].unit, best[1]
        g.reasons.append(f"its header names a scale; {_by_numbers(best[0].words, best[1], only=False)}")
    elif others:
        g.ask("unit", f"its numbers do not fit {g.unit}, as its header says, but {either([r.words for r in others])}")
    elif not fits(g.words, _read(g, Reading(g.unit))) and _past_all_bounds(g, ends):
        g.ask("unit", f"its numbers lie where {g.kind.title.lower()} in {g.unit} cannot")
    elif best is None:
        g.ask("unit", f"its numbers hardly fit {g.unit}, as its header says")


def _past_all_bounds(g: Guess, ends: tuple[float, float]) -> bool:
    """Whether numbers lie past what any engine has; too low at the top is an engine that idles."""
    base = unit(g.words.in_unit)
    low, high = ((e - base.offset) / base.factor for e in ends)
    return bool(low < g.words.lowest[0] or high > g.words.highest[1])


def _pressure(g: Guess, around: Around, known: Table[str, Guess]) -> None:
    """A pressure before or in the intake: its unit and what it is counted from."""
    stated = g.reference or g.header.reference
    if g.reference and g.header.reference and g.reference != g.header.reference:
        g.ask("reference", f"its name says {g.header.reference}, its unit {g.reference}")
    if stated == "difference":
        g.ask("reference", "is a pressure difference, where an absolute pressure is asked for")
        return
    if g.kind.family == "ambient_pressure":
        g.ballot = _unit_ballot(g, around)
        _count(g)
        g.reference = stated or "absolute"
        if g.reference == "gauge":
            g.ask("reference", "a barometer that is counted from the barometer says nothing")
        return
    ballot = pressure_ballot(g.words, g.values, around, g.unit, stated, target=g.kind.family == "boost_target")
    beside = known.get("boost_pressure") if g.kind.family == "boost_target" else None
    if beside is not None and not beside.question and beside.reference:
        ballot.add(lambda r: read_near(g.values, r, beside.values, beside.unit, beside.reference, around))
    g.ballot = ballot
    _zero(g, stated)


def _zero(g: Guess, stated: Reference) -> None:
    """Take unit and reference of a pressure as the vote gives them, or ask for what it leaves open."""
    assert g.ballot is not None
    best, worth = g.ballot.best(), g.ballot.worth_saying()
    said = f"{g.unit} {stated}".strip()
    if best is None:
        g.reference = stated
        if not g.unit:
            g.ask("unit", "no unit is stated, and its numbers fit none")
            return
        ends = percentiles(g.canonical())
        # An engine that stands or idles reaches no boost: too low is no fault of the unit.
        if ends is None or ends[1] > 520e3 or ends[0] < -110e3:
            g.ask("unit", "its numbers lie where no intake pressure can")
        elif not stated:
            g.ask("reference", "whether it is absolute or gauge pressure cannot be told: write for example kPa abs")
        return
    reading, odds = best
    agrees = (not g.unit or reading.unit == g.unit) and (not stated or reading.reference == stated)
    said_all = bool(g.unit and stated)
    if agrees and (odds >= SURE_ODDS or said_all) and not reading.odd:
        if not g.unit:
            g.take(reading, odds, only=len(g.ballot.possible) == 1)
        if not stated:
            g.reference, g.confidence = reading.reference, min(g.confidence, odds)
            g.reasons.append(f"read as {reading.reference} pressure, by its numbers")
        g.reference = reading.reference
    elif not agrees and said:
        about: About = "reference" if reading.unit == g.unit else "unit"
        g.reference = stated
        others = either([r.words for r in worth if r.words != said])
        g.ask(about, f"its numbers do not fit {said}, as its header says, but {others}")
    elif g.unit or len({r.unit or r.odd for r in worth}) == 1:
        g.unit, g.reference = g.unit or reading.unit, stated
        g.ask(
            "reference",
            "whether it is absolute or gauge pressure cannot be told: write for example kPa abs or bar(g)",
        )
    else:
        g.reference = stated
        g.ask("unit", f"no unit is stated, and its numbers can be {either([r.words for r in worth])}")


def settle_signs(guesses: Sequence[Guess], arounds: Table[int, Around]) -> None:
    """Decide the sign of each family whose sign is open, its members together: a logger counts all of them alike."""
    families: dict[tuple[str, int], list[Guess]] = {}
    for g in guesses:
        if g.kind.sign and np.isfinite(g.values).any():
            families.setdefault((g.kind.family, g.header.named.sign if g.header.named else 1), []).append(g)
    for (_, named), members in families.items():
        score = retard_score([(g.values, arounds[id(g)].throttle) for g in members], named)
        odds = 1.0 / (1.0 + float(np.exp(-abs(score))))
        for g in members:
            if odds < SURE_ODDS:
                g.ask(
                    "sign",
                    "whether a positive number is advance or retard cannot be told:"
                    " call the column 'Knock retard' with positive numbers, or 'Spark correction' with negative ones",
                )
            else:
                g.sign = -1 if score > 0.0 else 1
            if g.unit and not g.question and not fits(g.words, g.canonical() * g.sign):
                g.ask("unit", f"its numbers lie where {g.kind.title.lower()} in {g.unit} cannot")


def by_company(guesses: Sequence[Guess]) -> None:
    """Count what the other columns of the file are in: a logger mostly has one unit for a quantity, and one system."""
    open_ = [
        g for g in guesses if g.about == "unit" and not g.unit and g.ballot is not None and g.kind.reference == ""
    ]
    for g in open_:
        assert g.ballot is not None
        alike = [o for o in guesses if o is not g and o.kind.quantity == g.kind.quantity and o.ballot is not None]
        shares = _shares(alike)
        systems = {o.unit in _NOT_METRIC for o in guesses if o.unit and not o.question and o.confidence == KNOWN}
        said = _company(g, shares, systems)
        ballot = Ballot(g.ballot.readings)
        ballot.add(lambda r, g=g: g.ballot.scores[r] if g.ballot is not None else 0.0)  # type: ignore[misc]
        ballot.add(said)
        best = ballot.best()
        if best is None or best[0].odd or best[0].sign != 1:
            continue
        if best[1] >= SURE_ODDS:
            g.question, g.about, g.confidence = "", "", KNOWN
            g.take(best[0], best[1], only=False)
            g.reasons.append("counted with the other columns of the file")
        elif best[1] >= 0.5 and shares:
            # Offered, not taken: a file may hold two.
            g.unit = best[0].unit
            g.reasons.append(f"the other columns of the file make {best[0].unit} the likeliest")


def _shares(alike: Sequence[Guess]) -> dict[str, float]:
    """What units columns of one quantity are in together: the product of what each leaves open."""
    scores: dict[str, float] = {}
    for o in alike:
        if o.ballot is None or o.ballot.best() is None:
            continue
        odds = o.ballot.odds if not (o.unit and not o.question) else {Reading(o.unit): 1.0}
        for label in {r.unit for r in o.ballot.readings if r.unit}:
            share = sum(p for r, p in odds.items() if r.unit == label)
            scores[label] = scores.get(label, 0.0) + float(np.log(max(share, 1e-4)))
    if not scores:
        return {}
    most = max(scores.values())
    whole = sum(np.exp(s - most) for s in scores.values())
    return {label: float(np.exp(s - most) / whole) for label, s in scores.items()}


def _company(g: Guess, shares: dict[str, float], systems: set[bool]):  # type: ignore[no-untyped-def]
    def hint(reading: Reading) -> float:
        found = 0.0
        if shares:
            found += float(np.log(COMPANY * shares.get(reading.unit, 0.0) + (1.0 - COMPANY) / max(len(shares), 2)))
        if len(systems) == 1 and reading.unit:
            found += SYSTEM if (reading.unit in _NOT_METRIC) == next(iter(systems)) else 0.0
        return found

    return hint


def either(words: Sequence[str]) -> str:
    """Some things as an English list."""
    return f"{', '.join(words[:-1])} or {words[-1]}" if len(words) > 1 else words[0] if words else "nothing known"
