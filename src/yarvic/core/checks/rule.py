"""A rule: where trouble begins."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from yarvic.core.document import Document
from yarvic.core.units import UNITS, to_canonical

Side = Literal["above", "below"]


class Rule(Document):
    """One limit: trouble lies above or below `stop`; `watch` comes before it. Both in `unit`."""

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
