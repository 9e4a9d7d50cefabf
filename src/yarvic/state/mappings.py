"""The mappings that a shop has confirmed, by the fingerprint of the header they were made for."""

from __future__ import annotations

from pathlib import Path

from yarvic.core.errors import YarvicError
from yarvic.core.evidence.mapping import Mapping, fingerprint
from yarvic.core.evidence.raw import RawLog
from yarvic.core.formats.files import make_folder, write_whole
from yarvic.core.formats.mapping_file import mapping_to_toml, read_mapping
from yarvic.state.shop import shop_folder


def mapping_path(mark: str) -> Path:
    """Where the mapping of a header is kept."""
    return shop_folder() / "mappings" / f"{mark}.toml"


def known_mapping(raw: RawLog) -> Mapping | None:
    """What was confirmed for files of this header; None where nothing was, or what was kept cannot be read."""
    if raw.time is None:
        return None
    path = mapping_path(fingerprint([raw.time, *raw.columns]))
    if not path.is_file():
        return None
    try:
        found = read_mapping(path)
    except YarvicError:
        return None  # kept by other means, or damaged: the file is read as if it were new, and asked
    return _confirmed_only(found)


def _confirmed_only(mapping: Mapping) -> Mapping | None:
    """What a person has said of it; the rest is guessed anew from what the numbers are this time."""
    columns = tuple(c for c in mapping.columns if c.how == "confirmed" and not c.question)
    curve = mapping.curve.remembered() if mapping.curve is not None else None
    if not columns and (curve is None or not curve.basis):
        return None
    return mapping.model_copy(update={"columns": columns, "curve": curve})


def remember_mapping(mapping: Mapping) -> None:
    """Keep a mapping for the next file of its logger. Raises FormatError."""
    if not mapping.fingerprint or _confirmed_only(mapping) is None:
        return
    path = mapping_path(mapping.fingerprint)
    make_folder(path.parent)
    write_whole(path, mapping_to_toml(mapping).encode("utf-8"))


def share_mapping(mapping: Mapping, path: Path) -> None:
    """Write a mapping to a file for others. Raises FormatError."""
    write_whole(path, mapping_to_toml(mapping).encode("utf-8"))
