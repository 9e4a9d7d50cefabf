"""Where evidence is from: the file, how its columns stood there, and how they are read."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import Field, model_validator

from yarvic.core.document import Document
from yarvic.core.evidence.mapping import MOST_COLUMNS, Facts, Mapping
from yarvic.core.evidence.raw import Clock, RawColumn, RawLog
from yarvic.core.evidence.taking import Understood
from yarvic.core.physics import FloatArray


class Origin(Document):
    """The file that evidence was imported from: its name, its SHA-256 (FIPS 180-4), and which part of it this is."""

    name: Annotated[str, Field(max_length=400)]
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")]
    size: Annotated[int, Field(ge=0)]
    reader: Annotated[str, Field(max_length=40)] = "text"
    part: Annotated[str, Field(max_length=400)] = ""
    started: Annotated[str, Field(max_length=40)] = ""
    sheet: bool = False  # a dyno's curve, and no log


class Head(Document):
    """A column as it stood in the file. `clock` is the place of its own time stamps, None where it has those of the log."""

    name: str
    unit: str
    place: str
    states: Annotated[tuple[str, ...], Field(max_length=4000)] = ()
    note: str = ""
    doubt: str = ""


class Heads(Document):
    """What stood around the numbers of a recording: its columns, its clock, what was said when it was read."""

    time: Head
    columns: Annotated[tuple[Head, ...], Field(max_length=MOST_COLUMNS)]
    clock: Clock = "number"
    notes: tuple[str, ...] = ()
    sheet: bool = False


class Reading(Document):
    """What the columns of a recording mean, and what is known beside them; the latest one counts."""

    mapping: Mapping
    barometer_pa: Annotated[float, Field(gt=0, le=200e3)] | None = None
    stoichiometric_afr: Annotated[float, Field(ge=1.0, le=40.0)] | None = None

    @property
    def facts(self) -> Facts:
        """What is known beside the file."""
        return Facts(self.barometer_pa, self.stoichiometric_afr)

    @property
    def understood(self) -> Understood:
        """Its columns, that of time first."""
        time, *columns = self.mapping.columns
        return Understood(time, tuple(columns), self.mapping.curve)


class Assigned(Document):
    """To which revision and build evidence belongs; None while that is not known."""

    revision_id: int | None = None
    build: int | None = None

    @model_validator(mode="after")
    def _both_or_none(self) -> Assigned:
        if (self.revision_id is None) != (self.build is None):
            raise ValueError("a run belongs to a revision and a build, or to neither")
        return self


class PullAssigned(Assigned):
    """To which revision and build one pull of a run belongs, where that is not the run's own."""

    pull: Annotated[int, Field(ge=0)]


class Joined(Document):
    """The pull of another run that a curve was measured in, as a person says; an empty run: of none."""

    run: Annotated[str, Field(max_length=40)] = ""
    pull: Annotated[int, Field(ge=0)] = 0


class SetAside(Document):
    """A pull, or a whole run (None), that a person set aside, why; `aside` False: taken back."""

    pull: Annotated[int, Field(ge=0)] | None = None
    aside: bool = True
    reason: Annotated[str, Field(max_length=400)] = ""
    name: Annotated[str, Field(max_length=200)] = ""


class Spanned(Document):
    """From when to when (s in the log) a pull is judged, as a person says; None: as it was found."""

    pull: Annotated[int, Field(ge=0)]
    start_s: Annotated[float, Field(ge=-1e9, le=1e9)] | None = None
    end_s: Annotated[float, Field(ge=-1e9, le=1e9)] | None = None
    name: Annotated[str, Field(max_length=200)] = ""

    @model_validator(mode="after")
    def _in_order(self) -> Spanned:
        if (self.start_s is None) != (self.end_s is None):
            raise ValueError("a span has a start and an end, or neither")
        if self.start_s is not None and self.end_s is not None and self.end_s <= self.start_s:
            raise ValueError("a span ends behind its start")
        return self


class Marker(Document):
    """A place in a log that a person marked, in s of the log's time; `end_s` past it where it is a span.

    `key` tells it from others of its run: what was said of it last counts. `gone` True: it was taken away.
    """

    key: Annotated[str, Field(min_length=1, max_length=40)]
    time_s: Annotated[float, Field(ge=-1e9, le=1e9)]
    end_s: Annotated[float, Field(ge=-1e9, le=1e9)] | None = None
    text: Annotated[str, Field(max_length=400)] = ""
    name: Annotated[str, Field(max_length=200)] = ""
    gone: bool = False


NoteKind = Literal[
    "source", "header", "reading", "assigned", "conditions", "set_aside", "joined", "pull_assigned", "marker", "spanned",
]  # fmt: skip


def heads_of(raw: RawLog) -> Heads:
    """What stands around a recording's numbers."""
    assert raw.time is not None

    def head(c: RawColumn) -> Head:
        return Head(
            name=c.name[:400], unit=c.unit[:400], place=c.place[:400], states=c.states, note=c.note, doubt=c.doubt
        )

    return Heads(
        time=head(raw.time), columns=tuple(map(head, raw.columns)), clock=raw.clock, notes=tuple(raw.notes),
        sheet=raw.sheet,
    )  # fmt: skip


def raw_of(heads: Heads, time_s: FloatArray, values: Sequence[tuple[FloatArray, FloatArray | None]]) -> RawLog:
    """The recording again, from what stood around its numbers and the numbers: values, and stamps of their own."""

    def column(head: Head, numbers: FloatArray, own: FloatArray | None) -> RawColumn:
        return RawColumn(head.name, head.unit, numbers, head.place, own, head.states, head.note, head.doubt)

    columns = [column(h, v, own) for h, (v, own) in zip(heads.columns, values, strict=True)]
    clock = column(heads.time, time_s, None)
    return RawLog(columns, clock, heads.clock, notes=list(heads.notes), sheet=heads.sheet)
