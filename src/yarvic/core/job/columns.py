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
from yarvic.core.reading import check_memory

LEVEL = 1  # higher levels cost more time than the size they save on logged signals
# Of one column, and of all that are unpacked together: four hours of 100 channels at 100 Hz have 144 million.
MOST_NUMBERS = 50_000_000
MOST_TOGETHER = 400_000_000
# What a few packed bytes may unpack to: signals that were measured shrink a few times, and one that stands still is
# small beside them.
FREE_BYTES, MOST_RATIO = 64 * 1024 * 1024, 500
Stored = tuple[int, int, bytes]  # count, CRC-32, bytes


def encode(values: FloatArray) -> tuple[int, bytes]:
    """CRC-32 and compressed bytes of a one-dimensional array."""
    import zstandard

    data = zstandard.ZstdCompressor(level=LEVEL).compress(np.ascontiguousarray(values, dtype="<f8").tobytes())
    return zlib.crc32(data), data


def check_numbers(stored: list[Stored], *, concerns: str) -> None:
    """Raise JobError where columns are more than a log can be, unpack to more than was packed, or than fits here."""
    unpacked, packed = 8 * sum(s[0] for s in stored), sum(len(s[2]) for s in stored)
    if unpacked > max(FREE_BYTES, MOST_RATIO * packed) or unpacked > 8 * MOST_TOGETHER:
        raise JobError(
            "a log holds more numbers than one can",
            concerns=concerns,
            remedy="Record it in parts; one from a file that came from elsewhere may be made to harm.",
        )
    check_memory(unpacked * 2.0, concerns, JobError)


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
            if not 0 <= count <= MOST_NUMBERS or zstandard.frame_content_size(data) != count * 8:
                raise JobError(
                    "a column of evidence has another length than stated", concerns=concerns, remedy=remedy
                )
        check_numbers(stored, concerns=concerns)
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


def _check_lengths(log: Log) -> None:
    """Raise JobError for a channel that is longer than one can be read back."""
    for c in log.channels.values():
        if c.values.size > MOST_NUMBERS:
            raise JobError(
                f"{c.title} has {c.values.size:,} numbers, a job keeps at most {MOST_NUMBERS:,}",
                remedy="Cut the log into parts.",
            )


def encode_log(log: Log) -> list[Row]:
    """The rows of a log: time stamps shared by channels are stored once, ahead of the channels."""
    rows: list[Row] = []
    _check_lengths(log)
    places: dict[int, int] = {}
    for c in log.channels.values():
        if id(c.time_s) not in places:
            places[id(c.time_s)] = len(rows)
            rows.append((len(rows), "time", "Time", "time", "s", None, c.time_s.size, *encode(c.time_s)))
    for c in log.channels.values():
        at = places[id(c.time_s)]
        rows.append((len(rows), c.key, c.title, c.quantity, c.unit, at, c.values.size, *encode(c.values)))
    check_numbers([(r[6], r[7], r[8]) for r in rows], concerns="log")
    return rows
