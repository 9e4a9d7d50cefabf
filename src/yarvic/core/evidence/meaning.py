"""What the numbers of a column can mean where its header leaves it open: zero of a pressure, sign, lambda or ratio.

Each gives a score, a logarithm that is added to those of other hints; none of them decides alone.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from yarvic.core.physics import FloatArray

# A running engine never has less than this in its manifold, and never less than this behind an open throttle;
# barometers stand between the two last, sea level in a high to 3,500 m. Our choice, from physics.
LEAST_ABSOLUTE_PA = 12e3
LEAST_OPEN_ABSOLUTE_PA = 60e3
LOWEST_BAROMETER_PA, HIGHEST_BAROMETER_PA = 62e3, 108e3
NOISE_PA = 2e3
OPEN, SHUT = 0.9, 0.35  # throttle
AT_REST_RPM = 50.0
SMALL_DEG = 0.05
# Knock is under load; so many rows of it are enough to look at nothing else.
LOADED, LEAST_LOADED_ROWS = 0.5, 10
# Logarithms of likelihood ratios: what the name of a spark correction says, and on which side its numbers lie. Our choice.
NAMED, MASS = 3.0, 4.0


def retard_score(members: Sequence[tuple[FloatArray, FloatArray]], named: int) -> float:
    """The logarithm of the odds that positive numbers of a spark correction are retard; above zero: they are.

    `members` are the columns of one family with the throttle at their samples; `named` is what their name says: 1 a
    correction, -1 a retard. What counts is how much stands on either side under load, where knock is: a few idle values
    of the other sign tell nothing. A correction that is only ever positive may be a retard under another name.
    """
    up = down = 0.0
    for values, throttle in members:
        loaded = throttle > LOADED
        seen = values[loaded & np.isfinite(values)] if np.count_nonzero(loaded) >= LEAST_LOADED_ROWS else values
        seen = seen[np.isfinite(seen) & (np.abs(seen) > SMALL_DEG)]
        up, down = up + float(seen[seen > 0.0].sum()), down - float(seen[seen < 0.0].sum())
    score = -NAMED * named
    if up + down == 0.0:
        return 2.0 * score  # it never moved: its name is all there is
    score += MASS * (up - down) / (up + down)
    return score - MASS if up == 0.0 else score  # nobody writes a retard that is an advance


def mixture_under_load(values: FloatArray, throttle: FloatArray) -> float:
    """How likely a mixture is under an open throttle, as a logarithm: petrol is rich there, a diesel lean to twice that."""
    opened = values[(throttle >= OPEN) & np.isfinite(values)]
    if opened.size < LEAST_LOADED_ROWS:
        return 0.0
    middle = float(np.median(opened))
    return 0.0 if 0.68 <= middle <= 1.08 else -1.0 if 0.6 <= middle <= 2.4 else -5.0


# Under an open throttle no engine turns more slowly for long, in rpm; nor does one that runs go through so many times its
# lowest speed below that. Our choices.
LEAST_LOADED_RPM, LEAST_SWEPT_RPM, MOST_SWEPT = 900.0, 1100.0, 2.0


def engine_that_slow(values: FloatArray, throttle: FloatArray) -> float:
    """How likely an engine speed is that stays low through a pull, as a logarithm: numbers in tens look like that."""
    turning = values[np.isfinite(values) & (values > 60.0)]
    if turning.size < LEAST_LOADED_ROWS:
        return 0.0
    low, high = np.percentile(turning, (2, 98))
    if high >= LEAST_SWEPT_RPM:
        return 0.0
    opened = values[(throttle >= OPEN) & np.isfinite(values)]
    loaded = opened.size >= LEAST_LOADED_ROWS and float(np.median(opened)) < LEAST_LOADED_RPM
    return -9.0 if loaded or high > MOST_SWEPT * low else 0.0
