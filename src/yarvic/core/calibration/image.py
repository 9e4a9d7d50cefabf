"""Image: the bytes of a control unit's memory, known, checked, unpacked and packed by a layout."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping

from yarvic.core.calibration.calibration import Calibration, Lazily
from yarvic.core.calibration.changing import applied, axis_as_stored, edits_between, room_for_points
from yarvic.core.calibration.checksum import Checksum
from yarvic.core.calibration.decoding import Patch, axis_patches, decoded, patches
from yarvic.core.calibration.edits import Edit, Part
from yarvic.core.calibration.layout import Layout, Mark
from yarvic.core.calibration.places import Memory
from yarvic.core.calibration.spans import spans_of
from yarvic.core.calibration.storing import Raw
from yarvic.core.calibration.table import Scalar, Table, Text
from yarvic.core.errors import CalibrationError

ERASED = 0xFF


def image_id(data: bytes) -> str:
    """The name of an image by its content: SHA-256, hexadecimal."""
    return hashlib.sha256(data).hexdigest()


def memory_of(data: bytes, layout: Layout) -> Memory:
    """The bytes as the layout's memory."""
    return Memory(data, layout.base, layout.gaps)


def check_length(data: bytes, layout: Layout, source: str) -> None:
    """Raise CalibrationError for a memory that is shorter or longer than the layout's."""
    if len(data) == layout.length:
        return
    by = abs(len(data) - layout.length)
    raise CalibrationError(
        f"the image has {len(data):,} bytes, the layout {layout.length:,}: {by:,} too"
        f" {'few' if len(data) < layout.length else 'many'}",
        concerns=source,
        remedy="Read the image again, whole; nothing is filled up or cut off here.",
    )


def check_marks(memory: Memory, layout: Layout, source: str) -> None:
    """Raise CalibrationError for a memory that does not bear the marks of the layout's family."""
    for mark in layout.identification:
        end = mark.address + len(mark.wanted)
        found = memory.bytes(mark.address, end) if memory.has(mark.address, end) else b""
        if not mark.fits(found):
            of = f"{mark.what} " if mark.what else ""
            lies = _shown(found) if found else "nothing"
            raise CalibrationError(
                f"is no image of family {layout.family!r}: {of}at 0x{mark.address:X} is {lies}, not {_wanted(mark)}",
                concerns=source,
                remedy="Choose an image of this family. Writing another family's image stops the engine.",
            )


def _shown(data: bytes) -> str:
    text = data.rstrip(b"\0 ").decode("latin-1")
    return repr(text) if text and all(" " <= c <= "~" for c in text) else data.hex(" ").upper()


def _wanted(mark: Mark) -> str:
    if all(w is not None for w in mark.wanted):
        return _shown(bytes(w for w in mark.wanted if w is not None))
    return mark.hex


def wrong_sums(
    data: bytes | bytearray, layout: Layout, checksums: Iterable[Checksum]
) -> Iterator[tuple[Checksum, int, int]]:
    """Of some checksums those that can be computed and do not hold: what each must be, and what is there."""
    for checksum in checksums:
        if checksum.known:
            must, there = (f(data, layout.base, layout.byte_order) for f in (checksum.computed, checksum.stored))
            if must != there:
                yield checksum, must, there


def check_sums(data: bytes, layout: Layout, source: str) -> None:
    """Raise CalibrationError where a checksum that can be computed does not hold."""
    for checksum, must, there in wrong_sums(data, layout, layout.checksums):
        width = checksum.bits // 4
        raise CalibrationError(
            f"the checksum {checksum.named} over the image is {must:0{width}X}, the image says {there:0{width}X}:"
            " it is damaged, or the layout states another rule than the unit's",
            concerns=source,
            remedy="Read the image again. If it is whole, correct the checksum's rule in the layout, or state it"
            ' as kind = "unknown".',
        )


def check_image(data: bytes, layout: Layout, *, source: str = "image") -> None:
    """Raise CalibrationError for an image of another length or family, and for a checksum that does not hold."""
    check_length(data, layout, source)
    check_marks(memory_of(data, layout), layout, source)
    check_sums(data, layout, source)


def name_in(data: bytes, layout: Layout) -> str:
    """The name of the revision that an image bears; empty where its layout has no place for one."""
    place = layout.revision_name
    if place is None:
        return ""
    raw = memory_of(data, layout).bytes(place.address, place.address + place.length)
    return raw.split(b"\0", 1)[0].decode("utf-8", errors="replace")


class Image(Mapping[str, Calibration]):
    """A memory with its layout: by slot, the calibration that it holds. Never changed: an edit gives a new one."""

    def __init__(self, layout: Layout, data: bytes) -> None:
        self.layout, self.data = layout, data
        self.memory = memory_of(data, layout)
        self._sets: dict[str, Calibration] = {}

    def __getitem__(self, slot: str) -> Calibration:
        if slot not in self.layout.sets:
            raise KeyError(slot)
        if slot not in self._sets:
            self._sets[slot] = self._calibration(slot)
        return self._sets[slot]

    def __iter__(self) -> Iterator[str]:
        return iter(self.layout.sets)

    def __len__(self) -> int:
        return len(self.layout.sets)

    def _calibration(self, slot: str) -> Calibration:
        layout, memory = self.layout, self.memory

        def make(key: str) -> Table | Scalar | Text:
            return decoded(layout, layout.by_key[key], memory, slot)

        keys = layout.keys
        return Calibration(
            layout.family,
            slot,
            Lazily(keys["table"], make),  # type: ignore[arg-type]
            Lazily(keys["value"], make),  # type: ignore[arg-type]
            Lazily(keys["text"], make),  # type: ignore[arg-type]
        )

    def with_patches(self, found: Iterable[Patch]) -> Image:
        """The image with other bytes in some places."""
        data = bytearray(self.data)
        for address, new in found:
            data[address - self.memory.base : address - self.memory.base + len(new)] = new
        return Image(self.layout, bytes(data))

    def edited(self, edits: Iterable[Edit]) -> tuple[Image, list[Patch]]:
        """The image after edits, one after the other, and the bytes that take them back exactly.

        Raises CalibrationError for an edit that was made for other maps; this image is never changed.
        """
        memory = Memory(bytearray(self.data), self.memory.base, self.memory.gaps)
        back: list[Patch] = []
        for edit in edits:
            if edit.slot not in self.layout.sets:
                raise CalibrationError(f"there is no slot {edit.slot!r}", remedy="Choose one of the layout's slots.")
            back = applied(self.layout, memory, edit) + back
        return Image(self.layout, bytes(memory.data)), back

    def edits_to(self, slot: str, new: Table | Scalar | Text, what: str, *, axes_known: bool = False) -> list[Edit]:
        """The edits that make an entry of a slot hold something else. Raises CalibrationError for what cannot be."""
        return edits_between(self.layout, self.memory, slot, new, what, axes_known=axes_known)

    def axis_as_stored(self, slot: str, key: str, part: Part, values: Raw) -> Raw:
        """Break points of a table's axis as they would be stored. Raises CalibrationError for one in no memory."""
        return axis_as_stored(self.layout, self.memory, slot, key, part, values)

    def room_for_points(self, slot: str, key: str, part: Part) -> tuple[int, int]:
        """How many break points an axis may have, from and to."""
        return room_for_points(self.layout, self.memory, slot, key, part)

    def with_edits(self, edits: Iterable[Edit]) -> Image:
        """The image after edits. Raises CalibrationError as `edited` does."""
        return self.edited(edits)[0]

    def changed_keys(self, other: Image, slot: str) -> list[str]:
        """The entries of a slot in whose places two images differ, in the order of the layout."""
        return spans_of(self.layout).touched(self.memory, other.memory, slot)

    def check_all(self) -> dict[str, str]:
        """What is wrong, by the entries that cannot be read from this image."""
        found: dict[str, str] = {}
        for slot in self.layout.sets:
            for entry in self.layout.entries:
                try:
                    decoded(self.layout, entry, self.memory, slot)
                except CalibrationError as error:
                    found.setdefault(entry.key, f"{error.what}. {error.remedy}")
        return found

    def sealed(self, name: str = "") -> bytes:
        """The bytes with the revision's name where there is a place for it, and every known checksum corrected."""
        return sealed(self.data, self.layout, name)


def open_image(data: bytes, layout: Layout, *, source: str = "image") -> Image:
    """An image that fits its layout. Raises CalibrationError."""
    check_image(data, layout, source=source)
    return Image(layout, data)


def sealed(data: bytes, layout: Layout, name: str = "") -> bytes:
    """Bytes with a name where the layout has a place for it, and every known checksum corrected.

    Raises CalibrationError where checksums lie in each other's ranges, so that none of them can hold.
    """
    memory = bytearray(data)
    if layout.revision_name is not None and name:
        place = layout.revision_name
        text = name.encode("utf-8")[: place.length].decode("utf-8", errors="ignore").encode("utf-8")
        start = place.address - layout.base
        memory[start : start + place.length] = text.ljust(place.length, b"\0")
    known = [c for c in layout.checksums if c.known]
    for _ in range(len(known) + 1):
        if next(wrong_sums(memory, layout, known), None) is None:
            return bytes(memory)
        for checksum in known:
            checksum.correct(memory, layout.base, layout.byte_order)
    raise CalibrationError(
        "its checksums lie in each other's ranges: none of them can hold",
        concerns=layout.family,
        remedy="Correct their ranges in the layout.",
    )


def unpack(data: bytes, layout: Layout, slot: str, *, source: str = "image") -> Calibration:
    """The calibration of one slot. Raises CalibrationError when the image does not fit or is damaged."""
    image = open_image(data, layout, source=source)
    layout.slot_offset(slot)
    return image[slot]


def pack(calibrations: Mapping[str, Calibration], layout: Layout, name: str, base: bytes | None = None) -> bytes:
    """An image with the given calibration in each slot; bytes that no table owns come from `base` or are erased.

    Raises CalibrationError when a slot is missing or a value does not fit its storage.
    """
    data = base if base is not None else bytes([ERASED]) * layout.length
    check_length(data, layout, "base image")
    image = Image(layout, data)
    if base is None:
        image = image.with_patches(
            (mark.address, bytes(w or 0 for w in mark.wanted)) for mark in layout.identification
        )
    for slot in layout.sets:
        if slot not in calibrations:
            raise CalibrationError(f"slot {slot!r} has no calibration", remedy="Give every slot its maps.")
        given = calibrations[slot]
        axes: list[Patch] = []
        for key in image[slot].tables:
            axes += axis_patches(layout, layout.by_key[key], image.memory, slot, given.table(key))
        image = image.with_patches(axes)
        cells: list[Patch] = []
        for key in (*image[slot].tables, *image[slot].scalars):
            new = given.table(key) if key in image[slot].tables else given.scalar(key)
            cells += patches(layout, layout.by_key[key], image.memory, slot, new)
        image = image.with_patches(cells)
    return image.sealed(name)
