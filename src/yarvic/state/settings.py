"""What the desk remembers from one start to the next."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from yarvic.core.errors import FormatError
from yarvic.core.formats.files import write_whole
from yarvic.core.units import UNITS

DEFAULT_UNITS = {
    "pressure": "kPa",
    "fuel pressure": "bar",
    "temperature": "degC",
    "torque": "N m",
    "power": "kW",
    "speed": "km/h",
}


def _measures(label: str, quantity: str) -> bool:
    return UNITS[label].quantity == ("pressure" if quantity == "fuel pressure" else quantity)


class Settings(BaseModel):
    """Units by quantity, theme, step, window, last job, and the name that signs."""

    model_config = ConfigDict(extra="ignore", validate_assignment=True)

    units: dict[str, str] = Field(default_factory=lambda: dict(DEFAULT_UNITS))
    theme: Literal["paper", "night"] = "paper"
    step: Literal["job", "plan", "maps", "flash", "dyno", "logs", "checks", "release"] = "job"
    geometry: str = ""
    last_job: str = ""
    author: str = ""

    @field_validator("units")
    @classmethod
    def _known_units(cls, units: dict[str, str]) -> dict[str, str]:
        """Only units that measure what they are chosen for; the others keep their defaults."""
        good = {q: u for q, u in units.items() if q in DEFAULT_UNITS and u in UNITS and _measures(u, q)}
        return {**DEFAULT_UNITS, **good}


def home() -> Path:
    """The folder for settings and demo jobs; YARVIC_HOME overrides the system's choice."""
    if os.environ.get("YARVIC_HOME"):
        return Path(os.environ["YARVIC_HOME"])
    import platformdirs

    return Path(platformdirs.user_data_dir("yarvic"))


def load_settings() -> Settings:
    """The stored settings; defaults when there are none or they cannot be understood."""
    try:
        return Settings.model_validate_json((home() / "settings.json").read_text("utf-8"))
    except (OSError, ValidationError, UnicodeDecodeError):
        return Settings()


def save_settings(settings: Settings) -> None:
    """Store the settings. A folder that cannot be written costs the memory, not the work."""
    folder = home()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        write_whole(folder / "settings.json", settings.model_dump_json(indent=1).encode("utf-8"))
    except (OSError, FormatError):
        return
