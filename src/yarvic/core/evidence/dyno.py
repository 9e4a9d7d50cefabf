"""From a roller's speed to torque and power over engine speed."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.physics import FloatArray
from yarvic.core.physics.correction import Correction, correction
from yarvic.core.physics.power import (
    RAD_PER_S_PER_RPM,
    inertia_power,
    mean_over_band,
    power_from_torque,
    torque_from_power,
)

GRID_STEP_RPM = 50.0
# Smoothing of the roller's speed, as time; the curve states what it is in engine speed. Our choice.
SMOOTHING_S = 0.4
# An imported curve may miss P = T w by rounding only. Our choice.
IDENTITY_TOLERANCE = 0.01


@dataclass(frozen=True)
class Curve:
    """Wheel power (W) and torque at engine speed (N m) on an even grid of engine speed (rpm).

    `factor` has been applied already; `smoothing_rpm` is the width of the derivative's window.
    """

    speed_rpm: FloatArray
    power_w: FloatArray
    torque_nm: FloatArray
    correction: Correction
    smoothing_rpm: float

    def corrected(
        self, conditions: Conditions, standard: str, *, boost_controlled: bool, compression_ignition: bool = False
    ) -> Curve:
        """This curve under another standard: its factor takes the place of the one applied."""
        how = correction(
            standard,
            conditions.air,
            boost_controlled=boost_controlled,
            compression_ignition=compression_ignition,
        )
        ratio = how.factor / self.correction.factor
        return replace(self, power_w=self.power_w * ratio, torque_nm=self.torque_nm * ratio, correction=how)

    def peak_power(self) -> tuple[float, float]:
        """Highest power in W and the engine speed at which it stands."""
        return self._peak(self.power_w)

    def peak_torque(self) -> tuple[float, float]:
        """Highest torque in N m and the engine speed at which it stands."""
        return self._peak(self.torque_nm)

    def _peak(self, values: FloatArray) -> tuple[float, float]:
        i = int(np.nanargmax(values))
        return float(values[i]), float(self.speed_rpm[i])

    def mean_power(self, low_rpm: float, high_rpm: float) -> float:
        """Mean power in W over a band: area under the curve divided by the band's width."""
        return mean_over_band(self.speed_rpm, self.power_w, low_rpm, high_rpm)


def dyno_curve(log: Log, pull: Pull, conditions: Conditions, standard: str, *, boost_controlled: bool) -> Curve:
    """Torque and power of one pull, corrected by a standard.

    Power at the roller from its inertia, and from its brake where one was logged; torque is that power over engine
    speed, so it includes the drivetrain's loss (basis: wheel). Raises EvidenceError when roller or engine speed is
    missing or holed, or the run had no roller.
    """
    roller = log.channel("roller_speed")
    t = roller.time_s
    keep = (t >= pull.start_s) & (t <= pull.end_s)
    # A window's half more on both sides keeps the derivative honest at the ends.
    wide = (t >= pull.start_s - SMOOTHING_S) & (t <= pull.end_s)
    if np.count_nonzero(keep) < 20:
        raise EvidenceError("the roller was not logged through the pull", remedy="Pull again with the roller logged.")
    if not np.all(np.isfinite(roller.values[wide])):
        raise EvidenceError("the roller's speed has holes inside the pull", remedy="Pull again.")
    inertia, per_roller = conditions.roller_inertia_kg_m2, conditions.engine_per_roller
    if inertia is None or per_roller is None:
        raise EvidenceError("the run has no roller: its conditions state none", remedy="Pull on a dyno for a curve.")
    roller_rad_s = roller.values[wide] * RAD_PER_S_PER_RPM
    power = inertia_power(t[wide], roller_rad_s, inertia, SMOOTHING_S)
    if "roller_torque" in log.channels:
        power = power + log.at("roller_torque", t[wide]) * roller_rad_s  # what the brake took besides
    power = power[np.searchsorted(t[wide], t[keep][0]) :]
    # The roller is geared to the engine: its speed is the steadier measure of engine speed.
    speed = roller.values[keep] * per_roller
    rising = np.concatenate(([True], speed[1:] > np.maximum.accumulate(speed)[:-1]))
    grid = np.arange(
        np.ceil(speed[0] / GRID_STEP_RPM) * GRID_STEP_RPM, speed[rising][-1] + 1e-6, GRID_STEP_RPM, dtype=np.float64
    )
    if grid.size < 5:
        raise EvidenceError("the pull covers too little engine speed for a curve", remedy="Pull through more speed.")
    on_grid = np.interp(grid, speed[rising], power[rising])
    how = correction(standard, conditions.air, boost_controlled=boost_controlled)
    corrected = on_grid * how.factor
    smoothing_rpm = SMOOTHING_S * (pull.to_rpm - pull.from_rpm) / pull.length_s
    return Curve(grid, corrected, torque_from_power(corrected, grid), how, smoothing_rpm)


@dataclass(frozen=True)
class Held:
    """Wheel power (W) that a brake held at a speed (rpm): mean and standard deviation over the run, uncorrected."""

    speed_rpm: float
    power_w: float
    power_sd_w: float


def held_power(log: Log, span: Pull) -> Held:
    """What the brake held over a span: P = T w at the roller, basis wheel.

    Raises EvidenceError when roller speed or brake torque is missing there.
    """
    roller = log.channel("roller_speed")
    t = roller.time_s[(roller.time_s >= span.start_s) & (roller.time_s <= span.end_s)]
    power = log.at("roller_torque", t) * log.at("roller_speed", t) * RAD_PER_S_PER_RPM
    speed = log.at("engine_speed", t)
    good = np.isfinite(power) & np.isfinite(speed)
    if np.count_nonzero(good) < 20:
        raise EvidenceError("the brake's torque was not logged through the run", remedy="Run again with it logged.")
    return Held(float(speed[good].mean()), float(power[good].mean()), float(power[good].std(ddof=1)))


def check_identity(speed_rpm: FloatArray, power_w: FloatArray, torque_nm: FloatArray) -> None:
    """Raise EvidenceError, naming the engine speed, where P = T w does not hold within 1 %."""
    expected = power_from_torque(torque_nm, speed_rpm)
    off = np.abs(power_w - expected) / np.maximum(np.abs(expected), 1.0)
    if np.any(off > IDENTITY_TOLERANCE):
        worst = int(np.argmax(off))
        raise EvidenceError(
            f"power and torque disagree by {off[worst] * 100:.1f} % at {speed_rpm[worst]:.0f} rpm",
            remedy="Check the units of both columns, and whether one of them was corrected alone.",
        )
