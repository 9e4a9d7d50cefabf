"""Slip between engine and wheels: their speeds keep one ratio in a gear."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from yarvic.core.physics import FloatArray

# Speeds behind clutch and gearbox, the nearest first.
BEHIND = ("roller_speed", "vehicle_speed", "gps_speed")
SMOOTHED = 5  # samples whose median is taken: what a single one says is noise. Our choice.
STANDING_SHARE = 0.05  # of its highest speed: below it no ratio is formed. Our choice.
LEAST_SAMPLES = 5


def slip(engine: FloatArray, behind: FloatArray) -> tuple[FloatArray, NDArray[np.bool_]]:
    """By what share the ratio of both speeds stands over its lowest one before, of the samples at which the wheels turn,
    and which those are. None are where fewer than five do.

    A converter slips until it locks, and that is its work: what counts is how far the ratio rises again.
    """
    from scipy.ndimage import median_filter  # not needed at start

    turns = np.isfinite(behind) & np.isfinite(engine)
    if turns.any():
        turns &= behind > STANDING_SHARE * float(behind[turns].max())
    if np.count_nonzero(turns) < LEAST_SAMPLES:
        return np.empty(0), np.zeros(engine.shape, dtype=bool)
    smooth = median_filter(engine[turns] / behind[turns], size=SMOOTHED, mode="nearest")
    return np.asarray(smooth / np.minimum.accumulate(smooth) - 1.0, dtype=np.float64), turns
