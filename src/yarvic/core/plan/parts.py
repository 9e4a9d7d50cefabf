"""Parts that can be fitted, and the library of components and parts by kind of engine."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Any

from pydantic import Field, model_validator

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.document import Document, parse_toml, validated
from yarvic.core.errors import FormatError
from yarvic.core.plan.derivation import Derived
from yarvic.core.plan.stations import station_keys
from yarvic.core.reading import read_text, reader

MOST_BYTES = 2_000_000


class Part(Document):
    """A part, a calibration or a piece of work that can be bought. `price` in the shop's currency, `hours` to fit it.

    `needs` and `excludes` name other parts by key. `caution` is said where the part is planned and fitted.
    """

    key: Annotated[str, Field(min_length=1, max_length=60)]
    title: Annotated[str, Field(min_length=1, max_length=80)]
    station: str
    price: Annotated[float, Field(ge=0, le=1e7)] = 0.0
    hours: Annotated[float, Field(ge=0, le=1e4)] = 0.0
    needs: tuple[str, ...] = ()
    excludes: tuple[str, ...] = ()
    source: str = ""
    caution: str = ""

    @model_validator(mode="after")
    def _makes_sense(self) -> Part:
        if self.station not in station_keys():
            raise ValueError(f"part {self.key}: there is no station {self.station!r}")
        if self.key in self.needs or self.key in self.excludes or set(self.needs) & set(self.excludes):
            raise ValueError(f"part {self.key}: needs and excludes contradict each other")
        return self

    def cost(self, rate: float) -> float:
        """Price and work at an hourly rate."""
        return self.price + self.hours * rate


@dataclass(frozen=True)
class Kind:
    """What is generally known of one kind of engine: its components' limits, and parts that move them."""

    key: str
    title: str
    limits: tuple[ComponentLimit, ...]
    parts: tuple[Part, ...]


def parse_kinds(text: str, *, source: str) -> dict[str, Kind]:
    """A library from TOML text. Raises FormatError naming line or entry."""
    data = parse_toml(text, source=source)
    kinds = {}
    for key, entry in data.items():
        if not isinstance(entry, dict) or not isinstance(entry.get("title"), str):
            raise FormatError(f"{key}: a kind needs its title", concerns=source, remedy="Correct the entry named.")
        limits = tuple(
            validated(ComponentLimit, v, source=f"{source}, {key}.limit {i}")
            for i, v in _list(entry, "limit", source)
        ) + tuple(
            validated(Derived, v, source=f"{source}, {key}.derived {i}").limit(
                str(entry.get("fuel", "")), f"{source}, {key}.derived {i}"
            )
            for i, v in _list(entry, "derived", source)
        )
        parts = tuple(validated(Part, v, source=f"{source}, {key}.part {i}") for i, v in _list(entry, "part", source))
        _check_names(limits, parts, f"{source}, {key}")
        kinds[key] = Kind(key, entry["title"], limits, parts)
    return kinds


@reader("library", "The shop's library of limits and parts, TOML", ".toml", MOST_BYTES)
def read_kinds(path: Path) -> dict[str, Kind]:
    """A library from a TOML file. Raises FormatError."""
    return parse_kinds(read_text(path, MOST_BYTES), source=path.name)


def _list(entry: Mapping[str, Any], name: str, source: str) -> Iterable[tuple[int, Any]]:
    found = entry.get(name, [])
    if not isinstance(found, list):
        raise FormatError(f"{name} must be a list", concerns=source, remedy=f"Write [[...{name}]].")
    return enumerate(found, 1)


def _check_names(limits: tuple[ComponentLimit, ...], parts: tuple[Part, ...], source: str) -> None:
    fault = names_fault(limits, parts)
    if fault:
        raise FormatError(fault, concerns=source, remedy="Correct the entry named.")


def names_fault(limits: Iterable[ComponentLimit], parts: Iterable[Part]) -> str:
    """What does not fit between limits and parts: names twice, or a part that is not there; empty when all does."""
    limits, parts = tuple(limits), tuple(parts)
    known: set[str] = set()
    for part in parts:
        if part.key in known:
            return f"part {part.key} is there twice"
        known.add(part.key)
    names: set[tuple[str, str]] = set()
    for limit in limits:
        if limit.name in names:
            return f"{limit.component} has two limits for {limit.key.replace('_', ' ')}"
        names.add(limit.name)
    for part in parts:
        lost = next((k for k in (*part.needs, *part.excludes) if k not in known), None)
        if lost:
            return f"part {part.key} names {lost}, which is not in the list"
    for limit in limits:
        lost = next((m.part for m in limit.moved_by if m.part not in known), None)
        if lost:
            return f"{limit.component} is moved by {lost}, which is not in the list"
    return ""


@cache
def library() -> Mapping[str, Kind]:
    """The kinds that ship, with generic data."""
    return parse_kinds(
        files("yarvic.core.plan").joinpath("data/library.toml").read_text("utf-8"), source="library.toml"
    )
