"""What components stand: three bands on a stated basis, where it comes from, and what moves it."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field, model_validator

from yarvic.core.checks.rule import Rule
from yarvic.core.document import Document
from yarvic.core.units import UNITS, from_canonical, to_canonical

Basis = Literal["wheel", "crank", "gas", "shaft", "fuel"]
LimitKey = Literal[
    "power",
    "torque",
    "gearbox_torque",
    "boost",
    "exhaust_temperature",
    "injector_duty",
    "injector_window",
    "rail_sag",
    "engine_speed",
    "piston_speed",
]


@dataclass(frozen=True)
class Limited:
    """A quantity that a component limits: what it is called, its kind of unit, and the bases on which it may stand."""

    title: str
    quantity: str
    bases: tuple[Basis, ...]
    shown_as: str = ""

    @property
    def unit_choice(self) -> str:
        """The key under which a person chooses its unit."""
        return self.shown_as or self.quantity


LIMITED: dict[LimitKey, Limited] = {
    "power": Limited("power", "power", ("wheel", "crank")),
    "torque": Limited("torque", "torque", ("wheel", "crank")),
    "gearbox_torque": Limited("gearbox torque", "torque", ("crank", "wheel")),
    "boost": Limited("boost", "pressure", ("gas",)),
    "exhaust_temperature": Limited("exhaust temperature", "temperature", ("gas",)),
    "injector_duty": Limited("injector duty", "ratio", ("fuel",)),
    "injector_window": Limited("injector window", "ratio", ("fuel",)),
    "rail_sag": Limited("rail pressure sag", "pressure", ("fuel",), "fuel pressure"),
    "engine_speed": Limited("engine speed", "engine speed", ("shaft",)),
    "piston_speed": Limited("piston speed", "speed", ("shaft",)),
}
MOST_MOVERS = 60
# No limit in any unit is larger: what is, is a slip of the hand.
Bounded = Annotated[float, Field(ge=-1e9, le=1e9)]
# Limits that the load sets: these give way when more is asked of the engine.
OF_THE_DRIVE = ("power", "torque", "gearbox_torque")


class Mover(Document):
    """A part that moves a limit when it is fitted: `adds` to it, or is what it `becomes`. In the limit's unit."""

    part: Annotated[str, Field(min_length=1)]
    how: Literal["adds", "becomes"] = "adds"
    safe: Bounded
    stretch: Bounded
    why: str = ""

    def in_words(self, unit: str) -> str:
        """What it does to a limit in this unit: `+20 to +22 kW`, `becomes 112 to 120 kW`."""
        if self.how == "adds":
            return f"{self.safe:+g} to {self.stretch:+g} {unit}"
        return f"becomes {self.safe:g} to {self.stretch:g} {unit}"

    @model_validator(mode="after")
    def _in_order(self) -> Mover:
        if self.how == "becomes" and self.safe > self.stretch:
            raise ValueError(f"with {self.part}: safe is above stretch")
        return self


class ComponentLimit(Document):
    """What a component stands: `safe` always, up to `stretch` at the cost of its life, beyond it not at all.

    `speed_rpm` is the engine speed at which a torque is asked of it, where that is known.
    """

    key: LimitKey
    component: Annotated[str, Field(min_length=1, max_length=80)]
    basis: Basis
    unit: str
    safe: Bounded
    stretch: Bounded
    source: Annotated[str, Field(min_length=1, max_length=400)]
    station: str = ""
    speed_rpm: Annotated[float, Field(gt=0)] | None = None
    moved_by: Annotated[tuple[Mover, ...], Field(max_length=MOST_MOVERS)] = ()

    @model_validator(mode="after")
    def _makes_sense(self) -> ComponentLimit:
        asked = LIMITED[self.key]
        if self.unit not in UNITS:
            raise ValueError(f"unit {self.unit!r} is unknown")
        if UNITS[self.unit].quantity != asked.quantity:
            raise ValueError(
                f"{self.component}: {self.unit} measures {UNITS[self.unit].quantity}, but {asked.title} is {asked.quantity}"
            )
        if self.basis not in asked.bases:
            raise ValueError(f"{self.component}: {asked.title} is at {' or '.join(asked.bases)}, not {self.basis}")
        if self.safe > self.stretch:
            raise ValueError(f"{self.component}: safe is above stretch")
        if self.canonical("safe") < 0.0 or self.canonical("stretch") <= 0.0:
            raise ValueError(f"{self.component}: a limit is above zero")
        return self

    @property
    def limited(self) -> Limited:
        """The quantity it limits."""
        return LIMITED[self.key]

    @property
    def name(self) -> tuple[str, str]:
        """What tells it from the others of a ledger."""
        return self.component, self.key

    def canonical(self, band: Literal["safe", "stretch"]) -> float:
        """The end of a band in the canonical unit."""
        return float(to_canonical(getattr(self, band), self.unit))

    def carried(self, parts: Collection[str]) -> tuple[float, float]:
        """Ends of safe and stretch with these parts fitted: the best that it becomes, and what they add."""
        fitted = [m for m in self.moved_by if m.part in parts]
        best = max((m for m in fitted if m.how == "becomes"), key=lambda m: m.stretch, default=None)
        safe, stretch = (best.safe, best.stretch) if best else (self.safe, self.stretch)
        adds = [m for m in fitted if m.how == "adds"]
        return safe + sum(m.safe for m in adds), stretch + sum(m.stretch for m in adds)

    def with_parts(self, parts: Collection[str]) -> ComponentLimit:
        """The limit with these parts fitted; safe never ends above stretch."""
        safe, stretch = self.carried(parts)
        return self.model_copy(update={"safe": min(safe, stretch), "stretch": stretch})

    def at(self, basis: Basis, loss: float | None) -> ComponentLimit:
        """The limit on another basis, by the share of crank power that the drivetrain loses; the same if it cannot be."""
        if basis == self.basis or {basis, self.basis} != {"wheel", "crank"} or loss is None:
            return self
        factor = 1.0 - loss if basis == "wheel" else 1.0 / (1.0 - loss)
        safe, stretch = (float(from_canonical(self.canonical(b) * factor, self.unit)) for b in ("safe", "stretch"))
        return self.model_copy(update={"basis": basis, "safe": safe, "stretch": stretch, "source": self.source})

    def rule(self, title: str) -> Rule:
        """The same limit as a rule."""
        return Rule(
            title=title, quantity=UNITS[self.unit].quantity, unit=self.unit, side="above", watch=self.safe,
            stop=self.stretch, source=f"{self.component}: {self.source}",
        )  # fmt: skip


def as_fitted(
    limits: Iterable[ComponentLimit], parts: Collection[str], loss: float | None, stroke_mm: float | None = None
) -> tuple[ComponentLimit, ...]:
    """The limits as they are measured, with these parts fitted: at the wheels, and piston speed as engine speed.

    What lacks the loss or the stroke for that stays as it is.
    """
    return tuple(_as_speed(limit.with_parts(parts).at("wheel", loss), stroke_mm) for limit in limits)


def _as_speed(limit: ComponentLimit, stroke_mm: float | None) -> ComponentLimit:
    """A limit of mean piston speed (2 S N, Heywood eq. 2.9) as one of engine speed."""
    if limit.key != "piston_speed" or stroke_mm is None:
        return limit
    safe, stretch = (limit.canonical(b) / (2.0 * stroke_mm / 1e3) * 60.0 for b in ("safe", "stretch"))
    source = f"piston speed {limit.safe:g} to {limit.stretch:g} {limit.unit}; {limit.source}"
    changed = {"key": "engine_speed", "unit": "rpm", "safe": safe, "stretch": stretch, "source": source}
    return limit.model_copy(update=changed)
