"""What Yarvic asks of a control unit, whatever carries the bytes."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Protocol


@dataclass(frozen=True)
class Identity:
    """What a unit says of itself."""

    name: str
    family: str
    layout_version: str
    running: str


@dataclass(frozen=True)
class FaultCode:
    """A stored fault code (ISO 15031-6, SAE J2012) and its words."""

    code: str
    title: str


@cache
def _titles() -> dict[str, str]:
    data = tomllib.loads(files("yarvic.core.link").joinpath("data/fault_codes.toml").read_text("utf-8"))
    return {code: str(title) for code, title in data["titles"].items()}


def titled(code: str) -> FaultCode:
    """A code with its words, of those that are known: data/fault_codes.toml."""
    return FaultCode(code, _titles().get(code, "no text for this code"))


class ControlUnit(Protocol):
    """A control unit on the link. Methods raise LinkError when the unit refuses or the link breaks."""

    def identify(self) -> Identity:
        """Who the unit is and which image it runs."""

    def supply_voltage(self) -> float:
        """Supply voltage in V, as the unit measures it."""

    def fault_codes(self) -> list[FaultCode]:
        """The codes that the unit has stored."""

    def read_block(self, index: int) -> bytes:
        """One block of its calibration memory."""

    def write_block(self, index: int, data: bytes) -> None:
        """Replace one block."""

    def restart(self) -> None:
        """Key off, wait, start: the unit takes up what its memory says, or refuses to."""
