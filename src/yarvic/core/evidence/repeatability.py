"""How well pulls repeat, and whether a gain is one."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.days import fit_days
from yarvic.core.evidence.dyno import GRID_STEP_RPM, Curve, local_peak
from yarvic.core.physics import FloatArray
from yarvic.core.physics.power import torque_from_power

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
    error_w: FloatArray  # by the noise of each pull alone
    basis: str = "wheel"

    @cached_property
    def peak_power(self) -> tuple[float, float]:
        """Highest power in W and the engine speed at which it stands."""
        return local_peak(self.speed_rpm, self.power_w, self.error_w)

    @cached_property
    def peak_torque(self) -> tuple[float, float]:
        """Highest torque in N m and the engine speed at which it stands."""
        return local_peak(self.speed_rpm, self.torque_nm, torque_from_power(self.error_w, self.speed_rpm))

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
        np.sqrt(sum(np.interp(grid, c.speed_rpm, c.error_w) ** 2 for c in curves)) / len(curves),
        curves[0].basis,
    )


def _stack(curves: list[Curve]) -> tuple[FloatArray, FloatArray, FloatArray]:
    if not curves:
        raise EvidenceError("there are no pulls", remedy="Pull this revision first.")
    if len({c.correction.standard for c in curves}) > 1:
        raise EvidenceError("two correction standards cannot be compared", remedy="Choose one standard for all.")
    if len({c.basis for c in curves}) > 1:
        raise EvidenceError("some are of the wheels and some of the crank", remedy="Compare those of one basis.")
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


Order = tuple[FloatArray, FloatArray]


def one_after_the_other(working: int, reference: int) -> Order:
    """Places of the pulls in time where the reference was pulled first and the working map right after it."""
    return np.arange(reference, reference + working, dtype=np.float64), np.arange(reference, dtype=np.float64)


def difference(
    working: FloatArray, reference: FloatArray, order: Order | None = None, sessions: Order | None = None
) -> Interval:
    """Difference of the means of two sets of pulls at 95 %, with a drift from pull to pull taken out.

    Least squares of value = reference + difference + drift x place (analysis of covariance; Fisher 1932, Statistical
    Methods for Research Workers, 4th ed., section 49.1). `order` gives the places of the pulls of each set; without
    it the reference came first. Sets pulled in turn cost the interval little, one set after the other much: drift and
    gain then look alike. NaN bounds where there are too few pulls to tell them apart. `sessions` number the day of each
    pull: over several days the interval carries what changes from day to day.
    """
    mean, low, high, _ = _with_drift(working[:, None], reference[:, None], order, sessions)
    return Interval(float(mean[0]), float(low[0]), float(high[0]))


def _over_days(
    y: FloatArray, is_working: FloatArray, place: FloatArray, session: FloatArray
) -> tuple[FloatArray, FloatArray, FloatArray, Interval]:
    """The same over several days, column by column."""
    plain = y[is_working == 1.0].mean(axis=0) - y[is_working == 0.0].mean(axis=0)
    mean, reach = plain, np.full(plain.shape, np.nan)
    drift = Interval(np.nan, np.nan, np.nan)
    for column in range(y.shape[1]):
        fit = fit_days(y[:, column], is_working, place, session, CONFIDENCE)
        if fit is None:
            continue
        mean[column], reach[column] = fit.difference, fit.reach
        if column == 0 and np.isfinite(fit.drift_reach):
            drift = Interval(fit.drift, fit.drift - fit.drift_reach, fit.drift + fit.drift_reach)
    return mean, mean - reach, mean + reach, drift


def _with_drift(
    a: FloatArray, b: FloatArray, order: Order | None, sessions: Order | None = None
) -> tuple[FloatArray, FloatArray, FloatArray, Interval]:
    """Difference and bounds for each column of samples of shape (n, columns), and the drift of the first column."""
    unknown = np.full(a.shape[1], np.nan)
    places = order if order is not None else one_after_the_other(a.shape[0], b.shape[0])
    place = np.concatenate(places)
    y = np.concatenate([a, b])
    if sessions is not None and np.unique(np.concatenate(sessions)).size > 1:
        which = np.concatenate([np.ones(a.shape[0]), np.zeros(b.shape[0])])
        return _over_days(y, which, place, np.concatenate(sessions))
    is_working = np.concatenate([np.ones(a.shape[0]), np.zeros(b.shape[0])])
    x = np.column_stack([np.ones(y.shape[0]), is_working, place - place.mean()])
    freedom = y.shape[0] - 3
    plain = a.mean(axis=0) - b.mean(axis=0)
    if freedom < 1 or np.linalg.matrix_rank(x) < 3:
        return plain, unknown, unknown, Interval(np.nan, np.nan, np.nan)
    from scipy.special import stdtrit

    inverse = np.linalg.inv(x.T @ x)
    fit = inverse @ x.T @ y
    variance = np.sum((y - x @ fit) ** 2, axis=0) / freedom
    reach = stdtrit(freedom, 0.5 + CONFIDENCE / 2.0) * np.sqrt(variance)
    at = reach * inverse[1, 1] ** 0.5
    drift = float(reach[0] * inverse[2, 2] ** 0.5)
    slope = float(fit[2, 0])
    return fit[1], fit[1] - at, fit[1] + at, Interval(slope, slope - drift, slope + drift)


@dataclass(frozen=True)
class Gain:
    """Gain of one set of pulls over another: per engine speed, and the mean over a band (W).

    `drift` is what the band's mean changes from pull to pull (W), which was taken out of both.
    """

    speed_rpm: FloatArray
    power_w: FloatArray
    low_w: FloatArray
    high_w: FloatArray
    band_rpm: tuple[float, float]
    over_band: Interval
    drift: Interval


def gain(
    working: list[Curve],
    reference: list[Curve],
    band_rpm: tuple[float, float],
    order: Order | None = None,
    sessions: Order | None = None,
) -> Gain:
    """Power gain of `working` over `reference`, with its interval at each speed and for the band's mean.

    The band is clipped to what all pulls cover; `order` and `sessions` as in `difference`. Raises
    EvidenceError when they cannot be compared.
    """
    grid, power, _ = _stack([*working, *reference])
    low, high = max(band_rpm[0], float(grid[0])), min(band_rpm[1], float(grid[-1]))
    if high <= low:
        raise EvidenceError(
            f"the pulls do not cover the band {band_rpm[0]:.0f} to {band_rpm[1]:.0f} rpm",
            remedy="Choose another band.",
        )
    over = np.array([c.mean_power(low, high) for c in (*working, *reference)])
    all_of_it = np.column_stack([over, power])
    mean, lower, upper, drift = _with_drift(all_of_it[: len(working)], all_of_it[len(working) :], order, sessions)
    band = Interval(float(mean[0]), float(lower[0]), float(upper[0]))
    return Gain(grid, mean[1:], lower[1:], upper[1:], (low, high), band, drift)


def peak_trend(curves: list[Curve]) -> Interval | None:
    """Change of peak power from pull to pull, W, by least squares, with its interval; None with fewer than three pulls."""
    if len(curves) < 3:
        return None
    from scipy.stats import linregress, t

    peaks = np.array([c.peak_power[0] for c in curves])
    fit = linregress(np.arange(peaks.size), peaks)
    reach = float(t.ppf(0.5 + CONFIDENCE / 2.0, peaks.size - 2) * fit.stderr)
    slope = float(fit.slope)
    return Interval(slope, slope - reach, slope + reach)
