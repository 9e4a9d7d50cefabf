"""What the two petrol engines share: all cylinders burning, cycle by cycle, with misfires and knock."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from math import pi

import numpy as np

from yarvic.bench.cylinders import Charge, Cylinders, friction_torque
from yarvic.bench.plant import SparkEngine
from yarvic.bench.powertrain import Ledger
from yarvic.core.physics.fuel import Fuel
from yarvic.core.physics.power import RAD_PER_S_PER_RPM

LEANEST, RICHEST = 1.6, 0.5  # lambda past which the bench does not follow the mixture
# A failing coil breaks down under pressure: misfires begin at this manifold pressure and are sure at the other.
COIL_FAILS_FROM_PA, COIL_FAILS_AT_PA = 60e3, 190e3


@dataclass(frozen=True, slots=True)
class Cycle:
    """A cycle as a knock sensor hears it: per cylinder, the share that burnt at once (0: none) and where that began."""

    time_s: float
    speed_rpm: float
    intensity: tuple[float, ...]
    onset_deg: tuple[float, ...]


@dataclass
class Ignition:
    """What ails the ignition: the cylinder whose coil fails (none: -1), and how often at full load."""

    cylinder: int = -1
    share: float = 0.0


@dataclass
class SparkBurn:
    """All cylinders of one spark-ignition engine on one fuel."""

    p: SparkEngine
    fuel: Fuel
    rng: np.random.Generator
    ignition: Ignition = field(default_factory=Ignition)
    keep_cycles: bool = False

    def __post_init__(self) -> None:
        self.cylinders = Cylinders(self.p, self.fuel)
        self.mixture = 1.0  # what the exhaust shows: air over fuel, misfired air included
        self.mean_mixture = 1.0  # of what is in the cylinders
        self.mixtures = [1.0] * self.p.cylinders
        self.exhaust_k = 780.0
        self.misfires = 0
        self.knocks = 0
        self.cycles: list[Cycle] = []
        self._dead = [False] * self.p.cylinders
        self._next_cycle = 0.0
        self._filling_sum = sum(self.p.cylinder_filling)

    def no_fuel(self, ambient_k: float, dt: float) -> None:
        """Overrun: the mixture goes lean as the fuel film dries; the exhaust cools."""
        self.mixture = self.mean_mixture = min(self.mixture + dt * 2.0, LEANEST)
        self.exhaust_k = ambient_k + 250.0

    def burn(
        self, charge: Charge, fuel_kg: float, spark_deg: float, retard_deg: Sequence[float]
    ) -> tuple[float, ...]:
        """Energies of one cycle of the whole engine, J: fuel, indicated, coolant, exhaust.

        `charge` is the mean of the cylinders; `fuel_kg` what all injectors together are asked for in a cycle.
        """
        p, fuel = self.p, self.fuel
        each = fuel_kg / p.cylinders
        stoichiometric = fuel.stoichiometric_afr
        angles = self.cylinders.burn_angles(charge)
        fuel_j = indicated = coolant = exhaust = 0.0
        exhaust_k = 0.0
        all_air = all_fuel = left_over = 0.0
        for i in range(p.cylinders):
            air = charge.air_kg * p.cylinder_filling[i]
            own_fuel = each * p.cylinder_fuel[i]
            mixture = min(max(air / (own_fuel * stoichiometric), RICHEST), LEANEST)
            self.mixtures[i] = mixture
            all_fuel += own_fuel
            all_air += air
            if self._dead[i]:
                # The charge leaves as it came: its fuel is counted as lost to the exhaust.
                fuel_j += air / (stoichiometric * mixture) * fuel.lower_heating_value
                exhaust += air / (stoichiometric * mixture) * fuel.lower_heating_value
                exhaust_k += (charge.temperature_k + 180.0) / p.cylinders
                left_over += air / mixture  # its oxygen is left over, and reads as lean
                continue
            own = Charge(charge.pressure_pa, charge.temperature_k, air, mixture, charge.speed_rpm)
            done = self.cylinders.work(own, spark_deg - retard_deg[i], angles)
            fuel_j += done.fuel_j
            indicated += done.indicated_j
            coolant += done.coolant_j
            exhaust += done.exhaust_j
            exhaust_k += done.exhaust_k / p.cylinders
        needed = all_fuel * stoichiometric
        self.mean_mixture = min(max(all_air / needed, RICHEST), LEANEST)
        self.mixture = min(max((all_air + left_over) / needed, RICHEST), LEANEST)
        self.exhaust_k = exhaust_k
        return fuel_j, indicated, coolant, exhaust

    def ledger(self, energies: tuple[float, ...], torque_nm: float, charge: Charge, exhaust_pa: float) -> Ledger:
        """The energies of a cycle as powers at this speed, with brake and friction."""
        rate = charge.speed_rpm / 120.0
        w = charge.speed_rpm * RAD_PER_S_PER_RPM
        lost = friction_torque(self.p, charge.speed_rpm, charge.pressure_pa, exhaust_pa) * w
        fuel_j, _, coolant, exhaust = energies
        return Ledger(fuel_j * rate, torque_nm * w, lost, coolant * rate, exhaust * rate)

    def torque(self, energies: tuple[float, ...], charge: Charge, exhaust_pa: float) -> float:
        """Brake torque of a cycle's work, N m."""
        return energies[1] / (4.0 * pi) - friction_torque(self.p, charge.speed_rpm, charge.pressure_pa, exhaust_pa)

    def cycle(self, time_s: float, charge: Charge, spark_deg: float, retard_deg: Sequence[float]) -> list[int]:
        """Once a cycle: which cylinders misfire in the next, and which knocked loud enough to be heard."""
        if time_s < self._next_cycle:
            return []
        period = 120.0 / charge.speed_rpm
        # The cycle began when it was due, not when the step came by; after a pause none is made up for.
        began = max(self._next_cycle, time_s - period)
        self._next_cycle = began + period
        p = self.p
        if self.ignition.share > 0.0:
            self._misfire(charge.pressure_pa)
        jitter = self.rng.normal(0.0, p.burn_spread_deg, p.cylinders)
        spark = spark_deg - np.asarray(retard_deg, dtype=np.float64)
        mixtures = np.array(self.mixtures)
        intensity, onset_deg = self.cylinders.knock(charge, mixtures, spark, jitter)
        intensity[self._dead] = 0.0
        if self.keep_cycles:
            self.cycles.append(Cycle(began, charge.speed_rpm, tuple(intensity.tolist()), tuple(onset_deg.tolist())))
        heard: list[int] = np.flatnonzero(intensity > p.knock_threshold).tolist()
        self.knocks += len(heard)
        return heard

    def _misfire(self, pressure_pa: float) -> None:
        span = (pressure_pa - COIL_FAILS_FROM_PA) / (COIL_FAILS_AT_PA - COIL_FAILS_FROM_PA)
        chance = self.ignition.share * min(max(span, 0.0), 1.0)
        at = self.ignition.cylinder
        self._dead[at] = bool(self.rng.random() < chance)
        self.misfires += self._dead[at]
