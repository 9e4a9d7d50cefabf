"""Finding tables and values by part of a name, key, unit, role, group or address, among thousands."""

from __future__ import annotations

import unicodedata
from dataclasses import dataclass

from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.roles import kinds, title_of

MOST_FOUND = 200


@dataclass(frozen=True)
class Found:
    """An entry that was found: its key, title, and what stands beside it."""

    key: str
    title: str
    kind: str
    beside: str


class Names:
    """What the entries of a layout are called, ready to be searched."""

    def __init__(self, layout: Layout) -> None:
        roles = {key: title_of(name) for name, role in layout.roles.items() for key in role.entries}
        groups: dict[str, list[str]] = {}
        for group in layout.groups:
            for key in group.entries:
                groups.setdefault(key, []).append(group.title)
        self._rows: list[tuple[str, Found]] = []
        for e in layout.entries:
            beside = [roles.get(e.key, ""), *groups.get(e.key, ())[:2], e.unit, f"0x{e.address:X}"]
            shown = ", ".join(b for b in (e.key if e.named != e.key else "", *beside) if b)
            role = layout.role_of(e.key)
            also = " ".join(kinds()[role].words) if role in kinds() else ""  # every name of the trade for it
            text = _flat(f"{e.named} {e.key} {e.text} {' '.join(beside)} {also}")
            self._rows.append((text, Found(e.key, e.named, e.kind, shown)))

    def fitting(self, text: str) -> frozenset[str]:
        """The keys of all entries that hold every word."""
        words = _flat(text).split()
        return frozenset(f.key for hay, f in self._rows if all(w in hay for w in words))

    def search(self, text: str, most: int = MOST_FOUND) -> tuple[list[Found], int]:
        """The entries that hold every word, those that begin with the first before the others; and how many there are."""
        words = _flat(text).split()
        found = [(hay, f) for hay, f in self._rows if all(w in hay for w in words)]
        if words:
            found.sort(key=lambda each: not each[0].startswith(words[0]))
        return [f for _, f in found[:most]], len(found)


def _flat(text: str) -> str:
    """Words without case and accents."""
    if text.isascii():
        return text.casefold()
    return "".join(c for c in unicodedata.normalize("NFKD", text) if not unicodedata.combining(c)).casefold()
