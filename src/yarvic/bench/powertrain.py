"""What every simulated engine has: surroundings, heat that outlasts a run, and a ledger of its energy."""

from __future__ import annotations

from dataclasses import dataclass
from math import exp
from typing import NamedTuple, Protocol

from yarvic.bench.plant import Thermal
from yarvic.core.physics.air import Air

# A thermostat opens over this many K; oil and gearbox share their losses like this. From memory of usual engines.
THERMOSTAT_K = 8.0
OIL_SHARE = 0.09  # of the coolant's heat
OIL_TO_COOLANT_W_K = 320.0
GEARBOX_START_K = 353.15
GEARBOX_TO_OIL = 0.75  # share of the driveline's loss that warms the gearbox oil
IDLE_COOLING = 0.25  # air that still moves through a standing vehicle with the fan off


@dataclass
class Surroundings:
    """The air around the vehicle, the share of the fan's full air that reaches it, and the supply voltage."""

    air: Air
    dry_share: float
    cooling: float
    voltage: float


@dataclass
class Heat:
    """Temperatures that outlast a run, K; `soak` is the share of the under-bonnet heat that is there."""

    cooler: float
    soak: float
    coolant: float
    oil: float
    gearbox: float


class Ledger(NamedTuple):
    """Where the fuel's power goes at this instant, W: brake at the crank, friction with pumping, coolant, exhaust."""

    fuel_w: float
    brake_w: float
    friction_w: float
    coolant_w: float
    exhaust_w: float

    @property
    def open_w(self) -> float:
        """What is not accounted for."""
        return self.fuel_w - self.brake_w - self.friction_w - self.coolant_w - self.exhaust_w


NO_LEDGER = Ledger(0.0, 0.0, 0.0, 0.0, 0.0)


class Powertrain(Protocol):
    """One engine with its control unit's program, running."""

    ledger: Ledger
    fuel_cut: bool

    @property
    def truths(self) -> tuple[str, ...]:
        """The names of what `row` gives."""

    @property
    def charge_k(self) -> float:
        """Temperature of the air that enters the cylinders."""

    def step(self, pedal: float, speed_rpm: float, dt: float) -> float:
        """Advance by `dt` seconds; torque at the crank, N m."""

    def row(self) -> tuple[float, ...]:
        """The present values of `truths`."""


def new_heat(thermal: Thermal, ambient_k: float) -> Heat:
    """A warm engine that has stood: coolant and oil at working temperature, cooler near the air's."""
    return Heat(ambient_k + 2.0, 0.0, thermal.coolant_k, thermal.oil_k, GEARBOX_START_K)


def warm(thermal: Thermal, heat: Heat, around: Surroundings, coolant_w: float, gearbox_w: float, dt: float) -> None:
    """Coolant, oil, gearbox and under-bonnet heat after `dt` seconds of running."""
    ambient = around.air.temperature_k
    heat.soak += (1.0 - heat.soak) * dt / thermal.soak_s * 3.0
    opened = min(max((heat.coolant - thermal.coolant_k + 2.0) / THERMOSTAT_K, 0.0), 1.0)
    away = thermal.radiator_w_k * opened * max(around.cooling, IDLE_COOLING)
    if heat.coolant > thermal.fan_from_k:
        away += thermal.fan_w_k
    heat.coolant += (coolant_w - away * (heat.coolant - ambient)) * dt / thermal.coolant_j_k
    heat.coolant = max(heat.coolant, thermal.coolant_k - 3.0)
    to_coolant = OIL_TO_COOLANT_W_K * (heat.oil - heat.coolant)
    heat.oil = max(heat.oil + (OIL_SHARE * coolant_w - to_coolant) * dt / thermal.oil_j_k, thermal.oil_k - 3.0)
    lost = thermal.gearbox_w_k * max(around.cooling, IDLE_COOLING) * (heat.gearbox - ambient)
    heat.gearbox += (GEARBOX_TO_OIL * max(gearbox_w, 0.0) - lost) * dt / thermal.gearbox_j_k


def stand_still(
    thermal: Thermal, heat: Heat, cooler_w_k: float, cooler_j_k: float, around: Surroundings, s: float
) -> None:
    """Heat after standing `s` seconds with the fan as it is: everything goes towards where it rests."""
    ambient = around.air.temperature_k
    cooling = max(around.cooling, IDLE_COOLING)
    still = ambient + 2.0
    heat.cooler = still + (heat.cooler - still) * exp(-s * cooler_w_k * cooling / cooler_j_k)
    heat.soak *= exp(-s * cooling / thermal.soak_s)
    heat.coolant = thermal.coolant_k + (heat.coolant - thermal.coolant_k) * exp(-s / 45.0)
    heat.oil = thermal.oil_k + (heat.oil - thermal.oil_k) * exp(-s / 120.0)
    rest = GEARBOX_START_K
    heat.gearbox = rest + (heat.gearbox - rest) * exp(-s * thermal.gearbox_w_k * cooling / thermal.gearbox_j_k)
