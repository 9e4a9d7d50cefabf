"""Tables of a revision as a workbook (Office Open XML, ISO/IEC 29500), a sheet each, and back."""

from __future__ import annotations

import io
import math
import re
from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np

from yarvic.core.caged import caged_reader
from yarvic.core.calibration.compare import Difference
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.table import Scalar
from yarvic.core.errors import FormatError, in_plain
from yarvic.core.formats.plain_cell import from_cell, plain_cell
from yarvic.core.formats.tables import MOST_CELLS, Cells, things_of
from yarvic.core.formats.workbook_shape import check_shape

MOST_BYTES = 100_000_000
MOST_SHEETS, MOST_NAME = 20_000, 28
VALUES = "Values"
CONTENTS = "Contents"
DIFFERENCES = "Differences"
_NO_NAME = re.compile(r"[\[\]:*?/\\']")
HEAD = 3  # lines before the cells of a table


def tables_to_xlsx(image: Image, revision: str, slots: Sequence[str], keys: Iterable[str] | None = None) -> bytes:
    """A sheet for each table with its axes, one for all single values, and the list of them in front."""
    import openpyxl

    book = openpyxl.Workbook(write_only=True)
    contents = book.create_sheet(CONTENTS)
    contents.append([f"{image.layout.family}, revision {revision}"])
    contents.append(["Sheet", "Slot", "Key", "Title", "Unit"])
    listed = list(keys) if keys is not None else None
    names: set[str] = {CONTENTS.casefold(), VALUES.casefold()}
    values: list[list[Any]] = []
    for slot in slots:
        for thing in things_of(image, slot, listed):
            if isinstance(thing, Scalar):
                values.append([slot, thing.key, thing.title, thing.unit, _cell(thing.value)])
                continue
            name = _sheet_name(thing.key, names)
            contents.append([_plain(name), _plain(slot), _plain(thing.key), _plain(thing.title), _plain(thing.unit)])
            sheet = book.create_sheet(name)
            sheet.append(["slot", _plain(slot)])
            sheet.append(["key", _plain(thing.key), _plain(thing.title), _plain(thing.unit)])
            side = "" if thing.is_curve else f"{thing.y.title} [{thing.y.unit}]"
            corner = _plain(f"{side} \\ {thing.x.title} [{thing.x.unit}]")
            sheet.append([corner, *thing.x.values.tolist()])
            for at, row in zip(thing.y.values.tolist(), thing.values.tolist(), strict=True):
                sheet.append([None if thing.is_curve else at, *(_cell(v) for v in row)])
    sheet = book.create_sheet(VALUES)
    sheet.append(["Slot", "Key", "Title", "Unit", "Value"])
    for line in values:
        sheet.append([_plain(v) if isinstance(v, str) else v for v in line])
    return _saved(book)


def differences_to_xlsx(title: str, found: Iterable[tuple[str, Difference]]) -> bytes:
    """What differs between two sets of maps, a line each."""
    import openpyxl

    book = openpyxl.Workbook(write_only=True)
    sheet = book.create_sheet(DIFFERENCES)
    sheet.append([_plain(title)])
    sheet.append(
        [
            "Slot",
            "Key",
            "Title",
            "Unit",
            "Cells",
            "Least",
            "Greatest",
            "Break points moved",
            "Text before",
            "Text now",
        ]
    )
    for slot, d in found:
        ends = (_cell(d.least), _cell(d.greatest))
        sheet.append(
            [
                _plain(slot),
                _plain(d.key),
                _plain(d.title),
                _plain(d.unit),
                d.cells,
                *ends,
                "yes" if d.axes else "",
                *map(_plain, d.texts or ()),
            ]
        )
    return _saved(book)


def _saved(book: Any) -> bytes:
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _cell(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _plain(text: str) -> str:
    """Text that no program takes for a formula, and that the format can hold."""
    return plain_cell("".join(c for c in text if c >= " ")[:30_000])


def _sheet_name(key: str, taken: set[str]) -> str:
    """A name of a sheet, that is short, plain and not taken."""
    base = _NO_NAME.sub("_", "".join(c for c in key if c >= " "))[:MOST_NAME].strip() or "table"
    name, n = base, 1
    while name.casefold() in taken:
        n += 1
        name = f"{base[: MOST_NAME - len(str(n))]}~{n}"
    taken.add(name.casefold())
    return name


@caged_reader("tables-xlsx", "Tables as a workbook", ".xlsx", MOST_BYTES)
def read_tables_xlsx(data: bytes, source: str) -> list[Cells]:
    """Tables out of a workbook as it is written here. Raises FormatError naming sheet and cell.

    Formulas and merged cells are refused: what they stand for is not in the file, or not in one cell.
    """
    import openpyxl

    check_shape(data, source)
    try:
        book = openpyxl.load_workbook(io.BytesIO(data), read_only=False, data_only=False, keep_links=False)
    except Exception as error:  # noqa: BLE001 - the library lets out whatever its parts raise
        raise FormatError(
            f"cannot be read as a workbook ({type(error).__name__})",
            concerns=source,
            remedy="Choose another file.",
        ) from None
    found: list[Cells] = []
    for sheet in book.worksheets[:MOST_SHEETS]:
        where = f"{source}, sheet {in_plain(sheet.title, 60)}"
        merged = [str(r) for r in sheet.merged_cells.ranges]
        if merged:
            raise FormatError(f"has merged cells ({merged[0]})", concerns=where, remedy="Split them first.")
        if sheet.max_row * sheet.max_column > MOST_CELLS:
            raise FormatError("has too many cells", concerns=where, remedy="Import fewer tables at once.")
        rows = [[cell for cell in row] for row in sheet.iter_rows()]
        if sheet.title == VALUES:
            found += _values(rows, where)
        elif len(rows) > HEAD and rows[0][0].value == "slot" and rows[1][0].value == "key":
            found.append(_table(rows, where))
    if not found:
        raise FormatError("holds no tables", concerns=source, remedy="Choose a workbook that was exported here.")
    return found


def _values(rows: list[list[Any]], where: str) -> list[Cells]:
    found = []
    for row in rows[1:]:
        if len(row) < 5 or row[1].value in (None, ""):
            continue
        value = _number(row[4], where)
        found.append(Cells(_text(row[0]), _text(row[1]), np.array([[value]]), where=f"{where}, {row[4].coordinate}"))
    return found


def _table(rows: list[list[Any]], where: str) -> Cells:
    slot, key = _text(rows[0][1]), _text(rows[1][1])
    filled = [i for i, row in enumerate(rows[HEAD:]) if any(cell.value is not None for cell in row)]
    body = rows[HEAD : HEAD + filled[-1] + 1] if filled else []
    width = max((i for row in (rows[2], *body) for i, cell in enumerate(row) if cell.value is not None), default=0)
    if not width or not body:
        raise FormatError("has no cells", concerns=where, remedy="Choose a workbook that was exported here.")
    x = np.array([_break_point(cell, where) for cell in rows[2][1 : width + 1]])
    values = np.array([[_number(cell, where) for cell in row[1 : width + 1]] for row in body])
    sides = [row[0] for row in body]
    has_sides = len(sides) > 1 or sides[0].value is not None
    y = np.array([_break_point(cell, where) for cell in sides]) if has_sides else None
    return Cells(slot, key, values, x, y, where)


def _break_point(cell: Any, where: str) -> float:
    """The number of a cell of an axis. Raises FormatError for an empty one: without it the rest would move by a place."""
    if cell.value is None:
        raise FormatError(
            f"cell {cell.coordinate} is empty, where a break point belongs",
            concerns=where,
            remedy="Write the break point back, or export the table again.",
        )
    return _number(cell, where)


def _text(cell: Any) -> str:
    value = cell.value
    return "" if value is None else from_cell(str(value))


def _number(cell: Any, where: str) -> float:
    """The number of a cell, NaN for an empty one. Raises FormatError naming the cell."""
    value = cell.value
    if value is None:
        return math.nan
    if cell.data_type == "f" or (isinstance(value, str) and value.startswith("=")):
        raise FormatError(
            f"cell {cell.coordinate} holds a formula", concerns=where, remedy="Copy it, and paste its values."
        )
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise FormatError(
            f"cell {cell.coordinate} is {in_plain(str(value), 30)!r}, no number",
            concerns=where,
            remedy="Write a number.",
        )
    return float(value)
