"""The schema of a job file: what each version is made of."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cache
from importlib.resources import files

VERSION = 9
SEALED_SINCE = 4  # files of an older version carry no sums of their history
# A statement and the name of what it makes.
_STATEMENT = re.compile(r"CREATE (?:TABLE|INDEX) (?P<name>\w+)[^;]*;\n")


def script(version: int) -> str:
    """The statements that make an empty job file of a version."""
    return "".join(statements(version).values())


@cache
def statements(version: int) -> Mapping[str, str]:
    """They by the name of what they make: those of version 1, with what each later one changed."""
    made: dict[str, str] = {}
    for step in range(1, version + 1):
        text = files("yarvic.core.job").joinpath(f"data/schema-{step}.sql").read_text("utf-8")
        for statement in _STATEMENT.finditer(text):
            made[statement.group("name")] = statement.group()
    return made
