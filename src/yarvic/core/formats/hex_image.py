"""Images as Intel HEX, through bincopy."""

from __future__ import annotations

from pathlib import Path

from yarvic.core.calibration.image import ERASED
from yarvic.core.errors import FormatError
from yarvic.core.formats.files import read_bounded, write_whole

MOST_TEXT_BYTES = 64 * 1024 * 1024


def image_to_hex(data: bytes) -> str:
    """Intel HEX text of an image that starts at address 0."""
    import bincopy

    file = bincopy.BinFile()
    file.add_binary(data, address=0)
    return str(file.as_ihex())


def hex_to_image(text: str, size: int, *, source: str = "image.hex") -> bytes:
    """The image of `size` bytes from Intel HEX text; bytes it leaves out are erased.

    Raises FormatError for text that is not Intel HEX (bad record, bad record checksum) or reaches past `size`.
    """
    import bincopy

    file = bincopy.BinFile()
    try:
        file.add_ihex(text)
    except (bincopy.Error, ValueError) as error:
        raise FormatError(f"not Intel HEX: {error}", concerns=source, remedy="Export the image again.") from None
    if file.minimum_address is None:
        raise FormatError("holds no data", concerns=source, remedy="Export the image again.")
    if file.maximum_address > size:
        raise FormatError(
            f"reaches address 0x{file.maximum_address:X}, the unit's memory ends at 0x{size:X}",
            concerns=source,
            remedy="Choose an image of this family.",
        )
    memory = bytearray([ERASED]) * size
    for address, chunk in file.segments:
        memory[address : address + len(chunk)] = chunk
    return bytes(memory)


def read_image(path: Path, size: int) -> bytes:
    """An image from a file: Intel HEX by its first character, else raw bytes. Raises FormatError."""
    data = read_bounded(path, MOST_TEXT_BYTES)
    if data[:1] != b":":
        return data
    try:
        return hex_to_image(data.decode("ascii"), size, source=path.name)
    except UnicodeDecodeError:
        raise FormatError("not Intel HEX: holds other characters", concerns=str(path)) from None


def write_hex(path: Path, data: bytes) -> None:
    """Write an image as Intel HEX, whole or not at all."""
    write_whole(path, image_to_hex(data).encode("ascii"))
