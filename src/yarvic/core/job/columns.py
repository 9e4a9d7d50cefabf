"""Columns of numbers as compressed bytes: float64 little endian, in one Zstandard frame (RFC 8878) each.

A CRC-32 over the compressed bytes guards each column.
"""

from __future__ import annotations

import zlib
from typing import Any

import numpy as np

from yarvic.core.errors import JobError
from yarvic.core.evidence.log import Log
from yarvic.core.physics import FloatArray

LEVEL = 1  # higher levels cost more time than the size they save on logged signals
MOST_NUMBERS = 200_000_000
Stored = tuple[int, int, bytes]  # count, CRC-32, bytes


def encode(values: FloatArray) -> tuple[int, bytes]:
    """CRC-32 and compressed bytes of a one-dimensional array."""
    import zstandard

    data = zstandard.ZstdCompressor(level=LEVEL).compress(np.ascontiguousarray(values, dtype="<f8").tobytes())
    return zlib.crc32(data), data


def decode(stored: list[Stored], *, concerns: str) -> list[FloatArray]:
    """The arrays again, not to be written to. Raises JobError when bytes are damaged.

    Never inflates past the counts: each frame states its size, and one that states another is refused.
    """
    import zstandard

    remedy = "Restore the job from a copy; the other evidence can still be read."
    try:
        for count, crc32, data in stored:
            if zlib.crc32(data) != crc32:
                raise JobError("a column of evidence is damaged", concerns=concerns, remedy=remedy)
            if zstandard.frame_content_size(data) != count * 8 or not 0 <= count <= MOST_NUMBERS:
                raise JobError(
                    "a column of evidence has another length than stated", concerns=concerns, remedy=remedy
                )
        full: Any = [data for count, _, data in stored if count]
        # The library unpacks frames side by side on all processors.
        unpacked: Any = iter(
            zstandard.ZstdDecompressor().multi_decompress_to_buffer(full, threads=-1) if full else ()
        )
    except zstandard.ZstdError as error:
        raise JobError(
            "a column of evidence is damaged", concerns=concerns, remedy=remedy, details=str(error)
        ) from None
    return [
        np.frombuffer(next(unpacked), dtype="<f8").astype(np.float64, copy=False) if count else np.empty(0)
        for count, _, _ in stored
    ]


# position, key, title, quantity, unit, position of its time stamps (None: is one), count, CRC-32, bytes
Row = tuple[int, str, str, str, str, int | None, int, int, bytes]


def encode_log(log: Log) -> list[Row]:
    """The rows of a log: time stamps shared by channels are stored once, ahead of the channels."""
    rows: list[Row] = []
    places: dict[int, int] = {}
    for c in log.channels.values():
        if id(c.time_s) not in places:
            places[id(c.time_s)] = len(rows)
            rows.append((len(rows), "time", "Time", "time", "s", None, c.time_s.size, *encode(c.time_s)))
    for c in log.channels.values():
        at = places[id(c.time_s)]
        rows.append((len(rows), c.key, c.title, c.quantity, c.unit, at, c.values.size, *encode(c.values)))
    return rows
