"""The documents and records inside a job."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field, model_validator

from yarvic.core.calibration.layout import Layout
from yarvic.core.checks.components import ComponentLimit, as_fitted
from yarvic.core.checks.limits import Limits, OwnLimit, default_limits, own_limits_fault
from yarvic.core.checks.weather import Days
from yarvic.core.document import Document
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.expected import Expected
from yarvic.core.physics.correction import STANDARDS
from yarvic.core.plan.parts import Part, names_fault
from yarvic.core.plan.plan import Plan
from yarvic.core.plan.ratings import Family
from yarvic.core.plan.readiness import Item
from yarvic.core.plan.vehicle import Vehicle

if TYPE_CHECKING:
    from yarvic.core.evidence.origin import Marker, Origin

EngineSpeed = Annotated[float, Field(ge=0, le=25000)]
# More of a kind than this is no sheet that a person keeps.
MOST = 400


class JobSheet(Document):
    """What the job is about; the base of its checks and its release. `fitted`: what was fitted when it came in."""

    title: Annotated[str, Field(min_length=1, max_length=80)]
    shop: str = ""
    vehicle: Vehicle
    purpose: Literal["towing", "daily road", "track", "race", "rescue"] = "daily road"
    use: Literal["public road", "closed course"] = "public road"
    altitude_m: Annotated[float, Field(ge=-450, le=6000)] | None = None
    days: Days = Field(default_factory=Days)
    standard: str = "none"
    band_rpm: tuple[EngineSpeed, EngineSpeed] = (2000.0, 6000.0)
    limits: Annotated[tuple[ComponentLimit, ...], Field(max_length=MOST)] = ()
    check_limits: Annotated[tuple[OwnLimit, ...], Field(max_length=MOST)] = ()
    parts: Annotated[tuple[Part, ...], Field(max_length=MOST)] = ()
    fitted: dict[str, str] = Field(default_factory=dict)
    readiness: Annotated[tuple[Item, ...], Field(max_length=MOST)] = ()
    plan: Plan = Field(default_factory=Plan)
    families: Annotated[tuple[Family, ...], Field(max_length=40)] = ()
    pulls_required: Annotated[int, Field(ge=1, le=99)] = 3

    @model_validator(mode="after")
    def _makes_sense(self) -> JobSheet:
        if not 0.0 < self.band_rpm[0] < self.band_rpm[1]:
            raise ValueError("the evaluation band must rise")
        if self.standard not in STANDARDS:
            raise ValueError(f"there is no correction standard {self.standard!r}")
        fault = names_fault(self.limits, self.parts) or own_limits_fault(self.check_limits)
        if fault:
            raise ValueError(fault)
        known = {p.key for p in self.parts}
        lost = next((k for s in self.plan.stages for k in s.parts if k not in known), None)
        if lost:
            raise ValueError(f"a stage needs part {lost}, which is not in the list")
        items = [i.key for i in self.readiness]
        if len(items) != len(set(items)):
            raise ValueError("a readiness item is there twice")
        return self

    def judged_limits(self, parts: Collection[str]) -> tuple[ComponentLimit, ...]:
        """The limits as they are held against a measurement with these parts fitted."""
        return as_fitted(self.limits, parts, self.vehicle.loss, self.vehicle.stroke_mm)

    def limits_at_crank(self, parts: Collection[str]) -> tuple[ComponentLimit, ...]:
        """The limits with these parts fitted, as a map is held against them: its torque is at the crank. A limit at the
        wheels is brought there where the loss is known.
        """
        return tuple(limit.with_parts(parts).at("crank", self.vehicle.loss) for limit in self.limits)

    def limits_with(self, parts: Collection[str]) -> Limits:
        """All limits that a measurement with these parts fitted is judged by."""
        heights = [m for m in (self.altitude_m, self.days.lowest_m, self.days.highest_m) if m is not None]
        between = (min(heights), max(heights)) if heights else None
        found = default_limits(self.judged_limits(parts)).with_own(self.check_limits)
        return replace(found, use=self.use, altitudes_m=between)


class Fitting(Document):
    """What happened between two builds: parts on and off by key, when by the calendar, at which reading, for how much."""

    parts: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    date: str = ""
    odometer_km: Annotated[float, Field(ge=0, le=1e8)] | None = None
    engine_hours: Annotated[float, Field(ge=0, le=1e7)] | None = None
    cost: Annotated[float, Field(ge=0, le=1e9)] = 0.0
    labour_hours: Annotated[float, Field(ge=0, le=1e5)] = 0.0


@dataclass(frozen=True)
class Build:
    """The state of the hardware between two fitting events; `fitted` is what changed, by station key."""

    number: int
    title: str
    time: str
    fitted: dict[str, str]
    event: Fitting = field(default_factory=Fitting)


@dataclass(frozen=True)
class Revision:
    """An immutable set of maps: parent, reason, author, time, image by its SHA-256. Its edits are read by `Job.edits`."""

    id: int
    name: str
    parent_id: int | None
    reason: str
    author: str
    time: str
    image: str
    build: int
    merged_id: int | None = None  # the revision whose changes were merged into it


@dataclass(frozen=True)
class Draft:
    """What changes: steps of edits on top of a revision (`Job.steps`), on disk after each; a step is undone whole.

    There may be several; `name` tells them apart. `merged_id`: the revision whose changes were merged into it.
    """

    id: int
    name: str
    parent_id: int
    merged_id: int | None
    time: str


# What a revision may be marked as, by a person, with the reason.
TagKind = Literal["customer's copy", "do not use", "keep"]
TagState = Literal["put", "removed"]


@dataclass(frozen=True)
class Tag:
    """A mark that a named person put on a revision, or took off it."""

    revision_id: int
    tag: TagKind
    state: TagState
    name: str
    reason: str
    time: str


@dataclass(frozen=True)
class Expectation:
    """What somebody expected of a revision, and when that was said."""

    revision_id: int
    expected: Expected
    name: str
    time: str


@dataclass(frozen=True)
class Pairing:
    """The image that the gearbox's own unit is to hold with a revision of the engine's, and with those made of it."""

    revision_id: int
    time: str
    name: str  # who said so
    title: str
    layout: Layout
    image: str  # SHA-256


# Revision and build; None while they are not known.
Place = tuple[int | None, int | None]


@dataclass(frozen=True)
class Evidence:
    """A measured run, tied to one revision and one build, or not yet assigned (None). Its log is loaded by `Job.log`.

    `origin` is the file that it was imported from, None for one that was recorded here. `aside` are the pulls, by
    their number in time, that a person set aside, with the reason; key None is the whole run.
    """

    id: str
    title: str
    revision_id: int | None
    build: int | None
    time: str
    source: str
    conditions: Conditions | None
    origin: Origin | None = None
    aside: Mapping[int | None, str] = field(default_factory=dict)
    reading: int = 0  # the record by which its columns are read; 0 for one that was recorded here
    joined: tuple[str, int] | None = None  # the run and the pull in it that this curve was measured in
    pulls: Mapping[int, Place] = field(default_factory=dict)  # single pulls that belong elsewhere
    only: frozenset[int] | None = None  # of a part: the pulls that are of it; None: all but those of `pulls`
    spans: Mapping[int, tuple[float, float]] = field(
        default_factory=dict
    )  # pulls whose ends a person set, s in the log
    markers: tuple[Marker, ...] = field(default=(), compare=False)  # places in it that a person marked

    def holds(self, pull: int) -> bool:
        """Whether a pull, by its number in the run, is of this run, or of this part of one."""
        return pull in self.only if self.only is not None else pull not in self.pulls

    @property
    def places(self) -> set[Place]:
        """Where the run, and single pulls of it, belong."""
        return {(self.revision_id, self.build), *self.pulls.values()}

    def parts_of(self, revision_id: int | None) -> list[Evidence]:
        """What of the run belongs to a revision: itself, and the pulls of it that were given there, by build."""
        found = [self] if self.revision_id == revision_id else []
        for build in sorted({b or 0 for r, b in self.pulls.values() if r == revision_id}):
            only = frozenset(n for n, (r, b) in self.pulls.items() if r == revision_id and (b or 0) == build)
            found.append(replace(self, revision_id=revision_id, build=build or None, only=only))
        return found

    @property
    def is_sheet(self) -> bool:
        """Whether it is a dyno's curve, and no log."""
        return self.origin is not None and self.origin.sheet

    @property
    def made_at(self) -> str:
        """When it was measured, ISO 8601: what its file says, or when it was recorded here; empty where neither says."""
        return self.time if self.origin is None else self.origin.started

    @property
    def on_build(self) -> int:
        """The build that it was measured on; 0 while that is not known."""
        return self.build or 0


@dataclass(frozen=True)
class Flash:
    """A verified write of a revision's image into a unit."""

    revision_id: int
    time: str
    unit: str
    image: str
    blocks: int


class Differing(Document):
    """A range in which what was read back is not what was to be written; `names` are the tables that lie there."""

    start: Annotated[int, Field(ge=0)]
    end: Annotated[int, Field(ge=0)]
    names: tuple[str, ...] = ()


class Carriage(Document):
    """What is known of one way of an image by file: the file, and for one that was read back what came of it.

    `image` is the SHA-256 of the memory's content, `aside` how many bytes were not compared: those that the unit
    itself changes, and gaps.
    """

    file: str = ""
    form: str = ""
    sha256: str = ""
    image: str = ""
    ticked: tuple[str, ...] = ()
    equal: bool | None = None
    compared: int = 0
    aside: int = 0
    differs: Annotated[tuple[Differing, ...], Field(max_length=1000)] = ()
    said: str = ""


CarriedKind = Literal["exported", "written", "read back"]


@dataclass(frozen=True)
class Carried:
    """A step of writing a unit by file: a revision's image was exported, said to be written, or read back."""

    revision_id: int
    time: str
    kind: CarriedKind
    name: str
    document: Carriage


@dataclass(frozen=True)
class Waiver:
    """A condition of release that a named person set aside, with the reason."""

    revision_id: int
    condition: str
    name: str
    reason: str
    time: str
    finding: str = ""  # what it waives, as `Condition.grounds` writes it


@dataclass(frozen=True)
class Release:
    """A signed revision: who, when, the manifest's SHA-256 and the name of the package; what was signed, and how."""

    revision_id: int
    name: str
    time: str
    manifest_sha256: str
    package: str
    manifest: str = ""
    signature: str = ""


@dataclass(frozen=True)
class Entry:
    """A line of the journal."""

    time: str
    subject: str
    sentence: str


def parts_on(builds: Iterable[Build], number: int | None = None) -> frozenset[str]:
    """The keys of the parts that are on the vehicle in a build; None: in the last one."""
    on: set[str] = set()
    for build in builds:
        if number is not None and build.number > number:
            break
        on = (on - set(build.event.removed)) | set(build.event.parts)
    return frozenset(on)
