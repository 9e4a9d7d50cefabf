"""Parameters of a simulated vehicle, read from a data file with units and comments."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from importlib.resources import files
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from yarvic.core.errors import FormatError


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Engine(_Part):
    """Cylinder geometry, burn and knock."""

    cylinders: int
    bore_m: float
    stroke_m: float
    rod_m: float
    compression_ratio: float
    indicated_share: float
    intake_valve_closes_deg: float
    coolant_share: float
    coolant_share_per_deg: float
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
    cylinder_filling: tuple[float, ...]
    cylinder_heat_k: tuple[float, ...]
    burn_spread_deg: float

    @property
    def displacement_m3(self) -> float:
        """Swept volume of all cylinders."""
        return 3.141592653589793 / 4.0 * self.bore_m**2 * self.stroke_m * self.cylinders


class Filling(_Part):
    """True volumetric efficiency over engine speed."""

    speed_rpm: tuple[float, ...]
    efficiency: tuple[float, ...]
    back_pressure_slope: float


class Throttle(_Part):
    """Throttle flow capacity, fully open."""

    capacity: float


class Turbo(_Part):
    """Compressor, turbine and wastegate."""

    inertia_kg_m2: float
    wheel_radius_m: float
    head_coefficient: float
    flow_choke: float
    flow_best: float
    head_exponent: float
    efficiency_best: float
    efficiency_curvature: float
    turbine_capacity: float
    wastegate_capacity: float
    turbine_efficiency: float
    friction_w_per_rad2: float
    volume_lag_s: float
    wastegate_lag_s: float
    spring_crack_pa: float
    spring_range_pa: float
    duty_authority: float


class Exhaust(_Part):
    """Back pressure behind the turbine."""

    back_pressure_pa: float


class Cooler(_Part):
    """Charge cooler and the heat of the air before the compressor."""

    effectiveness: float
    heat_capacity_j_k: float
    to_air_w_k: float
    intake_heat_k: float


class Rail(_Part):
    """High-pressure pump, rail and injectors."""

    pump_m3_per_cam_rev: float
    pump_efficiency: float
    pump_speed_loss: float
    volume_m3: float
    bulk_modulus_pa: float
    leak_m3_s_at_target: float
    injector_static_kg_s: float
    window_deg: float


class ExhaustGas(_Part):
    """Loss between valve and thermocouple."""

    manifold_loss_k: float


class Thermal(_Part):
    """Coolant, oil and under-bonnet heat."""

    coolant_k: float
    oil_k: float
    coolant_j_k: float
    oil_j_k: float
    radiator_w_k: float
    soak_s: float


class Driveline(_Part):
    """Losses, ratios and inertia from crank to tyre."""

    efficiency: float
    rotating_inertia_kg_m2: float
    gear_ratios: tuple[float, ...]
    final_drive: float
    tyre_radius_m: float
    wheels_inertia_kg_m2: float


class Plant(_Part):
    """All parameters of one vehicle; `parts` change some of them when fitted."""

    name: str
    fuel: str
    engine: Engine
    filling: Filling
    throttle: Throttle
    turbo: Turbo
    exhaust: Exhaust
    cooler: Cooler
    rail: Rail
    exhaust_gas: ExhaustGas
    thermal: Thermal
    driveline: Driveline
    parts: dict[str, dict[str, dict[str, dict[str, float]]]] = Field(default_factory=dict)

    def with_parts(self, fitted: Mapping[str, str]) -> Plant:
        """The vehicle with its fitted parts, by station; a part the plant does not know changes nothing."""
        document: dict[str, Any] = self.model_dump()
        for station, part in fitted.items():
            for section, values in self.parts.get(station, {}).get(part, {}).items():
                document[section].update(values)
        return Plant.model_validate(document)


def load_plant(name: str) -> Plant:
    """The shipped vehicle of this name. Raises FormatError naming the entry that does not fit."""
    text = files("yarvic.bench").joinpath(f"data/{name}.toml").read_text("utf-8")
    try:
        return Plant.model_validate(tomllib.loads(text))
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(p) for p in first["loc"])
        raise FormatError(f"{place}: {first['msg']}", concerns=f"{name}.toml") from None
