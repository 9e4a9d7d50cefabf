"""The places along a vehicle, from filter to tailpipe and from crank to tyre: those that its engine has."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Any

from yarvic.core.plan.vehicle import Vehicle


@dataclass(frozen=True)
class Station:
    """A place, with the line it stands in: air, fuel, engine, exhaust or drive."""

    key: str
    title: str
    line: str


@cache
def _data() -> dict[str, dict[str, Any]]:
    return tomllib.loads(files("yarvic.core.plan").joinpath("data/stations.toml").read_text("utf-8"))


def stations(vehicle: Vehicle) -> tuple[Station, ...]:
    """The stations of a vehicle in order: a natural engine has no compressor, a diesel has a particulate filter."""
    found = []
    for key, entry in _data().items():
        if not vehicle.has(entry):
            continue
        titles = entry.get("title_for", {})
        title = next((titles[w] for w in sorted(vehicle.words) if w in titles), entry["title"])
        found.append(Station(key, title, entry["line"]))
    return tuple(found)


def station_keys() -> tuple[str, ...]:
    """The keys of all stations that there are."""
    return tuple(_data())


def caution(key: str) -> str:
    """What to mind where a part is fitted at a station; empty where there is nothing of its own."""
    return str(_data().get(key, {}).get("caution", ""))


def usual_title(key: str) -> str:
    """What a station is called where no vehicle is at hand; the key itself for one that is not known."""
    return str(_data()[key]["title"]) if key in _data() else key
