"""Power, torque and engine speed belong together: P = T w. Where a sheet breaks it, which fault that is."""

from __future__ import annotations

from itertools import pairwise, permutations, product

import numpy as np

from yarvic.core.errors import EvidenceError
from yarvic.core.physics import FloatArray
from yarvic.core.physics.power import RAD_PER_S_PER_RPM, power_from_torque
from yarvic.core.units import unit, units_of

# A curve may miss P = T w by this share and the rounding of its numbers. Our choice.
TOLERANCE = 0.01
MOST_ROUNDING = 0.02
# Points that count are those over this share of the highest; the ratio is one where it spreads no more. Our choices.
STRONG, EVEN = 0.4, 0.015
# A ratio is that of two units where it comes this near; PS and hp lie 1.4 % apart.
NEAR = 0.005
# PS with N m and kW with lb-ft lie 0.28 % apart: a unit is taken by the ratio alone only where it is this near.
SURELY_NEAR = 0.0012
# A column changes its unit where power does so by their ratio this nearly, within a step of speed this small.
SMALL_STEP, NEAR_STEP = 1.06, 0.04
# What corrections, drivetrains and gears make of it, by common practice, no published source.
MOST_CORRECTED, LEAST_LOSS, MOST_LOSS, LEAST_GEAR, MOST_GEAR = 1.12, 1.06, 1.45, 1.8, 25.0
_POWERS, _TORQUES = ("kW", "PS", "hp", "W"), ("N m", "lb-ft", "kgf m")


def check_identity(
    speed_rpm: FloatArray,
    power_w: FloatArray,
    torque_nm: FloatArray,
    *,
    power_unit: str = "W",
    torque_unit: str = "N m",
    factor: float | None = None,
) -> None:
    """Raise EvidenceError, naming engine speed and fault, where P = T w does not hold within 1 % and the rounding.

    Arrays of one shape; the units are those in which the sheet gave the numbers, `factor` a correction that is known.
    """
    good = np.isfinite(speed_rpm) & np.isfinite(power_w) & np.isfinite(torque_nm) & (speed_rpm > 0.0)
    n, p, t = speed_rpm[good], power_w[good], torque_nm[good]
    if not n.size:
        return
    expected = power_from_torque(t, n)
    rounding = _half_step(p) + _half_step(t) * n * RAD_PER_S_PER_RPM
    off = np.abs(p - expected)
    allowed = TOLERANCE * np.maximum(np.abs(expected), np.abs(p)) + rounding
    # A coasting engine gives no power: what is near nothing says nothing.
    counts = np.maximum(np.abs(p), np.abs(expected)) > 0.1 * max(
        float(np.abs(p).max()), float(np.abs(expected).max())
    )
    if not np.any(counts & (off > allowed)):
        return
    worst = int(np.argmax(np.where(counts, off / np.maximum(np.abs(expected), 1.0), 0.0)))
    share = off[worst] / max(abs(float(expected[worst])), 1.0)
    raise EvidenceError(
        f"power and torque disagree by {share * 100:.1f} % at {n[worst]:.0f} rpm: "
        + _fault(n, p, expected, power_unit, torque_unit, factor),
        remedy="Say the unit or the basis of both, or leave one of them out.",
    )


def check_steps(speed_rpm: FloatArray, power_w: FloatArray) -> None:
    """Raise EvidenceError where power changes from one point to the next as from one unit to another, and stays so.

    A curve alone has nothing to be held against; no engine does this within a step of speed.
    """
    strong = np.flatnonzero(power_w > STRONG * power_w.max())
    for i, k in pairwise(strong.tolist()):
        if k != i + 1 or speed_rpm[k] > SMALL_STEP * speed_rpm[i]:
            continue
        # What the speed alone would make of it at even torque.
        ratio = power_w[k] / power_w[i] * speed_rpm[i] / speed_rpm[k]
        jumps = [(a, b, unit(a).factor / unit(b).factor) for a, b in permutations(_POWERS, 2)]
        fits = [
            f"{a} to {b}" for a, b, jump in jumps if abs(jump - 1.0) > 0.1 and abs(ratio / jump - 1.0) < NEAR_STEP
        ]
        if fits:
            raise EvidenceError(
                f"power changes at {speed_rpm[k]:.0f} rpm as from {' or '.join(fits)}: its column is in two units",
                remedy="Export it in one unit.",
            )


def belongs(speed_rpm: FloatArray, power_w: FloatArray, torque_nm: FloatArray) -> bool:
    """Whether P = T w holds of a power and a torque."""
    try:
        check_identity(speed_rpm, power_w, torque_nm)
    except EvidenceError:
        return False
    return True


def _half_step(values: FloatArray) -> float:
    """Half of the last digit that numbers were rounded to, as far as they show it."""
    steps = np.diff(np.unique(values))
    steps = steps[steps > 1e-9 * max(float(np.abs(values).max()), 1e-12)]
    if steps.size < 3:
        return 0.0
    step = float(steps.min())
    whole = np.abs(steps / step - np.rint(steps / step)) < 0.02
    return min(0.5 * step, MOST_ROUNDING * float(np.abs(values).max())) if whole.mean() > 0.9 else 0.0


def _strong(power_w: FloatArray, expected_w: FloatArray) -> FloatArray:
    """The ratio of power to torque times speed, where both are large enough to tell."""
    keep = (power_w > STRONG * power_w.max()) & (expected_w > STRONG * expected_w.max())
    return np.asarray(power_w[keep] / expected_w[keep])


def _fault(
    n: FloatArray, p: FloatArray, expected: FloatArray, power_unit: str, torque_unit: str, factor: float | None
) -> str:
    ratio = _strong(p, expected)
    if ratio.size < 3:
        return "one of them, or the speed, is not of this run"
    level = float(np.median(ratio))
    spread = float(np.percentile(ratio, 95) - np.percentile(ratio, 5)) / level
    if spread > EVEN:
        return _uneven(n, p, expected)
    might = _of_units(level, power_unit, torque_unit)
    larger = max(level, 1.0 / level)
    high, low = ("power", "torque") if level > 1.0 else ("torque", "power")
    if factor is not None and min(abs(larger / factor - 1.0), abs(larger * factor - 1.0)) < NEAR:
        might.append(f"the one was corrected and the other was not, by the sheet's own factor of {factor:.3f}")
    elif larger < MOST_CORRECTED and not might:
        might.append(f"the one was corrected and the other was not ({larger:.3f} all along)")
    if LEAST_LOSS < larger < MOST_LOSS and not any("fits" in m for m in might):
        might.append(f"{high} is that of the crank and {low} that of the wheels ({larger:.3f} all along)")
    if LEAST_GEAR < larger < MOST_GEAR and level < 1.0 and not might:
        might.append(
            f"torque is that of the wheel's axle and not of engine speed: a gearing of {larger:.2f} all along"
        )
    return ", or ".join(might) or f"{high} is {larger:.3f} times too large all along"


def _uneven(n: FloatArray, p: FloatArray, expected: FloatArray) -> str:
    keep = (p > STRONG * p.max()) & (expected > STRONG * expected.max())
    ratio, speed = p[keep] / expected[keep], n[keep]
    steady = abs(float(np.corrcoef(speed, ratio)[0, 1])) > 0.9 if ratio.size > 4 and np.ptp(ratio) > 0 else False
    low, high = float(ratio.min()), float(ratio.max())
    if steady and (low > 1.02 or high < 0.98) and low > 1.0 / MOST_LOSS and high < MOST_LOSS:
        one, other = ("power", "torque") if low > 1.0 else ("torque", "power")
        return f"{one} is that of the crank and {other} that of the wheels, apart by a loss that changes with speed"
    return "one of them, or the speed, is not of this run"


def _of_units(level: float, power_unit: str, torque_unit: str) -> list[str]:
    """Which unit the one or the other would have to be in, for both to fit."""
    p, t = unit(power_unit).factor, unit(torque_unit).factor
    found = [
        f"power fits {other} and not {power_unit}"
        for other in units_of("power")
        if other != power_unit and abs(level * unit(other).factor / p - 1.0) < NEAR
    ]
    found += [
        f"torque fits {other} and not {torque_unit}"
        for other in units_of("torque")
        if other != torque_unit and abs(level * t / unit(other).factor - 1.0) < NEAR
    ]
    if found:
        return found
    return [
        f"power fits {a} and not {power_unit}, torque {b} and not {torque_unit}"
        for a, b in product(units_of("power"), units_of("torque"))
        if a != power_unit and b != torque_unit and abs(level * unit(a).factor / p * t / unit(b).factor - 1.0) < NEAR
    ][:1]


def units_by_identity(
    speed_rpm: FloatArray, power: FloatArray, torque: FloatArray, power_unit: str, torque_unit: str
) -> tuple[str, str] | None:
    """The only units in which bare numbers of power and torque fit each other; None where none or several do.

    A unit that is stated is kept. PS and N m, hp and lb-ft lie close in no ratio but their own.
    """
    good = np.isfinite(speed_rpm) & np.isfinite(power) & np.isfinite(torque) & (speed_rpm > 0.0)
    n, p, t = speed_rpm[good], power[good], torque[good]
    if n.size < 5 or p.max() <= 0.0 or t.max() <= 0.0:
        return None
    ratio = _strong(p, power_from_torque(t, n))
    if ratio.size < 3 or float(np.percentile(ratio, 95) - np.percentile(ratio, 5)) > 0.02 * float(np.median(ratio)):
        return None
    level = float(np.median(ratio))
    pairs = product((power_unit,) if power_unit else _POWERS, (torque_unit,) if torque_unit else _TORQUES)
    fits = sorted((abs(level * unit(a).factor / unit(b).factor - 1.0), a, b) for a, b in pairs)
    if fits[0][0] > SURELY_NEAR or (len(fits) > 1 and fits[1][0] < 2.0 * SURELY_NEAR):
        return None
    return fits[0][1], fits[0][2]
