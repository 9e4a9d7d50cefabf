"""Expressions over the channels of a log: a small language of its own, of which nothing but numbers can come.

    boost_pressure[kPa] - boost_target[kPa]
    mean(lambda_measured, 0.25) / lambda_target
    where(throttle > 0.9, rate(engine_speed[rpm]), 0)

A channel stands by its key, in SI, or in the unit in brackets. There are numbers, + - * / ^, comparisons, `and`, `or`,
`not`, parentheses, and the functions of FUNCTIONS. Grammar and functions: docs/expressions.md. The text is never run as
a program: it is read into a tree of these things alone, with bounds on its length, depth and parts.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel, Clock, Log
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, from_canonical

MOST_LETTERS, MOST_PARTS, MOST_LEVELS = 500, 200, 40
# A running mean or median looks at no more samples than this on each side, and at no more s.
MOST_SECONDS = 600.0
_TOKEN = re.compile(
    r"\s*(?:(?P<number>\d+(?:\.\d*)?(?:[eE][+-]?\d{1,3})?|\.\d+)|(?P<name>[A-Za-z_][A-Za-z_0-9]*)"
    r"|(?P<unit>\[[^\]\[]{1,20}\])|(?P<sign><=|>=|==|!=|[-+*/^()<>,]))"
)


@dataclass(frozen=True)
class Number:
    """A number."""

    value: float


@dataclass(frozen=True)
class Name:
    """A channel by its key, in a unit; empty: SI. `at` is where it stands in the text."""

    key: str
    unit: str
    at: int


@dataclass(frozen=True)
class Call:
    """A function or an operator with what it is applied to."""

    name: str
    parts: tuple[Node, ...]
    at: int


Node = Number | Name | Call


@dataclass(frozen=True)
class Expression:
    """A text that was read: its tree, and the channels that it needs."""

    text: str
    tree: Node
    keys: tuple[str, ...]


def _wrong(text: str, at: int, what: str, remedy: str = "Correct it there.") -> EvidenceError:
    return EvidenceError(f"{what} (at letter {at + 1} of {text!r})", remedy=remedy)


@dataclass(frozen=True)
class _Token:
    kind: str
    text: str
    at: int


def _tokens(text: str) -> list[_Token]:
    found, at = [], 0
    while at < len(text.rstrip()):
        m = _TOKEN.match(text, at)
        if m is None:
            place = at + len(text[at:]) - len(text[at:].lstrip())
            raise _wrong(text, place, f"{text[place]!r} has no meaning here")
        kind = str(m.lastgroup)
        found.append(_Token(kind, m.group(kind), m.start(kind)))
        at = m.end()
    if len(found) > MOST_PARTS:
        raise _wrong(text, found[MOST_PARTS].at, f"is longer than {MOST_PARTS} parts", "Compute it in two steps.")
    return found


class _Reader:
    """Recursive descent: or, and, not, comparison, sum, product, sign, power, atom."""

    def __init__(self, text: str) -> None:
        self.text, self.tokens, self.at, self.level = text, _tokens(text), 0, 0

    def next_is(self, *signs: str) -> bool:
        return self.at < len(self.tokens) and self.tokens[self.at].text in signs

    def take(self) -> _Token:
        if self.at >= len(self.tokens):
            raise _wrong(self.text, len(self.text), "ends where something is still missing")
        self.at += 1
        return self.tokens[self.at - 1]

    def expect(self, sign: str) -> None:
        if not self.next_is(sign):
            place = self.tokens[self.at].at if self.at < len(self.tokens) else len(self.text)
            raise _wrong(self.text, place, f"{sign!r} is missing")
        self.at += 1

    def whole(self) -> Node:
        tree = self.either()
        if self.at < len(self.tokens):
            extra = self.tokens[self.at]
            raise _wrong(self.text, extra.at, f"{extra.text!r} follows what is complete")
        return tree

    def _deeper(self) -> None:
        self.level += 1
        if self.level > MOST_LEVELS:
            raise _wrong(self.text, self.tokens[self.at - 1].at, f"is nested deeper than {MOST_LEVELS} levels")

    def _chain(self, signs: tuple[str, ...], below: Callable[[], Node]) -> Node:
        left = below()
        while self.next_is(*signs):
            sign = self.take()
            left = Call(sign.text, (left, below()), sign.at)
        return left

    def either(self) -> Node:
        self._deeper()
        try:
            return self._chain(("or",), lambda: self._chain(("and",), self.negated))
        finally:
            self.level -= 1

    def negated(self) -> Node:
        if self.next_is("not"):
            sign = self.take()
            self._deeper()
            inner = Call("not", (self.negated(),), sign.at)
            self.level -= 1
            return inner
        return self.compared()

    def compared(self) -> Node:
        left = self._sum()
        if self.next_is("<", ">", "<=", ">=", "==", "!="):
            sign = self.take()
            return Call(sign.text, (left, self._sum()), sign.at)
        return left

    def _sum(self) -> Node:
        return self._chain(("+", "-"), lambda: self._chain(("*", "/"), self.signed))

    def signed(self) -> Node:
        if self.next_is("-", "+"):
            sign = self.take()
            self._deeper()
            inner = self.signed()
            self.level -= 1
            return Call("negative", (inner,), sign.at) if sign.text == "-" else inner
        return self.power()

    def power(self) -> Node:
        base = self.atom()
        if self.next_is("^"):
            sign = self.take()
            self._deeper()
            raised = Call("^", (base, self.signed()), sign.at)
            self.level -= 1
            return raised
        return base

    def atom(self) -> Node:
        token = self.take()
        if token.kind == "number":
            return Number(float(token.text))
        if token.text == "(":
            inner = self.either()
            self.expect(")")
            return inner
        if token.kind == "name" and self.next_is("("):
            return self.call(token)
        if token.kind == "name" and token.text not in ("and", "or", "not"):
            return self.channel(token)
        raise _wrong(self.text, token.at, f"{token.text!r} cannot stand here")

    def call(self, name: _Token) -> Node:
        if name.text not in FUNCTIONS:
            raise _wrong(
                self.text, name.at, f"there is no function {name.text!r}", f"There are: {', '.join(FUNCTIONS)}."
            )
        self.expect("(")
        parts = [self.either()]
        while self.next_is(","):
            self.at += 1
            parts.append(self.either())
        self.expect(")")
        count, _ = FUNCTIONS[name.text]
        if len(parts) != count:
            raise _wrong(self.text, name.at, f"{name.text} takes {count}, and was given {len(parts)}")
        if name.text in _OVER_TIME and not isinstance(parts[1], Number):
            raise _wrong(self.text, name.at, f"the seconds of {name.text} must be a number")
        return Call(name.text, tuple(parts), name.at)

    def channel(self, name: _Token) -> Node:
        unit = ""
        if self.at < len(self.tokens) and self.tokens[self.at].kind == "unit":
            bracket = self.take()
            unit = bracket.text[1:-1].strip()
            if unit not in UNITS:
                raise _wrong(self.text, bracket.at, f"unit {unit!r} is unknown")
            kind = CHANNELS.get(name.text)
            if kind is not None and UNITS[unit].quantity != kind.quantity:
                raise _wrong(self.text, bracket.at, f"{unit} does not measure {kind.quantity}")
        return Name(name.text, unit, name.at)


def read_expression(text: str) -> Expression:
    """The tree of an expression. Raises EvidenceError naming the letter at which it cannot be understood."""
    if not text.strip():
        raise EvidenceError(
            "an expression is empty", remedy="Write one, such as boost_pressure[kPa] - boost_target[kPa]."
        )
    if len(text) > MOST_LETTERS:
        raise _wrong(text[:40], 0, f"is longer than {MOST_LETTERS} letters", "Compute it in two steps.")
    tree = _Reader(text).whole()
    return Expression(text, tree, tuple(dict.fromkeys(n.key for n in _names(tree))))


def _names(node: Node) -> Iterator[Name]:
    if isinstance(node, Name):
        yield node
    elif isinstance(node, Call):
        for part in node.parts:
            yield from _names(part)


def compute(expression: Expression, log: Log) -> tuple[FloatArray, FloatArray]:
    """Time stamps and values over a log, on the stamps of its channel with the most samples.

    What divides by nothing, or has no number, is NaN there. Raises EvidenceError for a channel that was not logged.
    """
    for name in _names(expression.tree):
        if name.key not in log.channels:
            logged = ", ".join(sorted(log.channels)[:8])
            raise _wrong(expression.text, name.at, f"{name.key} was not logged", f"Logged are {logged}, and others.")
    channels: list[Channel] = [log.channels[k] for k in expression.keys]
    if not channels:
        raise EvidenceError(f"{expression.text!r} names no channel", remedy="Name one: a number alone has no time.")
    clock = max((c.clock for c in channels), key=lambda c: c.time_s.size)
    times = clock.time_s
    with np.errstate(all="ignore"):
        values = np.broadcast_to(_value(expression.tree, log, clock), times.shape).astype(np.float64)
    return times, np.where(np.isfinite(values), values, np.nan)


def _value(node: Node, log: Log, clock: Clock) -> FloatArray:
    times = clock.time_s
    if isinstance(node, Number):
        return np.asarray(node.value)
    if isinstance(node, Name):
        channel = log.channels[node.key]
        values = channel.values if channel.time_s is times else log.at(node.key, times)
        return np.asarray(from_canonical(values, node.unit)) if node.unit else values
    if node.name in _OVER_TIME:
        seconds = node.parts[1]
        assert isinstance(seconds, Number)
        whole = np.broadcast_to(_value(node.parts[0], log, clock), times.shape)
        return _OVER_TIME[node.name](np.asarray(whole, dtype=np.float64), clock, min(seconds.value, MOST_SECONDS))
    parts = [_value(p, log, clock) for p in node.parts]
    if node.name in _ALONG:
        return _ALONG[node.name](np.asarray(np.broadcast_to(parts[0], times.shape), dtype=np.float64), clock)
    apply = _OPERATORS.get(node.name) or FUNCTIONS[node.name][1]
    assert apply is not None
    return np.asarray(apply(*parts), dtype=np.float64)


def _kept(truth: FloatArray, *parts: FloatArray) -> FloatArray:
    """A comparison of what is no number is no number either."""
    known = np.isfinite(parts[0])
    for part in parts[1:]:
        known = known & np.isfinite(part)
    return np.where(known, truth, np.nan)


def _compare(sign: Callable[[FloatArray, FloatArray], FloatArray]) -> Callable[[FloatArray, FloatArray], FloatArray]:
    return lambda a, b: _kept(sign(a, b), a, b)


def _rate(values: FloatArray, clock: Clock) -> FloatArray:
    """The change in a second, from stretch to stretch: nothing is taken across a gap."""
    times, found = clock.time_s, np.full(values.shape, np.nan)
    ends = [0, *(clock.gaps + 1).tolist(), times.size]
    for first, last in pairwise(ends):
        if last - first > 1:
            found[first:last] = np.gradient(values[first:last], times[first:last])
    return found


def _integral(values: FloatArray, clock: Clock) -> FloatArray:
    """The integral from the first number on; what passed in a gap is not known, and so it has no number from there on."""
    steps = np.diff(clock.time_s) * 0.5 * (values[1:] + values[:-1])
    steps[clock.gaps] = np.nan
    known = np.flatnonzero(np.isfinite(values))
    if not known.size:
        return np.full(values.shape, np.nan)
    steps[: known[0]] = 0.0
    # More digits than the result has, for what is added up over an hour.
    found = np.concatenate(([0.0], np.cumsum(steps, dtype=np.longdouble))).astype(np.float64)
    found[: known[0]] = np.nan
    return found


def _mean(values: FloatArray, clock: Clock, seconds: float) -> FloatArray:
    """The mean of what lies within half of so many seconds on both sides, gaps left out.

    There is none at a sample that has no number itself, nor where less than half of the samples around it have one.
    """
    times, known = clock.time_s, np.isfinite(values)
    first = np.searchsorted(times, times - seconds / 2.0, side="left")
    last = np.searchsorted(times, times + seconds / 2.0, side="right")
    counts = np.concatenate(([0], np.cumsum(known)))
    count, most = counts[last] - counts[first], last - first
    sums = _sums(np.where(known, values, 0.0), first, most)
    return np.where(known & (2 * count >= most), sums / np.maximum(count, 1), np.nan)


def _sums(values: FloatArray, first: NDArray[np.intp], count: NDArray[np.intp]) -> FloatArray:
    """Sums of so many values from each place on, by blocks of powers of two: one great value spoils no other's sum."""
    found, at = np.zeros(first.size), first.copy()
    blocks, size = values, 1
    most = int(count.max()) if count.size else 0
    while size <= most:
        take = np.flatnonzero(count & size)
        found[take] += blocks[at[take]]
        at[take] += size
        blocks = blocks[:-size] + blocks[size:] if blocks.size > size else blocks[:0]
        size *= 2
    return found


def _shift(values: FloatArray, clock: Clock, seconds: float) -> FloatArray:
    """What it was so many seconds before; not across a gap."""
    times = clock.time_s
    if times.size < 2:
        return np.full(times.shape, np.nan)
    wanted = times - seconds
    found = np.interp(wanted, times, values, left=np.nan, right=np.nan)
    before = np.clip(np.searchsorted(times, wanted, side="right") - 1, 0, times.size - 2)
    found[np.isin(before, clock.gaps) & (wanted > times[before]) & (wanted < times[before + 1])] = np.nan
    return found


_OPERATORS: Mapping[str, Callable[..., FloatArray]] = {
    "+": np.add,
    "-": np.subtract,
    "*": np.multiply,
    "/": np.divide,
    "^": np.power,
    "negative": np.negative,
    "<": _compare(np.less),
    ">": _compare(np.greater),
    "<=": _compare(np.less_equal),
    ">=": _compare(np.greater_equal),
    "==": _compare(np.equal),
    "!=": _compare(np.not_equal),
    "and": lambda a, b: _kept((a != 0) & (b != 0), a, b),
    "or": lambda a, b: _kept((a != 0) | (b != 0), a, b),
    "not": lambda a: _kept(a == 0, a),
}
_ALONG: Mapping[str, Callable[[FloatArray, Clock], FloatArray]] = {"rate": _rate, "integral": _integral}
_OVER_TIME: Mapping[str, Callable[[FloatArray, Clock, float], FloatArray]] = {"mean": _mean, "shift": _shift}
# What there is: how many parts each takes, and what is done where it needs no time.
FUNCTIONS: Mapping[str, tuple[int, Callable[..., FloatArray] | None]] = {
    "abs": (1, np.abs),
    "sqrt": (1, np.sqrt),
    "log": (1, np.log),
    "exp": (1, np.exp),
    "min": (2, np.minimum),
    "max": (2, np.maximum),
    "clip": (3, np.clip),
    "where": (3, lambda c, a, b: np.where(np.isfinite(c), np.where(c != 0, a, b), np.nan)),
    "rate": (1, None),
    "integral": (1, None),
    "mean": (2, None),
    "shift": (2, None),
}
