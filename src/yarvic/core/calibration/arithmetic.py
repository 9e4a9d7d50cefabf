"""Arithmetic on the cells in hand, as it is typed: `12`, `+ 2`, `5 % more`, `at most 30`, `= reference * 1.02 + 1`.

A text that begins with a sign of arithmetic changes the value; `=` and a plain number set it. A decimal comma is read
as a point; one that may stand between thousands, as in `1,025`, is refused.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from yarvic.core.errors import CalibrationError, UnitError
from yarvic.core.physics import FloatArray
from yarvic.core.typed_numbers import parse_number

MOST_LETTERS, MOST_DEPTH = 200, 40
# What may be named: the value in hand, the reference's, and the values of the axes at the cell.
NAMES = ("value", "reference", "x", "y")
REMEDY = "Write for example 12, + 2, - 5 %, times 1.05, at most 30, or = (value + reference) / 2."
Cells = Mapping[str, FloatArray]
Worked = Callable[[Cells], FloatArray]

_TOKEN = re.compile(r"\s*(?:(?P<number>\d+(?:[.,]\d*)?|[.,]\d+)|(?P<name>[a-z]+)|(?P<sign>[-+*/()%=]))")
_SIGNS = str.maketrans({"×": "*", "·": "*", "÷": "/", "−": "-", "–": "-"})
# Whole ways of saying: what is said, and the same in signs.
_SAID = (
    (re.compile(r"^(?:plus|add)\s+(.+)$"), r"+ \1"),
    (re.compile(r"^(?:minus|less)\s+(.+)$"), r"- \1"),
    (re.compile(r"^times\s+(.+)$"), r"* \1"),
    (re.compile(r"^(?:over|divided by)\s+(.+)$"), r"/ \1"),
    (re.compile(r"^(.+?%)\s*(?:more|up)$"), r"+ \1"),
    (re.compile(r"^(.+?%)\s*(?:less|down)$"), r"- \1"),
    (re.compile(r"^(.+?)\s+(?:more|up)$"), r"+ \1"),
    (re.compile(r"^(.+?)\s+(?:less|down)$"), r"- \1"),
    (re.compile(r"^set(?:\s+to)?\s+(.+)$"), r"= \1"),
)
_ENDS = re.compile(r"^at\s+(least|most)\s+(.+)$")


@dataclass(frozen=True)
class Formula:
    """New values out of the cells as they are. `words` say what is done; `percent`: by a share of the value."""

    words: str
    of: Worked
    percent: bool = False
    needs: frozenset[str] = frozenset()


def formula(text: str, unit: str = "") -> Formula:
    """What was typed, to be worked on cells in `unit`. Raises CalibrationError with how to write it."""
    said = " ".join(text.casefold().translate(_SIGNS).split())
    if not said or len(said) > MOST_LETTERS:
        raise _fault(text, "is nothing that could be worked out")
    ends = _ENDS.match(said)
    if ends is not None:
        inner, least = _parsed(text, ends.group(2)), ends.group(1) == "least"
        bound = np.maximum if least else np.minimum
        work = inner.work
        return Formula(
            f"set to at {ends.group(1)} {ends.group(2)} {unit}".rstrip(),
            lambda c: np.asarray(bound(c["value"], work(c)), dtype=np.float64),
            needs=inner.needs,
        )
    for pattern, signs in _SAID:
        if pattern.match(said):
            said = pattern.sub(signs, said)
            break
    if said[0] in "+-*/":
        return _changing(text, said[0], said[1:].strip(), unit)
    parsed = _parsed(text, said.removeprefix("="))
    if parsed.percent:
        if unit == "%":
            plain = _parsed(text, said.removeprefix("=").replace("%", ""))
            return Formula(f"set to {_shown(said)}", plain.work, needs=plain.needs)
        raise _fault(text, "does not say of what it is a share")
    return Formula(f"set to {_shown(said)} {unit}".rstrip(), parsed.work, needs=parsed.needs)


_NEGATIVE = re.compile(r"-\s*([0-9.,]+\s*%?)")


def _changing(text: str, sign: str, rest: str, unit: str) -> Formula:
    parsed = _parsed(text, rest)
    work = parsed.work
    if parsed.percent and unit == "%" and sign in "+-":
        raise _fault(
            text,
            "may mean a share of the value or points of per cent",
            f"Write {sign} {rest.replace('%', '').strip()} for points, or times a number for a share.",
        )
    shares = parsed.percent and sign in "+-"
    done: dict[str, Worked] = {
        "+": (lambda c: c["value"] * (1.0 + work(c))) if shares else (lambda c: c["value"] + work(c)),
        "-": (lambda c: c["value"] * (1.0 - work(c))) if shares else (lambda c: c["value"] - work(c)),
        "*": lambda c: c["value"] * work(c),
        "/": lambda c: c["value"] / work(c),
    }
    change = done[sign]
    negative = _NEGATIVE.fullmatch(rest) if sign in "+-" else None
    if negative is not None:
        # Raised by less than nought is lowered.
        sign, rest = "-" if sign == "+" else "+", negative.group(1)
    word = {"+": "raised by", "-": "lowered by", "*": "multiplied by", "/": "divided by"}[sign]
    beside = "" if parsed.percent or sign in "*/" else f" {unit}".rstrip()
    return Formula(f"{word} {rest}{beside}", change, percent=shares, needs=parsed.needs)


def _shown(said: str) -> str:
    return said.removeprefix("=").strip()


def _fault(text: str, why: str, remedy: str = REMEDY) -> CalibrationError:
    return CalibrationError(f"{text.strip()[:60]!r} {why}", remedy=remedy)


@dataclass(frozen=True)
class _Parsed:
    work: Worked
    percent: bool
    needs: frozenset[str]


def _parsed(text: str, said: str) -> _Parsed:
    return _Parser(text, said).whole()


class _Parser:
    """Sums of products of numbers, names and brackets; a percent sign makes a hundredth of the number before it."""

    def __init__(self, text: str, said: str) -> None:
        self.text, self.at, self.depth = text, 0, 0
        self.tokens: list[tuple[str, str]] = []
        self.percent = False
        self.needs: set[str] = set()
        place = 0
        while place < len(said.rstrip()):
            found = _TOKEN.match(said, place)
            if found is None or found.lastgroup is None:
                raise _fault(text, f"cannot be read from {said[place:].strip()[:20]!r} on")
            self.tokens.append((found.lastgroup, found.group(found.lastgroup)))
            place = found.end()

    def whole(self) -> _Parsed:
        if len(self.tokens) == 0:
            raise _fault(self.text, "lacks a number")
        work = self._sum()
        if self.at < len(self.tokens):
            raise _fault(self.text, f"cannot be read from {self.tokens[self.at][1]!r} on")
        return _Parsed(work, self.percent, frozenset(self.needs))

    def _sign(self, among: str) -> str:
        if self.at < len(self.tokens):
            kind, token = self.tokens[self.at]
            if kind == "sign" and token in among:
                self.at += 1
                return token
        return ""

    def _sum(self) -> Worked:
        self.depth += 1
        if self.depth > MOST_DEPTH:
            raise _fault(self.text, "has too many brackets")
        left = self._product()
        while sign := self._sign("+-"):
            left = _two(left, self._product(), sign)
        self.depth -= 1
        return left

    def _product(self) -> Worked:
        left = self._one()
        while sign := self._sign("*/"):
            left = _two(left, self._one(), sign)
        return left

    def _one(self) -> Worked:
        below = False
        while sign := self._sign("+-"):
            below ^= sign == "-"
        work = self._number()
        return (lambda c: -work(c)) if below else work

    def _number(self) -> Worked:
        if self._sign("("):
            inner = self._sum()
            if not self._sign(")"):
                raise _fault(self.text, "lacks a closing bracket")
            return inner
        if self.at >= len(self.tokens):
            raise _fault(self.text, "lacks a number at its end")
        kind, token = self.tokens[self.at]
        self.at += 1
        if kind == "number":
            try:
                value = parse_number(token)
            except UnitError as error:
                raise CalibrationError(error.what, remedy=error.remedy) from None
            if self._sign("%"):
                self.percent = True
                value /= 100.0
            return lambda c: np.full(c["value"].shape, value)
        if kind == "name" and token in NAMES:
            self.needs.add(token)
            return lambda c: c[token]
        raise _fault(self.text, f"has no meaning for {token!r}", f"{REMEDY} Names: {', '.join(NAMES)}.")


def _two(left: Worked, right: Worked, sign: str) -> Worked:
    work = {"+": np.add, "-": np.subtract, "*": np.multiply, "/": np.divide}[sign]

    def both(cells: Cells) -> FloatArray:
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray(work(left(cells), right(cells)), dtype=np.float64)

    return both


def worked(made: Formula, cells: Cells) -> FloatArray:
    """The new values of all cells. Raises CalibrationError where the formula needs what is not there."""
    missing = sorted(n for n in made.needs if n not in cells)
    if missing:
        raise CalibrationError(
            f"there is no {' and no '.join(missing)} here",
            remedy="Choose a reference on the ladder." if missing == ["reference"] else "Write it without.",
        )
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        return np.asarray(made.of(cells), dtype=np.float64)
