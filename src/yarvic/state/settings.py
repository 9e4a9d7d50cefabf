"""What the desk remembers from one start to the next."""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path
from typing import Annotated, Literal
from urllib.parse import quote, unquote_to_bytes

from pydantic import BaseModel, ConfigDict, Field, field_validator

from yarvic.core.document import parse_json, validated
from yarvic.core.errors import FormatError, YarvicError
from yarvic.core.formats.files import make_folder, write_whole
from yarvic.core.reading import read_text, reader
from yarvic.core.units import UNITS

MOST_BYTES = 200_000
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


_IN_DIGITS = "bytes:"  # begins a path whose letters are no text
MOST_RECENT = 8  # jobs that are offered again


class Settings(BaseModel):
    """Units by quantity, theme, step, window, last job, and the name that signs."""

    model_config = ConfigDict(extra="ignore", validate_assignment=True)

    units: dict[str, str] = Field(default_factory=lambda: dict(DEFAULT_UNITS))
    theme: Literal["paper", "night"] = "paper"
    step: Literal["job", "plan", "maps", "flash", "dyno", "logs", "checks", "release"] = "job"
    geometry: Annotated[str, Field(max_length=4000)] = ""
    last_job: Annotated[str, Field(max_length=4096)] = ""
    recent: Annotated[tuple[Annotated[str, Field(max_length=4096)], ...], Field(max_length=MOST_RECENT)] = ()
    watched: Annotated[str, Field(max_length=4096)] = ""  # the folder that is watched; empty: none
    watched_until: Annotated[float, Field(ge=0.0, allow_inf_nan=False)] = 0.0  # s since 1970
    author: Annotated[str, Field(max_length=200)] = ""
    witness: Annotated[str, Field(max_length=4096)] = (
        ""  # a file elsewhere that takes each signed history; empty: none
    )
    # How the units of a family are reached (the ways of `state/reach`), and the bus of an interface.
    reached: Annotated[
        dict[Annotated[str, Field(max_length=200)], Annotated[str, Field(max_length=40)]], Field(max_length=100)
    ] = Field(default_factory=dict)
    interface: Annotated[str, Field(max_length=80)] = "socketcan"
    channel: Annotated[str, Field(max_length=200)] = ""
    long_frames: bool = True  # of up to 64 bytes
    # The tables that are wanted again and again, by the family of the unit.
    favourites: Annotated[
        dict[
            Annotated[str, Field(max_length=200)],
            Annotated[tuple[Annotated[str, Field(max_length=200)], ...], Field(max_length=200)],
        ],
        Field(max_length=100),
    ] = Field(default_factory=dict)

    def remember_job(self, path: Path) -> None:
        """Offer a job first from now on."""
        self.last_job = path_to_keep(path)
        self.recent = (self.last_job, *(p for p in self.recent if p != self.last_job))[:MOST_RECENT]

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


def path_to_keep(path: Path) -> str:
    """A path as it is kept in a text: as it is, or in digits where its letters are no text."""
    text = str(path)
    try:
        text.encode("utf-8")
    except UnicodeEncodeError:
        return _IN_DIGITS + quote(os.fsencode(path))
    return text


def kept_path(text: str) -> Path:
    """The path that was kept."""
    if text.startswith(_IN_DIGITS):
        return Path(os.fsdecode(unquote_to_bytes(text.removeprefix(_IN_DIGITS))))
    return Path(text)


def settings_path() -> Path:
    """The file of the settings."""
    return home() / "settings.json"


@reader("settings", "Settings of the desk, JSON", ".json", MOST_BYTES)
def read_settings(path: Path) -> Settings:
    """Settings from their file. Raises FormatError."""
    return validated(Settings, parse_json(read_text(path, MOST_BYTES), source=str(path)), source=str(path))


def load_settings() -> Settings:
    """The stored settings; defaults when there are none or they cannot be understood."""
    return remembered()[0]


def remembered() -> tuple[Settings, YarvicError | None]:
    """The stored settings, and what is wrong with their file or folder, to be said once."""
    path = settings_path()
    if not os.path.lexists(path):
        return Settings(), _folder_fault()
    try:
        return read_settings(path), _folder_fault()
    except FormatError as error:
        remedy = "The desk begins with the usual ones; jobs are not touched by this."
        return Settings(), FormatError(f"the settings {error.what}", concerns=error.concerns, remedy=remedy)


def _folder_fault() -> YarvicError | None:
    """Whether the settings' folder, or the one it would be made in, may not be written."""
    with suppress(FormatError):
        if os.access(make_home(), os.W_OK | os.X_OK):
            return None
    return FormatError(
        "the settings' folder may not be written: theme, units, last job and keys are not remembered",
        concerns=str(home()),
        remedy="Jobs are not touched by this. Set YARVIC_HOME to a folder of yours.",
    )


def save_settings(settings: Settings) -> None:
    """Store the settings. Raises FormatError where their folder cannot be written: it costs the memory, not the work."""
    make_home()
    write_whole(settings_path(), settings.model_dump_json(indent=1).encode("utf-8"))


def record_defect(text: str) -> Path | None:
    """Keep what is known of an error that nobody foresaw, for who is to mend it; None where it cannot be written."""
    try:
        path = make_home() / "last-defect.txt"
        write_whole(path, text.encode("utf-8", errors="replace"))
    except FormatError:
        return None
    return path


def make_home() -> Path:
    """The folder for settings, made where it is missing. Raises FormatError."""
    folder = home()
    make_folder(folder)
    return folder
