"""Limits: the rules' defaults, and the components of a job."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from pathlib import Path

from pydantic import ValidationError

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.checks.rule import Rule
from yarvic.core.document import first_fault, parse_toml
from yarvic.core.errors import FormatError
from yarvic.core.formats.files import read_text


@dataclass(frozen=True)
class Limits:
    """All limits that checks are judged by, and what is known of the sensors.

    `components` is None where no ledger was asked: then nothing is judged by one.
    """

    rules: Mapping[str, Rule]
    sensor: Mapping[str, float]
    components: tuple[ComponentLimit, ...] | None = None

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

    def _of(self, key: str) -> list[ComponentLimit]:
        keys = (key, "gearbox_torque") if key == "torque" else (key,)
        return [c for c in self.components or () if c.key in keys]


def parse_limits(
    text: str, components: tuple[ComponentLimit, ...] | None = None, *, source: str = "limits"
) -> Limits:
    """Limits from TOML text; entries it leaves out keep their defaults. Raises FormatError naming the entry."""
    data = parse_toml(text, source=source)
    try:
        rules = {k: Rule.model_validate(v) for k, v in data.items() if k != "sensor"}
    except ValidationError as error:
        raise FormatError(first_fault(error), concerns=source, remedy="Correct the entry named.") from None
    sensor = {k: float(v) for k, v in data.get("sensor", {}).items() if k != "source"}
    return Limits(rules, sensor, components)


@cache
def _defaults() -> Limits:
    text = files("yarvic.core.checks").joinpath("data/limits.toml").read_text("utf-8")
    return parse_limits(text, source="limits.toml")


def default_limits(components: tuple[ComponentLimit, ...] | None = None) -> Limits:
    """The shipped limits with a job's components."""
    return Limits(_defaults().rules, _defaults().sensor, components)


def read_limits(path: Path, components: tuple[ComponentLimit, ...] | None = None) -> Limits:
    """The shipped limits with those of a TOML file in their place. Raises FormatError."""
    text = read_text(path, 1_000_000)
    own = parse_limits(text, source=path.name)
    unknown = set(own.rules) - set(_defaults().rules)
    if unknown:
        raise FormatError(
            f"there is no check {sorted(unknown)[0]!r}",
            concerns=path.name,
            remedy=f"Checks: {', '.join(_defaults().rules)}.",
        )
    return Limits({**_defaults().rules, **own.rules}, {**_defaults().sensor, **own.sensor}, components)
