"""Under what conditions evidence was taken."""

from __future__ import annotations

import math
from functools import cache
from typing import Annotated, Literal

from pydantic import Field

from yarvic.core.document import Document
from yarvic.core.errors import EvidenceError
from yarvic.core.physics.air import Air

# How a run was made, in words.
RUN_WORDS = {
    "": "in a way that nobody stated",
    "inertia": "free on the roller",
    "ramp": "against a brake's ramp",
    "hold": "at a held speed",
    "road": "on a road",
    "climb": "climbing at a speed",
    "coast": "coasting down, clutch open",
}
# The same in one word, for tables.
RUN_SHORT = {
    "": "?",
    "inertia": "free",
    "ramp": "ramp",
    "hold": "held",
    "road": "road",
    "climb": "climb",
    "coast": "coast",
}

# Tyre pressures nearer than this are alike. Our choice.
TYRES_ALIKE_PA = 10e3


class Conditions(Document):
    """Weather, fuel and rig of a run, each of which may be unknown (None, or empty): what needs one then says so.

    Stored with the evidence; `simulated` stays with it into every sheet.
    """

    # Wide enough for any air that can be breathed, and any charge: `air` holds it to what a dyno may see.
    pressure_pa: Annotated[float, Field(gt=0, le=200e3)] | None = None
    temperature_k: Annotated[float, Field(gt=0, le=400)] | None = None
    relative_humidity: Annotated[float, Field(ge=0, le=1)] | None = None
    fuel: str = ""
    slot: str = ""  # of the maps that the unit ran on; empty where nobody said
    dyno: str = ""
    gear: Annotated[int, Field(ge=1, le=40)] | None = None
    throttle: Annotated[float, Field(ge=0, le=1)] | None = None
    engine_per_roller: Annotated[float, Field(gt=0)] | None = None
    roller_inertia_kg_m2: Annotated[float, Field(gt=0)] | None = None
    cool_down_s: Annotated[float, Field(ge=0, le=1e7)] | None = None
    charge_start_k: Annotated[float, Field(gt=0, le=1500)] | None = None
    simulated: bool
    run: Literal["", "inertia", "ramp", "hold", "road", "climb", "coast"] = "inertia"
    fan: Annotated[float, Field(ge=0, le=1)] | None = 1.0
    grade: Annotated[float, Field(ge=-1, le=1)] = 0.0
    mass_kg: Annotated[float, Field(gt=0)] | None = None
    turning_inertia_kg_m2: Annotated[float, Field(gt=0)] | None = (
        None  # of a coast-down: all that turns, at the roller
    )
    tyre_pressure_pa: Annotated[float, Field(gt=0, le=1e6)] | None = None  # above the barometer
    strapping: Annotated[str, Field(max_length=200)] = ""
    note: Annotated[str, Field(max_length=1000)] = ""
    stated_factor: Annotated[float, Field(ge=0.5, le=2.0)] | None = None  # of the correction, as a sheet states it
    faults: dict[str, Annotated[float, Field(ge=0, le=1)]] = Field(
        default_factory=dict
    )  # switched on at the simulated bench, by severity

    @property
    def unknown_air(self) -> list[str]:
        """What of the ambient air is not known, in words."""
        found = {"pressure": self.pressure_pa, "temperature": self.temperature_k, "humidity": self.relative_humidity}
        return [name for name, value in found.items() if value is None]

    @property
    def air(self) -> Air:
        """The ambient air. Raises EvidenceError where some of it is unknown, UnitError when it is out of all bounds."""
        unknown = self.unknown_air
        if self.pressure_pa is None or self.temperature_k is None or self.relative_humidity is None:
            what = (
                ", ".join(unknown[:-1]) + " and " + unknown[-1] + " are" if len(unknown) > 1 else f"{unknown[0]} is"
            )
            raise EvidenceError(f"the air's {what} unknown", remedy="State it with the run's conditions.")
        return Air(self.pressure_pa, self.temperature_k, self.relative_humidity)

    def comparable_with(self, other: Conditions) -> list[str]:
        """What keeps two runs from being compared in absolute terms; empty when nothing does.

        What is known of the one and not of the other keeps them apart as well.
        """
        reasons = []
        if self.simulated != other.simulated:
            reasons.append("one was simulated, the other measured")
        for name, one, two, words in (
            ("fuel", self.fuel, other.fuel, "they were run on two fuels"),
            ("dyno", self.dyno, other.dyno, "they come from two dynos"),
        ):
            if bool(one) != bool(two):
                reasons.append(f"the {name} of one of them is unknown")
            elif one != two:
                reasons.append(f"{words} ({one}, {two})")
        if self.slot != other.slot and self.slot and other.slot:
            reasons.append(f"they were run on two map slots ({self.slot}, {other.slot})")
        if (self.gear is None) != (other.gear is None):
            reasons.append("the gear of one of them is unknown")
        elif self.gear != other.gear:
            reasons.append(f"they were pulled in gears {self.gear} and {other.gear}")
        reasons += self._run_otherwise(other)
        if self.faults != other.faults:
            reasons.append("faults were injected in one and not in the other")
        if self.throttle is not None and other.throttle is not None and abs(self.throttle - other.throttle) > 0.02:
            reasons.append(f"throttle differs ({self.throttle * 100:.0f} and {other.throttle * 100:.0f} %)")
        return reasons

    def _run_otherwise(self, other: Conditions) -> list[str]:
        """What of the way in which two runs were made differs: the kind of run, tyres, straps."""
        reasons = []
        if bool(self.run) != bool(other.run):
            reasons.append("the way in which one of them was run is unknown")
        elif self.run != other.run:
            reasons.append(f"they were run in two ways ({RUN_WORDS[self.run]}, {RUN_WORDS[other.run]})")
        mine, theirs = self.tyre_pressure_pa, other.tyre_pressure_pa
        if mine is not None and theirs is not None and abs(mine - theirs) > TYRES_ALIKE_PA:
            reasons.append("they were run with other tyre pressures")
        if self.strapping and other.strapping and self.strapping.casefold() != other.strapping.casefold():
            reasons.append(f"they were strapped down otherwise ({self.strapping}, {other.strapping})")
        return reasons


@cache
def bounds_of(field: str) -> tuple[float, float]:
    """Within which bounds a number of the conditions lies, in SI, as their document states it."""
    kinds = Conditions.model_json_schema()["properties"][field]["anyOf"]
    number = next(k for k in kinds if k["type"] in ("number", "integer"))
    low = number.get("minimum", number.get("exclusiveMinimum", -math.inf))
    return float(low), float(number.get("maximum", math.inf))
