"""What a vault keeps, image by image, from its sightings: what it was of, when and how it was seen; found by words."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from yarvic.core.link.vault import Sighting

LEAST_SHA = 4  # digits of a sum by which an image is found


@dataclass(frozen=True)
class Kept:
    """One image: all its sightings, the oldest first."""

    sha: str
    seen: tuple[Sighting, ...]

    @property
    def stock(self) -> bool:
        """Whether it is what some unit came with."""
        return any(s.stock for s in self.seen)

    @property
    def last(self) -> Sighting:
        """When it was seen last."""
        return self.seen[-1]

    @property
    def size(self) -> int:
        """In bytes."""
        return self.last.size

    @property
    def written(self) -> bool:
        """Whether it was ever to be written."""
        return any(s.how == "to be written" for s in self.seen)

    def all_of(self, what: str) -> str:
        """All families, serials, units, vehicles or revisions that it was seen of, in words."""
        return ", ".join(dict.fromkeys(str(getattr(s, what)) for s in self.seen if getattr(s, what)))

    def in_a_word(self) -> str:
        """What it is."""
        return "stock" if self.stock else "written" if self.written else "read"

    def _text(self) -> str:
        parts = [self.in_a_word()]
        for s in self.seen:
            parts += [s.time, s.family, s.serial, s.unit, s.vehicle, s.revision]
        return " ".join(parts).lower()

    def fits(self, words: Sequence[str]) -> bool:
        """Whether all words (or parts of words) stand in what is known of it: family, unit, vehicle, revision, date."""
        text = self._text()
        return all(w.lower() in text or (len(w) >= LEAST_SHA and self.sha.startswith(w.lower())) for w in words)


def kept(sightings: Iterable[Sighting]) -> list[Kept]:
    """The images that are there by their sightings, the one that was seen last in front."""
    found: dict[str, list[Sighting]] = {}
    for s in sightings:
        if s.how == "removed":
            found.pop(s.sha, None)
            continue
        # What is seen again is the newest.
        found[s.sha] = [*found.pop(s.sha, []), s]
    return [Kept(sha, tuple(seen)) for sha, seen in reversed(found.items())]
