"""A pull against the baseline of the same build and maps: what an engine loses before any limit of its own is passed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from yarvic.core.checks.baseline import OF_BUILD, Deviation, Kind, deviations, what_wheels_gave
from yarvic.core.checks.evidence_of_pull import EngineKind, PullEvidence
from yarvic.core.checks.finding import PASS, WATCH, Finding
from yarvic.core.errors import EvidenceError


@dataclass(frozen=True)
class _Asked:
    """A check by one deviation: its family, the channel to look at, what is said where it passes and where not.

    `sign` is +1 where more is worse and -1 where less is; 0 where both are.
    """

    check: str
    deviation: str
    family: str
    channel: str
    sign: int
    holds: str
    fails: str
    kinds: tuple[str, ...] = ("turbo spark", "natural spark", "compression")


_ASKED = (
    _Asked("power_loss", "torque", "Power and torque", "engine_speed", 1,
           "Power is what the baseline gave", "Less power than the baseline"),
    _Asked("boost_delay", "boost_delay", "Boost", "boost_pressure", 1,
           "Boost comes as early as in the baseline", "Boost comes later than in the baseline"),
    _Asked("duty_rise", "duty", "Boost", "wastegate_duty", 1,
           "The turbocharger works as hard as in the baseline", "The turbocharger works harder than in the baseline"),
    _Asked("charge_shift", "charge", "Charge air", "charge_temperature", 1,
           "Charge temperature is as in the baseline", "Charge is hotter over ambient than in the baseline"),
    _Asked("mixture_shift", "mixture", "Mixture", "lambda_measured", 0,
           "The mixture is that of the baseline", "The mixture is not that of the baseline",
           ("turbo spark", "natural spark")),
    _Asked("trim_shift", "trim", "Mixture", "fuel_trim", 0,
           "Fuel trim is as in the baseline", "The unit trims fuel otherwise than in the baseline"),
    _Asked("feed_loss", "feed", "Fuel pressure", "feed_pressure", 1,
           "Feed pressure is as in the baseline", "Feed pressure is lower than in the baseline"),
    _Asked("restriction_shift", "restriction", "Filling", "airbox_pressure", 1,
           "The intake loses what it lost in the baseline", "The intake loses more than in the baseline"),
    _Asked("exhaust_shift", "exhaust", "Temperatures", "exhaust_temperature", 1,
           "Exhaust temperature is as in the baseline", "Exhaust is hotter than in the baseline"),
)  # fmt: skip
# The channels that each deviation rests on.
_RESTS: Mapping[str, tuple[str, ...]] = {
    "torque": ("engine_speed",), "boost_delay": ("boost_pressure",), "duty": ("wastegate_duty", "vane_position"),
    "charge": ("charge_temperature",), "mixture": ("lambda_measured",), "trim": ("fuel_trim",),
    "feed": ("feed_pressure",), "restriction": ("airbox_pressure",), "exhaust": ("exhaust_temperature",),
    "air": ("air_flow",), "fuel": ("air_flow", "lambda_measured"), "smoke": ("smoke",), "boost": ("boost_pressure",),
    "heat_for_duty": ("charge_temperature", "wastegate_duty"), "filling": ("filling",),
}  # fmt: skip
# Of these a lower number is what is wrong.
_FALLS = ("power_loss", "feed_loss")
CHECKS = tuple(a.check for a in _ASKED)


def kind_of(engine: EngineKind) -> Kind:
    """The kind of an engine, as far as it matters to how it goes with the air."""
    if engine.ignition != "spark":
        return "compression"
    return "turbo spark" if engine.boosted else "natural spark"


def deviations_of(data: PullEvidence) -> Mapping[str, Deviation]:
    """How far the pull lies from its baseline; empty without one that it can be held against."""
    if data.baseline is None or not data.sweeps:
        return {}
    own = data.signature
    if data.baseline.unlike(own):
        return {}
    found = deviations(data.baseline, own, kind_of(data.engine))
    return {k: d for k, d in found.items() if not _unheard(data, k)}


def _unheard(data: PullEvidence, deviation: str) -> str:
    """Why a channel that a deviation rests on cannot be believed in this pull; empty where it can."""
    for key in _RESTS.get(deviation, ()):
        if key in data.log.channels:
            try:
                data.series(key, despite="end" if deviation == "torque" else "")
            except EvidenceError as error:
                return str(error)
    return ""


def against_baseline(data: PullEvidence, off: Mapping[str, Deviation]) -> list[Finding]:
    """Each check that the deviations answer, with its family. Nothing is asked where there is no baseline."""
    kind, other_maps = kind_of(data.engine), data.baseline is not None and data.baseline.same_maps is False
    found = [_finding(data, a, off[a.deviation], off) for a in _ASKED if a.deviation in off and kind in a.kinds]
    found += [
        _not_heard(data, a, why) for a in _ASKED if a.deviation not in off and (why := _asked_why(data, a, kind))
    ]
    if off and "torque" not in off and not other_maps:
        assert data.baseline is not None
        given, why = what_wheels_gave(data.baseline, data.signature)
        if given:
            why = "the air of one of them is unknown: state the weather with the run"
        found.append(replace(data.not_known("power_loss", why, "engine_speed"), family="Power and torque"))
    return [_of_other_maps(f) if other_maps and f.check == "power_loss" else f for f in found]


def _asked_why(data: PullEvidence, asked: _Asked, kind: Kind) -> str:
    """Why a check that a sound sensor would have answered has no answer; empty where nothing was to be asked."""
    base = data.baseline
    if base is None or kind not in asked.kinds or not data.sweeps or base.unlike(data.signature):
        return ""
    if base.same_maps is False and asked.deviation not in OF_BUILD:
        return ""
    own = [k for k in _RESTS[asked.deviation] if k in data.log.channels and all(k in s.means for s in base.pulls)]
    return _unheard(data, asked.deviation) if own else ""


def _not_heard(data: PullEvidence, asked: _Asked, why: str) -> Finding:
    return replace(data.not_known(asked.check, why, asked.channel), family=asked.family)


def _of_other_maps(found: Finding) -> Finding:
    """Other maps may mean to give less: that is to be watched, and stops nothing."""
    watched = found.watched_at_most()
    note = "The maps differ: it may be meant." if watched.severity == WATCH else found.note
    return replace(watched, note=note)


def _finding(data: PullEvidence, asked: _Asked, d: Deviation, off: Mapping[str, Deviation]) -> Finding:
    if asked.check in _FALLS:
        value = min(d.value, 0.0)
    else:
        value = max(d.value, 0.0) if asked.sign else abs(d.value)
    channel = (
        "vane_position" if asked.check == "duty_rise" and "vane_position" in data.log.channels else asked.channel
    )
    where = replace(data.where(channel), speed_rpm=d.at_rpm, time_s=data.when_at(d.at_rpm))
    note = _explained(off) if asked.check == "power_loss" and value < 0.0 else ""
    if asked.sign == 0 and value > 0.0:
        note = "Leaner." if d.value > 0.0 else "Richer."
        if asked.check == "trim_shift":
            note = "It adds fuel." if d.value > 0.0 else "It takes fuel away."
    found = data.found(asked.check, value, asked.fails, where, note=note, holds=asked.holds)
    basis = f"against {data.baseline.title}" if data.baseline else ""
    return replace(found, family=asked.family, basis=basis, note="" if found.severity == PASS else found.note)


def _explained(off: Mapping[str, Deviation]) -> str:
    """How much of a loss the air explains, and how much is left."""
    air = off.get("air") or off.get("restriction")
    if air is None:
        return ""
    share = air.value if air.key == "air" else -air.value
    explained = min(share, 0.0)
    left = off["torque"].value - explained
    return f"Less air explains {abs(explained) * 100.0:.1f} %, {abs(min(left, 0.0)) * 100.0:.1f} % is left."
