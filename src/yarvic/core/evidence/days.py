"""Differences between sets of pulls of several days: the day is a random effect, whose spread the interval carries.

Model: value = reference + difference + drift x place + day + noise, day and noise normal with variances of their own.
Generalised least squares with both variances; degrees of freedom by Satterthwaite (1946). The day's variance is learnt from
sets that were measured on several days, together with a prior.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.physics import FloatArray

# From day to day the same map on the same build gives so much of its value more or less, one standard deviation; and how
# many days of one's own this prior weighs as. Our choice.
DAY_SHARE, PRIOR_DAYS = 0.006, 15.0


@dataclass(frozen=True)
class DaysFit:
    """Difference and drift, how far their intervals at a confidence reach, and the day's standard deviation."""

    difference: float
    reach: float
    drift: float
    drift_reach: float
    day_sd: float


def fit_days(
    value: FloatArray, is_working: FloatArray, place: FloatArray, session: FloatArray, confidence: float
) -> DaysFit | None:
    """The difference of two sets of pulls, arrays of shape (n,), over sessions; None where pulls cannot tell the noise."""
    x = np.column_stack([np.ones(value.size), is_working, place - place.mean()])
    if np.linalg.matrix_rank(x) < 3:
        x = x[:, :2]  # one pull each: no drift can be told
    noise, freedom = _within(value, is_working, place, session)
    if freedom < 1 or not np.isfinite(noise):
        return None
    days, day_freedom = _between(value, is_working, session, noise)
    member = (session[:, None] == np.unique(session)[None, :]).astype(float)

    def covariance(noise_var: float, day_var: float) -> FloatArray:
        whole = noise_var * np.eye(value.size) + day_var * member @ member.T
        return np.asarray(np.linalg.inv(x.T @ np.linalg.solve(whole, x)))

    whole = noise * np.eye(value.size) + days * member @ member.T
    at = covariance(noise, days)
    fit = at @ x.T @ np.linalg.solve(whole, value)
    reaches = []
    for column in range(1, x.shape[1]):
        # How the variance hangs on each of the two, by a small change of it.
        parts = [
            (covariance(noise * 1.01, days)[column, column] - at[column, column]) / 0.01,
            (covariance(noise, days * 1.01)[column, column] - at[column, column]) / 0.01,
        ]
        doubt = max(parts[0], 0.0) ** 2 / freedom + max(parts[1], 0.0) ** 2 / day_freedom
        effective = at[column, column] ** 2 / doubt if doubt > 0.0 else float(freedom)
        reaches.append(_t(effective, confidence) * float(at[column, column]) ** 0.5)
    drift, drift_reach = (float(fit[2]), reaches[1]) if x.shape[1] == 3 else (0.0, np.inf)
    return DaysFit(float(fit[1]), reaches[0], drift, drift_reach, float(days) ** 0.5)


def _within(value: FloatArray, working: FloatArray, place: FloatArray, session: FloatArray) -> tuple[float, int]:
    """Variance of the noise within sessions, with the map's difference and a common drift taken out; and its freedom."""
    days = np.unique(session)
    x = np.column_stack([*(session == d for d in days), working, place - place.mean()]).astype(float)
    rank = int(np.linalg.matrix_rank(x))
    freedom = value.size - rank
    if freedom < 1:
        return float("nan"), 0
    fit = np.linalg.lstsq(x, value, rcond=None)[0]
    return float(np.sum((value - x @ fit) ** 2)) / freedom, freedom


def _between(value: FloatArray, working: FloatArray, session: FloatArray, noise: float) -> tuple[float, float]:
    """Variance from day to day: the prior, and what sets of several days show over the noise of their means."""
    level = abs(float(value[working == 0.0].mean()))
    total, weight = PRIOR_DAYS * (DAY_SHARE * level) ** 2, PRIOR_DAYS
    for which in (0.0, 1.0):
        mine = working == which
        means = [(float(value[mine & (session == d)].mean()), int(np.sum(mine & (session == d))))
                 for d in np.unique(session[mine])]  # fmt: skip
        if len(means) < 2:
            continue
        spread = float(np.var([m for m, _ in means], ddof=1))
        of_noise = noise * float(np.mean([1.0 / n for _, n in means]))
        total += (len(means) - 1) * max(spread - of_noise, 0.0)
        weight += len(means) - 1
    return total / weight, weight


def _t(freedom: float, confidence: float) -> float:
    from scipy.special import stdtrit

    return float(stdtrit(max(freedom, 1.0), 0.5 + confidence / 2.0))
