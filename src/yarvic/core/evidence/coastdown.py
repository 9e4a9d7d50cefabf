"""The drivetrain's loss from a coast-down: clutch open, the roller runs out against drivetrain and tyre."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Log
from yarvic.core.physics.power import RAD_PER_S_PER_RPM, inertia_power

# Window of the smoothed derivative, and the steps in which it is read: a window apart they are independent. Our choice.
WINDOW_S = 0.6
LEAST_POINTS = 8


@dataclass(frozen=True)
class CoastDown:
    """Loss torque at the roller over its speed: a + b w, N m and rad/s, with the fit's covariance, over `low` to `high`."""

    coefficients: tuple[float, float]
    covariance: tuple[tuple[float, float], tuple[float, float]]
    low_rad_s: float
    high_rad_s: float

    def loss_w(self, roller_rad_s: float) -> tuple[float, float]:
        """Power lost at a roller speed, W, and its standard error. Raises EvidenceError outside what was coasted."""
        if not self.low_rad_s * 0.98 <= roller_rad_s <= self.high_rad_s * 1.02:
            low, high = (v / RAD_PER_S_PER_RPM for v in (self.low_rad_s, self.high_rad_s))
            raise EvidenceError(
                f"the coast-down covers {low:,.0f} to {high:,.0f} rpm of the roller,"
                f" not {roller_rad_s / RAD_PER_S_PER_RPM:,.0f}",
                remedy="Coast down from a higher speed.",
            )
        basis = np.array([1.0, roller_rad_s])
        torque = float(basis @ np.array(self.coefficients))
        error = float(np.sqrt(basis @ np.array(self.covariance) @ basis))
        return torque * roller_rad_s, error * roller_rad_s

    def share(self, roller_rad_s: float, wheel_power_w: float) -> tuple[float, float]:
        """Share of the crank's power that is lost, and its standard error: P_l / (P_w + P_l).

        What the gears lose more under load does not show in a coast-down: the share is a lower bound.
        """
        loss, error = self.loss_w(roller_rad_s)
        whole = wheel_power_w + loss
        return loss / whole, error * wheel_power_w / whole**2


def coast_down(log: Log, conditions: Conditions) -> CoastDown:
    """The loss of a coasting run: P = J w dw/dt of all that turns, as SAE J1263 reads a road coast-down by m dv/dt.

    Raises EvidenceError without the turning inertia, for a run that is too short, or one that does not slow down.
    """
    if conditions.turning_inertia_kg_m2 is None:
        raise EvidenceError(
            "the inertia of all that turns is not stated", remedy="State it with the run: roller and wheels together."
        )
    c = log.channel("roller_speed")
    speed = c.values * RAD_PER_S_PER_RPM
    power = inertia_power(c.time_s, speed, conditions.turning_inertia_kg_m2, WINDOW_S)
    step = float(np.median(np.diff(c.time_s)))
    every = max(round(WINDOW_S / step), 1)
    inner = slice(every, max(c.time_s.size - every, every + 1), every)
    w, torque = speed[inner], -power[inner] / speed[inner]
    good = np.isfinite(w) & np.isfinite(torque)
    w, torque = w[good], torque[good]
    if w.size < LEAST_POINTS:
        raise EvidenceError("the coast-down is too short to be read", remedy="Let it run out from a higher speed.")
    if not float(np.mean(torque)) > 0.0:
        raise EvidenceError("the roller does not slow down: this is no coast-down", remedy="Open the clutch first.")
    fit, covariance = np.polyfit(w, torque, 1, cov=True)
    cov = covariance[::-1, ::-1]
    return CoastDown(
        (float(fit[1]), float(fit[0])),
        ((float(cov[0, 0]), float(cov[0, 1])), (float(cov[1, 0]), float(cov[1, 1]))),
        float(w.min()),
        float(w.max()),
    )
