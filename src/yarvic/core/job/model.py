"""The documents and records inside a job."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from yarvic.core.calibration.edits import Edit
from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.checks.limits import ComponentLimit
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.physics.correction import STANDARDS


class _Document(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Vehicle(_Document):
    """What the vehicle is. Lengths in mm, mass in kg."""

    name: Annotated[str, Field(min_length=1)]
    kind: str
    engine: str
    cylinders: Annotated[int, Field(ge=1, le=16)]
    bore_mm: Annotated[float, Field(gt=20, lt=300)]
    stroke_mm: Annotated[float, Field(gt=20, lt=400)]
    compression_ratio: Annotated[float, Field(gt=5, lt=25)]
    redline_rpm: Annotated[float, Field(gt=500, lt=25000)]
    mass_kg: Annotated[float, Field(gt=50, lt=60000)]
    boost_controlled: bool
    fuels: dict[str, str]
    ignition: Literal["spark", "compression"] = "spark"
    rail: bool = True
    knock_control: bool = True

    @property
    def asked(self) -> EngineKind:
        """What of the engine decides which checks apply."""
        return EngineKind(self.ignition, self.boost_controlled, self.rail, self.knock_control)

    @property
    def displacement_m3(self) -> float:
        """Swept volume of all cylinders in m3."""
        return 3.141592653589793 / 4.0 * (self.bore_mm / 1e3) ** 2 * self.stroke_mm / 1e3 * self.cylinders


class Station(_Document):
    """A place along the vehicle, from filter to tyre, and what is fitted there."""

    key: str
    title: str
    line: Literal["air", "engine", "exhaust", "drive"]
    fitted: str
    limit_keys: tuple[str, ...] = ()


class JobSheet(_Document):
    """What the job is about; the base of its checks and its release."""

    title: Annotated[str, Field(min_length=1)]
    shop: str
    vehicle: Vehicle
    purpose: Literal["towing", "daily road", "track", "race", "rescue"]
    use: Literal["public road", "closed course"]
    altitude_m: float
    standard: str
    band_rpm: tuple[float, float]
    limits: tuple[ComponentLimit, ...]
    stations: tuple[Station, ...]
    pulls_required: Annotated[int, Field(ge=1)] = 3

    @model_validator(mode="after")
    def _makes_sense(self) -> JobSheet:
        if self.band_rpm[0] >= self.band_rpm[1]:
            raise ValueError("the scored band must rise")
        if self.standard not in STANDARDS:
            raise ValueError(f"there is no correction standard {self.standard!r}")
        return self


@dataclass(frozen=True)
class Build:
    """The state of the hardware between two fitting events; `fitted` is what changed, by station key."""

    number: int
    title: str
    time: str
    fitted: dict[str, str]


@dataclass(frozen=True)
class Revision:
    """An immutable set of maps: parent, reason, author, time, image by its SHA-256, edits against the parent."""

    id: int
    name: str
    parent_id: int | None
    reason: str
    author: str
    time: str
    image: str
    build: int
    edits: tuple[Edit, ...]


@dataclass(frozen=True)
class Draft:
    """The one thing that changes: edits on top of a revision, kept on disk after each."""

    parent_id: int
    edits: tuple[Edit, ...]
    time: str


@dataclass(frozen=True)
class Evidence:
    """A measured run, tied to one revision and one build. Its log is loaded by `Job.log`."""

    id: str
    title: str
    revision_id: int
    build: int
    time: str
    source: str
    conditions: Conditions | None


@dataclass(frozen=True)
class Flash:
    """A verified write of a revision's image into a unit."""

    revision_id: int
    time: str
    unit: str
    image: str
    blocks: int


@dataclass(frozen=True)
class Waiver:
    """A condition of release that a named person set aside, with the reason."""

    revision_id: int
    condition: str
    name: str
    reason: str
    time: str


@dataclass(frozen=True)
class Release:
    """A signed revision: who, when, the manifest's SHA-256 and the name of the package."""

    revision_id: int
    name: str
    time: str
    manifest_sha256: str
    package: str


@dataclass(frozen=True)
class Entry:
    """A line of the journal."""

    time: str
    subject: str
    sentence: str
