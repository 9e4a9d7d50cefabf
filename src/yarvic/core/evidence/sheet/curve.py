"""From the columns of a dyno sheet to a curve: engine speed, power and torque that belong together."""

from __future__ import annotations

import numpy as np

from yarvic.core.errors import EvidenceError, YarvicError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.dyno import GRID_STEP_RPM, Curve
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.mapping import Column, CurveSaid
from yarvic.core.evidence.sheet.identity import check_identity, check_steps
from yarvic.core.evidence.sheet.runs import LEAST_POINTS, legs
from yarvic.core.physics import FloatArray
from yarvic.core.physics.correction import Correction, correction, title
from yarvic.core.physics.power import power_from_torque, torque_from_power

# Rows that lie closer than this in speed, by their median, were sampled in time: they are averaged in steps.
DENSE_RPM = 20.0
# A factor that a sheet states may miss the one of its own weather by this. Our choice.
FACTOR_ALIKE = 0.01
BASIS = "whether it was measured at the wheels or stands for the crank is not said"
CORRECTED = "whether it was corrected already, and by which standard, is not said"
RATIO = "it stands over road speed, and engine speed for it is not said: state rpm per km/h, or the gear's ratio"

ROLLER = "it stands over roller speed, and engine speed for it is not said: state engine turns per roller turn"


def sheet_questions(log: Log, said: CurveSaid) -> list[str]:
    """What has to be answered before a sheet gives a curve, in sentences; empty where it does."""
    found = []
    if not said.basis:
        found.append(BASIS)
    if not said.corrected_by:
        found.append(CORRECTED)
    if "engine_speed" not in log.channels:
        road = "vehicle_speed" in log.channels or "gps_speed" in log.channels
        if (said.rpm_per_m_s if road else said.engine_per_roller) is None:
            found.append(RATIO if road else ROLLER)
    for key in ("engine_speed", "power", "torque"):
        channel = log.channels.get(key)
        if channel is not None and channel.doubt is not None:
            found.append(f"{channel.title}: {channel.doubt.sentence}")
    if "power" not in log.channels and "torque" not in log.channels:
        found.append("which column is power, and which torque, is not said")
    return found


def sheet_fault(log: Log, said: CurveSaid, columns: tuple[Column, ...], conditions: Conditions | None) -> str:
    """In what a sheet contradicts itself or gives no curve, in a sentence; empty where nothing does, or it is asked."""
    asked = sheet_questions(log, said)
    if any(q not in (BASIS, CORRECTED) for q in asked):
        return ""
    # What it is measured at changes nothing of that.
    told = said.changed(basis=said.basis or "wheel", corrected_by=said.corrected_by or "none")
    try:
        sheet_curve(log, told, columns, conditions)
    except YarvicError as error:
        return str(error)
    return ""


def sheet_curve(log: Log, said: CurveSaid, columns: tuple[Column, ...], conditions: Conditions | None) -> Curve:
    """The curve of a sheet, as it stands there: what was corrected stays so, and says by what.

    Raises EvidenceError where basis, correction, gearing or a unit is not known, where P = T w does not hold, and
    where speed does not rise.
    """
    for lacks, why in ((not said.basis, BASIS), (not said.corrected_by, CORRECTED)):
        if lacks:
            raise EvidenceError(why, remedy="Say so with the import.")
    speed = _speed(log, said)
    power, torque = _numbers(log, "power"), _numbers(log, "torque")
    if power is None and torque is None:
        raise EvidenceError("holds neither power nor torque", remedy="Say which column is which.")
    how = _applied(said, conditions)
    if power is not None:
        check_steps(*_rising(speed, power))
    if power is not None and torque is not None:
        units = {c.channel: c.unit for c in columns}
        factor = how.factor if np.isfinite(how.factor) and how.factor != 1.0 else None
        check_identity(
            speed, power, torque, power_unit=units.get("power") or "W", torque_unit=units.get("torque") or "N m",
            factor=factor,
        )  # fmt: skip
    elif power is None:
        assert torque is not None
        power = np.asarray(power_from_torque(torque, speed))
    grid, power = _rising(speed, power)
    none = np.full(grid.shape, np.nan)
    return Curve(
        grid,
        power,
        np.asarray(torque_from_power(power, grid)),
        how,
        resolution_rpm=float(np.median(np.diff(grid))),
        error_w=none,
        bias_w=none,
        basis=said.basis or "wheel",
    )


def _speed(log: Log, said: CurveSaid) -> FloatArray:
    speed = _numbers(log, "engine_speed")
    if speed is not None:
        return speed
    road = _numbers(log, "vehicle_speed")
    road = road if road is not None else _numbers(log, "gps_speed")
    roller = _numbers(log, "roller_speed")
    if road is None and roller is not None:
        if said.engine_per_roller is None:
            raise EvidenceError(ROLLER)
        return np.asarray(roller * said.engine_per_roller)
    if road is None:
        raise EvidenceError("holds no engine speed", remedy="Say which column is it.")
    if said.rpm_per_m_s is None:
        raise EvidenceError(RATIO)
    return np.asarray(road * said.rpm_per_m_s)


def _numbers(log: Log, key: str) -> FloatArray | None:
    channel = log.channels.get(key)
    if channel is None:
        return None
    if channel.doubt is not None:
        raise EvidenceError(f"{channel.title}: {channel.doubt.sentence}")
    return channel.values


def _rising(speed: FloatArray, power: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Power over a speed that rises from point to point: the run's own stretch, averaged where rows lie close."""
    climbs = legs(speed)
    if not climbs:
        raise EvidenceError("its speed does not rise", remedy="Sort it by engine speed.")
    first, last = max(climbs, key=lambda leg: speed[leg[1]] - speed[leg[0]])
    n, p = speed[first : last + 1], power[first : last + 1]
    good = np.isfinite(n) & np.isfinite(p) & (n > 0.0)
    n, p = n[good], p[good]
    if p.size and float(p.max()) <= 0.0:
        raise EvidenceError("its power is never above zero", remedy="Export the run itself.")
    if n.size < LEAST_POINTS:
        raise EvidenceError(
            f"has {n.size} point{'s' if n.size != 1 else ''}, a curve needs {LEAST_POINTS}",
            remedy="Export it in smaller steps.",
        )
    if float(np.median(np.abs(np.diff(n)))) < DENSE_RPM:
        n, p = _binned(n, p)
    else:
        up = np.concatenate(([True], n[1:] > np.maximum.accumulate(n)[:-1]))
        n, p = n[up], p[up]
    if n.size < LEAST_POINTS:
        raise EvidenceError("covers too little engine speed for a curve", remedy="Export the whole run.")
    return n, p


def _binned(n: FloatArray, p: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Means of speed and power in even steps of speed."""
    step = np.rint(n / GRID_STEP_RPM).astype(np.intp)
    each, place, count = np.unique(step, return_inverse=True, return_counts=True)
    means = [np.bincount(place, weights=v, minlength=each.size) / count for v in (n, p)]
    return means[0], means[1]


def _applied(said: CurveSaid, conditions: Conditions | None) -> Correction:
    """The correction that a sheet's numbers have already: by its own factor, else by the one of its weather.

    NaN for a factor that neither says: then the numbers stand by that standard alone. Raises EvidenceError where a
    stated factor is not that of the weather.
    """
    standard = said.corrected_by or "none"
    air = conditions.air if conditions is not None and not conditions.unknown_air else None
    stated = conditions.stated_factor if conditions is not None else None
    if standard == "none":
        return Correction("none", title("none"), 1.0, air)
    computed = correction(standard, air) if air is not None else None
    if stated is not None:
        if computed is not None and abs(stated / computed.factor - 1.0) > FACTOR_ALIKE:
            raise EvidenceError(
                f"states a factor of {stated:.3f}, and its weather gives {computed.factor:.3f} by {computed.title}",
                remedy="Check the weather, the standard and the factor.",
            )
        return Correction(standard, title(standard), stated, air)
    return computed or Correction(standard, title(standard), float("nan"), None)
