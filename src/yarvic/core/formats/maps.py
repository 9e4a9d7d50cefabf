"""Calibrations as JSON and CSV."""

from __future__ import annotations

import csv
import io
import json
from typing import Annotated

import numpy as np
from pydantic import Field

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.table import Axis, Scalar, Table
from yarvic.core.document import Document, parse_json, validated
from yarvic.core.errors import FormatError

JSON_KIND = "yarvic maps 1"


class _Axis(Document):
    title: str
    unit: str
    values: Annotated[list[float], Field(min_length=1, max_length=64)]


class _Table(Document):
    title: str
    unit: str
    low: float
    high: float
    step: Annotated[float, Field(ge=1e-12, le=1e12)]
    origin: float = 0.0
    decimals: Annotated[int, Field(ge=0, le=9)]
    x: _Axis
    y: _Axis
    values: list[list[float]]


class _Scalar(Document):
    title: str
    unit: str
    value: float
    low: float
    high: float
    step: Annotated[float, Field(ge=1e-12, le=1e12)]
    origin: float = 0.0
    decimals: Annotated[int, Field(ge=0, le=9)]


class _Document(Document):
    kind: str
    family: str
    slot: str
    tables: dict[str, _Table]
    scalars: dict[str, _Scalar]


def maps_to_json(calibration: Calibration) -> str:
    """A calibration as a JSON document: every table with its axes, units, bounds and values row by row."""

    def axis(a: Axis) -> dict[str, object]:
        return {"title": a.title, "unit": a.unit, "values": a.values.tolist()}

    document = {
        "kind": JSON_KIND,
        "family": calibration.family,
        "slot": calibration.slot,
        "tables": {
            key: {
                "title": t.title,
                "unit": t.unit,
                "low": t.low,
                "high": t.high,
                "step": t.step,
                "origin": t.origin,
                "decimals": t.decimals,
                "x": axis(t.x),
                "y": axis(t.y),
                "values": t.values.tolist(),
            }
            for key, t in calibration.tables.items()
        },
        "scalars": {
            key: {
                "title": s.title,
                "unit": s.unit,
                "value": s.value,
                "low": s.low,
                "high": s.high,
                "step": s.step,
                "origin": s.origin,
                "decimals": s.decimals,
            }
            for key, s in calibration.scalars.items()
        },
    }
    return json.dumps(document, indent=1) + "\n"


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
        tables[key] = Table(
            key,
            t.title,
            t.unit,
            Axis(t.x.title, t.x.unit, np.array(t.x.values)),
            Axis(t.y.title, t.y.unit, np.array(t.y.values)),
            np.array(t.values),
            t.low,
            t.high,
            t.step,
            t.decimals,
            t.origin,
        )
    scalars = {
        key: Scalar(key, s.title, s.unit, s.value, s.low, s.high, s.step, s.decimals, s.origin)
        for key, s in document.scalars.items()
    }
    return Calibration(document.family, document.slot, tables, scalars)


def maps_to_csv(calibration: Calibration) -> str:
    """A calibration as CSV for reading: one block per table, rows against columns, units in the corner."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for t in calibration.tables.values():
        writer.writerow([t.title, f"[{t.unit}]", f"slot {calibration.slot}"])
        writer.writerow([f"{t.y.title} [{t.y.unit}] \\ {t.x.title} [{t.x.unit}]", *(f"{v:g}" for v in t.x.values)])
        for y, row in zip(t.y.values, t.values, strict=True):
            writer.writerow([f"{y:g}", *(f"{v:.{t.decimals}f}" for v in row)])
        writer.writerow([])
    for s in calibration.scalars.values():
        writer.writerow([s.title, f"[{s.unit}]", f"{s.value:.{s.decimals}f}"])
    return out.getvalue()
