"""Edits as JSON, as they stand in the job file: [slot, key, what, cells, before, after]."""

from __future__ import annotations

import json
import math
from collections.abc import Iterable
from typing import Any

from yarvic.core.calibration.edits import Edit
from yarvic.core.document import parse_json


def edits_to_json(edits: Iterable[Edit]) -> str:
    """A list of edits as one JSON array."""
    return json.dumps([_listed(e) for e in edits])


def edit_to_json(edit: Edit) -> str:
    """One edit."""
    return json.dumps(_listed(edit))


def edits_from_json(text: str) -> tuple[Edit, ...]:
    """The edits again. Raises ValueError or TypeError for text that does not hold them."""
    return tuple(_edit(each) for each in parse_json(text, source="edits"))


def edit_from_json(text: str) -> Edit:
    """One edit again. Raises ValueError or TypeError."""
    return _edit(parse_json(text, source="edit"))


def _listed(e: Edit) -> list[Any]:
    return [e.slot, e.key, e.what, e.cells, _numbers(e.before), _numbers(e.after)]


def _numbers(values: tuple[float, ...]) -> list[float | str]:
    """Numbers; JSON has none for what a cell of floating point can hold besides, which are written as words."""
    return [v if math.isfinite(v) else str(v) for v in values]


def _edit(listed: Any) -> Edit:
    slot, key, what, cells, before, after = listed
    return Edit(
        str(slot),
        str(key),
        str(what),
        tuple((int(r), int(c)) for r, c in cells),
        tuple(float(v) for v in before),
        tuple(float(v) for v in after),
    )
