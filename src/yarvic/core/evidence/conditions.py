"""Under what conditions evidence was taken."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from yarvic.core.document import Document
from yarvic.core.physics.air import Air

# How a run was made, in words.
RUN_WORDS = {
    "inertia": "free on the roller",
    "ramp": "against a brake's ramp",
    "hold": "at a held speed",
    "road": "on a road",
    "climb": "climbing at a speed",
    "coast": "coasting down, clutch open",
}
# The same in one word, for tables.
RUN_SHORT = {"inertia": "free", "ramp": "ramp", "hold": "held", "road": "road", "climb": "climb", "coast": "coast"}


class Conditions(Document):
    """Weather, fuel and rig of a run. Stored with the evidence; `simulated` stays with it into every sheet."""

    # Wide enough for any air that can be breathed, and any charge: `air` holds it to what a dyno may see.
    pressure_pa: Annotated[float, Field(gt=0, le=200e3)]
    temperature_k: Annotated[float, Field(gt=0, le=400)]
    relative_humidity: Annotated[float, Field(ge=0, le=1)]
    fuel: str
    slot: str = ""  # of the maps that the unit ran on; empty where nobody said
    dyno: str
    gear: Annotated[int, Field(ge=1, le=40)]
    throttle: Annotated[float, Field(ge=0, le=1)]
    engine_per_roller: Annotated[float, Field(gt=0)] | None = None
    roller_inertia_kg_m2: Annotated[float, Field(gt=0)] | None = None
    cool_down_s: Annotated[float, Field(ge=0, le=1e7)]
    charge_start_k: Annotated[float, Field(gt=0, le=1500)]
    simulated: bool
    run: Literal["inertia", "ramp", "hold", "road", "climb", "coast"] = "inertia"
    fan: Annotated[float, Field(ge=0, le=1)] = 1.0
    grade: Annotated[float, Field(ge=-1, le=1)] = 0.0
    mass_kg: Annotated[float, Field(gt=0)] | None = None
    turning_inertia_kg_m2: Annotated[float, Field(gt=0)] | None = (
        None  # of a coast-down: all that turns, at the roller
    )
    faults: dict[str, Annotated[float, Field(ge=0, le=1)]] = Field(
        default_factory=dict
    )  # switched on at the simulated bench, by severity

    @property
    def air(self) -> Air:
        """The ambient air. Raises UnitError when it is out of all bounds."""
        return Air(self.pressure_pa, self.temperature_k, self.relative_humidity)

    def comparable_with(self, other: Conditions) -> list[str]:
        """What keeps two runs from being compared in absolute terms; empty when nothing does."""
        reasons = []
        if self.fuel != other.fuel:
            reasons.append(f"they were run on two fuels ({self.fuel}, {other.fuel})")
        if self.slot != other.slot and self.slot and other.slot:
            reasons.append(f"they were run on two map slots ({self.slot}, {other.slot})")
        if self.dyno != other.dyno:
            reasons.append(f"they come from two dynos ({self.dyno}, {other.dyno})")
        if self.gear != other.gear:
            reasons.append(f"they were pulled in gears {self.gear} and {other.gear}")
        if self.run != other.run:
            reasons.append(f"they were run in two ways ({RUN_WORDS[self.run]}, {RUN_WORDS[other.run]})")
        if self.faults != other.faults:
            reasons.append("faults were injected in one and not in the other")
        if abs(self.throttle - other.throttle) > 0.02:
            reasons.append(f"throttle differs ({self.throttle * 100:.0f} and {other.throttle * 100:.0f} %)")
        return reasons
