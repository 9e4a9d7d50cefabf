"""What the desk remembers from one start to the next."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from yarvic.core.errors import FormatError
from yarvic.core.formats.files import write_whole

DEFAULT_UNITS = {
    "pressure": "kPa",
    "fuel pressure": "bar",
    "temperature": "degC",
    "torque": "N m",
    "power": "kW",
    "speed": "km/h",
}


class Settings(BaseModel):
    """Units by quantity, theme, step, window, last job, and the name that signs."""

    model_config = ConfigDict(extra="ignore", validate_assignment=True)

    units: dict[str, str] = Field(default_factory=lambda: dict(DEFAULT_UNITS))
    theme: Literal["paper", "night"] = "paper"
    step: str = "job"
    geometry: str = ""
    last_job: str = ""
    author: str = ""


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
