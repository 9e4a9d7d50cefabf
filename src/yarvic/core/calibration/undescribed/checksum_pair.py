"""Two images of one family, the words in them that may be checksums, and the ranges that these may cover."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.checksum import Checksum, Complement, Kind

Ints = NDArray[np.int64]
Keys = NDArray[np.uint64]
Floats = NDArray[np.float64]
Order = Literal["big", "little"]

NATURAL = 16  # bytes: ends of the range of a sum lie at multiples of this
BESIDE, ROUND = 16, 256  # bytes around a word in which others that differ make it unlikely; a round address
# Bits that it takes to name an end of the image or the word itself; a round address takes so many more than it has.
NAMED = 3.0
SURE = 4.0  # bits more than chance, at least
LEAST = 256  # bytes of a range, a quarter of them unlike that before
ECHOES = 16  # so many ends of a sum beside its own are tried
MOST_RANGES = 16  # so many of a word and a rule are kept, the likeliest
ALIKE = 8  # so many starts that give the same sum are looked at


@dataclass(frozen=True)
class Rule:
    """A kind, and how its words lie and are added."""

    kind: Kind
    order: Order
    of: Literal[0, 8, 16, 32] = 0
    complement: Complement = "none"


@dataclass(frozen=True)
class Hit:
    """A rule that holds for a word and a range, as offsets; `excess` is how many bits more than chance that says."""

    rule: Rule
    place: int
    start: int
    end: int
    excess: float


class Pair:
    """Two images of one length, and the words in them that may be checksums."""

    def __init__(self, one: bytes, other: bytes, base: int) -> None:
        self.images, self.base, self.size = (one, other), base, len(one)
        self.bytes = tuple(np.frombuffer(image, np.uint8) for image in self.images)
        self.before = np.concatenate([[0], np.cumsum(self.bytes[0] != self.bytes[1])])
        self.turns = np.concatenate([[0, 0], np.cumsum(self.bytes[0][1:] != self.bytes[0][:-1])])[: len(one) + 1]
        self.length_bits = math.log2(max(self.size, 2))

    @property
    def differ(self) -> int:
        """How many bytes do."""
        return int(self.before[-1])

    def places(self, width: int, least: int, most: int) -> Ints:
        """Where words lie of which so many bytes differ at least: in turn one that stands alone, one by a round address."""
        at = np.arange(-self.base % width, self.size - width + 1, width)
        inside = self.before[at + width] - self.before[at]
        at, inside = at[inside >= max(least, 1)], inside[inside >= max(least, 1)]
        around = self.before[np.minimum(at + width + BESIDE, self.size)] - self.before[np.maximum(at - BESIDE, 0)]
        past = (at + self.base) % ROUND
        far = np.minimum.reduce([past, ROUND - past - width, at, self.size - width - at])
        turns = np.stack([at[np.argsort(by, kind="stable")] for by in (around - inside, far)], axis=1).ravel()
        _, first = np.unique(turns, return_index=True)
        return np.sort(turns[np.sort(first)[:most]])

    def ends(self, grid: int, places: Ints, unit: int, width: int) -> Ints:
        """Where a range of whole words may begin or end: at round addresses, at the ends, beside the words."""
        marked = np.zeros(self.size + 1, np.bool_)
        marked[-self.base % grid :: grid] = True
        marked[np.concatenate([[0, self.size], places, places + width])] = True
        at = np.flatnonzero(marked)
        return np.asarray(at[(at + self.base) % unit == 0])

    def words(self, place: int, width: int, order: Order) -> tuple[int, int]:
        """The word of both images."""
        one, other = (int.from_bytes(image[place : place + width], order) for image in self.images)
        return one, other

    def excess(
        self, said: float, tried: int, word: tuple[int, int], ranges: tuple[Ints, Ints], around: bool
    ) -> Floats:
        """How many bits more than chance words say of ranges; without end below nought where a range cannot be one."""
        (place, behind), (starts, ends) = word, ranges
        cost = math.log2(tried) + self._named(starts, behind) + self._named(ends, place)
        fits = (starts < place) & (ends > behind) if around else (ends <= place) | (starts >= behind)
        fits &= ends - starts - (behind - place) * around >= LEAST
        fits &= 4 * (self.turns[ends] - self.turns[np.minimum(starts, ends)]) >= LEAST
        # A range around the word is one more that was tried.
        return np.where(fits, said - cost - around, -np.inf)

    def worth(self, at: Ints, said: float, tried: int, places: Ints, width: int) -> NDArray[np.bool_]:
        """Whether a range with an end there can say more than chance, its other end being the likeliest."""
        beside = np.isin(at, places) | np.isin(at, places + width)
        return np.asarray(beside | (said - math.log2(tried) - NAMED - self._named(at, 0) >= SURE))

    def _named(self, offsets: Ints, beside: int) -> Floats:
        """Bits that it takes to name an end of a range among all: few for a round address."""
        address = offsets + self.base
        even = np.log2(np.maximum(address & -address, 1).astype(np.float64))
        bits = np.maximum(self.length_bits - even + NAMED, NAMED)
        return np.where((offsets == beside) | (offsets == 0) | (offsets == self.size), NAMED, bits)

    def checksum(self, hit: Hit) -> Checksum:
        """What a hit says, in the words of a layout."""
        rule, base = hit.rule, self.base
        width = int(rule.kind[4:6].rstrip("/")) // 8
        ranges: tuple[tuple[int, int], ...] = ((hit.start, hit.end),)
        if hit.start <= hit.place and hit.end >= hit.place + width:
            ranges = ((hit.start, hit.place), (hit.place + width, hit.end))
        return Checksum(
            kind=rule.kind,
            ranges=tuple((a + base, b + base) for a, b in ranges if b > a),
            address=hit.place + base,
            byte_order=rule.order,
            of=rule.of,
            complement=rule.complement,
        )

    def echoes(self, hit: Hit) -> bool:
        """Whether a sum holds as well with an end moved over what is no fill: what repeats itself tells nothing."""
        if hit.rule.kind.startswith("crc"):
            return False
        inside = hit.start <= hit.place < hit.end
        for step in (NATURAL * n for n in range(-ECHOES, ECHOES + 1) if n):
            for start, end in ((hit.start + step, hit.end), (hit.start, hit.end + step)):
                moved = replace(hit, start=start, end=end)
                around = start <= hit.place < end
                if start < 0 or end > self.size or start >= end or around != inside:
                    continue
                if not (self.fill(hit.start, start) and self.fill(hit.end, end)) and self.holds(self.checksum(moved)):
                    return True
        return False

    def fill(self, one: int, other: int) -> bool:
        """Whether all bytes between two offsets are the same: a range may end before, in or behind them.

        Where ranges fit that differ in anything else, what lies there gives nought again and again, and tells nothing.
        """
        between = self.bytes[0][min(one, other) : max(one, other)]
        return bool((between == between[:1]).all())

    def holds(self, checksum: Checksum) -> bool:
        """Whether it does in both images."""
        order = checksum.byte_order
        return all(
            checksum.computed(i, self.base, order) == checksum.stored(i, self.base, order) for i in self.images
        )


class Starts:
    """What depends on the start of a range, in both images, in order."""

    def __init__(self, at: Ints, one: NDArray[np.unsignedinteger], other: NDArray[np.unsignedinteger]) -> None:
        keys = both(one, other)
        order = np.argsort(keys, kind="stable")
        self._at, self._keys = at[order], keys[order]

    def of(self, ends: Ints, wanted: Keys) -> tuple[Ints, Ints]:
        """Ranges for which what depends on the end is what depends on the start."""
        first = np.searchsorted(self._keys, wanted)
        mine = np.flatnonzero(first < self._keys.size)
        starts, found = [], []
        for n in range(ALIKE):
            mine = mine[first[mine] + n < self._keys.size]
            mine = mine[self._keys[first[mine] + n] == wanted[mine]]
            starts.append(self._at[first[mine] + n])
            found.append(ends[mine])
        return np.concatenate(starts), np.concatenate(found)


def both(one: NDArray[np.unsignedinteger], other: NDArray[np.unsignedinteger]) -> Keys:
    return np.asarray(one.astype(np.uint64) << np.uint64(32) | other.astype(np.uint64))


@dataclass(frozen=True)
class Word:
    """A word that may be a checksum, and how many rules and words are tried."""

    pair: Pair
    place: int
    width: int
    tried: int

    def hits(self, rule: Rule, said: float, ranges: tuple[Ints, Ints], around: bool) -> list[Hit]:
        """The ranges that say more than chance."""
        if not ranges[0].size:
            return []
        excess = self.pair.excess(said, self.tried, (self.place, self.place + self.width), ranges, around)
        good = np.flatnonzero(excess >= SURE)
        best = good[np.argsort(-excess[good], kind="stable")[:MOST_RANGES]]
        return [Hit(rule, self.place, int(ranges[0][n]), int(ranges[1][n]), float(excess[n])) for n in best]


class Levels:
    """Some words, to be asked which of many others are among them."""

    def __init__(self, words: NDArray[Any]) -> None:
        self._words = np.unique(words)
        self._low = np.zeros(1 << 16, np.bool_)
        self._low[self._words & 0xFFFF] = True

    def has(self, words: NDArray[Any]) -> NDArray[np.bool_]:
        """Whether each is among them."""
        found: NDArray[np.bool_] = self._low[words & 0xFFFF]
        maybe = words[found]
        at = np.minimum(np.searchsorted(self._words, maybe), self._words.size - 1)
        found[found] = self._words[at] == maybe
        return found
