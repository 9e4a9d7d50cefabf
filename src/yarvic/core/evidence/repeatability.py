"""How well pulls repeat, and whether a gain is one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.dyno import GRID_STEP_RPM, Curve
from yarvic.core.physics import FloatArray

CONFIDENCE = 0.95


@dataclass(frozen=True)
class MeanCurve:
    """Mean of n curves on their common grid; sample standard deviations are NaN for a single pull."""

    speed_rpm: FloatArray
    power_w: FloatArray
    torque_nm: FloatArray
    power_sd_w: FloatArray
    torque_sd_nm: FloatArray
    count: int

    def spread_power_w(self) -> float:
        """Standard deviation of power, pooled over the curve; NaN for one pull."""
        return float(np.sqrt(np.mean(self.power_sd_w**2)))


def mean_curve(curves: list[Curve]) -> MeanCurve:
    """Mean and spread of pulls of one revision on one build.

    Raises EvidenceError when there is none, when they do not overlap, or when two standards are mixed.
    """
    grid, power, torque = _stack(curves)
    many = len(curves) > 1
    none = np.full(grid.shape, np.nan)
    return MeanCurve(
        grid,
        power.mean(axis=0),
        torque.mean(axis=0),
        power.std(axis=0, ddof=1) if many else none,
        torque.std(axis=0, ddof=1) if many else none,
        len(curves),
    )


def _stack(curves: list[Curve]) -> tuple[FloatArray, FloatArray, FloatArray]:
    if not curves:
        raise EvidenceError("there are no pulls", remedy="Pull this revision first.")
    if len({c.correction.standard for c in curves}) > 1:
        raise EvidenceError("two correction standards cannot be compared", remedy="Choose one standard for all.")
    low = max(c.speed_rpm[0] for c in curves)
    high = min(c.speed_rpm[-1] for c in curves)
    if high - low < 4 * GRID_STEP_RPM:
        raise EvidenceError("the pulls share no engine speed", remedy="Pull from the same start speed.")
    grid = np.arange(low, high + 1e-6, GRID_STEP_RPM, dtype=np.float64)
    power = np.stack([np.interp(grid, c.speed_rpm, c.power_w) for c in curves])
    torque = np.stack([np.interp(grid, c.speed_rpm, c.torque_nm) for c in curves])
    return grid, power, torque


@dataclass(frozen=True)
class Interval:
    """A mean difference with its interval at 95 %; bounds are NaN when the spread is not known."""

    mean: float
    low: float
    high: float

    @property
    def distinguishable(self) -> bool | None:
        """Whether zero lies outside; None when there are too few pulls to say."""
        if np.isnan(self.low) or np.isnan(self.high):
            return None
        return self.low > 0.0 or self.high < 0.0


def welch(a: FloatArray, b: FloatArray) -> Interval:
    """Difference of means a - b with Welch's interval at 95 %.

    Welch (1947), Biometrika 34; degrees of freedom by Satterthwaite. NaN bounds with fewer than two in a sample.
    """
    mean, low, high = _welch(a[:, None], b[:, None])
    return Interval(float(mean[0]), float(low[0]), float(high[0]))


def _welch(a: FloatArray, b: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Welch's difference and bounds for each column of samples of shape (n, columns)."""
    mean = a.mean(axis=0) - b.mean(axis=0)
    if a.shape[0] < 2 or b.shape[0] < 2:
        unknown = np.full(mean.shape, np.nan)
        return mean, unknown, unknown
    from scipy.special import stdtrit

    va, vb = a.var(axis=0, ddof=1) / a.shape[0], b.var(axis=0, ddof=1) / b.shape[0]
    error = va + vb
    # Without any spread the difference is exact; the degrees of freedom are of no account then.
    safe = np.where(error > 0.0, error, 1.0)
    below = va**2 / (a.shape[0] - 1) + vb**2 / (b.shape[0] - 1)
    freedom = np.where(error > 0.0, safe**2 / np.where(below > 0.0, below, 1.0), 1.0)
    reach = stdtrit(freedom, 0.5 + CONFIDENCE / 2.0) * error**0.5
    return mean, mean - reach, mean + reach


@dataclass(frozen=True)
class Gain:
    """Gain of one set of pulls over another: per engine speed, and the mean over a band (W)."""

    speed_rpm: FloatArray
    power_w: FloatArray
    low_w: FloatArray
    high_w: FloatArray
    band_rpm: tuple[float, float]
    over_band: Interval


def gain(working: list[Curve], reference: list[Curve], band_rpm: tuple[float, float]) -> Gain:
    """Power gain of `working` over `reference`, with Welch's interval at each speed and for the band's mean.

    The band is clipped to what all pulls cover. Raises EvidenceError when they cannot be compared.
    """
    grid, power, _ = _stack([*working, *reference])
    a, b = power[: len(working)], power[len(working) :]
    each, each_low, each_high = _welch(a, b)
    low, high = max(band_rpm[0], float(grid[0])), min(band_rpm[1], float(grid[-1]))
    if high <= low:
        raise EvidenceError(
            f"the pulls do not cover the band {band_rpm[0]:.0f} to {band_rpm[1]:.0f} rpm",
            remedy="Choose another band.",
        )
    over = welch(
        np.array([c.mean_power(low, high) for c in working]), np.array([c.mean_power(low, high) for c in reference])
    )
    return Gain(grid, each, each_low, each_high, (low, high), over)


def peak_trend(curves: list[Curve]) -> Interval | None:
    """Change of peak power from pull to pull, W, by least squares, with its interval; None with fewer than three pulls."""
    if len(curves) < 3:
        return None
    from scipy.stats import linregress, t

    peaks = np.array([c.peak_power()[0] for c in curves])
    fit = linregress(np.arange(peaks.size), peaks)
    reach = float(t.ppf(0.5 + CONFIDENCE / 2.0, peaks.size - 2) * fit.stderr)
    slope = float(fit.slope)
    return Interval(slope, slope - reach, slope + reach)
