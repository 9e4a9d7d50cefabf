"""How a text file of columns is laid out: its separator and decimal sign, its header, units and first row of numbers."""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from yarvic.core.errors import FormatError, UnitError
from yarvic.core.evidence.dictionary import dictionary, read_header
from yarvic.core.evidence.raw import ABOVE
from yarvic.core.formats.plain_cell import from_cell
from yarvic.core.units import is_afr, read_unit

# More columns than this no logger writes.
MOST_TITLES = 5  # lines above the header that name nothing, and are kept
MOST_COLUMNS = 5_000
MOST_HEAD_LINES = 400
SPACES = " "  # columns between runs of blanks
_SEPARATORS = (";", "\t", ",", "|", SPACES)
_NUMBER = re.compile(r"[+-]?(\d[\d'\u00a0\u202f]*([.,]\d*)*|[.,]\d+)([eE][+-]?\d+)?\s*%?")
_DATE = r"(\d{4}[-/.]\d{1,2}[-/.]\d{1,2}|\d{1,2}[-/.]\d{1,2}[-/.]\d{2,4})"
_CLOCK = r"\d{1,3}:\d{1,2}(:\d{1,2})?([.,:]\d+)?(\s*[AaPp]\.?[Mm]\.?)?"
_TIME = re.compile(rf"{_DATE}|({_DATE}[ T,]+)?{_CLOCK}(Z|[+-]\d\d:?\d\d)?")
_COMMENT = re.compile(r"^\s*(#+|//+|%+|!+|\*+)\s*")
_DECIMAL_COMMA, _DECIMAL_POINT = re.compile(r"[+-]?\d*,\d+"), re.compile(r"[+-]?\d*\.\d+([eE][+-]?\d+)?")
# How many rows in a row must look like numbers before the first of them is taken for the first row.
ROWS_ALIKE = 2
# Rows of another width are another section, and no fault, where they are at least this share of the commonest.
SECTION_SHARE = 0.3
# So many rows are looked at field by field.
MOST_LOOKED_AT = 25


@dataclass(frozen=True)
class Structure:
    """How to read a text. Rows are counted from 0; `header` is -1 where there is none. `width` is fields of a row.

    `quoted` says that fields may stand between quotes, `decimal_comma` that decimals have commas; `mixed` that both
    signs stand there. `comment` begins lines that are no rows.
    """

    separator: str
    names: tuple[str, ...]
    units: tuple[str, ...]
    header: int
    data: int
    width: int
    decimal_comma: bool
    mixed: bool
    quoted: bool
    comment: str
    facts: dict[str, str]


def is_value(text: str) -> bool:
    """Whether a field is a number, a time or a date."""
    words = text.strip()
    return bool(_NUMBER.fullmatch(words) or _TIME.fullmatch(words))


def fields_of(line: str, separator: str) -> list[str]:
    """The fields of one line, quotes taken off."""
    if separator == SPACES:
        return _spaced(line)
    if '"' not in line:
        return line.split(separator)
    try:
        return next(csv.reader([line], delimiter=separator), [])
    except csv.Error:
        return line.split(separator)


def _spaced(line: str) -> list[str]:
    """The fields of a line that lie between runs of blanks; quotes hold a name together."""
    return [m.strip('"') for m in re.findall(r'"[^"]*"|\S+(?:\s?\[[^\]]{0,80}\]|\s?\([^)]{0,80}\))?', line)]


def find_structure(lines: Sequence[str], source: str) -> Structure:
    """The layout of a text by its first lines. Raises FormatError when no rows of numbers are found, or too wide ones."""
    lines = lines[:MOST_HEAD_LINES]
    if not any(line.strip() for line in lines):
        raise FormatError("holds no rows", concerns=source, remedy="Choose another file.")
    best: tuple[float, Structure] | None = None
    for separator in _SEPARATORS:
        found = _with(lines, separator)
        if found is not None and (best is None or found[0] > best[0]):
            best = found
    if best is None:
        raise FormatError(
            "holds no rows of numbers under a header",
            concerns=source,
            remedy="Export the log as CSV, with a line of names and the numbers below it.",
        )
    if best[1].width > MOST_COLUMNS:
        raise FormatError(
            f"has {best[1].width:,} columns, at most {MOST_COLUMNS:,} are read", concerns=source, remedy="Log fewer."
        )
    return best[1]


def _with(lines: Sequence[str], separator: str) -> tuple[float, Structure] | None:
    """The layout with one separator, and how well it fits; None where there are no two columns."""
    comment = _comment_sign(lines, separator)
    rows = [
        [] if not line.strip() or (comment and line.lstrip().startswith(comment)) else fields_of(line, separator)
        for line in lines
    ]
    rows = list(_without_last(rows))
    counts = Counter(len(row) for row in rows[len(rows) // 3 :] if len(row) > 1)
    counts = counts or Counter(len(row) for row in rows if len(row) > 1)
    if not counts:
        return None
    # A file of several sections has rows of several widths: it begins with the first of them.
    alike = [w for w, n in counts.items() if n >= SECTION_SHARE * max(counts.values())]
    begins = [(first, -w) for w in alike if (first := _first_data(rows, w)) is not None]
    if not begins:
        return None
    data, width = min(begins)[0], -min(begins)[1]
    body = [row for row in rows[data:] if row]
    full = [row for row in body if _is_row(row, width)]
    looked_at = full[:: max(1, len(full) // MOST_LOOKED_AT)]
    filled = [f for row in looked_at for f in row if f.strip()]
    numeric = sum(map(is_value, filled)) / max(len(filled), 1)
    score = (len(full) / max(len(body), 1)) * (0.2 + numeric) * (0.9 if separator == SPACES else 1.0)
    score += 1e-3 * min(width, 100)
    header, units, names = _header(lines, rows, data, width, separator)
    commas = sum(bool(_DECIMAL_COMMA.fullmatch(f.strip())) for f in filled)
    points = sum(bool(_DECIMAL_POINT.fullmatch(f.strip())) for f in filled)
    score += 0.1 * _name_score(names) / max(len(names), 1)
    return score, Structure(
        separator,
        tuple(from_cell(n.strip()) for n in names),
        tuple(u.strip() for u in units),
        header,
        data,
        width,
        decimal_comma=commas > 0 and points == 0 and (separator != "," or any('"' in line for line in lines[data:])),
        mixed=commas > 0 and points > 0 and separator != ",",
        quoted=any('"' in line for line in lines),
        comment=comment,
        facts=_facts(rows[: max(header, 0)], lines[: max(header, 0)]),
    )


def _comment_sign(lines: Sequence[str], separator: str) -> str:
    """The sign that begins lines of comment; empty where none does."""
    for sign in ("#", "//", "%", "!"):
        marked = [line for line in lines if line.lstrip().startswith(sign)]
        if marked and not any(is_value(fields_of(line, separator)[0]) for line in marked if line.strip()):
            return sign
    return ""


def _without_last(rows: Sequence[list[str]]) -> Sequence[list[str]]:
    """The rows without a field that is empty in all of them, behind a separator at the end of each line."""
    usual = Counter(len(row) for row in rows if len(row) > 2).most_common(1)
    if not usual or any(row[-1].strip() for row in rows if len(row) == usual[0][0]):
        return rows
    return [row[:-1] if len(row) == usual[0][0] else row for row in rows]


def _is_row(row: Sequence[str], width: int) -> bool:
    return len(row) == width or (len(row) == width + 1 and not row[-1].strip())


def _looks_like_data(row: Sequence[str]) -> bool:
    filled = [f for f in row if f.strip()]
    if not filled:
        return False
    share = sum(map(is_value, filled)) / len(filled)
    return share >= 0.6 or (share >= 0.15 and is_value(filled[0]))


def _first_data(rows: Sequence[list[str]], width: int) -> int | None:
    """The first of rows in a row that look like numbers; one alone at the end counts too."""
    there = [i for i, row in enumerate(rows) if row]
    for n, i in enumerate(there):
        if _is_row(rows[i], width) and _looks_like_data(rows[i]):
            after = (rows[k] for k in there[n + 1 : n + ROWS_ALIKE])
            if all(_looks_like_data(row) or not _is_row(row, width) for row in after):
                return i
    return None


def _header(
    lines: Sequence[str], rows: Sequence[list[str]], data: int, width: int, separator: str
) -> tuple[int, Sequence[str], Sequence[str]]:
    """Place of the header, its units (empty where none stand below it) and its names; -1 where there is none."""
    block: list[tuple[int, list[str]]] = []
    for i in range(data - 1, -1, -1):
        row = rows[i]
        if not row and lines[i].strip() and not block:
            # A line that is marked as a comment may be the header all the same.
            row = fields_of(_COMMENT.sub("", lines[i]), separator)
            if not _is_row(row, width):
                continue
        if not row:
            if block:
                break
            continue
        if not _is_row(row, width) and abs(len(row) - width) > (1 if not block else 0):
            if separator != SPACES or block:
                break
            continue
        block.append((i, row))
    if not block:
        return -1, (), [f"column {n + 1}" for n in range(width)]
    block.reverse()
    scores = [_name_score(row) for _, row in block]
    units = [_unit_share(row) for _, row in block]
    best = max(range(len(block)), key=lambda k: (scores[k] if units[k] < 0.9 or len(block) == 1 else -1, -k))
    at, names = block[best]
    below = next(
        (k for k in range(len(block)) if k != best and units[k] >= 0.5 and scores[k] <= scores[best] + width), None
    )
    if below is not None and units[below] <= _unit_share(names) and scores[best] == 0:
        below = None
    padded = [*names, *[""] * max(0, width - len(names))][:width]
    return at, [] if below is None else block[below][1], padded


def _name_score(names: Sequence[str]) -> int:
    words = dictionary()
    return sum(read_header(n, "", words).named is not None for n in names[:MOST_COLUMNS] if n.strip())


def _unit_share(row: Sequence[str]) -> float:
    """The share of fields of a row that are words of units."""
    filled = [f.strip() for f in row if f.strip()]
    return sum(map(_is_unit, filled)) / len(filled) if filled else 0.0


def _is_unit(words: str) -> bool:
    words = words.strip("[](){}<> ")
    if is_afr(words) or re.fullmatch(r"[hHmMsS:.,]{2,}|-+|", words):
        return True
    try:
        read_unit(words)
    except UnitError:
        return False
    return True


def _facts(rows: Sequence[Sequence[str]], lines: Sequence[str]) -> dict[str, str]:
    """What lines above the header say in the form of a name and what it is."""
    found: dict[str, str] = {}
    titles: list[str] = []
    for row, line in zip(rows, lines, strict=True):
        filled = [f.strip() for f in row if f.strip()]
        if len(filled) == 3 and is_value(filled[1]) and (filled[2] == "%" or _is_unit(filled[2])):
            filled = [filled[0], f"{filled[1]} {filled[2]}"]
        if len(filled) != 2:
            name, sign, rest = _COMMENT.sub("", line).partition(":" if ":" in line else "=")
            filled = [name.strip(), rest.strip().strip(",;")] if sign else []
        if len(filled) == 2 and filled[0] and filled[1] and len(found) < 100:
            found[filled[0][:100]] = filled[1][:400]
        elif len([f for f in row if f.strip()]) == 1 and len(titles) < MOST_TITLES:
            titles.append(_COMMENT.sub("", line).strip().strip(",;")[:200])
    if titles:
        found[ABOVE] = "; ".join(titles)
    return found
