"""Columns of numbers as compressed bytes: float64 little endian, in one Zstandard frame (RFC 8878) each.

A CRC-32 over the compressed bytes guards each column.
"""

from __future__ import annotations

import zlib
from typing import Any

import numpy as np

from yarvic.core.errors import JobError
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.raw import RawLog
from yarvic.core.physics import FloatArray
from yarvic.core.reading import check_memory

LEVEL = 1  # higher levels cost more time than the size they save on logged signals
# Of one column, and of all that are unpacked together: four hours of 100 channels at 100 Hz have 144 million.
MOST_NUMBERS = 50_000_000
MOST_TOGETHER = 400_000_000
# What a few packed bytes may unpack to: signals that were measured shrink a few times, and one that stands still is
# small beside them.
FREE_BYTES, MOST_RATIO = 64 * 1024 * 1024, 500
RAW = "raw"  # the quantity of a column as its file holds it
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


def _check_length(title: str, values: FloatArray) -> None:
    """Raise JobError for a column that is longer than one can be read back."""
    if values.size > MOST_NUMBERS:
        raise JobError(
            f"{title} has {values.size:,} numbers, a job keeps at most {MOST_NUMBERS:,}",
            remedy="Cut the log into parts.",
        )


def encode_log(log: Log) -> list[Row]:
    """The rows of a log: time stamps shared by channels are stored once, ahead of the channels."""
    return _encode([(c.key, c.title, c.quantity, c.unit, c.time_s, c.values) for c in log.channels.values()])


def encode_raw(raw: RawLog) -> list[Row]:
    """The rows of a recording as its file holds it: its clock first, then each column under its place."""
    assert raw.time is not None
    clock = raw.time.values
    columns = [
        (f"column {n}", c.name or c.place, RAW, c.unit, clock if c.time_s is None else c.time_s, c.values)
        for n, c in enumerate(raw.columns)
    ]
    return _encode(columns, clock)


def _encode(columns: list[tuple[str, str, str, str, FloatArray, FloatArray]], *clocks: FloatArray) -> list[Row]:
    rows: list[Row] = []
    places: dict[int, int] = {}
    for title, times in [*(("Time", c) for c in clocks), *((c[1], c[4]) for c in columns)]:
        if id(times) not in places:
            _check_length(title, times)
            places[id(times)] = len(rows)
            rows.append((len(rows), "time", "Time", "time", "s", None, times.size, *encode(times)))
    for key, title, quantity, unit, times, values in columns:
        _check_length(title, values)
        rows.append((len(rows), key, title, quantity, unit, places[id(times)], values.size, *encode(values)))
    check_numbers([(r[6], r[7], r[8]) for r in rows], concerns="log")
    return rows
