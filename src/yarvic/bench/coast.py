"""Coasting down on the roller: clutch open, what turns runs out against drivetrain and tyre."""

from __future__ import annotations

from yarvic.bench.cell import Dyno
from yarvic.bench.plant import Driveline
from yarvic.bench.recorder import Recorder
from yarvic.core.evidence.log import Log
from yarvic.core.physics.power import RAD_PER_S_PER_RPM

DT = 0.010
# It is driven up to speed, let go, and watched down to this share of it.
ENDS_AT = 0.35
LONGEST_S = 240.0
# Half of the resisting torque is there at once, half grows with speed: oil and tyre. From memory.
AT_ONCE = 0.5


def turning_inertia(driveline: Driveline, dyno: Dyno) -> float:
    """All that turns with the roller when the clutch is open, kg m2 at the roller: equal kinetic energy."""
    return (
        dyno.roller_inertia_kg_m2
        + driveline.wheels_inertia_kg_m2 * (dyno.roller_radius_m / driveline.tyre_radius_m) ** 2
    )


def resisting_torque(driveline: Driveline, dyno: Dyno, roller_rad_s: float, full_rad_s: float) -> float:
    """Torque at the roller, N m, that slows it.

    At full speed it takes the power that drivetrain and tyre lose of `coast_reference_w` at the crank: the simulated
    drivetrain loses a share under load, and coasting it is made to lose as much there.
    """
    lost = 1.0 - driveline.efficiency * (1.0 - dyno.tyre_loss)
    full = lost * driveline.coast_reference_w / full_rad_s
    return full * (AT_ONCE + (1.0 - AT_ONCE) * roller_rad_s / full_rad_s)


def coast(driveline: Driveline, dyno: Dyno, full_rpm: float, seed: tuple[int, ...]) -> Log:
    """The roller's speed from `full_rpm` down."""
    inertia = turning_inertia(driveline, dyno)
    full = speed = full_rpm * RAD_PER_S_PER_RPM
    recorder = Recorder(["roller_speed"], DT, seed, lost=0.0)
    for _ in range(int(LONGEST_S / DT)):
        if speed < ENDS_AT * full:
            break
        recorder.add((speed / RAD_PER_S_PER_RPM,))
        speed -= resisting_torque(driveline, dyno, speed, full) / inertia * DT
    return recorder.log()
