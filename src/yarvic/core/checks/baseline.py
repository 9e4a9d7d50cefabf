"""A baseline: what the same build gave on the same maps before, and how far a pull lies from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from yarvic.core.checks.signature import BAND_RPM, GIVEN, LEAST_BANDS, RAMP_ALIKE, Signature
from yarvic.core.physics import FloatArray
from yarvic.core.physics.turbo import KAPPA_AIR

# What the maps ask for: where these agree, the unit held the same maps. Shares of their own size. Our choice.
ASKED = ("boost_target", "lambda_target", "rail_target", "spark_advance", "injection_start", "quantity_limit")
ASKED_ALIKE: Mapping[str, float] = {"boost_target": 0.04}
ASKED_ALIKE_ELSE = 0.015
ASKED_ALIKE_DEG = 1.0
GEARING_ALIKE = 0.03
THROTTLE_ALIKE = 0.03
# Below this share of the bands turbo and sensors still settle: it is left out of the means.
SETTLES_SHARE = 0.25
SMALL = 1e-9
DUTY_SEEN = 0.012  # more of the duty than repeats by itself. Our choice.
LEAST_RATIO = 1.05  # of pressures over a compressor that does anything. Our choice.

Kind = Literal["turbo spark", "natural spark", "compression"]
# How torque at full throttle goes with the air around, by kind: exponents of pressure and of temperature. An engine
# that holds its boost makes up for the pressure; a diesel's torque follows its fuel (Heywood 1988, 2.12: temperature to
# the power of -0.5; SAE J1349's 1.18 for the pressure of one that breathes by itself; both from memory).
_WITH_AIR: Mapping[str, tuple[float, float]] = {
    "turbo spark": (0.0, -0.5),
    "natural spark": (1.18, -0.59),
    "compression": (0.0, 0.0),
}
# What the duty of a turbocharger that holds its boost makes up: for a share of the pressure ratio, and for each K. Our
# choice, as the simulated engines show it.
_DUTY_FOR_AIR: Mapping[str, tuple[float, float]] = {
    "turbo spark": (1.24, 0.0019),
    "natural spark": (0.0, 0.0),
    "compression": (0.40, 0.0008),
}
# By how much weather may shift the speed at which boost comes, rpm for each K: it is not held against the engine.
DELAY_FOR_AIR_RPM = 6.0
LEVELS = (0.5, 0.7, 0.9)
# What does not hang on the maps, beside power, which other maps may mean to change.
OF_BUILD = ("torque", "feed", "charge", "restriction")


@dataclass(frozen=True)
class Deviation:
    """How far a pull lies from its baseline in one thing, on average over the bands: in the canonical unit, or as a share
    for torque, air, fuel and pressures. `at_rpm` is where it lies furthest off.
    """

    key: str
    value: float
    at_rpm: float


@dataclass(frozen=True)
class Baseline:
    """Signatures of the pulls that count as sound, in their order, and in words what they are.

    `same_maps` is known from the record; None where only what the maps ask for can tell; where False, power is held
    against it and what does not hang on the maps. `place` is that of the judged pull in its own set: heat is held against
    the pull at the same place.
    """

    title: str
    pulls: tuple[Signature, ...]
    same_maps: bool | None = None
    place: int = 0
    same_drive: bool = False  # a person stated that the judged pull drove what the baseline drove

    def unlike(self, pull: Signature) -> str:
        """Why a pull cannot be held against this; empty when it can."""
        one = self.pulls[0]
        if abs(one.throttle - pull.throttle) > THROTTLE_ALIKE:
            return f"the baseline was pulled at {one.throttle * 100.0:.0f} % throttle"
        for key in one.gearing.keys() & pull.gearing.keys():
            if abs(pull.gearing[key] / one.gearing[key] - 1.0) > GEARING_ALIKE and not _slips(one, pull):
                return "the baseline was pulled in another gear"
        if not common(one, pull):
            return "the baseline covers other engine speeds"
        if self.same_maps is None:
            return _other_maps(one, pull)
        return ""


def _slips(one: Signature, pull: Signature) -> bool:
    """A clutch that slips changes the ratio by less than a gear does, and only upwards."""
    ratios = [pull.gearing[k] / one.gearing[k] for k in one.gearing.keys() & pull.gearing.keys()]
    return all(1.0 < r < 1.15 for r in ratios)


def _other_maps(one: Signature, pull: Signature) -> str:
    asked = [k for k in ASKED if k in one.means and k in pull.means]
    if not asked:
        return "nothing that was logged tells which maps the unit held: state the revision"
    for key in asked:
        a, b = both(one.means[key], one, pull.means[key], pull)
        off = np.abs(b - a)
        if not off.size or not np.isfinite(off).any():
            continue
        angle = key in ("spark_advance", "injection_start")
        bound = ASKED_ALIKE_DEG if angle else ASKED_ALIKE.get(key, ASKED_ALIKE_ELSE) * float(np.nanmedian(np.abs(a)))
        if float(np.nanmedian(off)) > max(bound, SMALL):
            return "the baseline is of other maps: the unit asks for something else"
    return ""


def common(one: Signature, other: Signature) -> range:
    """The bands, by number, that two signatures share; empty where they are too few."""
    low, high = max(one.first, other.first), min(one.first + one.count, other.first + other.count)
    return range(low, high) if high - low >= LEAST_BANDS else range(0)


def both(a: FloatArray, one: Signature, b: FloatArray, other: Signature) -> tuple[FloatArray, FloatArray]:
    """Two rows of means in the bands that their signatures share."""
    bands = common(one, other)
    return (
        a[bands.start - one.first : bands.stop - one.first],
        b[bands.start - other.first : bands.stop - other.first],
    )


def deviations(baseline: Baseline, pull: Signature, kind: Kind) -> dict[str, Deviation]:
    """How far a pull lies from its baseline, by what it is about.

    Torque, air and feed pressure as shares, torque as it would be in the baseline's air; duties, trims, mixture and
    temperatures as differences, charge temperature as that of its distance from ambient.
    """
    found: dict[str, Deviation] = {}
    given, _ = what_wheels_gave(baseline, pull)
    factor = as_in_air_of(baseline.pulls[0], pull, kind)
    if given and factor is not None:
        _add(found, _relative("torque", given, baseline, pull, factor))
    for key, name in (
        ("air_flow", "air"),
        ("feed_pressure", "feed"),
        ("filling", "filling"),
        ("boost_pressure", "boost"),
    ):
        _add(found, _relative(name, key, baseline, pull, 1.0))
    for key, name in (
        ("fuel_trim", "trim"), ("smoke", "smoke"), ("injector_window", "window"), ("lambda_measured", "mixture"),
    ):  # fmt: skip
        _add(found, _difference(name, key, baseline, pull))
    made_up = _duty_made_up(baseline.pulls[0], pull, kind, found)
    for key in ("wastegate_duty", "vane_position") if made_up is not None else ():
        _add(found, _difference("duty", key, baseline, pull, made_up))
    _add(found, _fuel(baseline, pull))
    _add(found, _airbox(baseline, pull))
    _add(found, _over_ambient("charge", "charge_temperature", baseline, pull, _heat_grown(baseline.pulls[0], pull)))
    _add(found, _over_ambient("exhaust", "exhaust_temperature", baseline, pull))
    _add(found, _delay(baseline, pull))
    _add(found, _heat_for_duty(found))
    return {k: d for k, d in found.items() if k in OF_BUILD} if baseline.same_maps is False else found


def what_wheels_gave(baseline: Baseline, pull: Signature) -> tuple[str, str]:
    """The best measure of GIVEN by which a pull can be held against its baseline; empty, and why, where none can."""
    why = "what the wheels gave was not logged in both"
    for key in GIVEN:
        if not all(_there(s, key) for s in (*baseline.pulls, pull)):
            continue
        reasons = [] if baseline.same_drive else [pull.drive.otherwise(s.drive, key) for s in baseline.pulls]
        if key == "roller_torque" and not any(reasons) and any(_ran_up_otherwise(s, pull) for s in baseline.pulls):
            reasons = ["the brake let it run up otherwise, which takes another share of the torque"]
        why = next((r for r in reasons if r), "")
        if not why:
            return key, ""
    return "", why


def _ran_up_otherwise(one: Signature, pull: Signature) -> bool:
    before, now = both(one.means["run_up"], one, pull.means["run_up"], pull)
    with np.errstate(divide="ignore", invalid="ignore"):
        off = now / before - 1.0
    return bool(np.isfinite(off).any() and abs(float(np.nanmedian(off))) > RAMP_ALIKE)


def _add(found: dict[str, Deviation], deviation: Deviation | None) -> None:
    """One more, where it is one."""
    if deviation is not None and np.isfinite(deviation.value):
        found[deviation.key] = deviation


def _heat_for_duty(found: Mapping[str, Deviation]) -> Deviation | None:
    """K of charge for the duty that a turbocharger works harder by: what is lost before it raises its pressure ratio and
    with it the heat, what is lost behind it hardly does.
    """
    duty, charge = found.get("duty"), found.get("charge")
    if duty is None or charge is None or duty.value < DUTY_SEEN:
        return None
    return Deviation("heat_for_duty", charge.value / duty.value, charge.at_rpm)


def _there(s: Signature, key: str) -> bool:
    return key in s.means and bool(np.isfinite(s.means[key]).any())


def as_in_air_of(one: Signature, pull: Signature, kind: Kind) -> float | None:
    """The factor that brings torque into the air of another pull; None where it hangs on air that is not known."""
    pressure, temperature = _WITH_AIR[kind]
    factor = 1.0
    for exponent, before, now in (
        (pressure, one.ambient_pa, pull.ambient_pa),
        (temperature, one.ambient_k, pull.ambient_k),
    ):
        if exponent and not (before and now):
            return None
        if exponent and before and now:
            factor *= (before / now) ** exponent
    return factor


def _duty_made_up(one: Signature, pull: Signature, kind: Kind, found: Mapping[str, Deviation]) -> float | None:
    """By how much the air of the day and the boost that it leads to move the duty; None where the air is not known."""
    if not (one.ambient_pa and pull.ambient_pa and one.ambient_k and pull.ambient_k):
        return None
    ratio, heat = _DUTY_FOR_AIR[kind]
    higher = 1.0 - pull.ambient_pa / one.ambient_pa + (found["boost"].value if "boost" in found else 0.0)
    return ratio * higher + heat * _warmer(one, pull)


def _against(
    name: str,
    before: Sequence[FloatArray],
    base: Sequence[Signature],
    now: FloatArray,
    pull: Signature,
    relative: bool,
) -> Deviation | None:
    bands = range(max(s.first for s in (*base, pull)), min(s.first + s.count for s in (*base, pull)))
    if len(bands) < LEAST_BANDS:
        return None
    rows = np.stack([b[bands.start - s.first : bands.stop - s.first] for b, s in zip(before, base, strict=True)])
    mine = now[bands.start - pull.first : bands.stop - pull.first]
    known = np.isfinite(rows).any(axis=0)
    mean = np.full(mine.shape, np.nan)
    mean[known] = np.nanmean(rows[:, known], axis=0)
    off = mine / mean - 1.0 if relative else mine - mean
    settled = np.arange(off.size) >= SETTLES_SHARE * off.size
    use = settled & np.isfinite(off)
    if np.count_nonzero(use) < LEAST_BANDS - 1:
        return None
    at = int(np.flatnonzero(use)[np.argmax(np.abs(off[use]))])
    centre = (bands.start + at + 0.5) * BAND_RPM
    return Deviation(name, float(off[use].mean()), centre)


def _relative(name: str, key: str, baseline: Baseline, pull: Signature, factor: float) -> Deviation | None:
    if not all(_there(s, key) for s in (*baseline.pulls, pull)):
        return None
    with np.errstate(divide="ignore", invalid="ignore"):
        before = [np.where(s.means[key] != 0.0, s.means[key], np.nan) for s in baseline.pulls]
        return _against(name, before, baseline.pulls, pull.means[key] * factor, pull, True)


def _difference(
    name: str, key: str, baseline: Baseline, pull: Signature, usual: float | None = None
) -> Deviation | None:
    if not all(_there(s, key) for s in (*baseline.pulls, pull)):
        return None
    now = pull.means[key] - (usual or 0.0)
    return _against(name, [s.means[key] for s in baseline.pulls], baseline.pulls, now, pull, False)


def _warmer(one: Signature, pull: Signature) -> float:
    """By how many K the air around is warmer than it was."""
    return pull.ambient_k - one.ambient_k if one.ambient_k and pull.ambient_k else 0.0


def _fuel(baseline: Baseline, pull: Signature) -> Deviation | None:
    """The fuel that follows from the air that was measured and its mixture."""
    if not all(_there(s, k) for s in (*baseline.pulls, pull) for k in ("air_flow", "lambda_measured")):
        return None

    def burnt(s: Signature) -> FloatArray:
        return s.means["air_flow"] / s.means["lambda_measured"]

    return _against("fuel", [burnt(s) for s in baseline.pulls], baseline.pulls, burnt(pull), pull, True)


def _airbox(baseline: Baseline, pull: Signature) -> Deviation | None:
    """The share of the barometer that is lost on the way to the airbox."""
    if not all(_there(s, "airbox_pressure") and s.ambient_pa for s in (*baseline.pulls, pull)):
        return None

    def lost(s: Signature) -> FloatArray:
        return 1.0 - s.means["airbox_pressure"] / float(s.ambient_pa or np.nan)

    return _against("restriction", [lost(s) for s in baseline.pulls], baseline.pulls, lost(pull), pull, False)


def _over_ambient(name: str, key: str, baseline: Baseline, pull: Signature, grown: float = 1.0) -> Deviation | None:
    """Over ambient, against the pull at the same place of its set: heat grows from pull to pull.

    `grown` is by how much the day alone makes the distance greater.
    """
    base = (baseline.pulls[min(baseline.place, len(baseline.pulls) - 1)],)
    if not all(_there(s, key) and s.ambient_k for s in (*base, pull)):
        return None
    before = [grown * (s.means[key] - float(s.ambient_k or 0.0)) for s in base]
    return _against(name, before, base, pull.means[key] - float(pull.ambient_k or 0.0), pull, False)


def _heat_grown(one: Signature, pull: Signature) -> float:
    """By what factor the heat of compression has grown, T1 ((p2 / p1)^((gamma - 1) / gamma) - 1), whatever the
    compressor's efficiency; where boost was not logged in both, by that of the temperature alone.
    """
    if not (one.ambient_k and pull.ambient_k):
        return 1.0
    grown = pull.ambient_k / one.ambient_k
    if all(_there(s, "boost_pressure") and s.ambient_pa for s in (one, pull)):
        grown *= _heating(pull) / _heating(one)
    return float(grown)


def _heating(s: Signature) -> float:
    ratio = float(np.nanmax(s.means["boost_pressure"])) / float(s.ambient_pa or np.nan)
    return float(max(ratio, LEAST_RATIO) ** KAPPA_AIR - 1.0)


def _delay(baseline: Baseline, pull: Signature) -> Deviation | None:
    """How much later, rpm, boost comes half way and three quarters up to what the baseline reached at most."""
    if not all(_there(s, "boost_pressure") and s.ambient_pa for s in (*baseline.pulls, pull)):
        return None
    late = []
    for share in LEVELS:
        passed = [_reaches(s.means["boost_pressure"], s, _level(s, share)) for s in baseline.pulls]
        # What stood there at the start already says nothing.
        begun = [p for p, s in zip(passed, baseline.pulls, strict=True) if p and p > (s.first + 1) * BAND_RPM]
        if len(begun) == len(passed):
            usual = float(np.mean(begun))
            mine = _reaches(pull.means["boost_pressure"], pull, _level(pull, share))
            late.append(((mine or (pull.first + pull.count) * BAND_RPM) - usual, usual))
    if not late:
        return None
    _, at = max(late, key=lambda d: abs(d[0]))
    mean = float(np.mean([d for d, _ in late]))
    spared = DELAY_FOR_AIR_RPM * abs(_warmer(baseline.pulls[0], pull))
    return Deviation("boost_delay", float(np.sign(mean)) * max(abs(mean) - spared, 0.0), at)


def _level(s: Signature, share: float) -> float:
    """A share of the way from the barometer to the highest boost of the pull."""
    around = float(s.ambient_pa or 0.0)
    return around + share * (float(np.nanmax(s.means["boost_pressure"])) - around)


def _reaches(values: FloatArray, s: Signature, level: float) -> float | None:
    """The engine speed at which a rising trace first passes a level; None where it never does."""
    over = np.flatnonzero(values >= level)
    if not over.size:
        return None
    at = int(over[0])
    if at == 0 or not np.isfinite(values[at - 1]):
        return s.centre_rpm(at)
    share = (level - values[at - 1]) / (values[at] - values[at - 1])
    return s.centre_rpm(at - 1) + float(share) * BAND_RPM
