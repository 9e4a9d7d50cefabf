"""Limits: the rules' defaults, and the components of a job."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.checks.rule import Rule
from yarvic.core.errors import FormatError
from yarvic.core.formats.files import read_bounded


@dataclass(frozen=True)
class Limits:
    """All limits that checks are judged by, and what is known of the sensors."""

    rules: Mapping[str, Rule]
    sensor: Mapping[str, float]
    components: tuple[ComponentLimit, ...] = ()

    def component(self, key: str) -> ComponentLimit | None:
        """The tightest component limit of this key, None when the job states none.

        What a gearbox carries counts among the torques. A limit at the crank counts only where there is no other:
        without the drivetrain's loss it cannot be held against what was measured at the wheels.
        """
        keys = (key, "gearbox_torque") if key == "torque" else (key,)
        found = [c for c in self.components if c.key in keys]
        usable = [c for c in found if c.basis != "crank"] or found
        return min(usable, key=lambda c: c.canonical("stretch"), default=None)

    def at_crank(self, key: str) -> bool:
        """Whether a limit of this key stands at the crank and was not brought to the wheels."""
        keys = (key, "gearbox_torque") if key == "torque" else (key,)
        return any(c.key in keys and c.basis == "crank" for c in self.components)


def parse_limits(text: str, components: tuple[ComponentLimit, ...] = (), *, source: str = "limits") -> Limits:
    """Limits from TOML text; entries it leaves out keep their defaults. Raises FormatError naming the entry."""
    try:
        data: dict[str, Any] = tomllib.loads(text)
        rules = {k: Rule.model_validate(v) for k, v in data.items() if k != "sensor"}
    except tomllib.TOMLDecodeError as error:
        raise FormatError(f"not valid TOML: {error}", concerns=source, remedy="Mend the line named.") from None
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(p) for p in first["loc"]) or error.title
        raise FormatError(f"{place}: {first['msg']}", concerns=source, remedy="Mend the entry named.") from None
    sensor = {k: float(v) for k, v in data.get("sensor", {}).items() if k != "source"}
    return Limits(rules, sensor, components)


@cache
def _defaults() -> Limits:
    text = files("yarvic.core.checks").joinpath("data/limits.toml").read_text("utf-8")
    return parse_limits(text, source="limits.toml")


def default_limits(components: tuple[ComponentLimit, ...] = ()) -> Limits:
    """The shipped limits with a job's components."""
    return Limits(_defaults().rules, _defaults().sensor, components)


def read_limits(path: Path, components: tuple[ComponentLimit, ...] = ()) -> Limits:
    """The shipped limits with those of a TOML file in their place. Raises FormatError."""
    try:
        text = read_bounded(path, 1_000_000).decode("utf-8")
    except UnicodeDecodeError:
        raise FormatError("is not text", concerns=str(path), remedy="Choose a TOML file.") from None
    own = parse_limits(text, source=path.name)
    unknown = set(own.rules) - set(_defaults().rules)
    if unknown:
        raise FormatError(
            f"there is no check {sorted(unknown)[0]!r}",
            concerns=path.name,
            remedy=f"Checks: {', '.join(_defaults().rules)}.",
        )
    return Limits({**_defaults().rules, **own.rules}, {**_defaults().sensor, **own.sensor}, components)
