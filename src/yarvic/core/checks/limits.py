"""Limits: the rules' defaults, and the components of a job."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Any

from pydantic import Field

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.checks.rule import Rule
from yarvic.core.document import Document, parse_toml, validated
from yarvic.core.errors import FormatError, YarvicError
from yarvic.core.reading import read_text, reader
from yarvic.core.units import UNITS, from_canonical

MOST_BYTES = 1_000_000


@dataclass(frozen=True)
class Limits:
    """All limits that checks are judged by, and what is known of the sensors.

    `components` is None where no ledger was asked: then nothing is judged by one.
    """

    rules: Mapping[str, Rule]
    sensor: Mapping[str, float]
    components: tuple[ComponentLimit, ...] | None = None
    use: str = ""  # of the vehicle, by which some limits differ
    altitudes_m: tuple[float, float] | None = None  # between which the engine is run, where that was named

    def component(self, key: str) -> ComponentLimit | None:
        """The tightest component limit of this key, None when the job states none.

        What a gearbox carries counts among the torques. A limit at the crank counts only where there is no other:
        without the drivetrain's loss it cannot be held against what was measured at the wheels.
        """
        found = self._of(key)
        usable = [c for c in found if c.basis != "crank"] or found
        return min(usable, key=lambda c: c.canonical("stretch"), default=None)

    def at_crank(self, key: str) -> bool:
        """Whether a limit of this key stands at the crank and was not brought to the wheels."""
        return any(c.basis == "crank" for c in self._of(key))

    def with_own(self, own: Iterable[OwnLimit]) -> Limits:
        """The same with the limits that a job has of its own."""
        return replace(self, rules={**self.rules, **{o.check: o.rule for o in own}})

    def _of(self, key: str) -> list[ComponentLimit]:
        keys = (key, "gearbox_torque") if key == "torque" else (key,)
        return [c for c in self.components or () if c.key in keys]


class OwnLimit(Document):
    """A limit of a check as a job has it: `watch` and `stop` in `unit`, with the reason, who gave it and when."""

    check: Annotated[str, Field(min_length=1, max_length=60)]
    watch: Annotated[float, Field(ge=-1e9, le=1e9)]
    stop: Annotated[float, Field(ge=-1e9, le=1e9)]
    unit: Annotated[str, Field(max_length=20)]
    reason: Annotated[str, Field(min_length=1, max_length=400)]
    name: Annotated[str, Field(min_length=1, max_length=200)]
    time: Annotated[str, Field(max_length=40)] = ""

    @property
    def rule(self) -> Rule:
        """The shipped rule with these numbers and this source. Raises KeyError for a check that has none."""
        shipped = _shipped()[0].rules[self.check]
        source = f"this job: {self.reason} ({self.name}{f', {self.time[:10]}' if self.time else ''})"
        return shipped.changed(watch=self.watch, stop=self.stop, unit=self.unit, source=source)


class Within(Document):
    """Where a number of the limits may stand; past it a check would be off."""

    least: float
    most: float


class _Sensor(Document):
    """The numbers of the section `sensor`, by name."""

    values: dict[str, float]


def parse_limits(text: str, *, source: str = "limits") -> tuple[dict[str, Rule], dict[str, float]]:
    """Rules by check, and what is known of sensors, from TOML text. Raises FormatError naming the entry."""
    return _limits_of(parse_toml(text, source=source), source)


def _limits_of(data: dict[str, Any], source: str) -> tuple[dict[str, Rule], dict[str, float]]:
    rules = {k: validated(Rule, v, source=f"{source}, {k}") for k, v in data.items() if k != "sensor"}
    stated = data.get("sensor", {})
    if not isinstance(stated, dict):
        raise FormatError("is no section", concerns=f"{source}, sensor", remedy="Write [sensor] and its entries.")
    numbers = {k: v for k, v in stated.items() if k != "source"}
    return rules, validated(_Sensor, {"values": numbers}, source=f"{source}, sensor").values


@cache
def _shipped() -> tuple[Limits, Mapping[str, Within]]:
    text = files("yarvic.core.checks").joinpath("data/limits.toml").read_text("utf-8")
    data = parse_toml(text, source="limits.toml")
    within = {k: Within(least=low, most=high) for k, (low, high) in data.pop("within").items()}
    return Limits(*_limits_of(data, "limits.toml")), within


def within(check: str) -> tuple[float, float]:
    """Between which numbers a limit of a check may stand, in the shipped unit. Raises KeyError."""
    bounds = _shipped()[1][check]
    return bounds.least, bounds.most


def own_limits_fault(own: Iterable[OwnLimit]) -> str:
    """What is wrong with limits that a job has of its own; empty where nothing is."""
    shipped, bounds = _shipped()
    seen: set[str] = set()
    for each in own:
        if each.check not in shipped.rules:
            return f"there is no check {each.check!r} to limit"
        if each.check in seen:
            return f"the limit of {each.check} is there twice"
        seen.add(each.check)
        try:
            _check_rule(each.rule, shipped.rules[each.check], bounds[each.check], shipped.rules[each.check].title)
        except YarvicError as error:
            return error.what
    return ""


def default_limits(components: tuple[ComponentLimit, ...] | None = None) -> Limits:
    """The shipped limits with a job's components."""
    shipped, _ = _shipped()
    return Limits(shipped.rules, shipped.sensor, components)


@reader("limits", "Limits of the checks, TOML", ".toml", MOST_BYTES)
def read_limits(path: Path, base: Limits | None = None) -> Limits:
    """The limits of `base`, or those that ship, with those of a TOML file in their place. Raises FormatError.

    Refused is a limit that is none: of another quantity or side than the check has, or so far out that no engine comes
    there.
    """
    rules, sensor = parse_limits(read_text(path, MOST_BYTES), source=path.name)
    shipped, within = _shipped()
    unknown = sorted((rules.keys() - shipped.rules.keys()) | (sensor.keys() - shipped.sensor.keys()))
    if unknown:
        raise FormatError(
            f"there is no limit {unknown[0]!r}",
            concerns=path.name,
            remedy=f"Limits: {', '.join((*shipped.rules, *shipped.sensor))}.",
        )
    for key, rule in rules.items():
        _check_rule(rule, shipped.rules[key], within[key], f"{path.name}, {key}")
    for key, value in sensor.items():
        _check_within(value, within[key], "", f"{path.name}, sensor {key}")
    base = base or shipped
    return replace(base, rules={**base.rules, **rules}, sensor={**base.sensor, **sensor})


def _check_rule(rule: Rule, shipped: Rule, within: Within, source: str) -> None:
    if (rule.quantity, rule.side) != (shipped.quantity, shipped.side):
        raise FormatError(
            f"the check judges {shipped.quantity}, and trouble lies {shipped.side} its limit",
            concerns=source,
            remedy="Correct quantity and side.",
        )
    for value in (rule.watch_canonical, rule.stop_canonical):
        _check_within(float(from_canonical(value, shipped.unit)), within, shipped.unit, source)


def _check_within(value: float, within: Within, unit: str, source: str) -> None:
    slack = 1e-9 * (1.0 + abs(value))
    if not within.least - slack <= value <= within.most + slack:
        shown = f" {UNITS[unit].label}" if unit else ""
        raise FormatError(
            f"a limit of {value:g}{shown} judges nothing: it must be within {within.least:g} to {within.most:g}{shown}",
            concerns=source,
            remedy="Correct the number, or its unit.",
        )
