"""How the command line says things: a document, or lines that steer no terminal."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Annotated, Any

import typer

from yarvic.core.errors import in_plain

AsJson = Annotated[bool, typer.Option("--json", help="Print one JSON document and nothing else.")]


def print_json(value: Any) -> None:
    """One JSON document."""
    print(json.dumps(value, indent=1, allow_nan=False))


def print_each(document: list[dict[str, Any]], tell: Callable[[dict[str, Any]], None], as_json: bool) -> None:
    """A list of entries as one document, or each of them in words."""
    if as_json:
        print_json(document)
        return
    for entry in document:
        tell(entry)


def tell(line: str) -> None:
    """Print a line; nothing that a file holds steers the terminal."""
    print(in_plain(line))
