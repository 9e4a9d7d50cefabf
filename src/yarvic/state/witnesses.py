"""Where this desk notes what a job's history was when it was signed: beside the keys, and in a file that was chosen."""

from __future__ import annotations

from pathlib import Path

from yarvic.core.formats.files import make_folder
from yarvic.core.release.witness import add_witness, read_witness
from yarvic.state.keys import keys_folder
from yarvic.state.settings import kept_path, load_settings, make_home


def noted_path() -> Path:
    """The file that is always written."""
    return keys_folder() / "signed.txt"


def chosen_witness() -> Path | None:
    """The file that a person chose, best on another disk; None where nobody did."""
    chosen = load_settings().witness
    return kept_path(chosen) if chosen else None


def check_witness(path: Path | None) -> None:
    """Raise FormatError for a file that is there and is no witness file: nothing is added to another one."""
    if path is not None and path.exists():
        read_witness(path)


def note(start: str, lines: int, head: str, time: str, chosen: str = "") -> None:
    """Note a history beside the keys, and in the file that was chosen. Raises FormatError where one cannot be written."""
    make_home()
    make_folder(keys_folder(), 0o700)
    for path in (noted_path(), *([kept_path(chosen)] if chosen else [])):
        add_witness(path, start, lines, head, time)
