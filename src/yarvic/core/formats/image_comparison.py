"""Two images byte by byte, with nothing known of what lies in them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from yarvic.core.calibration.places import Memory
from yarvic.core.calibration.spans import differing, merged
from yarvic.core.errors import FormatError
from yarvic.core.formats.images import Gap, ImageFile

if TYPE_CHECKING:
    from yarvic.core.calibration.undescribed.checksum_search import FoundChecksum

# Ranges that lie no further apart are one; and so many are listed.
APART = 8
MOST_RANGES = 5000
SHOWN_BYTES = 8
ERASED = 0xFF  # what memory holds that was erased and not written


@dataclass(frozen=True)
class DifferingRange:
    """A range of addresses in which two images differ, and the first bytes of each there."""

    start: int
    end: int
    one: bytes
    other: bytes

    def sentence(self) -> str:
        """Addresses and bytes."""
        count = self.end - self.start
        more = " ..." if count > SHOWN_BYTES else ""
        where = f"0x{self.start:X}" if count == 1 else f"0x{self.start:X} to 0x{self.end - 1:X}, {count:,} bytes"
        return f"{where}: {self.one.hex(' ').upper()}{more} / {self.other.hex(' ').upper()}{more}"


@dataclass(frozen=True)
class ImageComparison:
    """What two images differ in; `only` are ranges that one of them holds alone, each with that one's name."""

    one: str
    other: str
    compared: int
    differs: tuple[DifferingRange, ...]
    bytes_differ: int
    only: tuple[tuple[str, int, int], ...]

    @property
    def equal(self) -> bool:
        """Whether they hold the same bytes, and as many."""
        return not self.differs and not self.only

    def headline(self) -> str:
        """The comparison in a sentence."""
        if self.equal:
            return f"{self.one} and {self.other} are equal in all {self.compared:,} bytes."
        held = sum(b - a for _, a, b in self.only)
        alone = f" {held:,} bytes are in one of them alone." if self.only else ""
        count = f"{len(self.differs):,} range{'s' if len(self.differs) != 1 else ''}"
        return f"{self.bytes_differ:,} of {self.compared:,} bytes differ, in {count}.{alone}"


def compare_images_of_files(one: ImageFile, other: ImageFile) -> ImageComparison:
    """Compare two images at the same addresses; raw bytes begin where the other does, or both at 0.

    Raises FormatError for images that share no address.
    """
    a_base, b_base = _bases(one, other)
    start, end = _shared(one, other)
    a, b = (f.data[start - base : end - base] for f, base in ((one, a_base), (other, b_base)))
    aside = _aside(one, other, start, end)
    a, b = (_filled(data, start, aside, 0) for data in (a, b))
    ranges = differing(Memory(a, start), Memory(b, start), APART)[:MOST_RANGES]
    differs = np.frombuffer(a, np.uint8) != np.frombuffer(b, np.uint8)
    shown = tuple(DifferingRange(x, y, *(d[x - start : y - start][:SHOWN_BYTES] for d in (a, b))) for x, y in ranges)
    only = [*_alone(one, a_base, start, end, other.gaps), *_alone(other, b_base, start, end, one.gaps)]
    left = sum(y - x for x, y in aside)
    return ImageComparison(one.name, other.name, end - start - left, shown, int(differs.sum()), tuple(only))


def checksums_of_files(
    one: ImageFile, other: ImageFile, progress: Callable[[float], None], cancelled: Callable[[], bool]
) -> tuple[FoundChecksum, ...]:
    """What a checksum covers, by two images at the same addresses; a gap of either is taken as erased.

    Raises FormatError for images that share no address, or share more than can be searched.
    """
    from yarvic.core.calibration.undescribed.checksum_search import LONGEST, checksums_found

    start, end = _shared(one, other)
    if end - start > LONGEST:
        raise FormatError(
            f"shares {end - start:,} bytes with {other.name}",
            concerns=one.name,
            remedy=f"Choose images of up to {LONGEST:,} bytes.",
        )
    aside = _aside(one, other, start, end)
    a, b = (
        _filled(f.data[start - base : end - base], start, aside, ERASED)
        for f, base in zip((one, other), _bases(one, other), strict=True)
    )
    return checksums_found(a, b, start, progress, cancelled)


def _bases(one: ImageFile, other: ImageFile) -> tuple[int, int]:
    """Where both begin: raw bytes where the other does, or both at 0."""
    return (
        one.base if one.base is not None else other.base or 0,
        other.base if other.base is not None else one.base or 0,
    )


def _shared(one: ImageFile, other: ImageFile) -> tuple[int, int]:
    """The addresses that both hold. Raises FormatError where there are none."""
    a_base, b_base = _bases(one, other)
    start, end = max(a_base, b_base), min(a_base + len(one.data), b_base + len(other.data))
    if end <= start:
        raise FormatError(
            f"shares no address with {other.name}: {one.in_words()}; {other.in_words()}",
            concerns=one.name,
            remedy="Choose two images of one memory.",
        )
    return start, end


def _aside(one: ImageFile, other: ImageFile, start: int, end: int) -> list[Gap]:
    """The gaps of either, as far as both reach."""
    return merged((max(x, start), min(y, end)) for x, y in (*one.gaps, *other.gaps) if x < end and y > start)


def _filled(data: bytes, base: int, aside: list[Gap], byte: int) -> bytes:
    if not aside:
        return data
    kept = bytearray(data)
    for start, end in aside:
        kept[start - base : end - base] = bytes([byte]) * (end - start)
    return bytes(kept)


def _alone(
    file: ImageFile, base: int, start: int, end: int, gaps_of_other: tuple[Gap, ...]
) -> list[tuple[str, int, int]]:
    """The ranges that a file holds and the other does not: before, behind, and in the other's gaps."""
    found = [(file.name, base, start), (file.name, end, base + len(file.data))]
    own = set(file.gaps)
    found += [(file.name, x, y) for x, y in gaps_of_other if (x, y) not in own and start <= x and y <= end]
    return [(name, x, y) for name, x, y in found if y > x]
