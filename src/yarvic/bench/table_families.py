"""Surfaces of unlike kinds, 0 to 1, for images with random layouts: what tables of engines look like, one kind each.

The finder was made on some (`MADE_ON`); the others (`HELD_OUT`) were drawn when it was finished.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np

from yarvic.core.physics import FloatArray

Family = Callable[[np.random.Generator, int, int], FloatArray]


def _grid(rows: int, columns: int) -> tuple[FloatArray, FloatArray]:
    y, x = np.meshgrid(np.linspace(0, 1, rows), np.linspace(0, 1, columns), indexing="ij")
    return np.asarray(x), np.asarray(y)


def _scaled(z: FloatArray) -> FloatArray:
    span = float(z.max() - z.min())
    return (z - z.min()) / span if span > 0.0 else np.zeros(z.shape)


def bent(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """A bent plane, a ridge, perhaps a bump, and the calibrator's own unevenness."""
    x, y = _grid(rows, columns)
    a, b, c, d, e = r.normal(0.0, 1.0, 5)
    z = a * x + b * y + c * x * y + d * x**2 + 0.6 * e * y**2
    if r.random() < 0.5:
        cx, cy, wide = r.uniform(0, 1), r.uniform(0, 1), r.uniform(0.2, 0.5)
        z += r.normal(0.0, 1.0) * np.exp(-((x - cx) ** 2 + (y - cy) ** 2) / wide**2)
    if r.random() < 0.3:
        z = np.maximum(z, np.quantile(z, r.uniform(0.05, 0.3)))
    z = _scaled(z)
    return np.asarray(z + r.normal(0.0, r.uniform(0.0, 0.015), z.shape))


def corner(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """One number nearly all over, falling or rising towards a corner, as a mixture does at high load and speed."""
    x, y = _grid(rows, columns)
    begin = r.uniform(0.9, 1.5)
    z = 1.0 - r.uniform(0.6, 1.4) * np.maximum(x * r.uniform(0.7, 1.3) + y * r.uniform(0.7, 1.3) - begin, 0.0)
    z = _scaled(z)
    return 1.0 - z if r.random() < 0.3 else z


def plateau(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """A slope between two floors, each of them wide."""
    x, y = _grid(rows, columns)
    angle = r.uniform(0.0, np.pi / 2)
    z = x * np.cos(angle) + y * np.sin(angle)
    low, high = np.quantile(z, (r.uniform(0.1, 0.45), r.uniform(0.55, 0.9)))
    return _scaled(np.clip(z, low, high))


def threshold(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """Nothing below a load, and a rising number above it, as a boost target or an enrichment."""
    x, y = _grid(rows, columns)
    begin = r.uniform(0.15, 0.6)
    z = np.where(y >= begin, r.uniform(0.1, 0.5) + np.maximum(y - begin, 0.0) * (1.0 - r.uniform(0.0, 0.6) * x), 0.0)
    return _scaled(z)


def ridge(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """A sharp best place that moves with the other axis, as cam phases have."""
    x, y = _grid(rows, columns)
    at = r.uniform(0.2, 0.8) + r.uniform(-0.4, 0.4) * y
    return _scaled(1.0 - np.abs(x - at) * r.uniform(0.6, 1.4) - r.uniform(0.0, 0.5) * (y - r.uniform(0, 1)) ** 2)


def saturated(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """The least of two or three planes, as limits of torque are."""
    x, y = _grid(rows, columns)
    planes = [r.normal(0, 0.3) + r.normal(0, 1) * x + r.normal(0, 1) * y for _ in range(int(r.integers(2, 4)))]
    return _scaled(np.minimum.reduce([*planes, np.full(x.shape, float(r.uniform(0.0, 0.6)))]))


def learned(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """Filling as it was measured: a hump over speed with a wave in it, more with load, uneven by two in a hundred."""
    x, y = _grid(rows, columns)
    hump = 1.0 - (x - r.uniform(0.4, 0.8)) ** 2 + 0.06 * np.sin(2 * np.pi * r.uniform(1.0, 2.5) * x + r.uniform(0, 6))
    z = hump * (0.35 + 0.65 * y ** r.uniform(0.6, 1.2))
    return np.asarray(_scaled(z) + r.normal(0.0, 0.02, z.shape))


def stepped(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """A slope that was filled in by hand in six to twelve whole steps."""
    x, y = _grid(rows, columns)
    steps = int(r.integers(6, 13))
    z = _scaled(r.uniform(0.3, 1.0) * x + r.uniform(0.3, 1.0) * y + r.normal(0, 0.5) * x * y)
    return np.asarray(np.round(z * steps) / steps)


def fading(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """Falling off fast with temperature and to nothing, as cold starting is enriched."""
    x, y = _grid(rows, columns)
    z = np.exp(-x * r.uniform(2.0, 6.0)) * (1.0 - r.uniform(0.2, 0.9) * y)
    return _scaled(np.where(z < r.uniform(0.02, 0.12), 0.0, z))


def one_way(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """Every row, or every column, the same: the other axis does nothing yet."""
    x, y = _grid(rows, columns)
    t = x if r.random() < 0.5 else y
    return _scaled(t ** r.uniform(0.5, 2.0) + 0.3 * np.sin(3.0 * t + r.uniform(0, 6)))


def cliff(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """Two regions with a slope in each and a step between them, as where a valve or a turbine is shut."""
    x, y = _grid(rows, columns)
    side = x + r.uniform(-0.4, 0.4) * y > r.uniform(0.35, 0.65)
    return _scaled(np.where(side, 0.6 + 0.4 * y, 0.35 * x + 0.2 * y))


def hand_drawn(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """Straight between four by four points that someone set."""
    points = r.uniform(0.0, 1.0, (4, 4)).cumsum(0 if r.random() < 0.5 else 1)
    y, x = np.linspace(0, 3, rows), np.linspace(0, 3, columns)
    along = np.stack([np.interp(x, np.arange(4), p) for p in points])
    return _scaled(np.stack([np.interp(y, np.arange(4), c) for c in along.T], axis=1))


def inverse(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """One over an axis, as an opening time over pressure or a dead time over voltage."""
    x, y = _grid(rows, columns)
    return _scaled((0.3 + 0.7 * y) / (r.uniform(0.15, 0.6) + x))


def waves(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """Tuned lengths over speed, and a step that is smoothed."""
    x, y = _grid(rows, columns)
    z = np.sin(2.5 * x * r.uniform(0.8, 2.0) + r.uniform(0, 6)) + 0.5 * np.cos(2.5 * y + r.uniform(0, 6))
    return _scaled(z + 0.4 * np.tanh(r.uniform(3, 8) * (x - y + r.uniform(-0.5, 0.5))))


def trims(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """Nothing nearly all over, and one or two smooth corrections."""
    x, y = _grid(rows, columns)
    z = np.zeros(x.shape)
    for _ in range(int(r.integers(1, 3))):
        cx, cy, wide = r.uniform(0.1, 0.9), r.uniform(0.1, 0.9), r.uniform(0.15, 0.35)
        z += r.choice([-1.0, 1.0]) * np.maximum(1.0 - ((x - cx) ** 2 + (y - cy) ** 2) / wide**2, 0.0)
    return _scaled(z)


def staged(r: np.random.Generator, rows: int, columns: int) -> FloatArray:
    """Three or four regions of one number each, as a choice of modes."""
    x, y = _grid(rows, columns)
    z = x * r.uniform(0.3, 1.0) + y * r.uniform(0.3, 1.0)
    cuts = np.quantile(z, np.sort(r.uniform(0.15, 0.85, int(r.integers(2, 4)))))
    levels = np.sort(r.uniform(0.0, 1.0, cuts.size + 1))
    return _scaled(levels[np.searchsorted(cuts, z)])


MADE_ON: Mapping[str, Family] = {
    "bent": bent, "corner": corner, "plateau": plateau, "threshold": threshold, "ridge": ridge, "saturated": saturated,
    "learned": learned, "stepped": stepped, "fading": fading, "one way": one_way, "cliff": cliff, "trims": trims,
    "staged": staged,
}  # fmt: skip
HELD_OUT: Mapping[str, Family] = {
    "hand drawn": hand_drawn, "inverse": inverse, "waves": waves,
}  # fmt: skip
FAMILIES: Mapping[str, Family] = {**MADE_ON, **HELD_OUT}
