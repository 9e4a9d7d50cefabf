"""Columns of numbers as compressed bytes.

float64 little endian; the eight bytes of all numbers are regrouped (all first bytes, then all second ones, ...), which
makes slowly changing signals small, then compressed with zlib. A CRC-32 over the compressed bytes guards each column.
"""

from __future__ import annotations

import zlib

import numpy as np

from yarvic.core.errors import JobError
from yarvic.core.physics import FloatArray

LEVEL = 1  # higher levels cost three times the time for a tenth of the size on logged signals


def encode(values: FloatArray) -> tuple[int, bytes]:
    """CRC-32 and compressed bytes of a one-dimensional array."""
    raw = np.ascontiguousarray(values, dtype="<f8").view(np.uint8).reshape(-1, 8)
    data = zlib.compress(np.ascontiguousarray(raw.T).tobytes(), LEVEL)
    return zlib.crc32(data), data


def decode(count: int, crc32: int, data: bytes, *, concerns: str) -> FloatArray:
    """The array again. Raises JobError when the bytes are damaged; never inflates past `count` numbers."""
    remedy = "Restore the job from a copy; the other evidence can still be read."
    if zlib.crc32(data) != crc32:
        raise JobError("a column of evidence is damaged", concerns=concerns, remedy=remedy)
    inflater = zlib.decompressobj()
    try:
        raw = inflater.decompress(data, count * 8 + 1)
    except zlib.error as error:
        raise JobError(
            "a column of evidence is damaged", concerns=concerns, remedy=remedy, details=str(error)
        ) from None
    if len(raw) != count * 8:
        raise JobError("a column of evidence has another length than stated", concerns=concerns, remedy=remedy)
    bytes_ = np.frombuffer(raw, dtype=np.uint8).reshape(8, count)
    return np.ascontiguousarray(bytes_.T).view("<f8").reshape(count)
