"""What a working sensor can read: what lies past it is a sensor's fault, and no number to judge by."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from importlib.resources import files
from typing import Annotated

from pydantic import Field, TypeAdapter

from yarvic.core.document import Document, parse_toml
from yarvic.core.units import to_canonical


class SensorRange(Document):
    """The readings of a working sensor, in `unit`. Every running engine under load passes `reaches`."""

    unit: str
    least: float
    most: float
    reaches: float | None = None
    source: Annotated[str, Field(min_length=1)]

    def canonical(self, value: float) -> float:
        """A number of this range in the canonical unit."""
        return float(to_canonical(value, self.unit))


@cache
def sensor_ranges() -> Mapping[str, SensorRange]:
    """The range of each channel that has one, by its key."""
    text = files("yarvic.core.checks").joinpath("data/sensors.toml").read_text("utf-8")
    return TypeAdapter(dict[str, SensorRange]).validate_python(parse_toml(text, source="sensors.toml"))
