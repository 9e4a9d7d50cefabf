"""What a checksum covers, from two images of one family that differ: places whose words hold in both by one rule and range.

Every word that differs may be one. A rule and a range count as found only where they say more than chance would: the bits
of both words, less what it takes to name the place, the rule and the two ends among all that were tried. Round addresses,
the ends of the image and the word itself are likelier ends than others. What two images are too few to tell is not proposed.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.checksum import Checksum, Complement, Kind
from yarvic.core.calibration.undescribed.checksum_pair import (
    NATURAL,
    Hit,
    Ints,
    Keys,
    Levels,
    Order,
    Pair,
    Rule,
    Starts,
    Word,
    both,
)
from yarvic.core.calibration.undescribed.crc_algebra import RULES, Linear, Words

Progress = Callable[[float], None]
Cancelled = Callable[[], bool]

GRID = 2  # bytes: ends of the range of a CRC lie at multiples of this
CRC_PLACES, SUM_PLACES = 16, 48  # so many words of a width are tried, the likeliest first
MOST = 0.99  # the greatest confidence
LONGEST, MOST_DIFFER = 1 << 24, 0.5  # bytes of an image, and the share of them in which two of a family may differ
ORDERS: tuple[Order, Order] = ("big", "little")
SUMS: tuple[Kind, ...] = ("sum-8", "sum-16", "sum-32", "xor-8", "xor-16", "xor-32")


@dataclass(frozen=True)
class FoundChecksum:
    """A checksum that holds in both images; `confidence` is from 0 to 1, `others` how many ranges fit nearly as well."""

    checksum: Checksum
    confidence: float
    others: int

    def sentence(self) -> str:
        """What it is, what it covers and how sure that is."""
        c = self.checksum
        ranges = " and ".join(f"0x{a:X} to 0x{b - 1:X}" for a, b in c.ranges)
        order = f", {c.byte_order} endian" if c.bits > 8 else ""
        words = f", of {c.of} bits" if c.of and c.of != c.bits else ""
        turned = {"none": "", "ones": ", ones' complement", "twos": ", two's complement"}[c.complement]
        other = f" {self.others} other range{'s' if self.others > 1 else ''} fit as well." if self.others else ""
        return (
            f"{c.kind} at 0x{c.address:X}{order}{words}{turned}, covers {ranges}: holds in both,"
            f" confidence {self.confidence * 100:.0f} %.{other}"
        )

    def toml(self) -> str:
        """As a layout states it."""
        c = self.checksum
        lines = ["[[checksums]]", f'kind = "{c.kind}"', f"address = 0x{c.address:X}"]
        lines.append("ranges = [" + ", ".join(f"[0x{a:X}, 0x{b:X}]" for a, b in c.ranges) + "]")
        lines += [f'byte_order = "{c.byte_order}"'] if c.bits > 8 else []
        lines += [f"of = {c.of}"] if c.of else []
        lines += [f'complement = "{c.complement}"'] if c.complement != "none" else []
        return "\n".join(lines)


def checksums_found(
    one: bytes,
    other: bytes,
    base: int = 0,
    progress: Progress = lambda share: None,
    cancelled: Cancelled = lambda: False,
) -> tuple[FoundChecksum, ...]:
    """The checksums that hold in both of two images of the same length, the surest first; linear in their size.

    Images that differ in more than half of their bytes are not of one family: nothing is told of them. What was found so
    far is given where it is cancelled. Raises ValueError for images of two lengths, or over 16 MiB.
    """
    if len(one) != len(other) or len(one) > LONGEST:
        raise ValueError("two images of one length are compared, of up to 16 MiB")
    pair = Pair(one, other, base)
    if pair.differ > MOST_DIFFER * len(one):
        return ()
    hits: list[Hit] = []
    parts = list(_parts(pair))
    for n, part in enumerate(parts):
        for found in part:
            if cancelled():
                break
            hits += found
        progress((n + 1) / len(parts))
    return _told(pair, hits)


def _told(pair: Pair, hits: list[Hit]) -> tuple[FoundChecksum, ...]:
    """Of each word the likeliest range and rule that hold in both; no byte is a part of two checksums."""
    found: list[FoundChecksum] = []
    taken: set[int] = set()
    seen: set[tuple[Rule, int]] = set()
    sums: list[tuple[Kind, int, range]] = []
    ranges: dict[tuple[Rule, int], set[tuple[int, int]]] = {}
    for hit in hits:
        ranges.setdefault((hit.rule, hit.place), set()).add((hit.start, hit.end))
    for hit in sorted(hits, key=lambda h: (-h.excess, h.place)):
        checksum = pair.checksum(hit)
        word = range(hit.place, hit.place + checksum.bits // 8)
        if (hit.rule, hit.place) in seen or not taken.isdisjoint(word) or not pair.holds(checksum):
            continue
        seen.add((hit.rule, hit.place))
        whole = range(min(hit.start, word.start), max(hit.end, word.stop))
        # Where a sum with its own word gives nought every word of the range would do: the likeliest is named.
        again = any(k == hit.rule.kind and hit.place in r and place in whole for k, place, r in sums)
        fits = ranges[hit.rule, hit.place]
        if (
            not again
            and all(pair.fill(hit.start, a) and pair.fill(hit.end, b) for a, b in fits)
            and not pair.echoes(hit)
        ):
            taken |= set(word)
            if not hit.rule.kind.startswith("crc"):
                sums.append((hit.rule.kind, hit.place, whole))
            found.append(FoundChecksum(checksum, min(1.0 - 2.0**-hit.excess, MOST), len(fits) - 1))
    return tuple(found)


def _parts(pair: Pair) -> Iterator[Iterator[list[Hit]]]:
    """What is to be tried, in parts of which each says again and again what it has found."""
    sums = [rule for kind in SUMS for rule in _sums_of(kind)]
    tried = len(sums) + 2 * len(RULES)
    for linear in sorted({rule.linear for rule in RULES.values()}):
        width = linear[0] // 8
        places = pair.places(width, width - 1, CRC_PLACES)
        if places.size:
            yield _crcs(pair, linear, places, tried * places.size)
    for kind in SUMS:
        places = pair.places(int(kind[4:]) // 8, 1, SUM_PLACES)
        if places.size:
            yield _sums(pair, [rule for rule in sums if rule.kind == kind], places, tried * places.size)


def _sums_of(kind: Kind) -> Iterator[Rule]:
    """The rules of a sum: of words of which width and order, and what is stored of it."""
    bits = int(kind[4:])
    turned: tuple[Complement, ...] = ("none", "ones", "twos") if kind.startswith("sum") else ("none", "ones")
    widths: tuple[Literal[0, 8, 16, 32], ...] = (8, 16, 32) if kind.startswith("sum") else (0,)
    for of in widths:
        if of <= bits:
            for order in ORDERS if bits > 8 else ORDERS[:1]:
                for complement in turned:
                    yield Rule(kind, order, of if of != bits else 0, complement)


class _Crcs:
    """What two images are for CRCs of one polynomial."""

    def __init__(self, pair: Pair, linear: tuple[int, int, bool], at: Ints) -> None:
        self.crc, self.width, self.at = Linear(*linear), linear[0] // 8, at
        first = -pair.base % GRID
        self._index, self._count = (at - first) // GRID, (pair.size - first) // GRID + 1
        self._first, self._step = self.crc.back.times(first), self.crc.back.times(GRID)
        self._on = self.crc.on.times(self.width)
        self._sums = [self.crc.sums(image) for image in pair.images]
        self.rules = {kind: rule for kind, rule in RULES.items() if rule.linear == linear}
        self.starts = {kind: self._starts(self.back(rule.initial)) for kind, rule in self.rules.items()}
        self._delta = self._sums[0][at] ^ self._sums[1][at]
        self._levels = Levels(self._delta)

    def back(self, word: int) -> Words:
        """A word as it would stand before the image, from each end on."""
        return self._step.powers(self._first.of(word), self._count)[self._index]

    def _starts(self, begun: Words) -> Starts:
        return Starts(self.at, self._sums[0][self.at] ^ begun, self._sums[1][self.at] ^ begun)

    def near(self, words: tuple[int, int], place: int | None) -> Ints:
        """Which ends go by what differs alone with some start; `place` is that of a word within the range."""
        found = self._delta ^ self.back(words[0] ^ words[1])
        if place is not None:
            found = self._on(found) ^ np.uint32(self._hole(0, place) ^ self._hole(1, place))
        return np.flatnonzero(self._levels.has(found))

    def wanted(self, image: int, ends: Ints, word: int, place: int | None) -> Words:
        """What must have stood before the start, for some ends; of a range around a place without its word."""
        found = self._sums[image][self.at[ends]] ^ self.crc.moved_back(word, self.at[ends])
        return found if place is None else self._on(found) ^ np.uint32(self._hole(image, place))

    def _hole(self, image: int, place: int) -> int:
        """The bytes before a word, and those before the end of it as they stand without it."""
        sums = self._sums[image]
        return int(sums[place]) ^ self._on.of(int(sums[place + self.width]))


def _crcs(pair: Pair, linear: tuple[int, int, bool], places: Ints, tried: int) -> Iterator[list[Hit]]:
    """CRCs of one polynomial."""
    width = linear[0] // 8
    at = pair.ends(GRID, places, GRID, width)
    crcs = _Crcs(pair, linear, at[pair.worth(at, 2.0 * linear[0], tried, places, width)])
    for place in places.tolist():
        word = Word(pair, place, width, tried)
        for order in ORDERS:
            words = pair.words(place, width, order)
            for within in (None, place):
                near = crcs.near(words, within)
                if not near.size:
                    yield []
                    continue
                for kind, rule in crcs.rules.items():
                    keys = both(*(crcs.wanted(n, near, words[n] ^ rule.final, within) for n in (0, 1)))
                    ranges = crcs.starts[kind].of(crcs.at[near], keys)
                    yield word.hits(Rule(kind, order), 2.0 * linear[0], ranges, within is not None)


def _sums(pair: Pair, rules: list[Rule], places: Ints, tried: int) -> Iterator[list[Hit]]:
    """Sums, and words joined by exclusive-or, of one width."""
    kind = rules[0].kind
    bits, adds = int(kind[4:]), kind.startswith("sum")
    most = (1 << bits) - 1
    for of, order in sorted({(rule.of or bits, rule.order) for rule in rules}):
        mine = [rule for rule in rules if (rule.of or bits, rule.order) == (of, order)]
        unit, first = of // 8, -pair.base % (of // 8)
        at = pair.ends(NATURAL, places, unit, bits // 8)
        at = at[pair.worth(at, 2.0 * bits, tried, places, bits // 8)]
        sums = [_prefix(image, first, unit, order, adds) for image in pair.bytes]
        levels = [each[(at - first) // unit] & np.uint64(most) for each in sums]
        starts, delta = Starts(at, *levels), _less(levels[0], levels[1], adds, most)
        differ = Levels(delta)
        for place in places.tolist():
            word = Word(pair, place, bits // 8, tried)
            words = pair.words(place, bits // 8, order)
            said = _said(words[0], bits) + _said(words[0] - words[1] if adds else words[0] ^ words[1], bits)
            ends = [(place - first) // unit, (place + bits // 8 - first) // unit]
            holes = [int(_less(each[ends[1:]], each[ends[0]], adds, most)[0]) for each in sums]
            for rule, within in itertools.product(mine, (False, True)):
                turned = [{"none": w, "ones": ~w, "twos": -w}[rule.complement] & most for w in words]
                if within:
                    turned = [(w + hole if adds else w ^ hole) & most for w, hole in zip(turned, holes, strict=True)]
                less = (turned[0] - turned[1] if adds else turned[0] ^ turned[1]) & most
                near = np.flatnonzero(differ.has(_less(delta, np.uint64(less), adds, most)))
                if not near.size:
                    yield []
                    continue
                keys = both(*(_less(levels[n][near], np.uint64(turned[n]), adds, most) for n in (0, 1)))
                yield word.hits(rule, said, starts.of(at[near], keys), within)


def _prefix(octets: NDArray[np.uint8], first: int, of: int, order: Order, adds: bool) -> Keys:
    """The sum of all words before each, from an offset on."""
    count = (octets.size - first) // of
    words = np.frombuffer(octets.tobytes(), f"{'>' if order == 'big' else '<'}u{of}", count, first).astype(np.uint64)
    found = np.zeros(count + 1, np.uint64)
    (np.cumsum if adds else np.bitwise_xor.accumulate)(words, out=found[1:])
    return found


def _less(sums: Keys, other: Keys | np.uint64, adds: bool, most: int) -> Keys:
    """Sums less others; or joined with them, which takes away what is joined twice."""
    return (sums - other if adds else sums ^ other) & np.uint64(most)


def _said(word: int, bits: int) -> float:
    """How many bits a word says: a small one is likelier than a great one."""
    return min(math.log2(abs(word) + 1) + 1.0, bits)
