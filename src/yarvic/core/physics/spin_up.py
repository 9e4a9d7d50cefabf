"""Acceleration of a roller from its speed: the derivative of a noisy signal, with its error, resolution and bias.

The acceleration is a cubic B-spline over time whose second differences are held small (a P-spline; Eilers and Marx,
Statistical Science 1996, 11, 89). How small follows from the data by restricted maximum likelihood: the smoothing is
as wide as the noise and the rate of the samples make it, and no wider. An encoder counts angle, so that the error of
its speed is the difference of two errors of the angle; a noise of that kind is told from a white one by the same
likelihood, and then the counted angle is fitted in place of the speed.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from yarvic.core.errors import EvidenceError
from yarvic.core.physics import FloatArray

# Our choices. Pieces of the spline, fewer where there are few samples; the fewest samples that can be read.
PIECES = 60
SAMPLES_PER_PIECE = 4
LEAST_SAMPLES = 20
# A hole of this length, s and as a share of the whole, is no lost sample any more.
LONGEST_HOLE_S, LONGEST_HOLE_SHARE = 0.30, 0.05
# Stamps this far off an even clock, in steps, and this share of samples lost, still come from an even clock.
MOST_JITTER, MOST_LOST = 0.35, 0.03
DEGREE = 3
_SMOOTHINGS = np.exp(np.arange(-40.0, 40.0, 0.5))


@dataclass(frozen=True)
class SpinUp:
    """Speed (rad/s) and acceleration (rad/s2) over time. `freedom` is how many independent numbers the samples gave."""

    start_s: float
    end_s: float
    freedom: float
    counted: bool
    _splines: tuple[Any, Any]
    _speed: float
    _coefficients: FloatArray
    _covariance: FloatArray
    _after_again: FloatArray

    def speed(self, time_s: FloatArray) -> FloatArray:
        """Speed, rad/s."""
        integral = self._splines[1](time_s) - self._splines[1](self.start_s)
        return np.asarray(self._speed + integral @ self._coefficients, dtype=np.float64)

    def acceleration(self, time_s: FloatArray) -> FloatArray:
        """Acceleration, rad/s2."""
        return np.asarray(self._splines[0](time_s) @ self._coefficients, dtype=np.float64)

    def error(self, time_s: FloatArray) -> FloatArray:
        """Standard error of the acceleration, rad/s2."""
        basis = self._splines[0](time_s)
        return np.asarray(np.sqrt(np.einsum("ij,jk,ik->i", basis, self._covariance, basis)), dtype=np.float64)

    def bias(self, time_s: FloatArray) -> FloatArray:
        """What the smoothing is seen to add, rad/s2: smoothing the smoothed once more does it again (Tukey's twicing)."""
        basis = self._splines[0](time_s)
        return np.asarray(basis @ (self._after_again - self._coefficients), dtype=np.float64)


@dataclass(frozen=True)
class _Fit:
    """A penalised fit: log-likelihood, coefficients, their covariance, and the coefficients of its own fit again."""

    likelihood: float
    coefficients: FloatArray
    covariance: FloatArray
    again: FloatArray
    freedom: float


def without_holes(time_s: FloatArray, values: FloatArray, what: str) -> tuple[FloatArray, FloatArray]:
    """The samples that hold numbers. Raises EvidenceError for too few, for a hole, and for time that does not rise."""
    good = np.isfinite(time_s) & np.isfinite(values)
    t, v = time_s[good], values[good]
    if t.size < LEAST_SAMPLES:
        raise EvidenceError(f"fewer than {LEAST_SAMPLES} samples of {what}", remedy="Pull again.")
    steps = np.diff(t)
    if not np.all(steps > 0.0):
        raise EvidenceError(f"time stands still or runs backward in {what}", remedy="Log it again.")
    longest = float(steps.max())
    if longest > max(4.0 * float(np.median(steps)), min(LONGEST_HOLE_S, LONGEST_HOLE_SHARE * float(t[-1] - t[0]))):
        raise EvidenceError(f"{what} has holes inside the pull: {longest:.2f} s", remedy="Pull again.")
    return t, v


def even_clock(time_s: FloatArray) -> tuple[float, np.ndarray] | None:
    """Step of an even clock and the place of each sample on it, where jitter and lost samples leave room for one."""
    step = float(np.median(np.diff(time_s)))
    place = np.concatenate(([0], np.cumsum(np.rint(np.diff(time_s) / step)))).astype(np.intp)
    # Single steps jitter; over the whole length the clock is better known.
    step, start = (float(v) for v in np.polyfit(place, time_s, 1))
    off = np.abs(time_s - start - place * step)
    lost = 1.0 - time_s.size / (place[-1] + 1.0)
    if np.any(np.diff(place) < 1) or float(off.max()) > MOST_JITTER * step or lost > MOST_LOST:
        return None
    return step, place


def spin_up(time_s: FloatArray, speed_rad_s: FloatArray) -> SpinUp:
    """Speed and acceleration of one sweep from its own samples; stamps may jitter and samples may be lost.

    Raises EvidenceError for too few samples, a hole, or time that does not rise.
    """
    t, v = without_holes(time_s, speed_rad_s, "the roller's speed")
    pieces = max(4, min(PIECES, t.size // SAMPLES_PER_PIECE))
    splines = _splines(float(t[0]), float(t[-1]), pieces)
    x = t - t[0]
    first = splines[1](t) - splines[1](t[0])
    white = _penalised(np.column_stack([np.ones_like(x), first]), v, 1)
    found, speed, added, counted = white, float(white.coefficients[0]), 0.0, False
    clock = even_clock(t)
    if clock is not None:
        step, place = clock
        rate = 1.0 / step
        x = place * step
        angle = np.cumsum(np.interp(np.arange(place[-1] + 1), place, v))[place]  # in rad, times the rate
        scale = np.array([1.0, x[-1], x[-1] ** 2])
        plain = np.vander(x, 3, increasing=True)
        c = np.linalg.lstsq(plain / scale, angle, rcond=None)[0] / scale
        even = t[0] + x
        second = splines[2](even) - splines[2](t[0]) - x[:, None] * splines[1](t[0])
        blue = _penalised(np.column_stack([np.ones_like(x), x * rate, second * rate]), angle - plain @ c, 2)
        if blue.likelihood > white.likelihood:
            found, counted = blue, True
            speed, added = float(blue.coefficients[1] + c[1] * step), 2.0 * float(c[2]) * step
    lead = 2 if counted else 1
    return SpinUp(
        float(t[0]), float(t[-1]), found.freedom, counted, (splines[0], splines[1]), speed,
        found.coefficients[lead:] + added, found.covariance[lead:, lead:], found.again[lead:] + added,
    )  # fmt: skip


def smoothed(time_s: FloatArray, values: FloatArray, what: str) -> Callable[[FloatArray], FloatArray]:
    """A signal of white noise, such as a brake's torque, smoothed as far as its noise makes it. Raises EvidenceError."""
    t, v = without_holes(time_s, values, what)
    spline = _splines(float(t[0]), float(t[-1]), max(4, min(PIECES, t.size // SAMPLES_PER_PIECE)))[0]
    coefficients = _penalised(spline(t), v, 0).coefficients
    return lambda at: np.asarray(spline(np.clip(at, t[0], t[-1])) @ coefficients, dtype=np.float64)


def _splines(start: float, end: float, pieces: int) -> tuple[Any, Any, Any]:
    """All basis splines of the acceleration as one function, and its first and second integral."""
    from scipy.interpolate import BSpline

    width = (end - start) / pieces
    knots = start + width * np.arange(-DEGREE, pieces + DEGREE + 1)
    basis = BSpline(knots, np.eye(pieces + DEGREE), DEGREE)
    first = basis.antiderivative()
    return basis, first, first.antiderivative()


def _penalised(basis: FloatArray, y: FloatArray, lead: int) -> _Fit:
    """Least squares with second differences of the coefficients behind `lead` held small, how small by likelihood."""
    from scipy.linalg import solve_triangular

    samples, unknowns = basis.shape
    size = np.linalg.norm(basis, axis=0)
    q, r = np.linalg.qr(basis / size)
    seen = q.T @ y
    rest = float(np.sum((y - q @ seen) ** 2))
    bends = np.zeros((unknowns - lead - 2, unknowns))
    bends[:, lead:] = np.diff(np.eye(unknowns - lead), 2, axis=0)
    _, s, turn = np.linalg.svd(solve_triangular(r.T, (bends / size).T, lower=True).T)
    stiff = np.zeros(unknowns)
    stiff[: s.size] = s**2
    z = turn @ seen
    held = stiff[: bends.shape[0]]
    smoothings = _SMOOTHINGS / float(np.exp(np.mean(np.log(held))))
    kept = 1.0 / (1.0 + smoothings[:, None] * stiff)
    free = samples - (unknowns - held.size)
    variance = np.maximum(rest + (1.0 - kept) @ z**2, 1e-300) / free
    loaded = smoothings[:, None] * held
    likelihood = -0.5 * (free * np.log(variance) + np.sum(np.log1p(loaded) - np.log(loaded), axis=1))
    best = int(np.argmax(likelihood))
    keep = kept[best]
    back = solve_triangular(r, turn.T) / size[:, None]
    return _Fit(
        float(likelihood[best]),
        back @ (keep * z),
        float(variance[best]) * (back * keep) @ back.T,
        back @ (keep**2 * z),
        float(keep.sum()),
    )
