"""Edits as JSON, as they stand in the job file: [slot, key, what, cells, before, after]."""

from __future__ import annotations

import json
from collections.abc import Iterable

from yarvic.core.calibration.edits import Edit


def edits_to_json(edits: Iterable[Edit]) -> str:
    """A list of edits as one JSON array."""
    return json.dumps([[e.slot, e.key, e.what, e.cells, e.before, e.after] for e in edits])


def edits_from_json(text: str) -> tuple[Edit, ...]:
    """The edits again. Raises ValueError or TypeError for text that does not hold them."""
    return tuple(
        Edit(
            str(slot),
            str(key),
            str(what),
            tuple((int(r), int(c)) for r, c in cells),
            tuple(float(v) for v in before),
            tuple(float(v) for v in after),
        )
        for slot, key, what, cells, before, after in json.loads(text)
    )
