"""Image: the bytes of a control unit's calibration memory, packed and unpacked by a layout.

Header, 64 bytes at address 0: magic `YRVC`, header version u16, layout version u16, family (16 bytes, NUL padded),
memory size u32, CRC-32 of everything behind the header u32, name of the revision (32 bytes UTF-8, NUL padded).
All numbers in the layout's byte order. CRC-32 is that of zlib (ISO 3309).
"""

from __future__ import annotations

import hashlib
import struct
import zlib
from dataclasses import dataclass

import numpy as np

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.layout import HEADER_SIZE, AxisPlace, Layout, ScalarPlace, Stored, TablePlace
from yarvic.core.calibration.table import Axis, Scalar, Steps, Table
from yarvic.core.errors import CalibrationError
from yarvic.core.physics import FloatArray

MAGIC = b"YRVC"
_HEADER = "4sHH16sII32s"
ERASED = 0xFF


@dataclass(frozen=True)
class Header:
    """What an image says of itself."""

    family: str
    layout_version: int
    size: int
    crc: int
    name: str


def read_header(data: bytes, *, source: str = "image") -> Header:
    """The header of an image in either byte order. Raises CalibrationError when it is none."""
    if len(data) < HEADER_SIZE or data[:4] != MAGIC:
        raise CalibrationError(
            "this is not a calibration image: its first bytes are not the image mark",
            concerns=source,
            remedy="Choose an image that was read from the unit or exported from a job.",
        )
    for order in (">", "<"):
        _, version, layout_version, family, size, crc, name = struct.unpack(
            order + _HEADER, data[: struct.calcsize(order + _HEADER)]
        )
        if version == 1:
            return Header(_text(family), layout_version, size, crc, _text(name))
    raise CalibrationError("unknown version of the image header", concerns=source, remedy="Use a newer Yarvic.")


def _text(raw: bytes) -> str:
    return raw.split(b"\0", 1)[0].decode("utf-8", errors="replace")


def check_image(data: bytes, layout: Layout, *, source: str = "image") -> Header:
    """Header of an image that fits the layout and is whole.

    Raises CalibrationError for another family, another layout version, a wrong length or a wrong checksum.
    """
    header = read_header(data, source=source)
    if header.family != layout.family:
        raise CalibrationError(
            f"the image is for family {header.family!r}, this job's unit is {layout.family!r}",
            concerns=source,
            remedy="Choose an image of this family. Writing another family's image stops the engine.",
        )
    if header.layout_version != layout.version:
        raise CalibrationError(
            f"the image has layout version {header.layout_version}, the layout describes {layout.version}",
            concerns=source,
            remedy="Use the layout that belongs to the image.",
        )
    if len(data) != layout.size or header.size != layout.size:
        raise CalibrationError(
            f"the image has {len(data)} bytes, the layout {layout.size}",
            concerns=source,
            remedy="Read the image again.",
        )
    actual = zlib.crc32(data[HEADER_SIZE:])
    if actual != header.crc:
        raise CalibrationError(
            f"checksum is {actual:08X}, the header says {header.crc:08X}: the image is damaged",
            concerns=source,
            remedy="Read the image again from the unit, or use the one in the job.",
        )
    return header


def image_id(data: bytes) -> str:
    """The name of an image by its content: SHA-256, hexadecimal."""
    return hashlib.sha256(data).hexdigest()


def unpack(data: bytes, layout: Layout, slot: str, *, source: str = "image") -> Calibration:
    """The calibration of one slot. Raises CalibrationError when the image does not fit or is damaged."""
    check_image(data, layout, source=source)
    start = layout.slot_offset(slot)

    def numbers(place: Stored, count: int) -> FloatArray:
        dtype = layout.dtype(place)
        raw = np.frombuffer(data, dtype=dtype, count=count, offset=start + place.address)
        return np.asarray(Steps(place.factor, place.offset).value(raw), dtype=np.float64)

    def bounds(place: TablePlace | ScalarPlace) -> tuple[float, float]:
        """The layout's, as far as the storage reaches: what cannot be stored is refused where it is entered."""
        limits = np.iinfo(layout.dtype(place))
        low, high = (float(Steps(place.factor, place.offset).value(v)) for v in (limits.min, limits.max))
        return max(place.low, low), min(place.high, high)

    def axis(place: AxisPlace) -> Axis:
        return Axis(place.title, place.unit, numbers(place, place.count))

    tables = {
        t.key: Table(
            t.key,
            t.title,
            t.unit,
            axis(t.x),
            axis(t.y),
            numbers(t, t.x.count * t.y.count).reshape(t.y.count, t.x.count),
            *bounds(t),
            t.factor,
            Steps(t.factor, t.offset).decimals(t.decimals),
            t.offset,
        )
        for t in layout.tables
    }
    scalars = {
        s.key: Scalar(
            s.key,
            s.title,
            s.unit,
            float(numbers(s, 1)[0]),
            *bounds(s),
            s.factor,
            Steps(s.factor, s.offset).decimals(s.decimals),
            s.offset,
        )
        for s in layout.scalars
    }
    return Calibration(layout.family, slot, tables, scalars)


def pack(calibrations: dict[str, Calibration], layout: Layout, name: str, base: bytes | None = None) -> bytes:
    """An image with the given calibration in each slot; bytes that no table owns come from `base` or are erased.

    Raises CalibrationError when a slot is missing or a value does not fit its storage.
    """
    memory = bytearray(base if base is not None else bytes([ERASED]) * layout.size)
    if len(memory) != layout.size:
        raise CalibrationError(
            f"base image has {len(memory)} bytes, the layout {layout.size}", remedy="Use an image of this layout."
        )
    for slot in layout.slots:
        if slot not in calibrations:
            raise CalibrationError(f"slot {slot!r} has no calibration", remedy="Give every slot its maps.")
        _pack_slot(memory, calibrations[slot], layout, layout.slot_offset(slot))
    order = ">" if layout.byte_order == "big" else "<"
    encoded = name.encode("utf-8")[:32].decode("utf-8", errors="ignore").encode("utf-8")
    header = struct.pack(
        order + _HEADER,
        MAGIC,
        1,
        layout.version,
        layout.family.encode("utf-8"),
        layout.size,
        zlib.crc32(memory[HEADER_SIZE:]),
        encoded,
    )
    memory[:HEADER_SIZE] = header.ljust(HEADER_SIZE, b"\0")
    return bytes(memory)


def _pack_slot(memory: bytearray, calibration: Calibration, layout: Layout, start: int) -> None:
    def write(place: Stored, values: FloatArray) -> None:
        dtype = layout.dtype(place)
        raw = np.round((values - place.offset) / place.factor)
        limits = np.iinfo(dtype)
        if raw.min() < limits.min or raw.max() > limits.max:
            raise CalibrationError(
                f"a value does not fit its storage {place.storage}",
                concerns=place.title,
                remedy=f"Stay within {limits.min * place.factor + place.offset:g}"
                f" and {limits.max * place.factor + place.offset:g} {place.unit}.",
            )
        data = raw.astype(dtype).tobytes()
        memory[start + place.address : start + place.address + len(data)] = data

    for t in layout.tables:
        table = calibration.table(t.key)
        write(t.x, table.x.values)
        write(t.y, table.y.values)
        write(t, table.values)
    for s in layout.scalars:
        write(s, np.array([calibration.scalar(s.key).value]))


def changed_blocks(old: bytes, new: bytes, block: int) -> list[int]:
    """Indices of the blocks in which two images of equal length differ."""
    if len(old) != len(new):
        raise CalibrationError(
            f"images of {len(old)} and {len(new)} bytes cannot be compared block by block",
            remedy="Compare images of one unit.",
        )
    return [
        i for i in range(len(new) // block) if old[i * block : (i + 1) * block] != new[i * block : (i + 1) * block]
    ]
