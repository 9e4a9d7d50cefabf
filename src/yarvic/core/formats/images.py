"""Images of a memory as files: raw bytes, Intel HEX and Motorola S-record, with addresses and gaps.

HEX: the record format of Intel's hexadecimal object file, revision A of 1988. S-record: from memory, checked against a
reference library in the tests.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from yarvic.core.calibration.described import MOST_MEMORY
from yarvic.core.calibration.image import ERASED
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.spans import merged
from yarvic.core.errors import FormatError, name_of
from yarvic.core.formats.files import write_whole
from yarvic.core.reading import read_bounded, reader

MOST_TEXT_BYTES = 64 * 1024 * 1024
Form = Literal["raw", "hex", "srec"]
FORMS: dict[Form, str] = {"raw": "Raw bytes", "hex": "Intel HEX", "srec": "Motorola S-record"}
SUFFIXES: dict[Form, str] = {"raw": ".bin", "hex": ".hex", "srec": ".s37"}
MOST_GAPS = 50_000
_DATA, _END, _SEGMENT, _START_SEGMENT, _LINEAR, _START_LINEAR = range(6)
# Bytes that a record of each kind holds, where that is fixed.
_LENGTHS = {_END: 0, _SEGMENT: 2, _START_SEGMENT: 4, _LINEAR: 2, _START_LINEAR: 4}
# Bytes of the address in an S-record of each kind.
_ADDRESS_BYTES = {"0": 2, "1": 2, "2": 3, "3": 4, "5": 2, "6": 3, "7": 4, "8": 3, "9": 2}
Gap = tuple[int, int]
# First bytes of files that are plainly no memory. Text: so many bytes without one that no text has, and a line's end.
NO_MEMORY = {
    b"SQLite format 3\0": "a database",
    b"PK\x03\x04": "an archive",
    b"\x1f\x8b\x08": "an archive",
    b"%PDF-": "a document",
}
TEXT_HEAD, LEAST_TEXT = 4096, 64
TEXT = bytes((*b"\t\n\f\r", *range(0x20, 0x7F), *range(0x80, 0xFF)))


@dataclass(frozen=True)
class ImageFile:
    """What an image's file holds: bytes from `base` on (None: it names no address), and the gaps between them."""

    name: str
    form: Form
    data: bytes
    base: int | None
    gaps: tuple[Gap, ...]
    sha256: str

    @property
    def end(self) -> int:
        """The address behind the last byte."""
        return (self.base or 0) + len(self.data)

    def in_words(self) -> str:
        """Form, length and addresses."""
        held = len(self.data) - sum(b - a for a, b in self.gaps)
        text = f"{FORMS[self.form]}, {held:,} bytes"
        if self.base is None:
            return text
        gaps = f", {len(self.gaps)} gap{'s' if len(self.gaps) != 1 else ''}" if self.gaps else ""
        return f"{text}, 0x{self.base:X} to 0x{self.end - 1:X}{gaps}"


def to_text(data: bytes, form: Form, base: int = 0, gaps: Sequence[Gap] = ()) -> bytes:
    """An image in the bytes of a file: what lies in a gap is left out. Raw bytes cannot leave anything out.

    Raises FormatError for raw bytes of a memory with gaps.
    """
    if form == "raw":
        if gaps:
            raise FormatError(
                "raw bytes cannot leave gaps out", concerns="image", remedy="Write it as Intel HEX or S-record."
            )
        return data
    import bincopy

    file = bincopy.BinFile()
    at = base
    for start, end in (*sorted(gaps), (base + len(data), base + len(data))):
        if start > at:
            file.add_binary(data[at - base : start - base], address=at)
        at = end
    if form == "srec":
        file.execution_start_address = 0  # with it comes the record that ends the file
    text = file.as_ihex() if form == "hex" else file.as_srec(address_length_bits=32)
    return str(text).encode("ascii")


def image_to_hex(data: bytes, base: int = 0, gaps: Sequence[Gap] = ()) -> str:
    """Intel HEX text of an image."""
    return to_text(data, "hex", base, gaps).decode("ascii")


def hex_to_image(text: str, size: int, *, base: int = 0, source: str = "image.hex") -> bytes:
    """The image of `size` bytes from `base` on from Intel HEX text; bytes that it leaves out are erased.

    Raises FormatError for text that is not Intel HEX, and for what reaches past the memory.
    """
    if not 0 < size <= MOST_MEMORY:
        raise FormatError(f"a memory of {size:,} bytes cannot be", concerns=source, remedy="Correct the layout.")
    memory, written = bytearray([ERASED]) * size, bytearray(size)
    _gather(_hex_records(text, source), memory, written, base, source)
    return bytes(memory)


def _gather(
    records: Iterator[tuple[int, int, bytes]], memory: bytearray, written: bytearray, base: int, source: str
) -> None:
    """Put records into a memory; one pass, whatever their order."""
    for line, address, data in records:
        start, end = address - base, address - base + len(data)
        if end > len(memory) or start < 0:
            at = address if start < 0 else address + len(data)
            raise _bad(
                line, f"reaches address 0x{at:X}, the unit's memory is 0x{base:X} to 0x{base + len(memory) - 1:X}",
                source, "Choose an image of this family.",
            )  # fmt: skip
        if written.find(1, start, end) >= 0:
            raise _bad(line, f"writes address 0x{base + written.find(1, start, end):X} a second time", source)
        memory[start:end] = data
        written[start:end] = b"\1" * len(data)
    if 1 not in written:
        raise FormatError("holds no data", concerns=source, remedy="Export the image again.")


def _hex_records(text: str, source: str) -> Iterator[tuple[int, int, bytes]]:
    """Line, address and bytes of each record of data. Raises FormatError for what is none, and where no end comes."""
    base, ended = 0, False
    for number, raw in enumerate(text.splitlines(), 1):
        line = raw.strip()
        if not line:
            continue
        if ended:
            raise _bad(number, "goes on behind its end", source)
        record = _hex_record(number, line, source)
        kind, data = record[3], record[4:-1]
        if kind not in (_DATA, *_LENGTHS) or len(data) != _LENGTHS.get(kind, len(data)):
            raise _bad(number, "holds a record of an unknown kind", source)
        if kind == _DATA:
            yield number, base + int.from_bytes(record[1:3], "big"), data
        elif kind == _SEGMENT:
            base = int.from_bytes(data, "big") * 16
        elif kind == _LINEAR:
            base = int.from_bytes(data, "big") << 16
        ended = kind == _END
    if not ended:
        raise FormatError("has no end: it was cut off", concerns=source, remedy="Export or copy the image again.")


def _hex_record(number: int, line: str, source: str) -> bytes:
    try:
        record = bytes.fromhex(line[1:]) if line[0] == ":" else b""
    except ValueError:
        record = b""
    if len(record) < 5 or len(record) != record[0] + 5 or len(line) != 2 * len(record) + 1:
        raise _bad(number, "is not Intel HEX", source)
    if sum(record) & 0xFF:
        raise _bad(number, "is damaged: a record's checksum does not hold", source)
    return record


def _srec_records(text: str, source: str) -> Iterator[tuple[int, int, bytes]]:
    """Line, address and bytes of each record of data of S-record text. Raises FormatError."""
    ended, counted, count = False, False, 0
    for number, raw in enumerate(text.splitlines(), 1):
        line = raw.strip()
        if not line:
            continue
        kind = line[1:2]
        if ended and not (counted and kind in "789"):
            raise _bad(number, "goes on behind its end", source)
        try:
            record = bytes.fromhex(line[2:]) if line[0] in "Ss" and kind in _ADDRESS_BYTES else b""
        except ValueError:
            record = b""
        length = _ADDRESS_BYTES.get(kind, 0)
        if len(record) < length + 2 or record[0] + 1 != len(record) or len(line) != 2 * len(record) + 2:
            raise _bad(number, "is not an S-record", source)
        if sum(record) & 0xFF != 0xFF:
            raise _bad(number, "is damaged: a record's checksum does not hold", source)
        address = int.from_bytes(record[1 : 1 + length], "big")
        if kind in "123":
            count += 1
            yield number, address, record[1 + length : -1]
        if kind in "56" and address != count & (0xFFFF if kind == "5" else 0xFFFFFF):
            raise _bad(number, f"says that {address:,} records came before it, there were {count:,}", source)
        # A count of all records is an end as well; the record that names a start may follow.
        counted, ended = kind in "56", kind in "56789"
    if not ended:
        raise FormatError("has no end: it was cut off", concerns=source, remedy="Export or copy the image again.")


def _bad(line: int, what: str, source: str, remedy: str = "Export the image again.") -> FormatError:
    return FormatError(what, concerns=f"{source}, line {line:,}", remedy=remedy)


def form_of(head: bytes) -> Form:
    """The form of an image's file by its first bytes; raw where they are neither of the texts."""
    first = head.lstrip()[:600].split(b"\n", 1)[0].strip()
    if first[:1] == b":" and first[1:].isalnum():
        return "hex"
    if len(first) >= 8 and first[:1] in b"Ss" and first[1:2].isdigit() and first[2:].isalnum():
        return "srec"
    return "raw"


@reader("image", "Image of a unit's memory: Intel HEX, S-record or raw bytes", ".hex", MOST_TEXT_BYTES)
def read_image(path: Path) -> ImageFile:
    """What an image's file holds. Raises FormatError."""
    data = read_bounded(path, MOST_TEXT_BYTES)
    sha = hashlib.sha256(data).hexdigest()
    form = form_of(data[:700])
    if form == "raw":
        if not data:
            raise FormatError("holds nothing", concerns=str(path), remedy="Choose another file.")
        if len(data) > MOST_MEMORY:
            raise FormatError(
                f"has {len(data):,} bytes, an image at most {MOST_MEMORY:,}",
                concerns=str(path),
                remedy="Choose another file.",
            )
        _check_raw(data, path)
        return ImageFile(name_of(path), "raw", data, None, (), sha)
    try:
        text = data.decode("ascii")
    except UnicodeDecodeError as error:
        raise FormatError(
            f"is not {FORMS[form]}: it holds other characters",
            concerns=f"{path.name}, byte {error.start:,}",
            remedy="Export the image again.",
        ) from None
    return _of_records(name_of(path), form, text, sha)


def _check_raw(data: bytes, path: Path) -> None:
    """Any bytes may be a memory; these are plainly something else, and would be shown as one."""
    what = next((what for magic, what in NO_MEMORY.items() if data.startswith(magic)), "")
    head = data[:TEXT_HEAD]
    if not what and len(head) >= LEAST_TEXT and b"\n" in head and not head.translate(None, TEXT):
        what = "text"
    if what:
        raise FormatError(
            f"is {what}, no image of a memory",
            concerns=str(path),
            remedy="Choose the image: Intel HEX, S-record or raw bytes.",
        )


def _of_records(name: str, form: Form, text: str, sha: str) -> ImageFile:
    records = list((_hex_records if form == "hex" else _srec_records)(text, name))
    held = [(address, address + len(data)) for _, address, data in records if data]
    if not held:
        raise FormatError("holds no data", concerns=name, remedy="Export the image again.")
    base, end = min(a for a, _ in held), max(b for _, b in held)
    if end - base > MOST_MEMORY:
        raise FormatError(
            f"reaches from 0x{base:X} to 0x{end - 1:X}, further than {MOST_MEMORY:,} bytes",
            concerns=name,
            remedy="Export the calibration's memory alone.",
        )
    memory, written = bytearray([ERASED]) * (end - base), bytearray(end - base)
    _gather(iter(records), memory, written, base, name)
    return ImageFile(name, form, bytes(memory), base, _gaps(written, base, name), sha)


def _gaps(written: bytearray, base: int, name: str) -> tuple[Gap, ...]:
    found, at = [], written.find(0)
    while at >= 0:
        end = written.find(1, at)
        found.append((base + at, base + (end if end >= 0 else len(written))))
        if len(found) > MOST_GAPS:
            raise FormatError("has more gaps than an image can have", concerns=name, remedy="Export it again.")
        at = written.find(0, end) if end >= 0 else -1
    return tuple(found)


def fitted(file: ImageFile, layout: Layout) -> tuple[Layout, bytes]:
    """The layout as it is for this image, and the bytes of its memory.

    A layout that does not say how long its memory is, takes that from the image. One that does has no other: raw bytes
    must be as many; what records leave out of it is a gap, unless the layout has others already. Raises FormatError.
    """
    base = file.base if file.base is not None else layout.base
    if layout.size is None:
        return layout.changed(base=base, size=len(file.data), gaps=file.gaps), file.data
    length, known = layout.length, layout.gaps
    if file.base is None:
        if len(file.data) != length:
            by = abs(len(file.data) - length)
            raise FormatError(
                f"has {len(file.data):,} bytes, the layout {length:,}: {by:,} too"
                f" {'few' if len(file.data) < length else 'many'}",
                concerns=file.name,
                remedy="Read the image again, whole; nothing is filled up or cut off here.",
            )
        return layout, file.data
    if base < layout.base or file.end > layout.end:
        raise FormatError(
            f"reaches from 0x{base:X} to 0x{file.end - 1:X}, the layout's memory from 0x{layout.base:X} to"
            f" 0x{layout.end - 1:X}",
            concerns=file.name,
            remedy="Choose an image of this family, or correct the layout's base and size.",
        )
    before, after = base - layout.base, layout.end - file.end
    data = bytes([ERASED]) * before + file.data + bytes([ERASED]) * after
    gaps = file.gaps
    gaps = ((layout.base, base), *gaps) if before else gaps
    gaps = (*gaps, (file.end, layout.end)) if after else gaps
    return layout.changed(gaps=gaps) if gaps != known else layout, data


def in_memory(file: ImageFile, layout: Layout) -> bytes:
    """The bytes of an image for a memory that is known: it holds neither less nor more. Raises FormatError."""
    own, data = fitted(file, layout)
    lacking = _without(own.gaps, layout.gaps)
    if lacking is not None:
        start, end = lacking
        raise FormatError(
            f"lacks 0x{start:X} to 0x{end - 1:X}, which this unit's memory has",
            concerns=file.name,
            remedy="Read or export the whole memory; nothing is filled up here.",
        )
    memory = bytearray(data)
    for start, end in layout.gaps:
        # What lies there is not of this job's images.
        memory[start - layout.base : end - layout.base] = bytes([ERASED]) * (end - start)
    return bytes(memory)


def _without(gaps: Sequence[Gap], known: Sequence[Gap]) -> Gap | None:
    """The first range of some gaps, which lie in order, that is in none of the others."""
    ordered, at = merged(known), 0
    for start, end in sorted(gaps):
        while at < len(ordered) and ordered[at][1] <= start:
            at += 1
        after = at
        if at < len(ordered) and ordered[at][0] <= start:
            start, after = ordered[at][1], at + 1
        if start < end:
            return start, min(end, ordered[after][0]) if after < len(ordered) else end
    return None


def write_image(path: Path, data: bytes, form: Form, base: int = 0, gaps: Sequence[Gap] = ()) -> None:
    """Write an image in a form, whole or not at all. Raises FormatError."""
    write_whole(path, to_text(data, form, base, gaps))
