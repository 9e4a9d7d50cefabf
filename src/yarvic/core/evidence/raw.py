"""A log as a file holds it, before anybody has said what its columns mean."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from yarvic.core.errors import in_plain
from yarvic.core.physics import FloatArray

MOST_LETTERS, MOST_FACTS = 190, 500  # of a name, a unit, a word; of what lines above a header say

# What the stamps of a column of time were: plain numbers in a unit to be found, something that says itself, or none at
# all: the rows of a curve, counted.
Clock = Literal["number", "clock", "date", "row"]


# Under this name a log's facts keep what lines above the header say that name nothing: a title.
ABOVE = "above the header"


# What was done with stamps of whole seconds that several rows share.
LAID = "its time shows whole seconds: the rows of each were laid evenly within it"


@dataclass
class RawColumn:
    """A column: its name and unit as they stand in the header, and its numbers, NaN where there is none.

    `states` are the texts of a column of words: its numbers then count into them. `place` says where it stands in the
    file, such as `column 3`. `note` is what was done with fields that could not be read as they are.
    """

    name: str
    unit: str
    values: FloatArray
    place: str
    time_s: FloatArray | None = None  # its own stamps, where it was not sampled with every row
    states: tuple[str, ...] = ()
    note: str = ""
    doubt: str = ""  # why its numbers may be others than they seem
    gaps: bool = False  # whether some of its rows hold no number

    def __post_init__(self) -> None:
        """Bound what a file says: nothing in it steers, and it has an end."""
        self.name, self.unit, self.place = (in_plain(t, MOST_LETTERS) for t in (self.name, self.unit, self.place))
        self.states = tuple(in_plain(t, MOST_LETTERS) for t in self.states)


@dataclass
class RawLog:
    """One recording: columns beside their time. `time` is that column as it stands, its unit still open.

    `rows_at` gives the line of the file for a row, for messages; `notes` say what was passed over or set right.
    """

    columns: list[RawColumn]
    time: RawColumn | None
    clock: Clock = "number"
    part: str = ""  # which part of the file, where it holds several
    reader: str = ""
    started: str = ""  # when it began by its own clock, ISO 8601, where it says so
    notes: list[str] = field(default_factory=list)
    facts: Mapping[str, str] = field(default_factory=dict)  # what the lines above the header say, by name
    sheet: bool = False  # a dyno's curve, and no log

    def __post_init__(self) -> None:
        """Bound what a file says beside its columns."""
        self.part, self.started = in_plain(self.part, 2 * MOST_LETTERS), in_plain(self.started, 30)
        facts = list(self.facts.items())[:MOST_FACTS]
        self.facts = {in_plain(k, MOST_LETTERS): in_plain(v, 5 * MOST_LETTERS) for k, v in facts}
