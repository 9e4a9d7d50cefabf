"""What a control unit says of itself, whatever carries the bytes."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

# Writing draws current for minutes while the engine does not charge. Common practice, no published source.
LEAST_VOLTAGE_V = 12.2
KEY_OFF_S = 30.0  # key off after a write, until the unit sleeps. Common practice, no published source.


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
