"""The vehicle's supply while its engine stands: a battery that sags with load and runs down, and a maintainer."""

from __future__ import annotations

from dataclasses import dataclass

# Lead-acid battery of a small vehicle: open circuit full and flat, internal resistance, charge; what ignition and a unit
# that programs draw; what a maintainer holds and gives. Common practice, no published source.
FULL_V, FLAT_V, RESISTANCE_OHM, CHARGE_AH = 12.7, 11.6, 0.012, 45.0
IGNITION_A, PROGRAMMING_A = 9.0, 3.0
MAINTAINED_V, MAINTAINER_A = 13.4, 40.0
LEAST_TO_PROGRAM_V, BROWN_OUT_V = 11.0, 8.0


@dataclass
class Supply:
    """`state`: how full the battery is, 0 to 1; `extra_a`: what else draws; `dip_v`: what a fault takes off for a moment."""

    state: float = 0.9
    maintained: bool = True
    extra_a: float = 0.0
    dip_v: float = 0.0

    def rest_v(self) -> float:
        """Open-circuit voltage of the battery."""
        return FLAT_V + (FULL_V - FLAT_V) * min(max(self.state, 0.0), 1.0)

    def current_a(self, programming: bool) -> float:
        """What is drawn."""
        return IGNITION_A + self.extra_a + (PROGRAMMING_A if programming else 0.0)

    def voltage_v(self, programming: bool) -> float:
        """At the unit's terminals."""
        load = self.current_a(programming)
        if self.maintained and load <= MAINTAINER_A:
            return MAINTAINED_V - self.dip_v
        if self.maintained:
            load -= MAINTAINER_A
        return self.rest_v() - RESISTANCE_OHM * load - self.dip_v

    def passes(self, seconds: float, programming: bool) -> None:
        """Time goes by: without a maintainer the battery runs down."""
        if not self.maintained:
            self.state = max(self.state - self.current_a(programming) * seconds / 3600.0 / CHARGE_AH, 0.0)
