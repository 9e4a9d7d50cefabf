"""MDF 4 (ASAM MDF), through asammdf where it is installed: channel groups with their own clocks, units, and states."""

from __future__ import annotations

import io
import logging
from collections.abc import Iterator
from typing import Any, BinaryIO, NoReturn

import numpy as np

from yarvic.core.errors import FormatError, in_plain
from yarvic.core.evidence.raw import RawColumn, RawLog
from yarvic.core.formats.logs.mdf_blocks import Damaged, check
from yarvic.core.formats.logs.mdf_cut import mended
from yarvic.core.formats.logs.structure import MOST_COLUMNS
from yarvic.core.reading import check_memory
from yarvic.core.units import UNITS

# What a master stamps records by (cn_sync_type; from memory of the standard).
_STAMPS = {1: "time", 2: "angle", 3: "distance", 4: "index"}
_WITH_WORDS = (7, 8)  # conversions that give words for numbers, or for ranges of them (cc_type; from memory)
NOT_INSTALLED = FormatError(
    "is an MDF file, and what reads those is not installed",
    remedy="Install it with: pip install 'yarvic[mdf]', or export the log as CSV.",
)


def read_mdf(file: BinaryIO, source: str) -> list[RawLog]:
    """The recording of an MDF file: each channel group keeps its time stamps; texts of a conversion are states.

    One that was cut off gives what is whole of it. Raises FormatError when asammdf is not installed, and for a file that
    it cannot read.
    """
    try:
        import asammdf  # noqa: F401
    except ImportError:
        raise FormatError(NOT_INSTALLED.what, concerns=source, remedy=NOT_INSTALLED.remedy) from None
    _quieten()
    size = file.seek(0, 2)
    file.seek(0)
    check_memory(size * 6.0, source)
    head = file.read(96)
    if head[8:9] >= b"4":
        if head[64:68] != b"##HD":
            raise _unread(source, "header")
        if int.from_bytes(head[88:96], "little") >= size:
            raise FormatError(
                "is cut off, and with its end went what says what its numbers are",
                concerns=source,
                remedy="Copy it again from the logger.",
            )
    file.seek(0)
    whole, said = _whole(file.read(), source) if head[8:9] >= b"4" else (file.read(), [])
    try:
        return [_read(io.BytesIO(whole), source, said)]
    except FormatError:
        raise
    except Exception as error:  # noqa: BLE001 - the library lets out whatever its parts raise
        raise _unread(source, type(error).__name__) from None


def _whole(data: bytes, source: str) -> tuple[bytes, list[str]]:
    """The file where all its links and offsets hold; where it was cut off what is whole of it, and what is missing."""
    try:
        check(data)
        return data, []
    except Damaged as error:
        whole, said = mended(data)
        try:
            if said:
                check(whole)
                return whole, said
        except Damaged:
            pass
        raise FormatError(
            f"is damaged: {error}", concerns=source, remedy="Copy it again from the logger, or export it as CSV."
        ) from None


def _quieten() -> None:
    """The library says nothing on the terminal, neither of what it reads nor while it is unmade."""
    from asammdf.blocks import mdf_v4

    logging.getLogger("asammdf").setLevel(logging.CRITICAL + 1)
    # Files are closed here; one that fails while it is made would say so again when it is unmade.
    mdf_v4.MDF4.__del__ = lambda _: None


def _read(file: BinaryIO, source: str, said: list[str]) -> RawLog:
    from asammdf import MDF

    with MDF(file) as opened:
        return _recording(opened, source, said)


def _unread(source: str, details: str) -> FormatError:
    return FormatError(
        "cannot be read as MDF 4",
        concerns=source,
        remedy="Write it again, or export the log as CSV.",
        details=details,
    )


def _recording(file: Any, source: str, said: list[str]) -> RawLog:
    columns: list[RawColumn] = []
    clocks: list[np.ndarray] = []
    notes, left_out, other = list(said), 0, dict[str, int]()
    if sum(len(g.channels) for g in file.groups) > MOST_COLUMNS:
        raise FormatError(f"has more than {MOST_COLUMNS:,} channels", concerns=source, remedy="Log fewer.")
    for n, group in enumerate(file.groups):
        master = file.masters_db.get(n)
        wanted = [k for k in range(len(group.channels)) if k != master]
        stamped = _stamped_by(group, master)
        if stamped not in ("time", ""):
            other[stamped] = other.get(stamped, 0) + len(wanted)
            continue
        for signal, channel in _signals(file, n, wanted):
            column = _column(signal, channel.name, n, _scale(group, master))
            if column is None:
                left_out += 1
                continue
            notes += _missing_words(column, channel)
            assert column.time_s is not None
            same = next(
                (c for c in clocks if c.shape == column.time_s.shape and np.array_equal(c, column.time_s)), None
            )
            if same is None:
                clocks.append(column.time_s)
            else:
                column.time_s = same
            columns.append(column)
    words = [
        f"{count} channel{' is' if count == 1 else 's are'} stamped by {by}, not by time: left out"
        for by, count in other.items()
    ]
    if not columns:
        _nothing(source, said, other)
    if left_out:
        notes.append(f"{left_out} channels hold no single numbers and were left out")
    longest = max(clocks, key=len)
    for column in columns:
        if column.time_s is longest:
            column.time_s = None
    began = file.header.start_time.isoformat(timespec="seconds") if file.header.start_time is not None else ""
    time = RawColumn("time", "s", longest, "master")
    return RawLog(columns, time, reader="mdf", started=began, notes=[*notes, *words])


def _nothing(source: str, said: list[str], other: dict[str, int]) -> NoReturn:
    if other:
        by = " and ".join(other)
        raise FormatError(
            f"has stamps of {by} and none of time",
            concerns=source,
            remedy="Log it with its time, or export it with a column of time.",
        )
    what = "is cut off before its first record" if said else "holds no channels"
    raise FormatError(what, concerns=source, remedy="Choose another file.")


def _stamped_by(group: Any, master: int | None) -> str:
    """By what the records of a group are stamped: time, angle, distance or index; empty where nothing stamps them."""
    if master is None:
        return "index"
    return _STAMPS.get(int(getattr(group.channels[master], "sync_type", 1) or 0), "time")


def _scale(group: Any, master: int | None) -> float:
    """Seconds of one of a master's unit: the standard's are seconds, and some loggers say otherwise."""
    if master is None:
        return 1.0
    named = in_plain(str(getattr(group.channels[master], "unit", "") or ""), 20).strip()
    return UNITS[named].factor if named in UNITS and UNITS[named].quantity == "time" else 1.0


def _signals(file: Any, group: int, wanted: list[int]) -> Iterator[tuple[Any, Any]]:
    """The signals of a group with their channels, in one pass over its records; one by one where that cannot be."""
    channels = [file.groups[group].channels[k] for k in wanted]
    try:
        found = file.select([(None, group, k) for k in wanted], raw=False) if wanted else []
        if len(found) == len(wanted):
            yield from zip(found, channels, strict=True)
            return
    except Exception:  # noqa: BLE001 - one that cannot be read takes none of the others with it
        found = []
    for k, channel in zip(wanted, channels, strict=True):
        try:
            yield file.get(group=group, index=k, raw=False), channel
        except Exception:  # noqa: BLE001
            yield None, channel


def _missing_words(column: RawColumn, channel: Any) -> list[str]:
    """What is to be said of a channel whose conversion has words for some numbers: those are no readings."""
    lost = int(np.count_nonzero(~np.isfinite(column.values)))
    if column.states or not lost or getattr(channel.conversion, "conversion_type", 0) not in _WITH_WORDS:
        return []
    count = "1 sample is a word" if lost == 1 else f"{lost:,} samples are words"
    return [f"{column.name}: {count} of its conversion, and no number: missing"]


def _column(signal: Any, name: str, group: int, scale: float) -> RawColumn | None:
    """A channel as a column; None for one that holds no single numbers."""
    if signal is None:
        return None
    samples = np.asarray(signal.samples)
    times = np.asarray(signal.timestamps, dtype=np.float64) * scale
    if samples.ndim != 1 or samples.dtype.fields or not samples.size or times.size != samples.size:
        return None
    label, unit = in_plain(name, 200), in_plain(str(signal.unit or ""), 60)
    place = f"group {group + 1}"
    if samples.dtype.kind in "SUO":
        values = np.array([float(v) if isinstance(v, int | float | np.number) else np.nan for v in samples])
        if 2 * np.isfinite(values).sum() > values.size:
            return RawColumn(label, unit, values, place, times)  # numbers with words between: those are no readings
        each = [w.decode("utf-8", "replace") if isinstance(w, bytes) else str(w) for w in samples]
        known = list(dict.fromkeys(each))
        places = {w: float(i) for i, w in enumerate(known)}
        states = tuple(in_plain(w, 100) for w in known)
        return RawColumn(label, unit, np.array([places[w] for w in each]), place, times, states)
    if samples.dtype.kind not in "iufb":
        return None
    values = samples.astype(np.float64)
    bits = signal.invalidation_bits
    if bits is not None:
        values = np.where(np.asarray(bits, dtype=bool), np.nan, values)
    return RawColumn(label, unit, np.where(np.isfinite(values), values, np.nan), place, times)
