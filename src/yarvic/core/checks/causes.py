"""What the findings of a pull point at together: causes ranked by how well they explain what was seen, and what was not."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from itertools import combinations
from typing import Annotated

from pydantic import Field

from yarvic.core.checks.baseline import Deviation, Kind
from yarvic.core.checks.finding import NO_DATA, PASS, STOP, Finding
from yarvic.core.document import Document, parse_toml, validated

Share = Annotated[float, Field(gt=0.0, lt=1.0)]
# How plain a sign is where a check only watches; it is plain where one stops. Our choice.
WATCHED = 0.8
# A sign counts as seen from this degree on, in words. Our choice.
SEEN = 0.5
# Two causes are told apart by a sign that the one leaves so much oftener than the other. Our choice.
TELLS = 0.4
# What ranks below this share of the first is not named.
LEAST_SHARE = 0.02
# Nothing is quite certain, nor quite impossible; and a cause explains a sign that it leaves so many times oftener. Ours.
LEAST_OFTEN, EXPLAINS = 1e-3, 2.0


class Source(Document):
    """Where a deviation begins to be a sign, and where it is plain."""

    of: str
    from_: Annotated[float, Field(alias="from")]
    to: float

    def degree(self, value: float) -> float:
        """How plain the sign is, 0 to 1."""
        return min(max((value - self.from_) / (self.to - self.from_), 0.0), 1.0)


class Sign(Document):
    """A sign: in words, from what it is read, and how it is to be had where it is unknown."""

    title: str
    deviations: tuple[Source, ...] = ()
    checks: tuple[str, ...] = ()
    log: str


class Cause(Document):
    """A cause: in words, the next look, the kinds of engine that can have it, and how often it leaves each sign.

    `usual` is how often it is met beside the others.
    """

    title: str
    look: str
    kinds: tuple[Kind, ...] = ("turbo spark", "natural spark", "compression")
    signs: Mapping[str, Share]
    usual: Annotated[float, Field(gt=0.0)] = 1.0


class Network(Document):
    """All causes and signs; how often a sign shows of which a cause says nothing, and how often two causes meet."""

    unusual: Share
    together: Share
    signs: Mapping[str, Sign]
    causes: Mapping[str, Cause]


@dataclass(frozen=True)
class Ranked:
    """A cause with the odds that it is there (0 to 1; two may be), the signs that it explains and those it should leave and
    that were not seen, in words.
    """

    key: str
    title: str
    look: str
    share: float
    explains: tuple[str, ...]
    lacks: tuple[str, ...]


@dataclass(frozen=True)
class Causes:
    """Causes, the likeliest first, and the one measurement that would tell the first two apart; empty where none is seen.

    `together`: the first two explain together what neither does alone. `unexplained` are signs, in words, that neither
    the first nor, together, the second leaves.
    """

    ranked: tuple[Ranked, ...]
    next_look: str
    together: bool = False
    unexplained: tuple[str, ...] = ()

    @property
    def likeliest(self) -> tuple[Ranked, ...]:
        """The first cause, or the first two where they explain together what was seen."""
        return self.ranked[: 2 if self.together else 1]


@cache
def network() -> Network:
    """The shipped network."""
    text = files("yarvic.core.checks").joinpath("data/causes.toml").read_text("utf-8")
    return validated(Network, parse_toml(text, source="causes.toml"), source="causes.toml")


def degrees(
    findings: Iterable[Finding], off: Sequence[Mapping[str, Deviation]], known: Network | None = None
) -> dict[str, float]:
    """How plain each sign is, 0 to 1, over all pulls given; a sign that none of them could show is left out."""
    known = known or network()
    severities: dict[str, list[str]] = {}
    for finding in findings:
        if finding.severity != NO_DATA:
            severities.setdefault(finding.check, []).append(finding.severity)
    found = {}
    for key, sign in known.signs.items():
        seen = [s.degree(d[s.of].value) for s in sign.deviations for d in off if s.of in d]
        for check in sign.checks:
            seen += [_of_severity(s) for s in severities.get(check, ())]
        if seen:
            found[key] = max(seen)
    return found


def _of_severity(severity: str) -> float:
    return 0.0 if severity == PASS else 1.0 if severity == STOP else WATCHED


def causes(
    findings: Iterable[Finding], off: Sequence[Mapping[str, Deviation]], kind: Kind, known: Network | None = None
) -> Causes:
    """What the findings of pulls of one engine point at; nothing where a sound engine explains them as well.

    Each sign counts by how plain it is: the logarithm of how often the cause leaves it, or does not, against how often
    it shows by itself (a naive Bayes network; Pearl 1988, Probabilistic Reasoning in Intelligent Systems, 2.2). Two
    causes at once leave a sign where either does (a noisy or; Pearl 1988, 4.3.2): a pair is held against each alone.
    """
    known = known or network()
    seen = degrees(findings, off, known)
    if not any(d >= SEEN for d in seen.values()):
        return Causes((), "")
    could = [key for key, cause in known.causes.items() if kind in cause.kinds]
    weights = {each: _weight_of(each, known, seen) for n in (1, 2) for each in combinations(could, n)}
    top = max(weights.values())
    if top <= 0.0:
        return Causes((), "")
    odds = {each: math.exp(w - top) for each, w in weights.items()}
    total = sum(odds.values())
    shares = {key: sum(o for each, o in odds.items() if key in each) / total for key in could}
    best = max(weights, key=lambda each: weights[each])
    # What explains best stands first, whatever else could be there beside it.
    order = sorted(could, key=lambda k: (k not in best, -shares[k]))
    least = LEAST_SHARE * max(shares.values())
    ranked = tuple(_ranked(k, known, seen, shares[k]) for k in order if shares[k] >= least)
    left = _unexplained(best, known, seen)
    return Causes(ranked, _next_look(ranked, known, seen, together=len(best) > 1), len(best) > 1, left)


def _weight_of(each: Sequence[str], known: Network, seen: Mapping[str, float]) -> float:
    """How well some causes together explain what was seen, as a logarithm against a sound engine."""
    weight = math.log(known.together) * (len(each) - 1) + sum(math.log(known.causes[k].usual) for k in each)
    return weight + sum(_weight(_often(each, sign, known), known.unusual, d) for sign, d in seen.items())


def _often(each: Sequence[str], sign: str, known: Network) -> float:
    """How often a sign shows where these causes are: where either leaves it, or by itself."""
    spared = 1.0 - known.unusual
    for key in each:
        spared *= (1.0 - known.causes[key].signs.get(sign, known.unusual)) / (1.0 - known.unusual)
    return min(max(1.0 - spared, LEAST_OFTEN), 1.0 - LEAST_OFTEN)


def _unexplained(best: Sequence[str], known: Network, seen: Mapping[str, float]) -> tuple[str, ...]:
    return tuple(
        known.signs[s].title
        for s, d in seen.items()
        if d >= SEEN and _often(best, s, known) < EXPLAINS * known.unusual
    )


def _weight(often: float, unusual: float, degree: float) -> float:
    return degree * math.log(often / unusual) + (1.0 - degree) * math.log((1.0 - often) / (1.0 - unusual))


def _ranked(key: str, known: Network, seen: Mapping[str, float], share: float) -> Ranked:
    cause = known.causes[key]
    explains = tuple(known.signs[s].title for s, d in seen.items() if d >= SEEN and s in cause.signs)
    lacks = tuple(known.signs[s].title for s, p in cause.signs.items() if p >= SEEN and seen.get(s, 1.0) < SEEN)
    return Ranked(key, cause.title, cause.look, share, explains, lacks)


def _next_look(ranked: Sequence[Ranked], known: Network, seen: Mapping[str, float], *, together: bool) -> str:
    """The one measurement that tells the first two apart: what was not logged, where that does; else the first's look.

    Of two that are there together each has its own.
    """
    if not ranked:
        return ""
    if together and len(ranked) > 1:
        return f"{ranked[0].look} And: {ranked[1].look}"
    if len(ranked) == 1:
        return ranked[0].look
    one, two = (known.causes[r.key].signs for r in ranked[:2])
    apart = {s: abs(one.get(s, known.unusual) - two.get(s, known.unusual)) for s in (*one, *two) if s not in seen}
    best = max(apart, key=lambda s: apart[s], default="")
    if best and apart[best] >= TELLS:
        sign, points = known.signs[best], ranked[0 if one.get(best, 0.0) > two.get(best, 0.0) else 1]
        way = f"{sign.log[:1].upper()}{sign.log[1:]}"
        return f"{way}: {sign.title} would point at this: {points.title.lower()}."
    return ranked[0].look
