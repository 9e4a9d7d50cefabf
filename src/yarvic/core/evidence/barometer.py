"""Gauge pressures as absolute ones: which barometer they are counted from, where several say something of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

import numpy as np

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import NO_BAROMETER, Channel, Doubt
from yarvic.core.evidence.mapping import Column, Facts
from yarvic.core.evidence.meaning import AT_REST_RPM, HIGHEST_BAROMETER_PA, LOWEST_BAROMETER_PA
from yarvic.core.physics.constants import STANDARD_PRESSURE_PA

# The air around does not move by more than this within a log. Our choice.
STEADY_PA = 1.5e3
# Two barometers that differ by more than this are not of one place, or one of them is reduced to sea level. Our choice.
APART_PA = 1.5e3


def to_absolute(channels: dict[str, Channel], columns: Iterable[Column], facts: Facts, notes: list[str]) -> None:
    """Gauge pressures as absolute ones, where a barometer is known; the others keep their zero, and the doubt says so."""
    gauge = [
        (c.channel, c.name)
        for c in columns
        if c.reference == "gauge" and c.channel in channels and CHANNELS[c.channel].reference == "absolute"
    ]
    if not gauge:
        return
    barometer_pa, how = _barometer(channels, {key for key, _ in gauge}, facts)
    for key, name in gauge:
        c = channels[key]
        if c.doubt is not None and c.doubt.about in ("unit", "column", "sign"):
            continue
        if barometer_pa is None:
            channels[key] = replace(c, values=c.values + STANDARD_PRESSURE_PA, doubt=Doubt("reference", NO_BAROMETER))
        else:
            channels[key] = replace(c, values=c.values + barometer_pa)
            notes.append(f"{name}: gauge pressure, made absolute by {how}, {barometer_pa / 100:.0f} mbar")


def _barometer(channels: Mapping[str, Channel], gauge: set[str], facts: Facts) -> tuple[float | None, str]:
    """The barometer of a run, in Pa, and where it is from.

    What was stated counts, unless a barometer that was with the engine says something else: that one was there. Where the
    manifold at rest speaks for one of the two, it decides.
    """
    stated, logged, rest = facts.barometer_pa, _logged(channels), _at_rest(channels, gauge)
    if stated is None:
        if logged is not None:
            return logged, "the logged barometer"
        return (rest, "the manifold's pressure at rest") if rest is not None else (None, "")
    if logged is None or abs(logged - stated) <= APART_PA:
        return stated, "the barometer that was stated"
    near = rest if rest is not None else logged
    other = f"{logged / 100:.0f} mbar were logged" if abs(near - stated) < abs(near - logged) else ""
    if other:
        return stated, f"the barometer that was stated ({other}, and the manifold at rest speaks for the stated one)"
    return logged, f"the logged barometer (stated were {stated / 100:.0f} mbar, which may be of sea level)"


def _logged(channels: Mapping[str, Channel]) -> float | None:
    """What a logged barometer says, where it can be one."""
    ambient = channels.get("ambient_pressure")
    if ambient is None or ambient.doubt is not None:
        return None
    known = ambient.values[np.isfinite(ambient.values)]
    if not known.size:
        return None
    value, spread = float(np.median(known)), float(np.ptp(np.quantile(known, [0.05, 0.95])))
    return value if LOWEST_BAROMETER_PA <= value <= HIGHEST_BAROMETER_PA and spread <= STEADY_PA else None


def _at_rest(channels: Mapping[str, Channel], gauge: set[str]) -> float | None:
    """What an absolute pressure of the manifold says while the engine stands."""
    speed = channels.get("engine_speed")
    for key, c in channels.items():
        kind = CHANNELS.get(key)
        if speed is None or kind is None or kind.family != "boost_pressure" or key in gauge or c.doubt is not None:
            continue
        if c.values.size == speed.values.size:
            rest = c.values[(speed.values < AT_REST_RPM) & np.isfinite(c.values)]
            if rest.size and LOWEST_BAROMETER_PA < float(np.median(rest)) < HIGHEST_BAROMETER_PA:
                return float(np.median(rest))
    return None
