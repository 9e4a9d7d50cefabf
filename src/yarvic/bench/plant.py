"""Parameters of the simulated vehicles, read from data files with units and comments."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from importlib.resources import files
from math import pi
from typing import Annotated, Any, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from yarvic.core.errors import FormatError


class Part(BaseModel):
    """A group of parameters; unknown names and numbers that are not finite are refused."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Block(Part):
    """Cylinder geometry and the losses that every kind of engine has."""

    cylinders: int
    bore_m: float
    stroke_m: float
    rod_m: float
    compression_ratio: float
    heat_reference_kg_s: float
    coolant_share: float
    coolant_share_per_deg: float
    friction_scale: float
    cylinder_filling: tuple[float, ...]
    cylinder_fuel: tuple[float, ...]

    @property
    def displacement_m3(self) -> float:
        """Swept volume of all cylinders."""
        return pi / 4.0 * self.bore_m**2 * self.stroke_m * self.cylinders


class SparkEngine(Block):
    """Burn and knock of a spark-ignition engine."""

    indicated_share: float
    intake_valve_closes_deg: float
    start_temperature_rise_k: float
    evaporation_share: float
    burn_deg: float
    burn_speed_exponent: float
    burn_filling_exponent: float
    burn_lambda_slope: float
    delay_deg: float
    delay_deg_per_1000rpm: float
    octane_shift: float
    knock_threshold: float
    cylinder_heat_k: tuple[float, ...]
    burn_spread_deg: float


class DieselEngine(Block):
    """Burn and smoke of a compression-ignition engine."""

    indicated_share: float
    rich_loss: float
    start_best_deg: float
    start_best_deg_per_1000rpm: float
    start_loss_per_deg2: float
    cetane: float
    smoke_at_limit: float
    smoke_lambda_scale: float
    smoke_per_deg_late: float
    smoke_rail_exponent: float


class Filling(Part):
    """True volumetric efficiency over engine speed, referred to the manifold, for charge of `reference_k`."""

    reference_k: float
    speed_rpm: tuple[float, ...]
    efficiency: tuple[float, ...]
    back_pressure_slope: float


class Cam(Part):
    """Variable cam phase: which phase fills best, and what missing it costs."""

    speed_rpm: tuple[float, ...]
    best_deg: tuple[float, ...]
    loss_per_deg2: float
    lag_s: float


class Tuning(Part):
    """Waves in intake and exhaust: lengths decide at which speeds they fill, widths and gains how much."""

    intake_long_m: float
    intake_short_m: float
    intake_angle_deg: float
    intake_gain: float
    exhaust_m: float
    exhaust_angle_deg: float
    exhaust_gain: float
    width: float
    sound_intake_m_s: float
    sound_exhaust_m_s: float


class Throttle(Part):
    """Throttle flow capacity, fully open."""

    capacity: float


class Intake(Part):
    """Filter and intake pipe: pressure lost at 0.10 kg/s, and the heat of the air under the bonnet."""

    filter_drop_pa: float
    heat_k: float


class Turbo(Part):
    """Compressor, turbine and rotor, and what leaks between compressor and engine."""

    inertia_kg_m2: float
    wheel_radius_m: float
    head_coefficient: float
    flow_choke: float
    flow_best: float
    head_exponent: float
    efficiency_best: float
    efficiency_curvature: float
    turbine_efficiency: float
    friction_w_per_rad2: float
    volume_lag_s: float
    leak_capacity: float = 0.0


class Wastegate(Part):
    """Turbine of one size with a gate beside it that boost opens against a spring."""

    turbine_capacity: float
    gate_capacity: float
    lag_s: float
    spring_crack_pa: float
    spring_range_pa: float
    duty_authority: float


class Vanes(Part):
    """Turbine whose size follows its vanes, best at one position."""

    capacity_shut: float
    capacity_open: float
    best_open: float
    efficiency_curvature: float
    lag_s: float


class Exhaust(Part):
    """Back pressure behind the turbine at 0.10 kg/s and 1000 K."""

    back_pressure_pa: float


class Cooler(Part):
    """Charge cooler, and shutters before it (none: `shutter_leak` is 1)."""

    effectiveness: float
    heat_capacity_j_k: float
    to_air_w_k: float
    shutter_leak: float
    shutter_lag_s: float


class Rail(Part):
    """High-pressure pump, rail and injectors; what feeds the pump."""

    rated_pa: float
    pump_m3_per_rev: float
    pump_efficiency: float
    pump_speed_loss: float
    pump_speed_from_rpm: float
    volume_m3: float
    bulk_modulus_pa: float
    leak_m3_s_at_rated: float
    injector_static_kg_s: float
    window_deg: float
    feed_m3_s: float


class PortInjection(Part):
    """Injectors in the intake port and the pump that feeds them: `pump_stall` times the rated pressure at no flow,
    falling to none at `pump_kg_s`, with a regulator at the rated one."""

    rated_pa: float
    injector_static_kg_s: float
    dead_time_s: float
    dead_time_s_per_v: float
    pump_kg_s: float
    pump_stall: float


class ExhaustGas(Part):
    """What the gas loses between valve and thermocouple: transfer units at the engine's heat reference flow."""

    manifold_ntu: float


class Thermal(Part):
    """Coolant, oil, gearbox oil and under-bonnet heat."""

    coolant_k: float
    oil_k: float
    coolant_j_k: float
    oil_j_k: float
    radiator_w_k: float
    soak_s: float
    gearbox_j_k: float
    gearbox_w_k: float
    fan_w_k: float = 0.0
    fan_from_k: float = 400.0


class Driveline(Part):
    """Losses, ratios and inertia from crank to tyre; what clutch and gearbox hold, at the crank."""

    efficiency: float
    rotating_inertia_kg_m2: float
    gear_ratios: tuple[float, ...]
    final_drive: float
    tyre_radius_m: float
    wheels_inertia_kg_m2: float
    clutch_nm: float
    gearbox_rating_nm: float
    coast_reference_w: float


class Body(Part):
    """What a road resists."""

    mass_kg: float
    drag_area_m2: float
    rolling: float


class Habit(Part):
    """How this vehicle is usually pulled."""

    gear: int
    start_rpm: float
    end_rpm: float
    lead_throttle: float
    ramp_rpm_s: float
    climb_gear: int
    climb_km_h: float


class _Vehicle(Part):
    name: str
    fuel: str
    throttle: Throttle
    intake: Intake
    exhaust_gas: ExhaustGas
    thermal: Thermal
    driveline: Driveline
    body: Body
    habit: Habit
    parts: dict[str, dict[str, dict[str, dict[str, float]]]] = Field(default_factory=dict)


class TurboPetrol(_Vehicle):
    """Spark ignition, direct injection, turbocharger with wastegate."""

    kind: Literal["turbo petrol"]
    engine: SparkEngine
    filling: Filling
    cam: Cam
    turbo: Turbo
    wastegate: Wastegate
    exhaust: Exhaust
    cooler: Cooler
    rail: Rail


class TurboDiesel(_Vehicle):
    """Compression ignition, common rail, turbocharger with variable vanes."""

    kind: Literal["turbo diesel"]
    engine: DieselEngine
    filling: Filling
    turbo: Turbo
    vanes: Vanes
    exhaust: Exhaust
    cooler: Cooler
    rail: Rail


class NaturalPetrol(_Vehicle):
    """Spark ignition, port injection, breathing by itself through an intake of two lengths."""

    kind: Literal["natural petrol"]
    engine: SparkEngine
    filling: Filling
    tuning: Tuning
    injection: PortInjection


Plant = Annotated[TurboPetrol | TurboDiesel | NaturalPetrol, Field(discriminator="kind")]
_READER: TypeAdapter[TurboPetrol | TurboDiesel | NaturalPetrol] = TypeAdapter(Plant)
AnyPlant = TurboPetrol | TurboDiesel | NaturalPetrol


P = TypeVar("P", bound=_Vehicle)


def with_parts(plant: P, fitted: Mapping[str, str]) -> P:
    """The vehicle with its fitted parts, by station; a part the plant does not know changes nothing."""
    changes: dict[str, dict[str, float]] = {}
    for station, part in fitted.items():
        for section, values in plant.parts.get(station, {}).get(part, {}).items():
            changes.setdefault(section, {}).update(values)
    return changed(plant, changes)


def changed(plant: P, sections: Mapping[str, Mapping[str, Any]]) -> P:
    """The same vehicle with some parameters replaced, by section. Raises FormatError for a name it has not."""
    document: dict[str, Any] = plant.model_dump()
    for section, values in sections.items():
        if section not in document or not set(values) <= set(document[section]):
            raise FormatError(
                f"{plant.name} has no such parameters: {section} {sorted(values)}", remedy="Correct the names."
            )
        document[section].update(values)
    return type(plant).model_validate(document)


def load_plant(name: str) -> AnyPlant:
    """The shipped vehicle of this name. Raises FormatError naming the entry that does not fit."""
    text = files("yarvic.bench").joinpath(f"data/{name}.toml").read_text("utf-8")
    try:
        return _READER.validate_python(tomllib.loads(text))
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(p) for p in first["loc"])
        raise FormatError(
            f"{place}: {first['msg']}", concerns=f"{name}.toml", remedy="Correct the entry named."
        ) from None
