"""Limits that follow from what a component is made of: a rule, its dimensions as ranges, and the limit that they give.

A kind of the library states dimensions and materials as ranges. The rule is computed for draws from them, uniform and
independent; the limit is safe up to the 5 % quantile (nineteen of twenty such components hold it) and stretched up to the
median. The ranges are our choice; the rule has the source.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from math import pi
from typing import Annotated

import numpy as np
from pydantic import Field, model_validator

from yarvic.core.checks.components import MOST_MOVERS, ComponentLimit
from yarvic.core.document import Document, validated
from yarvic.core.errors import FormatError, UnitError
from yarvic.core.physics import Value
from yarvic.core.physics.constants import R_DRY_AIR, STANDARD_PRESSURE_PA
from yarvic.core.physics.fuel import fuel

DRAWS = 20_000
SAFE_QUANTILE, STRETCH_QUANTILE = 0.05, 0.5
# Mass flow through a choked orifice is this times A p / sqrt(R T): sqrt(g) (2/(g + 1))^((g + 1)/(2 (g - 1))), g 1.4.
# Heywood (1988), eq. C.9.
CHOKED = 1.4**0.5 * (2.0 / 2.4) ** 3.0
# Share of the choking flow that a compressor delivers at a usable efficiency. Our choice.
USABLE_OF_CHOKE = 0.95

Inputs = Mapping[str, Value]


@dataclass(frozen=True)
class DerivedRule:
    """How a limit follows from dimensions. `compute` gives the canonical value of `quantity` at the crank."""

    title: str
    source: str
    unit: str
    inputs: tuple[str, ...]
    compute: Callable[[Inputs, str], Value]


def _dry_clutch(v: Inputs, fuel_key: str) -> Value:
    """Torque in N m of friction faces that wear evenly: T = n mu F (r_o + r_i) / 2."""
    return v["faces"] * v["friction"] * v["clamp_n"] * (v["outer_mm"] + v["inner_mm"]) / 4.0 / 1e3


def _wet_pack(v: Inputs, fuel_key: str) -> Value:
    """Torque in N m of a pack of plates: T = n mu (p - p_spring) A 2/3 (r_o^3 - r_i^3) / (r_o^2 - r_i^2)."""
    area = pi / 4.0 * (v["piston_outer_mm"] ** 2 - v["piston_inner_mm"] ** 2) / 1e6
    ro, ri = v["outer_mm"] / 2e3, v["inner_mm"] / 2e3
    pressure_pa = (v["pressure_bar"] - v["spring_bar"]) * 1e5
    return v["faces"] * v["friction"] * pressure_pa * area * 2.0 / 3.0 * (ro**3 - ri**3) / (ro**2 - ri**2)


def _gear_pair(v: Inputs, fuel_key: str) -> Value:
    """Torque in N m on the pinion of a pair: T = K b d1^2 / 2 u / (u + 1), d1 = 2 a / (u + 1); K in N/mm2."""
    pinion_mm = 2.0 * v["centre_mm"] / (v["ratio"] + 1.0)
    return v["contact_n_mm2"] * v["width_mm"] * pinion_mm**2 / 2.0 * v["ratio"] / (v["ratio"] + 1.0) / 1e3


def _peak_pressure(v: Inputs, fuel_key: str) -> Value:
    """Torque in N m of the cylinder pressure that is borne: bmep = p_max / R_p - friction, T = bmep V_d / (4 pi)."""
    bmep_pa = (v["peak_bar"] / v["peak_over_imep"] - v["friction_bar"]) * 1e5
    return bmep_pa * v["displacement_l"] / 1e3 / (4.0 * pi)


def _injectors(v: Inputs, fuel_key: str) -> Value:
    """Power in W of the fuel that fits the window: orifice flow Cd A sqrt(2 rho dp), window less dead time."""
    density = fuel(fuel_key).density
    area = v["holes"] * pi / 4.0 * (v["hole_mm"] / 1e3) ** 2
    flow = v["discharge"] * area * np.sqrt(2.0 * density * v["pressure_bar"] * 1e5)
    open_s = v["window_deg"] / (6.0 * v["speed_rpm"]) - v["dead_ms"] / 1e3
    per_second = v["cylinders"] * v["speed_rpm"] / 120.0
    return flow * open_s * per_second * fuel(fuel_key).lower_heating_value * v["efficiency"]


def _pump(v: Inputs, fuel_key: str) -> Value:
    """Power in W of the fuel that a pump of pistons delivers: volume, strokes, filling, leak."""
    stroke_m3 = v["pistons"] * pi / 4.0 * v["piston_mm"] ** 2 * v["stroke_mm"] / 1e9
    volume = stroke_m3 * v["strokes_per_turn"] * v["speed_rpm"] / 60.0 * v["filling"] * (1.0 - v["leak"])
    return volume * fuel(fuel_key).density * fuel(fuel_key).lower_heating_value * v["efficiency"]


def _compressor(v: Inputs, fuel_key: str) -> Value:
    """Power in W of the air that passes the inducer just short of choking: 0.95 m_choke Q eta / (lambda AFR)."""
    area = pi / 4.0 * (v["inducer_mm"] ** 2 - v["hub_mm"] ** 2) / 1e6
    pressure = STANDARD_PRESSURE_PA * v["filter"]
    choke = v["discharge"] * area * pressure / np.sqrt(R_DRY_AIR * (v["ambient_degc"] + 273.15)) * CHOKED
    burned = fuel(fuel_key)
    per_air = burned.lower_heating_value * v["efficiency"] / (v["lambda"] * burned.stoichiometric_afr)
    return USABLE_OF_CHOKE * choke * per_air


def _rod_bolts(v: Inputs, fuel_key: str) -> Value:
    """Engine speed in 1/min at which the bolts of a rod bear no more: F = m r w^2 (1 + r/l)."""
    radius_m = v["stroke_mm"] / 2e3
    force_n = v["bolts"] * v["bolt_mm2"] * v["share_of_proof"] * v["proof_mpa"]
    turning = force_n / (v["mass_kg"] * radius_m * (1.0 + radius_m / (v["rod_mm"] / 1e3)))
    return np.sqrt(turning) * 60.0 / (2.0 * pi)


_MEMORY = "(from memory)"
RULES: Mapping[str, DerivedRule] = {
    "dry_clutch": DerivedRule(
        "dry clutch, even wear", f"Shigley, Mechanical Engineering Design {_MEMORY}", "N m",
        ("faces", "friction", "clamp_n", "outer_mm", "inner_mm"), _dry_clutch,
    ),
    "wet_pack": DerivedRule(
        "wet clutch pack", f"Shigley, Mechanical Engineering Design {_MEMORY}", "N m",
        ("faces", "friction", "pressure_bar", "spring_bar", "piston_outer_mm", "piston_inner_mm", "outer_mm", "inner_mm"),
        _wet_pack,
    ),
    "gear_pair": DerivedRule(
        "contact pressure of a gear pair", f"Hertz, as in ISO 6336 {_MEMORY}", "N m",
        ("centre_mm", "ratio", "width_mm", "contact_n_mm2"), _gear_pair,
    ),
    "peak_pressure": DerivedRule(
        "peak cylinder pressure", "Heywood (1988), eq. 2.20", "N m",
        ("peak_bar", "peak_over_imep", "friction_bar", "displacement_l"), _peak_pressure,
    ),
    "injectors": DerivedRule(
        "injection window", "Bernoulli; Heywood (1988), eqs. 2.22 and 2.24", "kW",
        ("holes", "hole_mm", "pressure_bar", "discharge", "window_deg", "speed_rpm", "dead_ms", "cylinders", "efficiency"),
        _injectors,
    ),
    "pump": DerivedRule(
        "delivery of the pump", "displacement; Heywood (1988), eqs. 2.22 and 2.24", "kW",
        ("pistons", "piston_mm", "stroke_mm", "strokes_per_turn", "speed_rpm", "filling", "leak", "efficiency"), _pump,
    ),
    "compressor": DerivedRule(
        "choking of the compressor inlet", "Heywood (1988), eq. C.9", "kW",
        ("inducer_mm", "hub_mm", "discharge", "filter", "ambient_degc", "lambda", "efficiency"), _compressor,
    ),
    "rod_bolts": DerivedRule(
        "rod bolts under inertia", f"slider-crank kinematics, Taylor {_MEMORY}", "rpm",
        ("bolts", "bolt_mm2", "share_of_proof", "proof_mpa", "mass_kg", "stroke_mm", "rod_mm"), _rod_bolts,
    ),
}  # fmt: skip
Bound = Annotated[float, Field(ge=0.0, le=1e9)]
Range = Bound | tuple[Bound, Bound]


class Change(Document):
    """A part that changes inputs of a rule, and why the limit moves."""

    part: Annotated[str, Field(min_length=1, max_length=60)]
    why: Annotated[str, Field(max_length=100)] = ""
    inputs: Annotated[dict[str, Range], Field(min_length=1, max_length=20)]


class Derived(Document):
    """A library entry whose limit follows: the component, the rule, and the rule's inputs as numbers or ranges."""

    component: Annotated[str, Field(min_length=1, max_length=80)]
    station: str = ""
    rule: str
    inputs: Annotated[dict[str, Range], Field(max_length=20)]
    changed_by: Annotated[tuple[Change, ...], Field(max_length=MOST_MOVERS)] = ()

    @model_validator(mode="after")
    def _makes_sense(self) -> Derived:
        rule = RULES.get(self.rule)
        if rule is None:
            raise ValueError(f"there is no rule {self.rule!r}; use one of: {', '.join(RULES)}")
        missing = [name for name in rule.inputs if name not in self.inputs]
        if missing:
            raise ValueError(f"{self.rule} needs {missing[0]}")
        for stated in (self.inputs, *(c.inputs for c in self.changed_by)):
            strange = [name for name in stated if name not in rule.inputs]
            if strange:
                raise ValueError(f"{strange[0]} is not an input of {self.rule}")
            falling = [name for name, ends in stated.items() if isinstance(ends, tuple) and ends[0] > ends[1]]
            if falling:
                raise ValueError(f"the range of {falling[0]} begins above its end")
        return self

    def limit(self, fuel_key: str, source: str) -> ComponentLimit:
        """The limit; parts change inputs, and it follows. Raises FormatError naming `source`."""
        rule = RULES[self.rule]
        safe, stretch = self._ends(self.inputs, fuel_key, source)
        movers = []
        for change in self.changed_by:
            ends = self._ends({**self.inputs, **change.inputs}, fuel_key, source)
            why = f"{change.why}: {_in_words(change.inputs)}" if change.why else _in_words(change.inputs)
            movers.append({"part": change.part, "how": "becomes", "safe": ends[0], "stretch": ends[1], "why": why})
        told = f"derived, {rule.title}: {rule.source}; {_in_words(self.inputs)}; dimensions are our choice"
        values = {
            "key": _KEYS[rule.unit], "component": self.component, "station": self.station,
            "basis": "shaft" if rule.unit == "rpm" else "crank", "unit": rule.unit, "safe": safe, "stretch": stretch,
            "moved_by": movers, "source": told,
        }  # fmt: skip
        return validated(ComponentLimit, values, source=source)

    def _ends(self, inputs: Mapping[str, Range], fuel_key: str, source: str) -> tuple[float, float]:
        try:
            with np.errstate(all="ignore"):
                ends = derived_ends(RULES[self.rule], inputs, fuel_key)
        except UnitError as error:
            raise FormatError(str(error), concerns=source, remedy=error.remedy) from error
        except ZeroDivisionError:
            ends = (float("nan"),) * 2
        if not all(np.isfinite(e) and e > 0.0 for e in ends):
            raise FormatError(
                f"the inputs of {self.rule} give no limit above zero", concerns=source, remedy="Correct the inputs."
            )
        return ends


_KEYS = {"N m": "torque", "kW": "power", "rpm": "engine_speed"}
_FROM_CANONICAL = {"N m": 1.0, "kW": 1e-3, "rpm": 1.0}


def derived_ends(rule: DerivedRule, ranges: Mapping[str, Range], fuel_key: str) -> tuple[float, float]:
    """Safe and stretch in the rule's unit, three digits. The same ranges give the same numbers each time."""
    found = np.asarray(rule.compute(_draws(ranges), fuel_key)) * _FROM_CANONICAL[rule.unit]
    safe, stretch = np.quantile(np.broadcast_to(found, DRAWS), [SAFE_QUANTILE, STRETCH_QUANTILE])
    return _three_digits(float(safe)), _three_digits(float(stretch))


def _draws(ranges: Mapping[str, Range]) -> dict[str, Value]:
    """Uniform draws of each range; each input has a stream of its own, so that a part changes nothing beside it."""
    drawn: dict[str, Value] = {}
    for name, ends in ranges.items():
        if isinstance(ends, tuple):
            seed = int.from_bytes(hashlib.sha256(name.encode("ascii")).digest()[:8], "big")
            drawn[name] = np.random.default_rng(seed).uniform(ends[0], ends[1], DRAWS)
        else:
            drawn[name] = ends
    return drawn


def _three_digits(value: float) -> float:
    return float(f"{value:.3g}")


def _in_words(ranges: Mapping[str, Range]) -> str:
    """Inputs in words: `friction 0.24 to 0.32, faces 2`."""

    def one(name: str, ends: Range) -> str:
        words, _, unit = name.rpartition("_")
        shown = _UNITS.get(unit)
        title = (words if shown is not None else name).replace("_", " ")
        number = f"{ends[0]:g} to {ends[1]:g}" if isinstance(ends, tuple) else f"{ends:g}"
        return f"{title} {number}{' ' + shown if shown else ''}"

    return ", ".join(one(n, e) for n, e in ranges.items())


_UNITS = {
    "mm": "mm", "n": "N", "bar": "bar", "mm2": "mm2", "mpa": "MPa", "kg": "kg", "ms": "ms", "deg": "deg", "rpm": "rpm",
    "l": "L", "degc": "degC",
}  # fmt: skip
