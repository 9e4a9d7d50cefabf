"""Text of columns in any dialect: straight through polars where all is plain, line by line where it is not."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from yarvic.core.errors import FormatError, times
from yarvic.core.formats.logs.decoding import encoding_of
from yarvic.core.formats.logs.fields import thousands_by_numbers
from yarvic.core.formats.logs.structure import SPACES, Structure, fields_of, find_structure, is_value
from yarvic.core.reading import check_memory

if TYPE_CHECKING:
    import polars

HEAD_BYTES = 262_144
# What reading takes at its peak for each number: its eight bytes, and the reader's own (see benchmarks).
BYTES_PER_NUMBER = 8 * 2.5
# What a byte of text takes where it is gone through line by line.
BYTES_PER_BYTE = 8.0
MOST_SAID = 5
_POINTS = re.compile(r"^[+-]?\d{1,3}(\.\d{3})+$")


@dataclass
class Section:
    """Rows under one header: its columns as polars has them, by place, and the line of the file for each row."""

    names: Sequence[str]
    units: Sequence[str]
    columns: list[polars.Series]
    decimal_comma: bool
    lines: Sequence[int] | range
    notes: list[str] = field(default_factory=list)
    facts: dict[str, str] = field(default_factory=dict)


def read_sections(source: bytes, name: str) -> list[Section]:
    """The sections of a text: usually one. Raises FormatError naming what cannot be read."""
    head, size = source[:HEAD_BYTES], len(source)
    encoding = encoding_of(head, name, whole=len(head) == size)
    text = head.decode(encoding, errors="replace")
    if len(head) < size:
        last = max(text.rfind("\n"), text.rfind("\r"))
        if last < 0:
            raise FormatError(
                "has a first line without end", concerns=name, remedy="Export the log with one header line."
            )
        text = text[: last + 1]
    lines = text.splitlines()
    found = find_structure(lines, name)
    sample = [line for line in lines[found.data :] if line.strip()]
    numbers = sum(len(fields_of(line, found.separator)) for line in sample)
    check_memory(size * numbers / max(sum(map(len, sample)), 1) * BYTES_PER_NUMBER, name)
    if encoding in ("utf-8", "utf-8-sig") and found.separator != SPACES and not found.mixed:
        fast = _at_once(source, found, text)
        if fast is not None:
            return [fast]
    check_memory(size * BYTES_PER_BYTE, name)
    return _line_by_line(_all(source, encoding), found, name)


def _all(data: bytes, encoding: str) -> str:
    try:
        return data.decode(encoding)
    except UnicodeDecodeError:
        # A few letters of another encoding far down the file change no number.
        return data.decode(encoding, errors="replace")


def _at_once(source: bytes, found: Structure, head: str) -> Section | None:
    """The whole file through polars: as numbers, or as texts where they turn out otherwise further down.

    None where something else than rows of one width stands there: then it is read line by line.
    """
    import polars as pl

    if any(len(fields_of(line, found.separator)) > found.width for line in head.splitlines()[found.data :][:50]):
        return None  # a separator behind each line
    if found.decimal_comma and any(map(_POINTS.match, _sample_fields(head, found))):
        return None  # points between thousands, which the fast reader takes for decimals
    how: dict[str, Any] = {
        "has_header": False,
        "skip_lines": found.data,
        "new_columns": [f"{n}" for n in range(found.width)],
        "separator": found.separator,
        "quote_char": '"' if found.quoted else None,
        "comment_prefix": found.comment or None,
        "raise_if_empty": False,
    }
    numbers = {"decimal_comma": found.decimal_comma and found.separator != ",", "infer_schema_length": 1000}
    frame = None
    for kind in (numbers, {"infer_schema": False}):
        try:
            frame = pl.read_csv(source, **how, **kind)
            break
        except (pl.exceptions.PolarsError, pl.exceptions.PanicException, ValueError):
            continue
    if frame is None or frame.width != found.width or frame.height == 0 or _short_rows(source, frame, found):
        return None
    if any(frame[c].dtype.is_float() and thousands_by_numbers(frame[c].to_numpy()) for c in frame.columns):
        return None
    frame, lines, notes = _rows_only(frame, found)
    if _cut_off(source, found):
        frame, lines = frame.head(frame.height - 1), lines[:-1]
        notes.append("its last line ends in the middle and was left out")
    columns = frame.get_columns()
    return Section(found.names, found.units, columns, found.decimal_comma, lines, notes, found.facts)


def _sample_fields(head: str, found: Structure) -> list[str]:
    return [f.strip() for line in head.splitlines()[found.data :][:200] for f in fields_of(line, found.separator)]


def _rows_only(frame: polars.DataFrame, found: Structure) -> tuple[polars.DataFrame, Any, list[str]]:
    """The rows without blank lines, and without the header and its units where they are repeated."""
    import polars as pl

    lines: Any = range(found.data + 1, found.data + 1 + frame.height)
    drop = pl.Series([False] * 0, dtype=pl.Boolean)
    notes = []
    if all(frame[c].null_count() for c in frame.columns):
        drop = frame.select(pl.all_horizontal(pl.all().is_null())).to_series()
    named = [n for n, c in enumerate(frame.columns) if frame[c].dtype == pl.String and found.names[n]]
    if named and len(named) == sum(map(bool, found.names)):
        again = pl.Series([True]).extend_constant(True, frame.height - 1)
        for n in named[:3]:
            again &= (frame[:, n].str.strip_chars() == found.names[n]).fill_null(False)
        if again.any():
            notes.append(f"its header is repeated {times(int(again.sum()))} further down")
            units = pl.Series([False]).extend_constant(False, frame.height - 1)
            if found.units:
                units = (frame[:, named[0]].str.strip_chars() == found.units[named[0]]).fill_null(False)
            drop = (again | units | drop) if drop.len() else (again | units)
    if not drop.len() or not drop.any():
        return frame, lines, notes
    return frame.filter(~drop), [line for line, gone in zip(lines, drop, strict=True) if not gone], notes


def _short_rows(source: bytes, frame: polars.DataFrame, found: Structure) -> bool:
    """Whether some line has fewer fields than the header: polars fills it up, and a number in it may be cut off."""
    import polars as pl

    last = frame[:, frame.width - 1]
    if frame.width < 2 or not last.null_count() or not (last.is_null() & frame[:, frame.width - 2].is_null()).any():
        return False
    if found.quoted:
        return True
    rows = pl.read_csv(
        source, has_header=False, separator="\x1f", quote_char=None, infer_schema=False, skip_lines=found.data,
        comment_prefix=found.comment or None, truncate_ragged_lines=True,
    ).to_series()  # fmt: skip
    short = rows.str.count_matches(found.separator, literal=True) < found.width - 1
    blank = rows.is_null() | (rows.str.strip_chars() == "")
    cut = short & ~blank
    return bool(cut.head(cut.len() - 1).any())


def _cut_off(source: bytes, found: Structure) -> bool:
    """Whether the last line has no end and fewer fields than the others: whoever wrote it was interrupted."""
    tail = source[-65536:]
    if tail.endswith((b"\n", b"\r")) or not tail.strip():
        return False
    last = tail.decode("utf-8", errors="replace").splitlines()[-1]
    return 0 < len(fields_of(last, found.separator)) < found.width


@dataclass
class _Part:
    """A header with the rows below it, as they stand."""

    names: Sequence[str]
    units: Sequence[str]
    rows: list[list[str]] = field(default_factory=list)
    lines: list[int] = field(default_factory=list)


def _line_by_line(text: str, found: Structure, name: str) -> list[Section]:
    """Every line for itself: headers again, blank lines, comments and sections are told apart, odd lines are said."""
    lines = text.splitlines()
    parts = [_Part(found.names, found.units)]
    odd: list[int] = []
    notes: list[str] = []
    repeated = 0
    i, width = found.data, found.width
    while i < len(lines):
        line = lines[i]
        i += 1
        if not line.strip() or (found.comment and line.lstrip().startswith(found.comment)):
            continue
        row = fields_of(line, found.separator)
        part = parts[-1]
        if _fits(row, width) and _is_data(row, part):
            part.rows.append(row[:width] if len(row) > width else row)
            part.lines.append(i)
            continue
        kind = _odd(row, part, lines, i, found)
        if kind == "header":
            repeated += 1
        elif kind == "section":
            made = _section(lines, i - 1, found, name)
            if made is not None:
                parts.append(made[0])
                i, width = made[1], len(made[0].names)
            else:
                odd.append(i)
        elif i == len(lines) and len(row) < width and not text.endswith(("\n", "\r")):
            notes.append("its last line ends in the middle and was left out")
        else:
            odd.append(i)
    if repeated:
        notes.append(f"its header is repeated {times(repeated)} further down")
    _say_odd(odd, sum(len(p.rows) for p in parts), notes, name)
    full = [p for p in parts if p.rows]
    if not full:
        raise FormatError("holds no rows", concerns=name, remedy="Choose another file.")
    return [_as_section(p, found, notes if n == 0 else []) for n, p in enumerate(full)]


def _fits(row: Sequence[str], width: int) -> bool:
    return len(row) == width or (len(row) == width + 1 and not row[-1].strip())


def _is_data(row: Sequence[str], part: _Part) -> bool:
    """Whether a line of the right width holds numbers, and is not the header or the units again."""
    first = next((f for f in row if f.strip()), "")
    if is_value(first):
        return True
    bare = [f.strip() for f in row]
    if bare == list(part.names)[: len(bare)] or (part.units and bare == list(part.units)[: len(bare)]):
        return False
    return any(map(is_value, row))


def _odd(row: Sequence[str], part: _Part, lines: Sequence[str], i: int, found: Structure) -> str:
    """What a line is that holds no numbers of this width: the header again, that of another section, or neither."""
    bare = [f.strip() for f in row if f.strip()]
    if bare == [n for n in part.names if n] or (part.units and bare == [u for u in part.units if u]):
        return "header"
    if len(bare) >= 2 and not any(map(is_value, bare)) and part.rows:
        after = [fields_of(line, found.separator) for line in lines[i : i + 6] if line.strip()]
        if any(len(r) >= 2 and is_value(r[0]) and abs(len(r) - len(row)) <= 1 for r in after):
            return "section"
    return "odd"


def _section(lines: Sequence[str], at: int, found: Structure, name: str) -> tuple[_Part, int] | None:
    """Another header with its units, and the line behind them."""
    try:
        other = find_structure(lines[at : at + 200], name)
    except FormatError:
        return None
    if other.separator != found.separator or other.header < 0:
        return None
    return _Part(other.names, other.units), at + other.data


def _say_odd(odd: Sequence[int], rows: int, notes: list[str], name: str) -> None:
    if not odd:
        return
    if len(odd) > max(rows, 1):
        raise FormatError(
            f"most of its lines have another number of fields than its header, the first is line {odd[0]}",
            concerns=name,
            remedy="If decimals have commas and commas stand between columns too, export it with semicolons.",
        )
    where = ", ".join(map(str, odd[:MOST_SAID])) + (" and more" if len(odd) > MOST_SAID else "")
    lines = "1 line" if len(odd) == 1 else f"{len(odd):,} lines"
    notes.append(f"{lines} could not be understood and left out: line {where}")


def _as_section(part: _Part, found: Structure, notes: list[str]) -> Section:
    import polars as pl

    width = len(part.names)
    columns = [
        pl.Series(str(n), [row[n] if n < len(row) else None for row in part.rows], dtype=pl.String)
        for n in range(width)
    ]
    commas = found.decimal_comma and not found.mixed
    return Section(part.names, part.units, columns, commas, part.lines, list(notes), found.facts)
