"""What a working sensor can read: what lies past it is a sensor's fault, and no number to judge by."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache, cached_property
from importlib.resources import files
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, TypeAdapter

from yarvic.core.document import Document, parse_toml
from yarvic.core.physics import FloatArray
from yarvic.core.units import to_canonical


class SensorRange(Document):
    """The readings of a working sensor, in `unit`. Every running engine under load passes `reaches`."""

    unit: str
    least: float
    most: float
    reaches: float | None = None
    source: Annotated[str, Field(min_length=1)]

    def reads(self, values: FloatArray) -> NDArray[np.bool_]:
        """Where values, in the canonical unit, are such that a working sensor can read them."""
        low, high = self.ends
        return np.asarray((values >= low) & (values <= high))

    @cached_property
    def ends(self) -> tuple[float, float]:
        """The least and the most, in the canonical unit."""
        return float(to_canonical(self.least, self.unit)), float(to_canonical(self.most, self.unit))


@cache
def sensor_ranges() -> Mapping[str, SensorRange]:
    """The range of each channel that has one, by its key."""
    text = files("yarvic.core.checks").joinpath("data/sensors.toml").read_text("utf-8")
    return TypeAdapter(dict[str, SensorRange]).validate_python(parse_toml(text, source="sensors.toml"))
