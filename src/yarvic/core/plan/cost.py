"""What a plan costs: parts, hours by task, rate and fees, per stage and in all, and per kilowatt."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from yarvic.core.plan.parts import Part
from yarvic.core.plan.plan import Plan, Stage


@dataclass(frozen=True)
class Task:
    """A line of the bill: what, its price, its hours."""

    title: str
    price: float
    hours: float


@dataclass(frozen=True)
class Bill:
    """The tasks of a stage or of a plan at an hourly rate, and fees."""

    tasks: tuple[Task, ...]
    rate: float
    fees: float = 0.0

    @property
    def parts(self) -> float:
        """Price of all parts."""
        return sum(t.price for t in self.tasks)

    @property
    def hours(self) -> float:
        """Hours of all tasks."""
        return sum(t.hours for t in self.tasks)

    @property
    def total(self) -> float:
        """Parts, work and fees."""
        return self.parts + self.hours * self.rate + self.fees

    def per_kw(self, gain_kw: float | None) -> float | None:
        """Cost of a kilowatt gained; None where nothing is gained or it is not known."""
        return self.total / gain_kw if gain_kw is not None and gain_kw > 0.0 else None


def stage_bill(plan: Plan, stage: Stage, parts: Iterable[Part]) -> Bill:
    """The bill of one stage: its own parts with their work, the map's hours, and fees."""
    known: Mapping[str, Part] = {p.key: p for p in parts}
    tasks = [Task(known[k].title, known[k].price, known[k].hours) for k in stage.parts if k in known]
    if stage.map_hours:
        tasks.append(Task("map and pulls", 0.0, stage.map_hours))
    return Bill(tuple(tasks), plan.rate, stage.fees)


def plan_bill(plan: Plan, parts: Iterable[Part]) -> Bill:
    """The bill of all stages together."""
    parts = tuple(parts)
    bills = [stage_bill(plan, s, parts) for s in plan.stages]
    return Bill(tuple(t for b in bills for t in b.tasks), plan.rate, sum(b.fees for b in bills))


def rerating_bill(plan: Plan) -> Bill:
    """The bill of moving the engine to another rating of its family."""
    return Bill((Task("another rating of the family", 0.0, plan.rerate_hours),), plan.rate, plan.rerate_fee)


def planned_gain_kw(stage: Stage) -> float | None:
    """The middle of the gain that a stage should bring; None where its range is not stated."""
    if stage.gain_low_kw is None or stage.gain_high_kw is None:
        return None
    return (stage.gain_low_kw + stage.gain_high_kw) / 2.0
