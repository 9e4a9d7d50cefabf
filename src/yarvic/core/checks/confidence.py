"""How sure a verdict is: the chance that another pull goes past its limit, by how the pulls at hand spread."""

from __future__ import annotations

from collections.abc import Sequence
from math import atan, cos, pi, sin, sqrt

from yarvic.core.checks.rule import Rule

LEAST_PULLS = 3


def chance_past(values: Sequence[float], rule: Rule) -> float | None:
    """The chance, 0 to 1, that one more pull like these lies past the stop limit; None for fewer than three.

    Student's t of a prediction for one more of a normal sample: (limit - mean) over s sqrt(1 + 1/n), with n - 1 degrees of
    freedom (Hahn and Meeker, Statistical Intervals (1991), 4.7, from memory).
    """
    n = len(values)
    if n < LEAST_PULLS:
        return None
    mean = sum(values) / n
    spread = sqrt(sum((v - mean) ** 2 for v in values) / (n - 1))
    away = rule.stop_canonical - mean if rule.side == "above" else mean - rule.stop_canonical
    if spread == 0.0:
        return 0.0 if away >= 0.0 else 1.0
    return 1.0 - student(away / (spread * sqrt(1.0 + 1.0 / n)), n - 1)


def student(t: float, freedom: int) -> float:
    """The distribution function of Student's t for whole degrees of freedom (Abramowitz and Stegun, 26.7.3 and 26.7.4)."""
    angle = atan(t / sqrt(freedom))
    c, odd = cos(angle), freedom % 2 == 1
    term, total = (c, c if freedom > 1 else 0.0) if odd else (1.0, 1.0)
    for k in range(3 if odd else 2, freedom - 1, 2):
        term *= (k - 1) / k * c * c
        total += term
    inside = 2.0 / pi * (angle + sin(angle) * total) if odd else sin(angle) * total
    return 0.5 * (1.0 + inside)


def in_words(chance: float | None) -> str:
    """The chance in words; empty where it is unknown."""
    if chance is None:
        return ""
    hundredths = round(100.0 * chance)
    share = "fewer than 1" if hundredths < 1 else "more than 99" if hundredths > 99 else f"{hundredths}"
    return f"Of 100 more pulls, {share} past the limit."
