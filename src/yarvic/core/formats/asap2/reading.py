"""Words of a block as values: numbers, texts, and the keywords that may follow in any order."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from contextlib import suppress

from yarvic.core.formats.asap2.blocks import Block

# A count of words that a keyword takes: all numbers that follow.
NUMBERS = -1
_NUMBER = re.compile(r"[-+]?(?:0[xX][0-9a-fA-F]+|(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)$")
_IN_FORMAT = re.compile(r"%?\s*\d*\.(\d+)")


class Unfit(Exception):
    """Why something cannot be used here, in a sentence; `fault` where the file itself is wrong."""

    def __init__(self, reason: str, *, fault: bool = False, remedy: str = "Correct the description.") -> None:
        super().__init__(reason)
        self.reason, self.fault, self.remedy = reason, fault, remedy


def text(word: str) -> str:
    """A text or a name."""
    return word[1:].strip() if word[:1] == '"' else word


def is_number(word: str) -> bool:
    """Whether a word is a number."""
    return _NUMBER.match(word) is not None


def number(word: str) -> float:
    """A number with an end. Raises Unfit."""
    if is_number(word):
        with suppress(OverflowError):
            found = float(whole(word)) if "x" in word.lower() else float(word)
            if math.isfinite(found):
                return found
    raise Unfit(f"{text(word)[:40]!r} stands where a number belongs", fault=True)


def limit(word: str) -> float:
    """A number that may be without end: a bound that no float64 holds is none. Raises Unfit."""
    if is_number(word) and "x" not in word.lower():
        return float(word)
    return number(word)


def whole(word: str) -> int:
    """A whole number, decimal or hexadecimal. Raises Unfit."""
    try:
        if "x" in word.lower():
            return int(word, 16)
        return int(word) if word.lstrip("+-").isdigit() else round(float(word))
    except (ValueError, OverflowError):
        raise Unfit(f"{text(word)[:40]!r} stands where a whole number belongs", fault=True) from None


def count_of(word: str) -> int:
    """How many of something follow: a whole number, not below zero. Raises Unfit."""
    found = whole(word)
    if found < 0:
        raise Unfit(f"{text(word)[:40]!r} stands where a number of entries belongs", fault=True)
    return found


def options(words: Sequence[str], first: int, counts: Mapping[str, int]) -> dict[str, list[str]]:
    """The keywords behind the words that always stand there, each with what follows it; others are passed over."""
    found: dict[str, list[str]] = {}
    at = first
    while at < len(words):
        keyword = words[at]
        at += 1
        count = counts.get(keyword)
        if count is None:
            continue
        end = at + count
        if count == NUMBERS:
            end = at
            while end < len(words) and is_number(words[end]):
                end += 1
        if end > len(words):
            raise Unfit(f"{keyword} lacks what belongs to it", fault=True)
        found.setdefault(keyword, list(words[at:end]))
        at = end
    return found


def needs(block: Block, count: int) -> list[str]:
    """The words of a block that must have so many. Raises Unfit."""
    words = block.words()
    if len(words) < count:
        raise Unfit(f"{block.keyword} has {len(words)} entries of at least {count}", fault=True)
    return words


def decimals(word: str) -> int | None:
    """Digits behind the point by a format such as %8.3."""
    match = _IN_FORMAT.search(text(word))
    return min(int(match.group(1)), 9) if match else None
