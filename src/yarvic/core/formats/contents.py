"""What an image holds under a layout, as one document of numbers, words and texts."""

from __future__ import annotations

import math
from typing import Any

from yarvic.core.calibration.decoding import decoded
from yarvic.core.calibration.image import memory_of
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.table import Scalar, Table, Text
from yarvic.core.errors import CalibrationError


def contents(layout: Layout, data: bytes) -> dict[str, dict[str, dict[str, Any]]]:
    """What an image holds by slot and key: `value`, `text`, or `values` by rows with the break points `x` and `y`.

    A number that there is none for is None; an entry that cannot be read has its `fault`.
    """
    memory = memory_of(data, layout)
    found: dict[str, dict[str, dict[str, Any]]] = {}
    for slot in layout.sets:
        shown: dict[str, dict[str, Any]] = {}
        for entry in layout.entries:
            try:
                shown[entry.key] = _content(decoded(layout, entry, memory, slot))
            except CalibrationError as error:
                shown[entry.key] = {"fault": error.what}
        found[slot] = shown
    return found


def _content(held: Table | Scalar | Text) -> dict[str, Any]:
    if isinstance(held, Text):
        return {"text": held.text}
    if isinstance(held, Scalar):
        word = held.shown() if held.storing.words is not None else ""
        return {"value": _known(held.value), **({"word": word} if word else {})}
    axes = {"x": held.x.values.tolist(), **({} if held.is_curve else {"y": held.y.values.tolist()})}
    return {**axes, "values": [[_known(v) for v in row] for row in held.values.tolist()], "decimals": held.decimals}


def _known(value: float) -> float | None:
    return value if math.isfinite(value) else None
