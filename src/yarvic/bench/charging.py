"""The air path of a boosted engine: filter, compressor, leak, cooler and turbine, with what stands between them."""

from __future__ import annotations

from yarvic.bench.plant import TurboDiesel, TurboPetrol
from yarvic.bench.powertrain import Heat, Surroundings
from yarvic.bench.turbo import Gas, TurboState, behind_filter, cool_charge, leak_flow, step_turbo
from yarvic.core.physics.turbo import charge_temperature

EXHAUST_AT_START = 1.05  # pressure before the turbine over ambient, idling
WARM_SHARE = 0.3  # of the under-bonnet heat that the intake has at once


class Charging:
    """One run of it; `outlet_rise_k` is how far the air behind the compressor is over ambient at the start."""

    def __init__(
        self,
        p: TurboPetrol | TurboDiesel,
        around: Surroundings,
        heat: Heat,
        turbo: TurboState,
        outlet_rise_k: float,
    ) -> None:
        self.p, self.around, self.heat, self.turbo = p, around, heat, turbo
        air = around.air
        self.exhaust_pa = air.pressure_pa * EXHAUST_AT_START
        outlet_k = air.temperature_k + outlet_rise_k
        self.charge_k = float(charge_temperature(outlet_k, heat.cooler, p.cooler.effectiveness))

    @property
    def leak_kg_s(self) -> float:
        """What escapes between compressor and engine."""
        return leak_flow(self.p.turbo, self.turbo.boost_pa, self.around.air.pressure_pa, self.charge_k)

    def advance(
        self,
        air_kg_s: float,
        exhaust_kg_s: float,
        exhaust_k: float,
        *,
        capacity: float,
        through: float,
        efficiency_factor: float,
        shutters: float,
        dt: float,
    ) -> None:
        """The engine breathes `air_kg_s`; the turbine has the capacity and the share of the exhaust that is given."""
        p, air = self.p, self.around.air
        inlet_k = air.temperature_k + p.intake.heat_k * (WARM_SHARE + (1.0 - WARM_SHARE) * self.heat.soak)
        flow = air_kg_s + self.leak_kg_s
        inlet_pa = behind_filter(p.intake.filter_drop_pa, air.pressure_pa, flow)
        gas = Gas(flow, exhaust_kg_s, exhaust_k, inlet_pa, inlet_k, air.pressure_pa)
        done = step_turbo(
            p.turbo, p.exhaust, self.turbo, gas,
            capacity=capacity, through=through, efficiency_factor=efficiency_factor, dt=dt,
        )  # fmt: skip
        self.exhaust_pa = done.before_turbine_pa
        self.charge_k = cool_charge(p.cooler, self.heat, self.around, flow, done.outlet_k, shutters, dt)
