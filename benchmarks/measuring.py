"""How long something takes, alone and in turn with a reference, and the line of the table that says it."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

REPEATS = 5
ROOT = Path(__file__).parents[1]


def timed(work: Callable[[], object], repeats: int = REPEATS) -> float:
    """Median time of some work in s, after one run that does not count."""
    work()
    return median(once(work) for _ in range(repeats))


def paired(
    ours: Callable[[], object], reference: Callable[[], object], repeats: int = REPEATS
) -> tuple[float, float, float]:
    """Medians of two works run in turn, and of their ratio pair by pair: a machine that slows down slows both."""
    ours()
    reference()
    pairs = [(once(ours), once(reference)) for _ in range(repeats)]
    return median(a for a, _ in pairs), median(b for _, b in pairs), median(a / b for a, b in pairs)


def once(work: Callable[[], object]) -> float:
    begin = time.perf_counter()
    work()
    return time.perf_counter() - begin


def row(what: str, ours: str, reference: str, ratio: float, bar: str, holds: bool) -> None:
    """One line of the table."""
    print(
        f"{what:46} {ours:>12} {reference:>12} {ratio:9.2f}   {bar:18} {'holds' if holds else 'FALLS SHORT'}",
        flush=True,
    )
