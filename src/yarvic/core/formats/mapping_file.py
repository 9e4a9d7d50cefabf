"""A mapping as TOML: what the columns of a logger mean, to be kept, read by a person and given to others."""

from __future__ import annotations

from pathlib import Path

from yarvic.core.document import parse_toml, validated
from yarvic.core.evidence.mapping import Mapping
from yarvic.core.reading import read_text, reader

MOST_BYTES = 2 * 1024 * 1024


@reader("mapping", "Mapping of columns", ".toml", MOST_BYTES)
def read_mapping(path: Path) -> Mapping:
    """A mapping from its file. Raises FormatError naming what is wrong with it."""
    return parse_mapping(read_text(path, MOST_BYTES), source=str(path))


def parse_mapping(text: str, *, source: str) -> Mapping:
    """A mapping from its TOML text. Raises FormatError."""
    return validated(Mapping, parse_toml(text, source=source), source=source)


def mapping_to_toml(mapping: Mapping) -> str:
    """The TOML text of a mapping; entries that say nothing are left out."""
    import tomli_w

    document = mapping.model_dump(exclude_none=True, exclude_defaults=True)
    head = {"kind": mapping.kind, "version": mapping.version}
    return tomli_w.dumps({**head, **{k: v for k, v in document.items() if k not in head}})
