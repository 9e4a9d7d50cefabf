"""Tables and values of a revision as JSON and CSV, exact to the stored bit: out, and back into a draft.

Numbers are written in full, so that what is read again is what was stored. `docs/formats.md` has both forms.
"""

from __future__ import annotations

import csv
import io
import json
import math
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from pydantic import Field

from yarvic.core.calibration.image import Image
from yarvic.core.calibration.merging import edits_to_all
from yarvic.core.calibration.table import Scalar, Table
from yarvic.core.document import Document, parse_json, validated
from yarvic.core.errors import CalibrationError, FormatError, in_plain
from yarvic.core.formats.plain_cell import from_cell, plain_cell
from yarvic.core.physics import FloatArray
from yarvic.core.reading import read_text, reader

Thing = Table | Scalar  # texts are not among what these files carry
KIND = "yarvic tables 1"
MOST_BYTES = 200_000_000
MOST_POINTS, MOST_CELLS = 4096, 1_000_000
Words = Annotated[str, Field(max_length=1000)]
_FIRST = re.compile(r'^"?entry"?([,;\t])', re.MULTILINE)
_COMMA = re.compile(r'[;\t]"?\s*[-+]?\d+,\d+(?:[eE][-+]?\d+)?\s*"?(?=[;\t\r\n]|$)', re.MULTILINE)


@dataclass(frozen=True)
class Cells:
    """A table, a curve or a single value as it stands in a file: NaN where a cell was left empty; axes as far as given."""

    slot: str
    key: str
    values: FloatArray
    x: FloatArray | None = None
    y: FloatArray | None = None
    where: str = ""  # its place in the file, for what is wrong with it


class _Axis(Document):
    title: Words = ""
    unit: Words = ""
    values: Annotated[list[float], Field(min_length=1, max_length=MOST_POINTS)]


class _Entry(Document):
    slot: Words
    key: Words
    title: Words = ""
    unit: Words = ""
    x: _Axis | None = None
    y: _Axis | None = None
    values: Annotated[list[list[float | None]], Field(min_length=1, max_length=MOST_POINTS)]


class _Tables(Document):
    kind: str
    family: Words
    revision: Words = ""
    tables: Annotated[list[_Entry], Field(max_length=200_000)]


def things_of(image: Image, slot: str, keys: Iterable[str] | None = None) -> Iterator[Thing]:
    """The tables and values of a slot, those of some keys or all."""
    maps = image[slot]
    for key in [*maps.tables, *maps.scalars] if keys is None else keys:
        yield maps.scalars[key] if key in maps.scalars else maps.table(key)


# -- JSON


def tables_to_json(image: Image, revision: str, slots: Sequence[str], keys: Iterable[str] | None = None) -> str:
    """Tables and values as one JSON document."""
    listed = list(keys) if keys is not None else None
    entries = [_entry(slot, thing) for slot in slots for thing in things_of(image, slot, listed)]
    document = {"kind": KIND, "family": image.layout.family, "revision": revision, "tables": entries}
    return json.dumps(document, indent=1, allow_nan=False) + "\n"


def _entry(slot: str, thing: Thing) -> dict[str, Any]:
    found: dict[str, Any] = {"slot": slot, "key": thing.key, "title": thing.title, "unit": thing.unit}
    if isinstance(thing, Scalar):
        return {**found, "values": [[_known(thing.value)]]}
    found["x"] = {"title": thing.x.title, "unit": thing.x.unit, "values": thing.x.values.tolist()}
    if not thing.is_curve:
        found["y"] = {"title": thing.y.title, "unit": thing.y.unit, "values": thing.y.values.tolist()}
    return {**found, "values": [[_known(v) for v in row] for row in thing.values.tolist()]}


def _known(value: float) -> float | None:
    return value if math.isfinite(value) else None


@reader("tables-json", "Tables as JSON", ".json", MOST_BYTES)
def read_tables_json(path: Path) -> list[Cells]:
    """Tables out of a JSON document. Raises FormatError naming the place."""
    source = str(path)
    document = validated(_Tables, parse_json(read_text(path, MOST_BYTES), source=source), source=source)
    if document.kind != KIND:
        raise FormatError(
            f"holds no tables: its kind is not {KIND!r}", concerns=source, remedy="Choose another file."
        )
    return [_cells_of(n, e, source) for n, e in enumerate(document.tables)]


def _cells_of(n: int, e: _Entry, source: str) -> Cells:
    where = f"tables[{n}], {in_plain(e.key, 60)}"
    if any(len(row) != len(e.values[0]) for row in e.values):
        raise FormatError("has rows of unequal length", concerns=f"{source}, {where}", remedy="Correct the rows.")
    values = np.array([[math.nan if v is None else v for v in row] for row in e.values], dtype=np.float64)
    x, y = (np.array(a.values) if a is not None else None for a in (e.x, e.y))
    return Cells(e.slot, e.key, values, x, y, f"{source}, {where}")


# -- CSV


def tables_to_csv(image: Image, slots: Sequence[str], keys: Iterable[str] | None = None) -> str:
    """Tables and values as CSV: a line that names each, then its cells with their axis values; an empty line between."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    listed = list(keys) if keys is not None else None
    for slot in slots:
        for thing in things_of(image, slot, listed):
            writer.writerow(["entry", *map(plain_cell, (slot, thing.key, thing.title, thing.unit))])
            if isinstance(thing, Scalar):
                writer.writerow(["", _written(thing.value)])
            else:
                y = "" if thing.is_curve else f"{thing.y.title} [{thing.y.unit}]"
                corner = plain_cell(f"{y} \\ {thing.x.title} [{thing.x.unit}]")
                writer.writerow([corner, *map(repr, thing.x.values.tolist())])
                for at, row in zip(thing.y.values.tolist(), thing.values.tolist(), strict=True):
                    writer.writerow(["" if thing.is_curve else repr(at), *map(_written, row)])
            writer.writerow([])
    return out.getvalue()


def _written(value: float) -> str:
    return repr(value) if math.isfinite(value) else ""


@reader("tables-csv", "Tables as CSV", ".csv", MOST_BYTES)
def read_tables_csv(path: Path) -> list[Cells]:
    """Tables out of CSV as it is written here, or as a spreadsheet saves that again: rows padded to one width, semicolons
    or tabs, commas before the fraction. Raises FormatError naming the line.
    """
    source = str(path)
    found: list[Cells] = []
    block: list[tuple[int, list[str]]] = []
    text = read_text(path, MOST_BYTES).removeprefix("\ufeff")
    mark = _delimiter(text)
    decimal = _decimal(text, mark)
    for number, row in _rows(text, mark, source):
        if row and row[0] == "entry" and block:
            found.append(_of_block(block, source, decimal))
            block = []
        if any(cell.strip() for cell in row):
            block.append((number, row))
    if block:
        found.append(_of_block(block, source, decimal))
    if not found:
        raise FormatError("holds no tables", concerns=source, remedy="Choose a file of tables.")
    return found


def _rows(text: str, mark: str, source: str) -> Iterator[tuple[int, list[str]]]:
    """The rows of a text with their numbers. Raises FormatError where one cannot be parted."""
    rows, number = csv.reader(io.StringIO(text), delimiter=mark), 0
    while True:
        try:
            row = next(rows)
        except StopIteration:
            return
        except csv.Error:
            raise FormatError(
                "cannot be parted into cells",
                concerns=f"{source}, line {rows.line_num:,}",
                remedy="A quotation mark may be open there, or a cell have no end: correct it, or export it again.",
            ) from None
        number += 1
        yield number, row


def _delimiter(text: str) -> str:
    """What stands between cells: whatever follows the word that every table begins with."""
    found = _FIRST.search(text)
    return found.group(1) if found is not None else ","


def _of_block(block: list[tuple[int, list[str]]], source: str, decimal: str) -> Cells:
    line, head = block[0]
    where = f"{source}, line {line}"
    if head[0] != "entry" or len(head) < 3:
        raise FormatError(
            "does not begin with a line that names its table: entry,slot,key",
            concerns=where,
            remedy="Choose a file that was exported here, or write it so.",
        )
    slot, key, rows = from_cell(head[1]), from_cell(head[2]), block[1:]
    if not rows:
        raise FormatError("has no cells", concerns=where, remedy="Add its rows.")
    if len(rows) == 1:
        value = _number(rows[0][1][1:2], rows[0][0], 2, source, decimal)
        return Cells(slot, key, np.array([value]), where=where)
    x = _break_points(rows[0], source, decimal)
    values = [_row(number, row[1:], x.size, source, decimal) for number, row in rows[1:]]
    sides = [(number, row[0].strip()) for number, row in rows[1:]]
    y = None
    if any(side for _, side in sides):
        lost = next((number for number, side in sides if not side), None)
        if lost is not None:
            raise _lost(f"{source}, line {lost}", 1)
        y = np.array([_number([side], number, 1, source, decimal)[0] for number, side in sides])
    return Cells(slot, key, np.array(values), x, y, where)


def _break_points(line: tuple[int, list[str]], source: str, decimal: str) -> FloatArray:
    """The break points of a table's first line; a spreadsheet pads it with empty cells, and none within may be empty."""
    number, row = line
    cells = row[1:]
    while cells and not cells[-1].strip():
        cells = cells[:-1]
    lost = next((n for n, cell in enumerate(cells, 2) if not cell.strip()), None)
    if lost is not None or not cells:
        raise _lost(f"{source}, line {number}", lost or 2)
    return np.array(_number(cells, number, 2, source, decimal))


def _lost(where: str, column: int) -> FormatError:
    return FormatError(
        f"column {column} is empty, where a break point belongs",
        concerns=where,
        remedy="Write the break point back, or export the table again.",
    )


def _row(line: int, cells: list[str], width: int, source: str, decimal: str) -> list[float]:
    """The cells of a row, as many as its axis has; what a spreadsheet pads it with is empty."""
    more = [cell for cell in cells[width:] if cell.strip()]
    if more or len(cells) < width:
        has = len(cells) if len(cells) < width else width + len(more)
        raise FormatError(
            f"has {has} cells, its axis {width}", concerns=f"{source}, line {line}", remedy="Correct it."
        )
    return _number(cells[:width], line, 2, source, decimal)


def _number(cells: list[str], line: int, first: int, source: str, decimal: str) -> list[float]:
    found = []
    for n, cell in enumerate(cells, first):
        text = cell.strip()
        plain = text.replace(",", ".") if decimal == "," and "." not in text else text
        try:
            value = float(plain) if plain else math.nan
            if decimal == "," and "." in text:
                value = math.inf  # a point in a file of commas: before the fraction, or between thousands
        except ValueError:
            value = math.inf
        if math.isinf(value) or (text and math.isnan(value)):
            name = "comma" if decimal == "," else "point"
            raise FormatError(
                f"column {n} is {in_plain(text, 30)!r}, no number",
                concerns=f"{source}, line {line}",
                remedy=f"Write it as digits with a {name} before the fraction, as the other cells are.",
            )
        found.append(value)
    return found


def _decimal(text: str, mark: str) -> str:
    """What stands before a fraction: a comma where cells have one that do not part cells."""
    return "," if mark != "," and _COMMA.search(text) else "."


# -- into an image


def edits_from(image: Image, found: Sequence[Cells], what: str) -> tuple[Any, ...]:
    """The edits that make an image hold tables out of a file, as one step; empty cells leave what is there.

    Raises CalibrationError naming the place of the file for an entry or slot that is not there, another shape, an axis
    that falls, a value out of bounds; then there is no edit at all.
    """
    things: dict[tuple[str, str], Thing] = {}
    for cells in found:
        slot = cells.slot or image.layout.sets[0]
        if slot not in image.layout.sets:
            raise CalibrationError(
                f"there is no slot {in_plain(slot, 40)!r}",
                concerns=cells.where,
                remedy=f"Slots: {', '.join(image.layout.sets)}.",
            )
        maps = image[slot]
        if cells.key not in maps.tables and cells.key not in maps.scalars:
            raise CalibrationError(
                f"there is no table or value {in_plain(cells.key, 60)!r}",
                concerns=cells.where,
                remedy="Import tables of this unit.",
            )
        try:
            now = maps.scalars[cells.key] if cells.key in maps.scalars else maps.table(cells.key)
            things[slot, cells.key] = _with_cells(now, cells)
        except CalibrationError as error:
            raise CalibrationError(error.what, concerns=cells.where or error.concerns, remedy=error.remedy) from None
    return edits_to_all(image, things, what)


def _with_cells(now: Thing, cells: Cells) -> Thing:
    if isinstance(now, Scalar):
        if cells.values.size != 1:
            raise CalibrationError(f"has {cells.values.size} cells for one value", remedy="Correct it.")
        value = float(cells.values.flat[0])
        return now if math.isnan(value) else now.with_value(value)
    made: Table = now
    for along, points in (("x", cells.x), ("y", cells.y)):
        axis = getattr(now, along)
        if points is None or (points.shape == axis.values.shape and np.allclose(points, axis.values, 1e-12, 0.0)):
            continue  # as it is, but for the last digit that a spreadsheet does not keep
        # An axis that falls or stands still is refused by the axis itself.
        moved = replace(axis, values=np.asarray(points, dtype=np.float64))
        shape = (now.y.values.size, points.size) if along == "x" else (points.size, made.x.values.size)
        if cells.values.shape != shape and along == "y":
            raise CalibrationError(f"has {cells.values.shape} cells, its axes {shape}", remedy="Correct it.")
        made = replace(made, **{along: moved}, values=_fitted(made.values, shape))
    if cells.values.shape != made.values.shape:
        raise CalibrationError(
            f"has {cells.values.shape[0]} x {cells.values.shape[1]} cells, the table"
            f" {made.values.shape[0]} x {made.values.shape[1]}",
            remedy="Import a table of this shape.",
        )
    return made.with_values(np.where(np.isnan(cells.values), made.values, cells.values))


def _fitted(values: FloatArray, shape: tuple[int, int]) -> FloatArray:
    """Values of another number of break points, to be overwritten: what is there, the last beyond it."""
    rows = np.minimum(np.arange(shape[0]), values.shape[0] - 1)
    columns = np.minimum(np.arange(shape[1]), values.shape[1] - 1)
    return values[np.ix_(rows, columns)]
