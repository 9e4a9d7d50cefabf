"""Conversions between what a memory stores and what it stands for, as the standard for description files names them.

Source of the forms: ASAM MCD-2 MC (ASAP2), COMPU_METHOD, from memory.
"""

from __future__ import annotations

from bisect import bisect_right
from functools import cached_property
from itertools import pairwise
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from yarvic.core.calibration.described import Described, Number, Words_
from yarvic.core.physics import FloatArray

MOST_PAIRS = 20_000


class Linear(Described):
    """value = raw * factor + offset."""

    kind: Literal["linear"] = "linear"
    factor: Number = 1.0
    offset: Number = 0.0

    @model_validator(mode="after")
    def _has_a_step(self) -> Linear:
        if not 1e-30 <= abs(self.factor) <= 1e30:
            raise ValueError(f"a factor of {self.factor:g} stores nothing: state what one count is worth")
        return self

    def value(self, raw: FloatArray) -> FloatArray:
        """What raw numbers stand for."""
        return raw * self.factor + self.offset

    def raw(self, value: FloatArray) -> FloatArray:
        """What would be stored for values, before it is rounded."""
        return (value - self.offset) / self.factor


class Rational(Described):
    """raw = (b value + c) / (e value + f): a rational function whose inverse is one number."""

    kind: Literal["rational"] = "rational"
    b: Number
    c: Number
    e: Number
    f: Number

    @model_validator(mode="after")
    def _can_be_inverted(self) -> Rational:
        if abs(self.b * self.f - self.c * self.e) < 1e-300:
            raise ValueError("the rational function is a constant: it stores nothing")
        return self

    def value(self, raw: FloatArray) -> FloatArray:
        """What raw numbers stand for; infinite at the pole."""
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray((self.f * raw - self.c) / (self.b - self.e * raw), dtype=np.float64)

    def raw(self, value: FloatArray) -> FloatArray:
        """What would be stored for values, before it is rounded."""
        with np.errstate(divide="ignore", invalid="ignore"):
            found = (self.b * value + self.c) / (self.e * value + self.f)
            # At the pole the function has a limit.
            limit = self.b / self.e if self.e else np.nan
            return np.where(np.isinf(value), limit, found)


class Points(Described):
    """Pairs of raw number and value, rising in the raw number: a line between them, or (steps) only the pairs.

    `otherwise` is what a raw number stands for that lies past the pairs, or (steps) is none of them.
    """

    kind: Literal["points"] = "points"
    raws: Annotated[tuple[Number, ...], Field(min_length=1, max_length=MOST_PAIRS)]
    values: Annotated[tuple[Number, ...], Field(min_length=1, max_length=MOST_PAIRS)]
    steps: bool = False
    otherwise: Number | None = None

    @model_validator(mode="after")
    def _pairs(self) -> Points:
        if len(self.raws) != len(self.values):
            raise ValueError("each raw number needs its value")
        if any(b <= a for a, b in pairwise(self.raws)):
            raise ValueError("the raw numbers of the pairs must rise")
        return self

    @property
    def one_way(self) -> bool:
        """Whether the values only rise or only fall, so that each stands for one raw number."""
        d = np.diff(np.array(self.values))
        return bool(np.all(d > 0) or np.all(d < 0))

    def value(self, raw: FloatArray) -> FloatArray:
        """What raw numbers stand for; without a word on it the ends hold past them, and what is no step is NaN."""
        raws, values = np.array(self.raws), np.array(self.values)
        other = self.otherwise
        if self.steps:
            at = np.clip(np.searchsorted(raws, raw, side="right") - 1, 0, raws.size - 1)
            return np.asarray(np.where(raws[at] == raw, values[at], np.nan if other is None else other), np.float64)
        return np.asarray(np.interp(raw, raws, values, left=other, right=other), dtype=np.float64)

    def raw(self, value: FloatArray) -> FloatArray:
        """What would be stored for values, before it is rounded."""
        raws, values = np.array(self.raws), np.array(self.values)
        if self.steps or not self.one_way:
            nearest = np.abs(np.asarray(value, dtype=np.float64)[..., None] - values).argmin(axis=-1)
            return np.asarray(raws[nearest], dtype=np.float64)
        rising = values[-1] >= values[0]
        found = np.interp(value, values, raws) if rising else np.interp(-value, -values, raws)
        return np.asarray(found, dtype=np.float64)


class Named(Described):
    """A word and the raw numbers that it stands for."""

    low: Number
    high: Number
    text: Words_


class Words(Described):
    """Words for raw numbers; the value is the raw number itself."""

    kind: Literal["words"] = "words"
    words: Annotated[tuple[Named, ...], Field(min_length=1, max_length=MOST_PAIRS)]
    otherwise: Words_ = ""

    @cached_property
    def _ordered(self) -> list[Named]:
        return sorted(self.words, key=lambda w: w.low)

    @model_validator(mode="after")
    def _apart(self) -> Words:
        for a, b in pairwise(self._ordered):
            if b.low <= a.high:
                raise ValueError(f"{a.text!r} and {b.text!r} stand for the same number")
        return self

    def value(self, raw: FloatArray) -> FloatArray:
        """The raw numbers."""
        return raw

    def raw(self, value: FloatArray) -> FloatArray:
        """The values."""
        return value

    def word(self, value: float) -> str:
        """The word of a number; empty where it has none."""
        at = bisect_right(self._ordered, value, key=lambda w: w.low) - 1
        return self._ordered[at].text if at >= 0 and value <= self._ordered[at].high else self.otherwise

    def number(self, word: str) -> float | None:
        """The number of a word, whatever its case; None where there is no such word."""
        wanted = word.strip().casefold()
        return next((w.low for w in self.words if w.text.strip().casefold() == wanted), None)


# Each is known by the entries that it must have.
Conversion = Linear | Rational | Points | Words
PLAIN = Linear()
