"""Edits as JSON, as they stand in the job file: [slot, key, what, cells, before, after, part].

Files up to version 6 have no part: theirs hold values in the entry's unit where those since hold raw numbers.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterable, Sequence
from typing import Any, get_args

import numpy as np

from yarvic.core.calibration.edits import Edit, Part
from yarvic.core.calibration.layout import Layout
from yarvic.core.document import parse_json


def edits_to_json(edits: Iterable[Edit]) -> str:
    """A list of edits as one JSON array."""
    return json.dumps([_listed(e) for e in edits])


def edit_to_json(edit: Edit) -> str:
    """One edit."""
    return json.dumps(_listed(edit))


def edits_from_json(text: str, layout: Layout) -> tuple[Edit, ...]:
    """The edits again. Raises ValueError or TypeError for text that does not hold them."""
    return tuple(_edit(each, layout) for each in parse_json(text, source="edits"))


def edit_from_json(text: str, layout: Layout) -> Edit:
    """One edit again. Raises ValueError or TypeError."""
    return _edit(parse_json(text, source="edit"), layout)


def _listed(e: Edit) -> list[Any]:
    return [e.slot, e.key, e.what, e.cells, _numbers(e.before), _numbers(e.after), e.part]


def _numbers(values: tuple[float, ...]) -> list[float | int | str]:
    """Numbers; JSON has none for what a cell of floating point can hold besides, which are written as words."""
    return [_number(v) for v in values]


def _number(value: float) -> float | int | str:
    if not math.isfinite(value):
        return str(value)
    whole = abs(value) < 2**53 and value == int(value) and not (value == 0.0 and math.copysign(1.0, value) < 0.0)
    return int(value) if whole else value


def _edit(listed: Any, layout: Layout) -> Edit:
    slot, key, what, cells, before, after, *rest = listed
    before, after = (tuple(float(v) for v in values) for values in (before, after))
    part: Part = "values"
    if rest:
        (part,) = rest
        if part not in get_args(Part):
            raise ValueError(f"there is no part {part!r} of an edit")
    else:
        before, after = (_raw(values, str(key), layout) for values in (before, after))
    return Edit(str(slot), str(key), str(what), tuple((int(r), int(c)) for r, c in cells), before, after, part)


def _raw(values: Sequence[float], key: str, layout: Layout) -> tuple[float, ...]:
    """Values of an old edit as what was stored for them; as they are where the layout has no such entry any more."""
    entry = layout.by_key.get(key)
    if entry is None:
        return tuple(values)
    return tuple(layout.storing(entry, entry.mask).raw(np.array(values)).tolist())
