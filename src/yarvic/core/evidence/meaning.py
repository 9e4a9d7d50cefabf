"""What the numbers of a column can mean where its header leaves it open: zero of a pressure, sign, lambda or ratio.

Each answer is one that the numbers themselves compel; where they do not, it is none, and nothing is assumed.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from yarvic.core.physics import FloatArray
from yarvic.core.units import Reference

# A running engine never has less than this in its manifold, and never less than this behind an open throttle;
# barometers stand between the two last, sea level in a high to 3,500 m. Our choice, from physics.
LEAST_ABSOLUTE_PA = 12e3
LEAST_OPEN_ABSOLUTE_PA = 60e3
LOWEST_BAROMETER_PA, HIGHEST_BAROMETER_PA = 62e3, 108e3
NOISE_PA = 2e3
OPEN, SHUT = 0.9, 0.35  # throttle
AT_REST_RPM = 50.0
# Lambda of an engine that burns lies under the one, its air-fuel ratio, of any fuel, over the other. Our choice.
MOST_LAMBDA, LEAST_RATIO, MOST_RATIO = 4.0, 4.5, 60.0
SMALL_DEG = 0.05


def pressure_reference(pressure_pa: FloatArray, throttle: FloatArray, speed_rpm: FloatArray) -> Reference:
    """Whether a pressure before or in an engine's intake was counted from vacuum or from the barometer.

    `throttle` (0 to 1) and `speed_rpm` at the same samples, NaN where not known. Empty when the numbers allow both.
    """
    known = np.isfinite(pressure_pa)
    if not known.any():
        return ""
    p, throttle, speed_rpm = pressure_pa[known], throttle[known], speed_rpm[known]
    rest = p[speed_rpm < AT_REST_RPM]
    if rest.size:
        middle = float(np.median(rest))
        if abs(middle) < LEAST_ABSOLUTE_PA:
            return "gauge"
        return "absolute" if LOWEST_BAROMETER_PA < middle < HIGHEST_BAROMETER_PA else ""
    if float(p.min()) < -NOISE_PA or float(np.percentile(p, 5)) < LEAST_ABSOLUTE_PA:
        return "gauge"
    opened = p[throttle >= OPEN]
    if opened.size and float(np.percentile(opened, 2)) < LEAST_OPEN_ABSOLUTE_PA:
        return "gauge"
    # Nothing boosts a petrol engine whose throttle is nearly shut: what is read there is vacuum or the barometer. A
    # diesel's pedal shuts nothing, so that vacuum counts only where an open throttle shows the barometer or more.
    shut = p[throttle <= SHUT]
    if shut.size and LEAST_ABSOLUTE_PA < float(np.median(shut)) < HIGHEST_BAROMETER_PA + 20e3 and opened.size:
        return "absolute"
    return ""


def retard_sign(values_deg: FloatArray, named: int) -> int:
    """The sign that makes a spark correction (negative is retarded) of a column; 0 when that is not known.

    `named` is what its name says: 1 a correction, -1 a retard. Loggers write a retard with either sign; none writes
    it with both. A correction that is only ever positive may be a retard under another name.
    """
    known = values_deg[np.isfinite(values_deg)]
    up, down = bool(np.any(known > SMALL_DEG)), bool(np.any(known < -SMALL_DEG))
    if named == -1:
        return 0 if up and down else 1 if down else -1
    return 0 if up and not down else 1


def mixture_kind(values: FloatArray) -> Literal["lambda", "ratio", ""]:
    """Whether a column of mixture is lambda or an air-fuel ratio by mass, by the range of its numbers."""
    known = values[np.isfinite(values)]
    if not known.size:
        return ""
    low, middle = np.percentile(known, (2, 50))
    if float(middle) <= MOST_LAMBDA and float(low) > 0.3:
        return "lambda"
    return "ratio" if float(low) >= LEAST_RATIO and float(middle) <= MOST_RATIO else ""
