"""Calibrations as JSON and CSV."""

from __future__ import annotations

import csv
import io
import json
import math
from typing import Annotated

import numpy as np
from pydantic import Field

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.conversion import Conversion
from yarvic.core.calibration.described import Described
from yarvic.core.calibration.storing import Storage, Storing, steps
from yarvic.core.calibration.table import NO_AXIS, Axis, Scalar, Table
from yarvic.core.document import Document, parse_json, validated
from yarvic.core.errors import FormatError
from yarvic.core.formats.plain_cell import plain_cell

JSON_KIND = "yarvic maps 1"


class _Axis(Document):
    title: str
    unit: str
    values: Annotated[list[float], Field(min_length=1, max_length=4096)]
    input: str = ""


class _Stored(Described):
    """How numbers are stored that do not lie in even steps."""

    storage: Storage
    conversion: Conversion
    mask: int = 0


class _Number(Document):
    title: str
    unit: str
    low: float | None
    high: float | None
    step: Annotated[float, Field(ge=1e-30, le=1e30)] | None = None
    origin: float = 0.0
    stored: _Stored | None = None
    decimals: Annotated[int, Field(ge=0, le=9)]


class _Table(_Number):
    x: _Axis
    y: _Axis | None = None
    values: list[list[float | None]]


class _Scalar(_Number):
    value: float | None


class _Document(Document):
    kind: str
    family: str
    slot: str
    tables: dict[str, _Table]
    scalars: dict[str, _Scalar]
    texts: dict[str, str] = Field(default_factory=dict)


def maps_to_json(calibration: Calibration) -> str:
    """A calibration as a JSON document: every table with its axes, units, bounds and values row by row."""

    document = {
        "kind": JSON_KIND,
        "family": calibration.family,
        "slot": calibration.slot,
        "tables": {key: _of_table(t) for key, t in calibration.tables.items()},
        "scalars": {key: {**_of_number(s), "value": _known(s.value)} for key, s in calibration.scalars.items()},
        **({"texts": {key: t.text for key, t in calibration.texts.items()}} if calibration.texts else {}),
    }
    return json.dumps(document, indent=1, allow_nan=False) + "\n"


def _of_table(t: Table) -> dict[str, object]:
    return {
        **_of_number(t),
        "x": _of_axis(t.x),
        **({} if t.is_curve else {"y": _of_axis(t.y)}),
        "values": [[_known(v) for v in row] for row in t.values.tolist()],
    }


def _of_axis(a: Axis) -> dict[str, object]:
    return {"title": a.title, "unit": a.unit, "values": a.values.tolist(), **({"input": a.input} if a.input else {})}


def _of_number(t: Table | Scalar) -> dict[str, object]:
    found: dict[str, object] = {"title": t.title, "unit": t.unit, "low": _known(t.low), "high": _known(t.high)}
    if t.storing.step > 0.0 and not t.storing.mask:
        found |= {"step": t.storing.step, "origin": t.storing.origin}
    else:
        storing = t.storing
        found["stored"] = {
            "storage": storing.storage,
            "conversion": storing.conversion.model_dump(mode="json"),
            "mask": storing.mask,
        }
    return {**found, "decimals": t.decimals}


def _known(value: float) -> float | None:
    """A number, or nothing: JSON has no other word for what is none."""
    return value if math.isfinite(value) else None


def maps_from_json(text: str, *, source: str = "maps.json") -> Calibration:
    """A calibration from its JSON document. Raises FormatError naming the entry that does not fit."""
    document = validated(_Document, parse_json(text, source=source), source=source)
    if document.kind != JSON_KIND:
        raise FormatError(
            f"is no maps file: its kind is not {JSON_KIND!r}", concerns=source, remedy="Choose another file."
        )
    tables = {}
    for key, t in document.tables.items():
        if any(len(row) != len(t.x.values) for row in t.values):
            raise FormatError(f"tables.{key}: rows of unequal length", concerns=source, remedy="Correct the rows.")
        tables[key] = _checked(_table(key, t))
    scalars = {}
    for key, s in document.scalars.items():
        value = math.nan if s.value is None else s.value
        scalars[key] = Scalar(key, s.title, s.unit, value, *_bounds(s), _storing(s), s.decimals)
        if scalars[key].outside():
            raise FormatError(f"scalars.{key}: outside its bounds", concerns=source, remedy="Correct the value.")
    return Calibration(document.family, document.slot, tables, scalars)


def _table(key: str, t: _Table) -> Table:
    y = _axis(t.y) if t.y is not None else NO_AXIS
    values = np.array([[math.nan if v is None else v for v in row] for row in t.values])
    return Table(key, t.title, t.unit, _axis(t.x), y, values, *_bounds(t), _storing(t), t.decimals)


def _checked(table: Table) -> Table:
    bad = np.argwhere(table.outside())
    if bad.size:
        row, column = (int(i) for i in bad[0])
        raise FormatError(
            f"tables.{table.key}: the value at {table.place(row, column)} is outside its bounds",
            concerns=table.title,
            remedy="Correct the value.",
        )
    return table


def _axis(a: _Axis) -> Axis:
    return Axis(a.title, a.unit, np.array(a.values), a.input)


def _bounds(n: _Number) -> tuple[float, float]:
    return (-math.inf if n.low is None else n.low), (math.inf if n.high is None else n.high)


def _storing(n: _Number) -> Storing:
    if n.stored is not None:
        return Storing(n.stored.storage, n.stored.conversion, n.stored.mask)
    return steps(n.step, n.origin) if n.step is not None else Storing("f64")


def maps_to_csv(calibration: Calibration) -> str:
    """A calibration as CSV for reading: one block per table, rows against columns, units in the corner."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for t in calibration.tables.values():
        writer.writerow([plain_cell(t.title), f"[{t.unit}]", f"slot {calibration.slot}"])
        across = f"{t.x.title} [{t.x.unit}]"
        corner = across if t.is_curve else f"{t.y.title} [{t.y.unit}] \\ {across}"
        writer.writerow([plain_cell(corner), *(f"{v:g}" for v in t.x.values)])
        for y, row in zip(t.y.values, t.values, strict=True):
            writer.writerow(["" if t.is_curve else f"{y:g}", *(f"{v:.{t.decimals}f}" for v in row)])
        writer.writerow([])
    for s in calibration.scalars.values():
        writer.writerow([plain_cell(s.title), f"[{s.unit}]", s.shown()])
    for x in calibration.texts.values():
        writer.writerow([plain_cell(x.title), "[text]", plain_cell(x.text)])
    return out.getvalue()
