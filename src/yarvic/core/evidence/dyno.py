"""From a roller's speed to torque and power over engine speed."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal

import numpy as np

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.physics import FloatArray
from yarvic.core.physics.correction import Correction, correction, title
from yarvic.core.physics.power import (
    RAD_PER_S_PER_RPM,
    mean_over_band,
    torque_from_power,
)
from yarvic.core.physics.spin_up import LEAST_SAMPLES, smoothed, spin_up

GRID_STEP_RPM = 50.0
# Points at which the sweep's speed is followed, to find where each engine speed was passed.
CLOCK = 2000
# A peak is read from a parabola over at most this on both sides, where it fits within this share of the error; no
# error is taken for less than this share of the curve's height. Our choices.
PEAK_WIDTH_RPM = 1400.0
PEAK_FITS = 0.8
PEAK_FLOOR = 5e-4


def local_peak(speed_rpm: FloatArray, values: FloatArray, error: FloatArray) -> tuple[float, float]:
    """Highest value of a curve and the speed where it stands, by a parabola fitted around it, weighted by the error.

    The widest stretch is taken over which the curve follows a parabola within its error, so that neither a noisy
    sample nor the end of a curve, where a derivative is least certain, makes the peak. `error` may be zero.
    """
    floor = PEAK_FLOOR * float(np.nanmax(np.abs(values)))
    error = np.where(np.isfinite(error), np.maximum(error, floor), floor)
    top = int(np.nanargmax(values - error))
    step = float(np.median(np.diff(speed_rpm)))
    widest = int(PEAK_WIDTH_RPM / step)
    for half in range(widest, 1, -1):
        part = slice(max(top - half, 0), top + half + 1)
        x, y, e = (speed_rpm[part] - speed_rpm[top]) / PEAK_WIDTH_RPM, values[part], error[part]
        if x.size < 5:
            break
        if not np.all(np.isfinite(y)):
            continue
        bend, slope, height = np.polyfit(x, y, 2, w=1.0 / e)
        off = np.abs(y - (bend * x * x + slope * x + height)) / e
        if float(np.sqrt(np.mean(off**2))) > PEAK_FITS or float(off[np.abs(x) < 0.25].max()) > 1.5 * PEAK_FITS:
            continue
        if bend < 0.0:
            at = float(np.clip(-slope / (2.0 * bend), x[0], x[-1]))
        else:
            at = float(x[-1] if slope > 0.0 else x[0])
        return float(bend * at * at + slope * at + height), float(speed_rpm[top] + at * PEAK_WIDTH_RPM)
    return float(values[top]), float(speed_rpm[top])


@dataclass(frozen=True)
class Curve:
    """Power (W) and torque at engine speed (N m) over engine speed (rpm) that rises, at the wheels or at the crank.

    `correction.factor` has been applied already. `resolution_rpm` is the width of speed that stands behind one
    independent number, `error_w` the standard error of power by its noise, `bias_w` what the smoothing is seen to add;
    both are NaN for a curve that a sheet gives, which does not say them.
    """

    speed_rpm: FloatArray
    power_w: FloatArray
    torque_nm: FloatArray
    correction: Correction
    resolution_rpm: float
    error_w: FloatArray
    bias_w: FloatArray
    basis: Literal["wheel", "crank"] = "wheel"
    before: Curve | None = field(default=None, repr=False, compare=False)  # the one that this was corrected from

    def corrected(
        self, conditions: Conditions, standard: str, *, boost_controlled: bool, compression_ignition: bool = False
    ) -> Curve:
        """This curve under another standard: its factor takes the place of the one applied, which is never applied twice.

        Raises EvidenceError where the one applied, or the air for the other, is not known.
        """
        if standard == self.correction.standard:
            return self
        if self.correction.factor != self.correction.factor:
            raise EvidenceError(
                f"was corrected by {self.correction.title}, and neither factor nor weather is known",
                remedy="State the factor, or the weather, with the run's conditions.",
            )
        if standard == "none":
            return self._by(Correction("none", title("none"), 1.0, self.correction.air))
        how = correction(
            standard,
            conditions.air,
            boost_controlled=boost_controlled,
            compression_ignition=compression_ignition,
        )
        return self._by(how)

    def _by(self, how: Correction) -> Curve:
        ratio = how.factor / self.correction.factor
        return replace(
            self,
            power_w=self.power_w * ratio,
            torque_nm=self.torque_nm * ratio,
            correction=how,
            error_w=self.error_w * ratio,
            bias_w=self.bias_w * ratio,
            before=self,
        )

    @cached_property
    def peak_power(self) -> tuple[float, float]:
        """Highest power in W and the engine speed at which it stands."""
        if self.before is not None:
            return self._scaled(self.before.peak_power, self.before)
        return local_peak(self.speed_rpm, self.power_w, self.error_w)

    @cached_property
    def peak_torque(self) -> tuple[float, float]:
        """Highest torque in N m and the engine speed at which it stands."""
        if self.before is not None:
            return self._scaled(self.before.peak_torque, self.before)
        return local_peak(self.speed_rpm, self.torque_nm, torque_from_power(self.error_w, self.speed_rpm))

    def _scaled(self, peak: tuple[float, float], before: Curve) -> tuple[float, float]:
        # Correction is one factor for the whole curve: the peak goes with it, and stays where it is.
        return peak[0] * self.correction.factor / before.correction.factor, peak[1]

    def mean_power(self, low_rpm: float, high_rpm: float) -> float:
        """Mean power in W over a band: area under the curve divided by the band's width."""
        return mean_over_band(self.speed_rpm, self.power_w, low_rpm, high_rpm)


def dyno_curve(log: Log, pull: Pull, conditions: Conditions, standard: str, *, boost_controlled: bool) -> Curve:
    """Torque and power of one pull, corrected by a standard, from the pull's own samples.

    Power at the roller from its inertia (P = J w dw/dt), and from its brake where one was logged; torque is that power
    over engine speed, so it includes the drivetrain's loss (basis: wheel). Raises EvidenceError when roller or engine
    speed is missing or holed, or the run had no roller.
    """
    roller = log.channel("roller_speed")
    inertia, per_roller = conditions.roller_inertia_kg_m2, conditions.engine_per_roller
    if inertia is None or per_roller is None:
        raise EvidenceError("the run has no roller: its conditions state none", remedy="Pull on a dyno for a curve.")
    t = roller.time_s
    keep = (t >= pull.start_s) & (t <= pull.end_s)
    if np.count_nonzero(keep) < LEAST_SAMPLES:
        raise EvidenceError("the roller was not logged through the pull", remedy="Pull again with the roller logged.")
    sweep = spin_up(t[keep], roller.values[keep] * RAD_PER_S_PER_RPM)
    # The roller is geared to the engine: its speed is the steadier measure of engine speed.
    clock = np.linspace(sweep.start_s, sweep.end_s, CLOCK)
    speed = sweep.speed(clock) / RAD_PER_S_PER_RPM * per_roller
    rising = np.concatenate(([True], speed[1:] > np.maximum.accumulate(speed)[:-1]))
    first = np.ceil(speed[0] / GRID_STEP_RPM) * GRID_STEP_RPM
    grid = np.arange(first, speed[rising][-1] + 1e-6, GRID_STEP_RPM, dtype=np.float64)
    if grid.size < 5:
        raise EvidenceError("the pull covers too little engine speed for a curve", remedy="Pull through more speed.")
    at = np.interp(grid, speed[rising], clock[rising])
    turning = sweep.speed(at)
    power = inertia * turning * sweep.acceleration(at)
    if "roller_torque" in log.channels:
        brake = log.channel("roller_torque")
        inside = (brake.time_s >= pull.start_s) & (brake.time_s <= pull.end_s)
        # What the brake took besides.
        power = power + smoothed(brake.time_s[inside], brake.values[inside], "the brake's torque")(at) * turning
    how = correction(standard, conditions.air, boost_controlled=boost_controlled)
    corrected = power * how.factor
    return Curve(
        grid,
        corrected,
        torque_from_power(corrected, grid),
        how,
        resolution_rpm=float(grid[-1] - grid[0]) / max(sweep.freedom - 1.0, 1.0),
        error_w=inertia * turning * sweep.error(at) * how.factor,
        bias_w=inertia * turning * sweep.bias(at) * how.factor,
    )


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
