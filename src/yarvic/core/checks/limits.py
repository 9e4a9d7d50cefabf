"""Limits: the rules' defaults, and the components of a job."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from yarvic.core.errors import FormatError
from yarvic.core.formats.files import read_bounded
from yarvic.core.units import UNITS, to_canonical

Side = Literal["above", "below"]


class Rule(BaseModel):
    """One limit: trouble lies above or below `stop`; `watch` comes before it. Both in `unit`."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    title: Annotated[str, Field(min_length=1)]
    quantity: str
    unit: str
    side: Side
    watch: float
    stop: float
    source: Annotated[str, Field(min_length=1)]

    @model_validator(mode="after")
    def _in_order(self) -> Rule:
        if self.unit not in UNITS or UNITS[self.unit].quantity != self.quantity:
            raise ValueError(f"unit {self.unit!r} does not measure {self.quantity}")
        if (self.watch > self.stop) == (self.side == "above") and self.watch != self.stop:
            raise ValueError("watch must come before stop")
        return self

    @property
    def watch_canonical(self) -> float:
        """The watch limit in the canonical unit."""
        return float(to_canonical(self.watch, self.unit))

    @property
    def stop_canonical(self) -> float:
        """The stop limit in the canonical unit."""
        return float(to_canonical(self.stop, self.unit))


class ComponentLimit(BaseModel):
    """What a component stands: `safe` always, up to `stretch` at the cost of its life, beyond it not at all."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    key: Literal["power", "torque", "boost", "exhaust_temperature", "engine_speed"]
    component: str
    basis: Literal["wheel", "crank", "gas", "shaft"]
    unit: str
    safe: float
    stretch: float
    source: str

    @model_validator(mode="after")
    def _in_order(self) -> ComponentLimit:
        if self.unit not in UNITS:
            raise ValueError(f"unit {self.unit!r} is not known")
        if self.safe > self.stretch:
            raise ValueError(f"{self.component}: safe is above stretch")
        return self

    def rule(self, title: str) -> Rule:
        """The same limit as a rule."""
        quantity = UNITS[self.unit].quantity
        return Rule(
            title=title,
            quantity=quantity,
            unit=self.unit,
            side="above",
            watch=self.safe,
            stop=self.stretch,
            source=f"{self.component}: {self.source}",
        )


@dataclass(frozen=True)
class Limits:
    """All limits that checks are judged by, and what is known of the sensors."""

    rules: Mapping[str, Rule]
    sensor: Mapping[str, float]
    components: tuple[ComponentLimit, ...] = ()

    def component(self, key: str) -> ComponentLimit | None:
        """The tightest component limit of this key, None when the job states none."""
        found = [c for c in self.components if c.key == key]
        return min(found, key=lambda c: float(to_canonical(c.stretch, c.unit)), default=None)


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
