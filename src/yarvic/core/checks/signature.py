"""What a pull was like by engine speed: the means of all that was logged, band by band, to be laid beside another."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from yarvic.core.checks.sensors import sensor_ranges
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.conditions import RUN_WORDS, Conditions
from yarvic.core.evidence.dyno import Curve, dyno_curve
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import Pull, pulls_of
from yarvic.core.evidence.slip import BEHIND
from yarvic.core.physics import FloatArray

# Bands of engine speed, and the clock by which their means are taken whatever the rate of the samples. Our choice.
BAND_RPM, CLOCK_HZ = 250.0, 50.0
LEAST_BANDS = 4
# What the wheels gave, the best measure first: from a dyno's curve, a brake's torque, or how fast the engine ran up.
GIVEN = ("curve_torque", "roller_torque", "run_up")


# From here on two rollers, vehicles, slopes or ramps are not the same. Our choice.
INERTIA_ALIKE, MASS_ALIKE, GRADE_ALIKE, RAMP_ALIKE = 0.01, 0.02, 0.002, 0.15


@dataclass(frozen=True)
class Drive:
    """What a pull drove, as far as it was stated: the kind of run, the roller with its inertia, or mass and slope."""

    run: str = ""
    dyno: str = ""
    inertia_kg_m2: float | None = None
    mass_kg: float | None = None
    grade: float = 0.0
    fuel: str = ""
    simulated: bool | None = None

    def otherwise(self, other: Drive, given: str) -> str:
        """Why what the wheels gave, by a measure of GIVEN, cannot be held against another pull's; empty where it can."""
        if self.run and other.run and self.run != other.run:
            return f"one was run {RUN_WORDS[self.run]}, the other {RUN_WORDS[other.run]}"
        if given != "run_up":
            return ""
        if not self.run or not other.run:
            return "how fast it runs up says nothing of its power while nobody stated that both drove the same"
        if self.run == "road":
            return self._on_the_road(other)
        if self.run != "inertia":
            return f"how fast an engine runs up {RUN_WORDS[self.run]} says nothing of its power"
        if self.inertia_kg_m2 is not None and other.inertia_kg_m2 is not None:
            alike = abs(self.inertia_kg_m2 / other.inertia_kg_m2 - 1.0) <= INERTIA_ALIKE
            return "" if alike else f"they drove {other.inertia_kg_m2:g} and {self.inertia_kg_m2:g} kg m2"
        return "" if self.dyno and self.dyno == other.dyno else "the inertia that they drove is not stated of both"

    def _on_the_road(self, other: Drive) -> str:
        if self.mass_kg is None or other.mass_kg is None:
            return "the mass that they moved is not stated of both"
        if abs(self.mass_kg / other.mass_kg - 1.0) > MASS_ALIKE:
            return f"they moved {other.mass_kg:,.0f} and {self.mass_kg:,.0f} kg"
        return "" if abs(self.grade - other.grade) <= GRADE_ALIKE else "the road rose otherwise"


def _drive(conditions: Conditions | None) -> Drive:
    if conditions is None:
        return Drive()
    c = conditions
    return Drive(c.run, c.dyno, c.roller_inertia_kg_m2, c.mass_kg, c.grade, c.fuel, c.simulated)


@dataclass(frozen=True)
class Signature:
    """Means by channel (canonical units) in the bands `first`, `first + 1`, ... of 250 rpm; NaN where there is none.

    `gearing` is engine speed (rpm) over the speed behind it, by the channel that says it.
    """

    first: int
    means: Mapping[str, FloatArray]
    gearing: Mapping[str, float]
    throttle: float
    ambient_k: float | None
    ambient_pa: float | None
    drive: Drive = Drive()

    @property
    def count(self) -> int:
        """How many bands there are."""
        return next(iter(self.means.values())).size

    def centre_rpm(self, band: int) -> float:
        """The middle of a band, by its place."""
        return (self.first + band + 0.5) * BAND_RPM


def signature(log: Log, pull: Pull, conditions: Conditions | None = None, curve: Curve | None = None) -> Signature:
    """The means of one pull. Channels whose meaning is in doubt, and samples past what a sensor reads, are left out."""
    clock = np.arange(pull.start_s, pull.end_s, 1.0 / CLOCK_HZ)
    speed = log.at("engine_speed", clock)
    first, last = int(pull.from_rpm // BAND_RPM) + 1, int(pull.to_rpm // BAND_RPM)
    count = max(last - first, 0)
    place = np.floor(speed / BAND_RPM) - first
    means = {k: _by_band(_values(log, k, clock), place, count) for k in log.channels if _says_something(log, k)}
    if curve is not None and curve.correction.standard == "none":
        centres = (first + np.arange(count) + 0.5) * BAND_RPM
        means["curve_torque"] = np.interp(centres, curve.speed_rpm, curve.torque_nm, left=np.nan, right=np.nan)
    means["run_up"] = _run_up(clock, speed, first, count)
    own = conditions or Conditions(simulated=False)
    return Signature(
        first,
        means,
        {k: _gearing(log, k, clock, speed) for k in BEHIND if k in log.channels},
        pull.throttle,
        own.temperature_k if own.temperature_k is not None else _usual(means, "ambient_temperature"),
        own.pressure_pa if own.pressure_pa is not None else _usual(means, "ambient_pressure"),
        _drive(conditions),
    )


def first_signature(
    log: Log, conditions: Conditions | None, spans: Mapping[int, tuple[float, float]] | None = None
) -> Signature | None:
    """The signature of a log's first pull, with its curve where a roller was logged; None where it holds no pull."""
    pulls = (
        pulls_of(log, spans or {}) if conditions is None or conditions.run not in ("hold", "climb", "coast") else []
    )
    if not pulls:
        return None
    curve = None
    if conditions is not None and "roller_speed" in log.channels:
        try:
            curve = dyno_curve(log, pulls[0], conditions, "none", boost_controlled=True)
        except EvidenceError:
            curve = None  # what the wheels gave is then told otherwise
    return signature(log, pulls[0], conditions, curve)


def _says_something(log: Log, key: str) -> bool:
    kind = CHANNELS.get(key)
    return log.channels[key].doubt is None and not (kind is not None and kind.waveform)


def _values(log: Log, key: str, clock: FloatArray) -> FloatArray:
    values = log.at(key, clock)
    family = CHANNELS[key].family if key in CHANNELS else key
    reads = sensor_ranges().get(family)
    return values if reads is None else np.where(reads.reads(np.nan_to_num(values)), values, np.nan)


def _by_band(values: FloatArray, place: FloatArray, count: int) -> FloatArray:
    good = np.isfinite(values) & (place >= 0) & (place < count)
    at = place[good].astype(np.intp)
    sums = np.bincount(at, values[good], count)
    numbers = np.bincount(at, minlength=count)
    return np.where(numbers > 0, sums / np.maximum(numbers, 1), np.nan)


def _run_up(clock: FloatArray, speed: FloatArray, first: int, count: int) -> FloatArray:
    """How fast engine speed rises in each band, rpm/s: the band's width over the time between its edges."""
    good = np.isfinite(speed)
    if np.count_nonzero(good) < 2 or not count:
        return np.full(count, np.nan)
    edges = (first + np.arange(count + 1)) * BAND_RPM
    spent = np.diff(np.interp(edges, np.maximum.accumulate(speed[good]), clock[good]))
    return np.where(spent > 0.0, BAND_RPM / np.maximum(spent, 1e-3), np.nan)


def _gearing(log: Log, key: str, clock: FloatArray, speed: FloatArray) -> float:
    behind = log.at(key, clock)
    turns = np.isfinite(behind) & np.isfinite(speed) & (behind > 0.0)
    return float(np.median(speed[turns] / behind[turns])) if turns.any() else float("nan")


def _usual(means: Mapping[str, FloatArray], key: str) -> float | None:
    values = means.get(key)
    if values is None or not np.isfinite(values).any():
        return None
    return float(np.nanmedian(values))
