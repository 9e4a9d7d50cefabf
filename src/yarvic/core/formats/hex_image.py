"""Images as Intel HEX (the record format of Intel's hexadecimal object file, revision A of 1988) and as raw bytes."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from yarvic.core.calibration.image import ERASED
from yarvic.core.calibration.layout import MOST_MEMORY
from yarvic.core.errors import FormatError
from yarvic.core.formats.files import write_whole
from yarvic.core.reading import read_bounded, reader

MOST_TEXT_BYTES = 64 * 1024 * 1024
# A record of one byte has 13 characters and the end of its line; what is longer than that holds no image.
MOST_LETTERS_PER_BYTE = 16
_DATA, _END, _SEGMENT, _START_SEGMENT, _LINEAR, _START_LINEAR = range(6)
# Bytes that a record of each kind holds, where that is fixed.
_LENGTHS = {_END: 0, _SEGMENT: 2, _START_SEGMENT: 4, _LINEAR: 2, _START_LINEAR: 4}


def image_to_hex(data: bytes) -> str:
    """Intel HEX text of an image that starts at address 0."""
    import bincopy

    file = bincopy.BinFile()
    file.add_binary(data, address=0)
    return str(file.as_ihex())


def hex_to_image(text: str, size: int, *, source: str = "image.hex") -> bytes:
    """The image of `size` bytes from Intel HEX text; bytes it leaves out are erased.

    Raises FormatError for text that is not Intel HEX (bad record, bad record checksum, no end), that reaches past
    `size`, or that writes an address twice. One pass, whatever the order of its records.
    """
    if not 0 < size <= MOST_MEMORY:
        raise FormatError(f"a memory of {size:,} bytes cannot be", concerns=source, remedy="Correct the layout.")
    if len(text) > MOST_LETTERS_PER_BYTE * size + MOST_TEXT_BYTES // 1024:
        raise FormatError(
            f"is longer than an image of {size:,} bytes can be", concerns=source, remedy="Choose another file."
        )
    memory, written = bytearray([ERASED]) * size, bytearray(size)
    for line, address, data in _records(text, source):
        end = address + len(data)
        if end > size:
            raise _bad(
                line, f"reaches address 0x{end:X}, the unit's memory ends at 0x{size:X}", source,
                "Choose an image of this family.",
            )  # fmt: skip
        if written.find(1, address, end) >= 0:
            raise _bad(line, f"writes address 0x{written.find(1, address, end):X} a second time", source)
        memory[address:end] = data
        written[address:end] = b"\1" * len(data)
    if 1 not in written:
        raise FormatError("holds no data", concerns=source, remedy="Export the image again.")
    return bytes(memory)


def _records(text: str, source: str) -> Iterator[tuple[int, int, bytes]]:
    """Line, address and bytes of each record of data. Raises FormatError for what is none, and where no end comes."""
    base, ended = 0, False
    for number, raw in enumerate(text.splitlines(), 1):
        line = raw.strip()
        if not line:
            continue
        if ended:
            raise _bad(number, "goes on behind its end", source)
        record = _record(number, line, source)
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


def _record(number: int, line: str, source: str) -> bytes:
    try:
        record = bytes.fromhex(line[1:]) if line[0] == ":" else b""
    except ValueError:
        record = b""
    if len(record) < 5 or len(record) != record[0] + 5 or len(line) != 2 * len(record) + 1:
        raise _bad(number, "is not Intel HEX", source)
    if sum(record) & 0xFF:
        raise _bad(number, "is damaged: a record's checksum does not hold", source)
    return record


def _bad(line: int, what: str, source: str, remedy: str = "Export the image again.") -> FormatError:
    return FormatError(what, concerns=f"{source}, line {line:,}", remedy=remedy)


@reader("image", "Image of a unit's memory, Intel HEX or raw bytes", ".hex", MOST_TEXT_BYTES)
def read_image(path: Path, size: int) -> bytes:
    """An image from a file: Intel HEX by its first character, else raw bytes. Raises FormatError."""
    data = read_bounded(path, MOST_TEXT_BYTES)
    if data[:1] != b":":
        if len(data) > MOST_MEMORY:
            raise FormatError(
                f"has {len(data):,} bytes, an image at most {MOST_MEMORY:,}",
                concerns=str(path),
                remedy="Choose another file.",
            )
        return data
    try:
        return hex_to_image(data.decode("ascii"), size, source=path.name)
    except UnicodeDecodeError as error:
        raise FormatError(
            "is not Intel HEX: it holds other characters",
            concerns=f"{path.name}, byte {error.start:,}",
            remedy="Export the image again.",
        ) from None


def write_hex(path: Path, data: bytes) -> None:
    """Write an image as Intel HEX, whole or not at all."""
    write_whole(path, image_to_hex(data).encode("ascii"))
