"""The simulated vehicles that ship: which plant, layout and stock tables belong to a unit's family."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

import numpy as np

from yarvic.bench.plant import AnyPlant, load_plant
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.image import pack
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.errors import LinkError
from yarvic.core.formats.maps import maps_from_json

# Family of the control unit: (plant, files of the stock tables by slot)
_VEHICLES = {
    "ptarmigan-14": ("ptarmigan", {"RON 95": "ptarmigan_stock_ron95.json", "E30": "ptarmigan_stock_e30.json"}),
    "wether-32": ("wether", {"Diesel": "wether_stock.json"}),
    "fieldfare-05": ("fieldfare", {"RON 95": "fieldfare_stock.json"}),
}
# Units of gearboxes that ship, each by the plant that it belongs to.
_GEARBOXES = {"ptarmigan-box-2": ("ptarmigan_gearbox", {"Gearbox": "ptarmigan_gearbox_stock.json"})}
VEHICLES = tuple(plant for plant, _ in _VEHICLES.values())


@dataclass(frozen=True)
class Rating:
    """One rating of an engine family: its torque limit at the crank over engine speed, and what it may be used for."""

    key: str
    title: str
    duty: str
    speed_rpm: tuple[float, ...]
    torque_nm: tuple[float, ...]


def layout_text(plant: str) -> str:
    """The layout of a shipped vehicle's control unit, as TOML."""
    return _text(f"{plant}_layout.toml")


def stock_image(plant: str, name: str = "Stock") -> bytes:
    """The image with which a shipped vehicle arrives."""
    layout = parse_layout(layout_text(plant))
    return pack(stock_calibrations(layout), layout, name)


def stock_calibrations(layout: Layout) -> dict[str, Calibration]:
    """The stock tables of a family by slot. Raises LinkError when no shipped vehicle has this family."""
    _, slots = _vehicle(layout.family)
    return {slot: maps_from_json(_text(file), source=file) for slot, file in slots.items()}


@cache
def ratings(plant: str) -> dict[str, Rating]:
    """The ratings of a vehicle's family by key; empty for a family that has none."""
    if plant != "wether":
        return {}
    data = tomllib.loads(_text(f"{plant}_ratings.toml"))
    return {
        key: Rating(key, r["title"], r["duty"], tuple(data["speed_rpm"]), tuple(r["torque_nm"]))
        for key, r in data["ratings"].items()
    }


def rating_image(plant: str, key: str) -> bytes:
    """The family's image with a rating's torque limit. Raises LinkError for a rating the family has not."""
    if key not in ratings(plant):
        raise LinkError(f"{plant} has no rating {key!r}", remedy=f"Ratings: {', '.join(ratings(plant)) or 'none'}.")
    rating = ratings(plant)[key]
    layout = parse_layout(layout_text(plant))
    rated = {}
    for slot, calibration in stock_calibrations(layout).items():
        limit = calibration.table("torque_limit")
        curve = np.interp(limit.x.values, rating.speed_rpm, rating.torque_nm)
        rated[slot] = calibration.with_table(limit.with_values(np.tile(curve, (limit.y.values.size, 1))))
    return pack(rated, layout, rating.title[:31])


def gearbox_image(plant: str, name: str = "Stock", more_torque: float = 1.0) -> bytes:
    """An image of the unit of a vehicle's gearbox: as it came, or set for so much more torque."""
    layout = parse_layout(layout_text(f"{plant}_gearbox"))
    _, slots = _GEARBOXES[layout.family]
    set_ = {slot: maps_from_json(_text(file), source=file) for slot, file in slots.items()}
    for slot, calibration in set_.items():
        for key in ("line_pressure", "torque_allowed"):
            table = calibration.table(key)
            raised = table.with_values(np.minimum(table.values * more_torque, table.high))
            set_[slot] = set_[slot].with_table(raised)
    return pack(set_, layout, name)


def plant_for(family: str) -> AnyPlant:
    """The vehicle whose control unit is of this family. Raises LinkError when none ships."""
    return load_plant(_vehicle(family)[0])


def _vehicle(family: str) -> tuple[str, dict[str, str]]:
    if family not in _VEHICLES:
        raise LinkError(
            f"no simulated vehicle has a unit of family {family!r}",
            remedy=f"Simulated: {', '.join(_VEHICLES)}.",
        )
    return _VEHICLES[family]


def _text(file: str) -> str:
    return files("yarvic.bench").joinpath(f"data/{file}").read_text("utf-8")
