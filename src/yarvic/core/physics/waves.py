"""Pressure waves in intake and exhaust pipes."""

from __future__ import annotations

import numpy as np

from yarvic.core.physics import Value


def tuned_speed_rpm(length_m: Value, sound_speed_m_s: Value, angle_deg: Value) -> Value:
    """Engine speed at which a wave comes back from the open end just `angle_deg` of crank later: 6 n (2 L / c) = angle.

    Kinematics of a wave that runs out and back; see Heywood (1988), section 7.6.2.
    """
    return angle_deg * sound_speed_m_s / (12.0 * length_m)


def tuning_gain(speed_rpm: Value, tuned_rpm: Value, width: float) -> Value:
    """Shape of a tuned pipe's effect: 1 at its speed, a loss on both sides, nothing far away.

    `width` is a share of the tuned speed. The second derivative of a Gaussian; our choice of shape.
    """
    x2 = ((speed_rpm - tuned_rpm) / (width * tuned_rpm)) ** 2
    return (1.0 - x2) * np.exp(-0.5 * x2)
