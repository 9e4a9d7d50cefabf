"""Cells of a table as text of a spreadsheet's clipboard: tabs between columns, with the axis values or without."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from yarvic.core.calibration.conversion import Words
from yarvic.core.errors import CalibrationError, in_plain
from yarvic.core.physics import FloatArray

MOST_LETTERS, MOST_CELLS = 4_000_000, 250_000
_NUMBER = re.compile(r"[-+−]?(?:\d[\d., '\u00a0\u202f]*|[.,]\d+)(?:[eE][-+]?\d+)?%?")
_GROUPED = re.compile(r"[-+]?\d{1,3}(?:,\d{3})+")


@dataclass(frozen=True)
class Pasted:
    """Cells out of a text: values of shape (rows, columns), NaN where a cell was empty; axis values where it had them."""

    values: FloatArray
    x: FloatArray | None = None
    y: FloatArray | None = None


def read_cells(text: str, words: Words | None = None, source: str = "clipboard") -> Pasted:
    """The cells of a text. A first cell that is no number, empty or not, says that the first row and column are axes.

    Decimal commas are understood where the whole text leaves no doubt. Raises CalibrationError naming the cell.
    """
    rows = _rows(text, source)
    comma = _commas_are_points([c for row in rows for c in row if c], source)
    corner = rows[0][0]
    with_axes = len(rows) > 1 and len(rows[0]) > 1 and not _NUMBER.fullmatch(corner)
    with_axes = with_axes and (words is None or words.number(corner) is None)
    body = [row[1:] for row in rows[1:]] if with_axes else rows
    first = 2 if with_axes else 1
    values = [
        [_value(cell, comma, words, source, r, c) for c, cell in enumerate(row, first)]
        for r, row in enumerate(body, first)
    ]
    if not with_axes:
        return Pasted(np.array(values, dtype=np.float64))
    x = [_value(cell, comma, None, source, 1, c) for c, cell in enumerate(rows[0][1:], 2)]
    y = [_value(row[0], comma, None, source, r, 1) for r, row in enumerate(rows[1:], 2)]
    # The one row of a curve has no axis value before it.
    side = np.array(y, dtype=np.float64)
    return Pasted(np.array(values), np.array(x), side if np.isfinite(side).all() else None)


def _rows(text: str, source: str) -> list[list[str]]:
    if len(text) > MOST_LETTERS:
        raise CalibrationError("is too long for cells", concerns=source, remedy="Copy the cells of one table.")
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    while lines and not lines[-1].strip():
        lines.pop()
    if not lines:
        raise CalibrationError("holds no cells", concerns=source, remedy="Copy cells in the spreadsheet first.")
    between = "\t" if any("\t" in line for line in lines) else ";" if any(";" in line for line in lines) else "\t"
    rows = [[cell.strip().strip('"').strip() for cell in line.split(between)] for line in lines]
    widths = {len(row) for row in rows}
    if len(widths) > 1:
        short = next(n for n, row in enumerate(rows, 1) if len(row) != len(rows[0]))
        raise CalibrationError(
            f"row {short} has {len(rows[short - 1])} cells, the first {len(rows[0])}",
            concerns=source,
            remedy="Copy a rectangle of cells; merged cells have to be split first.",
        )
    if len(rows) * len(rows[0]) > MOST_CELLS:
        raise CalibrationError("holds too many cells", concerns=source, remedy="Copy the cells of one table.")
    return rows


def _commas_are_points(cells: list[str], source: str) -> bool:
    """Whether a comma stands before the fraction in this text. Raises CalibrationError where that is in doubt."""
    numbers = [c for c in cells if _NUMBER.fullmatch(c)]
    with_comma = [c for c in numbers if "," in c]
    if not with_comma:
        return False
    points = [c for c in numbers if "." in c]
    if points:
        # 1.250,5 has its comma last, 1,250.5 its point.
        both = [c for c in points if "," in c]
        return bool(both) and all(c.rindex(",") > c.rindex(".") for c in both)
    if all(_GROUPED.fullmatch(c.rstrip("%")) and not c.lstrip("+-").startswith("0") for c in with_comma):
        raise CalibrationError(
            f"{in_plain(with_comma[0], 20)} may be a thousand or a fraction",
            concerns=source,
            remedy="Give the cells one more digit behind the comma, or no separator of thousands, and copy them again.",
        )
    return True


def _value(cell: str, comma: bool, words: Words | None, source: str, row: int, column: int) -> float:
    if not cell:
        return float("nan")
    known = words.number(cell) if words is not None else None
    if known is not None:
        return known
    plain = re.sub(r"[ '\u00a0\u202f]", "", cell).replace("−", "-")
    plain = plain.replace(".", "").replace(",", ".") if comma else plain.replace(",", "")
    try:
        value = float(plain)
    except ValueError:
        value = float("nan")
    if not np.isfinite(value) or not _NUMBER.fullmatch(cell):
        raise CalibrationError(
            f"the cell in row {row}, column {column} is {in_plain(cell, 30)!r}, no number",
            concerns=source,
            remedy="Copy numbers; formulas have to be copied as values.",
        )
    return value


def written_cells(
    values: FloatArray, decimals: int, x: FloatArray | None = None, y: FloatArray | None = None, corner: str = ""
) -> str:
    """Cells as text with tabs; with axis values where they are given."""
    body = [["" if v != v else f"{v:.{decimals}f}" for v in row] for row in values]
    if x is not None:
        side = [f"{v:.10g}" for v in y] if y is not None else [""] * len(body)
        body = [[corner or "\\", *(f"{v:.10g}" for v in x)], *([s, *row] for s, row in zip(side, body, strict=True))]
    return "\n".join("\t".join(row) for row in body) + "\n"
