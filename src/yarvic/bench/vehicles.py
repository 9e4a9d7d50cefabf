"""The simulated vehicles that ship: which plant, layout and stock tables belong to a unit's family."""

from __future__ import annotations

from importlib.resources import files

from yarvic.bench.plant import Plant, load_plant
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.image import pack
from yarvic.core.calibration.layout import Layout, parse_layout
from yarvic.core.errors import LinkError
from yarvic.core.formats.maps import maps_from_json

# Family of the control unit: (plant, files of the stock tables by slot)
_VEHICLES = {
    "ptarmigan-14": ("ptarmigan", {"RON 95": "ptarmigan_stock_ron95.json", "E30": "ptarmigan_stock_e30.json"}),
}


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


def plant_for(family: str) -> Plant:
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
