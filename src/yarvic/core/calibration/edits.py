"""Edits of a draft: the record of what was done to the numbers of one entry, in the counts that its memory stores.

Raw numbers before and after, so that an edit does and undoes the same bits whatever the conversion rounds.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

# What an edit was made for is not what is there.
MEANT_FOR = "The edit was made for other maps: look at the cell as it is now."

Part = Literal["values", "x", "y", "axis", "form"]


@dataclass(frozen=True)
class Edit:
    """A change of one entry of a slot, in raw numbers.

    `part` "values": of `cells` as (row, column), in the order in which axes rise; a single value has the one cell
    (0, 0). "x", "y": of the break points of an axis of its own, as (0, place) and (place, 0). "axis": of the shared
    axis `key`, as (0, place). "form": another number of break points; then `before` and `after` are the whole table:
    columns, rows, break points along x and y as far as they lie in memory, and the values row by row.
    """

    slot: str
    key: str
    what: str
    cells: tuple[tuple[int, int], ...]
    before: tuple[float, ...]
    after: tuple[float, ...]
    part: Part = "values"


Step = tuple[Edit, ...]
