"""MDF 4 (ASAM MDF), through asammdf where it is installed: channel groups with their own clocks, units, and states."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from yarvic.core.errors import FormatError, in_plain
from yarvic.core.evidence.raw import RawColumn, RawLog
from yarvic.core.formats.logs.structure import MOST_COLUMNS
from yarvic.core.reading import check_memory

NOT_INSTALLED = FormatError(
    "is an MDF file, and what reads those is not installed",
    remedy="Install it with: pip install 'yarvic[mdf]', or export the log as CSV.",
)


def read_mdf(path: Path, source: str) -> list[RawLog]:
    """The recording of an MDF file: each channel group keeps its time stamps; texts of a conversion are states.

    Raises FormatError when asammdf is not installed, and for a file that it cannot read.
    """
    try:
        from asammdf import MDF
        from asammdf.blocks import mdf_v4
    except ImportError:
        raise FormatError(NOT_INSTALLED.what, concerns=source, remedy=NOT_INSTALLED.remedy) from None
    # One that fails while it is made lacks this when it is unmade, and would say so on the terminal.
    mdf_v4.MDF4._file = None
    check_memory(path.stat().st_size * 6.0, source)
    with path.open("rb") as head:
        begins = head.read(68)
    if begins[8:9] >= b"4" and begins[64:68] != b"##HD":
        raise _unread(source, "header")
    try:
        with MDF(path) as file:
            return [_recording(file, source)]
    except FormatError:
        raise
    except Exception as error:  # noqa: BLE001 - the library lets out whatever its parts raise
        raise _unread(source, type(error).__name__) from None


def _unread(source: str, details: str) -> FormatError:
    return FormatError(
        "cannot be read as MDF 4",
        concerns=source,
        remedy="Write it again, or export the log as CSV.",
        details=details,
    )


def _recording(file: Any, source: str) -> RawLog:
    columns: list[RawColumn] = []
    clocks: list[np.ndarray] = []
    notes: list[str] = []
    left_out = 0
    if sum(len(g.channels) for g in file.groups) > MOST_COLUMNS:
        raise FormatError(f"has more than {MOST_COLUMNS:,} channels", concerns=source, remedy="Log fewer.")
    for n, group in enumerate(file.groups):
        master = file.masters_db.get(n)
        for k, channel in enumerate(group.channels):
            if k == master:
                continue
            signal = file.get(group=n, index=k, raw=False)
            column = _column(signal, channel.name, n)
            if column is None:
                left_out += 1
                continue
            assert column.time_s is not None
            same = next(
                (c for c in clocks if c.shape == column.time_s.shape and np.array_equal(c, column.time_s)), None
            )
            if same is None:
                clocks.append(column.time_s)
            else:
                column.time_s = same
            columns.append(column)
    if not columns:
        raise FormatError("holds no channels", concerns=source, remedy="Choose another file.")
    if left_out:
        notes.append(f"{left_out} channels hold no single numbers and were left out")
    longest = max(clocks, key=len)
    for column in columns:
        if column.time_s is longest:
            column.time_s = None
    began = file.header.start_time.isoformat(timespec="seconds") if file.header.start_time is not None else ""
    return RawLog(columns, RawColumn("time", "s", longest, "master"), reader="mdf", started=began, notes=notes)


def _column(signal: Any, name: str, group: int) -> RawColumn | None:
    samples = np.asarray(signal.samples)
    times = np.asarray(signal.timestamps, dtype=np.float64)
    if samples.ndim != 1 or samples.dtype.fields or not samples.size or times.size != samples.size:
        return None
    label, unit = in_plain(name, 200), in_plain(str(signal.unit or ""), 60)
    place = f"group {group + 1}"
    if samples.dtype.kind in "SUO":
        words = [w.decode("utf-8", "replace") if isinstance(w, bytes) else str(w) for w in samples]
        known = list(dict.fromkeys(words))
        places = {w: float(i) for i, w in enumerate(known)}
        return RawColumn(
            label, unit, np.array([places[w] for w in words]), place, times, tuple(in_plain(w, 100) for w in known)
        )
    if samples.dtype.kind not in "iufb":
        return None
    values = samples.astype(np.float64)
    bits = signal.invalidation_bits
    if bits is not None:
        values = np.where(np.asarray(bits, dtype=bool), np.nan, values)
    return RawColumn(label, unit, np.where(np.isfinite(values), values, np.nan), place, times)
