"""Names that are easily taken for each other: by letters that look alike, and by invisible characters."""

from __future__ import annotations

import unicodedata
from functools import cache

# Letters that show nothing, besides those of Unicode's own category: fillers and selectors (Default_Ignorable_Code_Point
# of the Unicode Character Database, from memory).
_FILLERS = {0x034F, 0x115F, 0x1160, 0x17B4, 0x17B5, 0x2800, 0x3164, 0xFFA0}
_SELECTORS = ((0x180B, 0x180F), (0xFE00, 0xFE0F), (0xE0000, 0xE0FFF))


def invisible(text: str) -> list[str]:
    """The letters of a name that show nothing, each by its number: controls, marks of direction, fillers, odd blanks."""
    return [f"U+{ord(c):04X}" for c in text if _hidden(c)]


def _hidden(letter: str) -> bool:
    number = ord(letter)
    category = unicodedata.category(letter)
    odd_blank = category in ("Zs", "Zl", "Zp") and letter != " "
    ignored = number in _FILLERS or any(first <= number <= last for first, last in _SELECTORS)
    return odd_blank or ignored or category in ("Cc", "Cf", "Cs", "Co", "Cn")


@cache
def _prototypes() -> dict[str, str]:
    """What each letter looks like (confusables.txt of Unicode TR39, as the library has it)."""
    from confusable_homoglyphs.confusables import confusables_data

    # A letter that looks like one other stands for it; that other one lists all that look like it.
    found: dict[str, str] = {}
    for letter, like in confusables_data.items():
        if len(like) == 1 and found.get(like[0]["c"]) != letter:
            found[letter] = like[0]["c"]
    return found


def skeleton(name: str) -> str:
    """What a name looks like (TR39, section 4, with letters of other widths and styles taken as plain): equal for two that
    are easily taken for each other.
    """
    shown = "".join(c for c in unicodedata.normalize("NFKD", name) if not _hidden(c))
    alike = _prototypes()
    return " ".join(unicodedata.normalize("NFD", "".join(alike.get(c, c) for c in shown)).casefold().split())


def as_said(name: str, others: list[str]) -> list[str]:
    """What is to be said of a name beside others, in sentences: nothing where it is plain and unlike them."""
    said = []
    hidden = invisible(name)
    if hidden:
        said.append(f"The name contains invisible characters ({', '.join(sorted(set(hidden))[:5])}).")
    for other in others:
        if other == name:
            said.append(f"Another key here has the same name, {other}.")
        elif skeleton(other) == skeleton(name):
            said.append(f"The name looks like {other}, whose key is another.")
    return said
