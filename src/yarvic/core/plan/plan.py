"""The plan of a job: target, stages with what they need, what work costs, and answers that were worked out for it."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Annotated, Literal

from pydantic import Field, model_validator

from yarvic.core.document import Document
from yarvic.core.physics.power import RAD_PER_S_PER_RPM
from yarvic.core.plan.parts import Part
from yarvic.core.units import UNITS, to_canonical

Band = Literal["safe", "stretch"]


class Target(Document):
    """What the engine is to make: power or torque, at wheel or crank, held over a band of engine speed."""

    quantity: Literal["power", "torque"]
    value: Annotated[float, Field(gt=0, le=1e6)]
    unit: str
    basis: Literal["wheel", "crank"]
    band_rpm: tuple[Annotated[float, Field(gt=0, le=25000)], Annotated[float, Field(gt=0, le=25000)]]

    @model_validator(mode="after")
    def _makes_sense(self) -> Target:
        if self.unit not in UNITS or UNITS[self.unit].quantity != self.quantity:
            raise ValueError(f"{self.unit!r} is no unit of {self.quantity}")
        if self.band_rpm[0] > self.band_rpm[1]:
            raise ValueError("the target's band must rise")
        return self

    @property
    def canonical(self) -> float:
        """The value in W or N m."""
        return float(to_canonical(self.value, self.unit))

    def demands(self) -> tuple[float, float]:
        """Highest power (W) and torque (N m) over the band, on the target's basis.

        A power that is held over the band asks for most torque at its lower end, P / w; a torque for most power at its
        upper end, T w.
        """
        low, high = (n * RAD_PER_S_PER_RPM for n in self.band_rpm)
        if self.quantity == "power":
            return self.canonical, self.canonical / low
        return self.canonical * high, self.canonical


class Stage(Document):
    """A step of the plan: parts, what the map is to do, what it should bring, and the revisions made for it.

    `gain_low_kw` to `gain_high_kw`: over the stage before, at the wheel. `gearbox_calibration` is the gearbox unit's
    part of the pair.
    """

    title: Annotated[str, Field(min_length=1, max_length=60)]
    parts: tuple[str, ...] = ()
    intent: str = ""
    gain_low_kw: Annotated[float, Field(ge=-1e4, le=1e4)] | None = None
    gain_high_kw: Annotated[float, Field(ge=-1e4, le=1e4)] | None = None
    fuel: str = ""
    gearbox_calibration: str = ""
    revisions: tuple[str, ...] = ()
    map_hours: Annotated[float, Field(ge=0, le=1e4)] = 0.0
    fees: Annotated[float, Field(ge=0, le=1e7)] = 0.0

    @model_validator(mode="after")
    def _makes_sense(self) -> Stage:
        low, high = self.gain_low_kw, self.gain_high_kw
        if low is not None and high is not None and low > high:
            raise ValueError(f"stage {self.title}: the gain's range must rise")
        return self


class Answer(Document):
    """Something that was worked out for the plan: which sheet, from what, and what came out."""

    sheet: str
    sentence: str
    source: str
    when: str = ""


class Plan(Document):
    """All of it. `rate` is per hour of work; money is in `currency`. `margin` is kept to every limit."""

    target: Target | None = None
    band: Band = "safe"
    margin: Annotated[float, Field(ge=0, le=0.5)] = 0.05
    budget: Annotated[float, Field(ge=0, le=1e8)] | None = None
    stages: Annotated[tuple[Stage, ...], Field(max_length=50)] = ()
    rate: Annotated[float, Field(ge=0, le=1e5)] = 0.0
    currency: Annotated[str, Field(max_length=8)] = ""
    rerate_fee: Annotated[float, Field(ge=0, le=1e6)] = 0.0
    rerate_hours: Annotated[float, Field(ge=0, le=1e3)] = 0.0
    answers: Annotated[tuple[Answer, ...], Field(max_length=100)] = ()

    @model_validator(mode="after")
    def _makes_sense(self) -> Plan:
        titles = [s.title for s in self.stages]
        if len(titles) != len(set(titles)):
            raise ValueError("two stages have one title")
        revisions = [r for s in self.stages for r in s.revisions]
        if len(revisions) != len(set(revisions)):
            raise ValueError("a revision belongs to one stage")
        return self

    def stage_of(self, revision: str) -> Stage | None:
        """The stage that a revision was made for; None for one of no stage."""
        return next((s for s in self.stages if revision in s.revisions), None)

    def required(self, stage: Stage, parts: Iterable[Part]) -> tuple[str, ...]:
        """The parts that must be fitted for a stage: its own and those of the stages before, but for the replaced ones."""
        known = {p.key: p for p in parts}
        needed: list[str] = []
        for each in self.stages:
            for key in each.parts:
                out = set(known[key].excludes) if key in known else set()
                out |= {k for k in needed if k in known and key in known[k].excludes}
                needed = [k for k in needed if k not in out]
                if key not in needed:
                    needed.append(key)
            if each.title == stage.title:
                break
        return tuple(needed)


def not_fitted(required: Iterable[str], fitted: Collection[str], parts: Iterable[Part]) -> list[str]:
    """The titles of required parts that are not on the vehicle."""
    titles = {p.key: p.title for p in parts}
    return [titles.get(key, key) for key in required if key not in fitted]
