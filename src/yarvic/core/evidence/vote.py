"""How a column is counted, by a vote: each hint gives every reading a share, and the shares are added as logarithms.

No hint decides alone. A reading is a unit, what a pressure is counted from, and the sign; or something that cannot be used
as it stands, such as the volts of a sensor. What stays under the odds is asked.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from yarvic.core.evidence.dictionary import Bounds, Words
from yarvic.core.physics import FloatArray
from yarvic.core.units import Reference, from_canonical

# Odds from which a reading is taken without a question, and under which another is not worth a word.
SURE_ODDS, WORTH_SAYING = 0.99, 0.01
# Natural logarithms of likelihood ratios. Our choice, held against columns of known truth (docs/reading-logs.md):
STATED = 6.0  # what the header says: wrong once in 400
CANNOT = -9.0  # numbers where no engine has them
UNUSUAL, MOST_UNUSUAL = -1.5, -4.0  # outside the usual range: from its end to the end of what can be
COMPANY = 0.5  # what the other columns of a quantity count: many loggers have one unit for it, and many have not


@dataclass(frozen=True, slots=True)
class Reading:
    """One way to read a column's numbers. `odd` says what they would be, where that is no unit of the channel."""

    unit: str = ""
    reference: Reference = ""
    sign: int = 1
    odd: str = ""

    @property
    def words(self) -> str:
        """As a question names it."""
        return self.odd or f"{self.unit} {self.reference}".strip()


@dataclass
class Ballot:
    """Readings and what speaks for each of them."""

    readings: Sequence[Reading]
    scores: dict[Reading, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.scores = dict.fromkeys(self.readings, 0.0)

    def add(self, hint: Callable[[Reading], float]) -> None:
        """Count a hint: what it gives each reading."""
        for reading in self.readings:
            self.scores[reading] += hint(reading)

    @property
    def odds(self) -> dict[Reading, float]:
        """The share of each reading, the most likely first; empty without readings."""
        if not self.scores:
            return {}
        most = max(self.scores.values())
        shares = {r: float(np.exp(s - most)) for r, s in self.scores.items()}
        total = sum(shares.values())
        return {r: shares[r] / total for r in sorted(shares, key=lambda r: -shares[r])}

    @property
    def possible(self) -> list[Reading]:
        """What the numbers leave open: all that nothing rules out."""
        return [r for r, s in self.scores.items() if s > CANNOT + STATED / 2.0 + 1.0]

    def best(self) -> tuple[Reading, float] | None:
        """The likeliest reading and its odds; None where nothing can be."""
        if not self.possible:
            return None
        return next(iter(self.odds.items()))

    def worth_saying(self) -> list[Reading]:
        """The readings that a question names."""
        return [r for r, share in self.odds.items() if share >= WORTH_SAYING and r in self.possible]


def in_range(words: Words, ends: tuple[float, float] | None) -> float:
    """How well a channel's 2nd and 98th percentile, in its canonical unit, fit where such numbers usually lie."""
    if ends is None:
        return 0.0
    low, high = (float(from_canonical(e, words.in_unit)) for e in ends) if words.in_unit else ends
    return max(_end(low, words.lowest, words.usual_low) + _end(high, words.highest, words.usual_high), CANNOT)


def _end(value: float, can: Bounds, usual: Bounds | None) -> float:
    if not can[0] <= value <= can[1]:
        return CANNOT
    if usual is None or usual[0] <= value <= usual[1]:
        return 0.0
    off = (usual[0] - value) / max(usual[0] - can[0], 1e-12) if value < usual[0] else (
        (value - usual[1]) / max(can[1] - usual[1], 1e-12)
    )  # fmt: skip
    return UNUSUAL + (MOST_UNUSUAL - UNUSUAL) * min(off, 1.0)


# What a number may be that is none of the channel's units: how it is called, and how rare that is. Our choice.
VOLTS, COUNTS = "a sensor's volts", "counts of a converter"
MOST_VOLTS = 5.2
_CONVERTERS = (255.0, 1023.0, 4095.0, 65535.0)


def odd_readings(values: FloatArray) -> list[tuple[Reading, float]]:
    """Readings that are no unit of the channel, with the logarithm of how rare they are; those that the numbers rule out
    are left out.
    """
    known = values[np.isfinite(values)]
    if not known.size:
        return []
    low, high = float(known.min()), float(known.max())
    found = []
    if low >= -0.1 and 0.05 < high <= MOST_VOLTS and np.ptp(known) > 0.02:
        # A sensor uses most of its range: logged under load few stay under three volts, and hardly one under one.
        found.append((Reading(odd=VOLTS), -2.0 if high > 3.0 else -5.0 if high > 1.1 else -7.0))
    whole = bool(np.all(known == np.rint(known)))
    if whole and low >= 0.0 and any(0.55 * c < high <= c for c in _CONVERTERS):
        found.append((Reading(odd=COUNTS), -4.5))
    return found
