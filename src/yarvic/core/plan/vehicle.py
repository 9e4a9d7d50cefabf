"""What the vehicle is. An entry that nobody made is None: a sheet may be unfinished, and says what it lacks."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from itertools import pairwise
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.document import Document
from yarvic.core.errors import UnitError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.physics.fuel import fuel
from yarvic.core.typed_numbers import parse_entry, parse_number
from yarvic.core.units import from_canonical

MOST_GEARS = 18


@dataclass(frozen=True)
class Entry:
    """A number that is asked of a vehicle: `low` to `high` in `unit`, which is empty for a bare number."""

    key: str
    title: str
    group: str
    unit: str
    low: float
    high: float
    whole: bool = False

    def fault(self, value: float) -> str:
        """Why a value cannot be right, empty when it can."""
        if self.low <= value <= self.high and not (self.whole and value != int(value)):
            return ""
        unit = f" {self.unit}" if self.unit else ""
        kind = "a whole number " if self.whole else ""
        return f"{self.title} {value:,.10g}{unit} cannot be: give {kind}from {self.low:g} to {self.high:,g}{unit}."

    def read(self, text: str) -> float | None:
        """What a person wrote, in `unit`; None when nothing. Raises UnitError, or ValueError with what to write."""
        words = text.strip()
        if not words:
            return None
        try:
            if self.unit:
                found = parse_entry(words, self.unit, lambda v: not self.fault(float(from_canonical(v, self.unit))))
                value = float(from_canonical(found, self.unit))
            else:
                value = parse_number(words, lambda v: not self.fault(v))
        except UnitError as error:
            raise UnitError(f"{self.title}: {error.what}", remedy=error.remedy) from None
        fault = self.fault(value)
        if fault:
            raise ValueError(fault)
        return round(value, 6)


@cache
def entries() -> Mapping[str, Entry]:
    """All numbers that are asked of a vehicle, in the order of the form."""
    data = tomllib.loads(files("yarvic.core.plan").joinpath("data/vehicle.toml").read_text("utf-8"))
    return {key: Entry(key, **values) for key, values in data.items()}


class Vehicle(Document):
    """The vehicle. Lengths in mm, mass in kg, speeds in 1/min; `drivetrain_loss` in %: of crank power, to the wheel.

    `fuels` names the fuel of each map slot. `family` and `rating` are a diesel's.
    """

    name: Annotated[str, Field(min_length=1, max_length=80)]
    kind: str = ""
    engine: str = ""
    ignition: Literal["spark", "compression"] = "spark"
    induction: Literal["natural", "turbo", "vane turbo", "mechanical"] = "natural"
    injection: Literal["port", "direct", "common rail"] = "port"
    knock_control: bool = False
    cams: str = ""
    cylinders: int | None = None
    bore_mm: float | None = None
    stroke_mm: float | None = None
    compression_ratio: float | None = None
    idle_rpm: float | None = None
    redline_rpm: float | None = None
    fuels: dict[str, str] = Field(default_factory=dict)
    gearbox: Literal["", "manual", "automatic", "double clutch", "sequential", "variable"] = ""
    gearbox_unit: bool = False
    gearbox_torque_nm: float | None = None
    gears: tuple[float, ...] = ()
    final_drive: float | None = None
    clutch: str = ""
    driven: Literal["", "front", "rear", "four wheels", "tracks"] = ""
    tyre_radius_mm: float | None = None
    drivetrain_loss: float | None = None
    drivetrain_loss_from: str = ""
    mass_kg: float | None = None
    frontal_area_m2: float | None = None
    drag_coefficient: float | None = None
    rolling_coefficient: float | None = None
    family: str = ""
    rating: str = ""

    @model_validator(mode="after")
    def _possible(self) -> Vehicle:
        found = faults(self)
        if found:
            raise ValueError(" ".join(found.values()))
        return self

    @property
    def boost_controlled(self) -> bool:
        """Whether the engine holds a boost of its own."""
        return self.induction != "natural"

    @property
    def rail(self) -> bool:
        """Whether its fuel has a pressure target to be held."""
        return self.injection != "port"

    @property
    def asked(self) -> EngineKind:
        """What of the engine decides which checks apply."""
        bore_m = self.bore_mm / 1000.0 if self.bore_mm is not None else None
        return EngineKind(
            self.ignition, self.boost_controlled, self.rail, self.knock_control, self.cylinders or 0, bore_m
        )

    @property
    def loss(self) -> float | None:
        """Share of the crank's power that does not reach the wheels; None when it is not stated."""
        return None if self.drivetrain_loss is None else self.drivetrain_loss / 100.0

    def ran_on(self, slot: str, conditions: Conditions | None) -> bool:
        """Whether a run was made on a map slot: by its own word, by its fuel, or because there is one slot only."""
        if len(self.fuels) <= 1:
            return True
        if conditions is not None and conditions.slot:
            return conditions.slot == slot
        return conditions is not None and [s for s, f in self.fuels.items() if f == conditions.fuel] == [slot]

    def fuel_of(self, slot: str) -> str | None:
        """The fuel of a map slot; of the only one, whatever it is called."""
        return self.fuels.get(slot) if len(self.fuels) != 1 else next(iter(self.fuels.values()))

    def has(self, entry: Mapping[str, Any]) -> bool:
        """Whether a thing that is `only` for some words of an engine, or `not_for` some, is there on this one."""
        words = self.words
        return not words & set(entry.get("not_for", ())) and ("only" not in entry or bool(words & set(entry["only"])))

    @property
    def words(self) -> frozenset[str]:
        """What it is, in the words by which stations and readiness items are chosen."""
        return frozenset({self.ignition, self.induction, self.injection, self.gearbox, self.driven})

    def in_words(self) -> str:
        """Kind and engine in words."""
        return ", ".join(words for words in (self.kind, self.engine) if words) or "kind and engine not stated"


def faults(vehicle: Vehicle | Mapping[str, Any]) -> dict[str, str]:
    """What cannot be, by entry: numbers out of all bounds, and those that contradict each other."""
    values: Mapping[str, Any] = vehicle if isinstance(vehicle, Mapping) else vehicle.__dict__
    found = {
        key: entry.fault(values[key])
        for key, entry in entries().items()
        if values.get(key) is not None and entry.fault(values[key])
    }
    idle, redline = values.get("idle_rpm"), values.get("redline_rpm")
    if idle is not None and redline is not None and redline <= idle and not {"idle_rpm", "redline_rpm"} & set(found):
        found["redline_rpm"] = f"Red line {redline:,.0f} rpm is not above idle, {idle:,.0f} rpm."
    gears = tuple(values.get("gears") or ())
    if len(gears) > MOST_GEARS or any(not 0.2 <= g <= 30.0 for g in gears):
        found["gears"] = f"Gears: give up to {MOST_GEARS} ratios from 0.2 to 30."
    elif any(b >= a for a, b in pairwise(gears)):
        found["gears"] = "Gears: each ratio must be below the one before; give the lowest gear first."
    if values.get("ignition") == "compression" and values.get("injection") == "port":
        found["injection"] = "A diesel does not inject into its ports: choose direct or common rail."
    if values.get("ignition") == "spark" and values.get("injection") == "common rail":
        found["injection"] = "Common rail is a diesel's word here: choose port or direct."
    for slot, key in dict(values.get("fuels") or {}).items():
        if not slot.strip():
            found["fuels"] = "A fuel slot needs a name."
            continue
        try:
            fuel(key)
        except UnitError as error:
            found["fuels"] = f"Slot {slot}: {error}"
    return found
