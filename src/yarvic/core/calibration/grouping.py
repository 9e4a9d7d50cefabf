"""What tables govern: the description's own groups, else by role, name and unit."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from importlib.resources import files
from typing import Annotated

from pydantic import Field

from yarvic.core.calibration.described import Described
from yarvic.core.calibration.layout import Entry, Layout
from yarvic.core.document import parse_toml, validated
from yarvic.core.units import UNITS

OTHER = "Other"
Listed = Annotated[tuple[str, ...], Field(strict=False)]


class _Governs(Described):
    title: str
    roles: Listed
    words: Listed
    quantities: Listed


@cache
def _kinds() -> tuple[_Governs, ...]:
    text = files("yarvic.core.calibration").joinpath("data/governs.toml").read_text("utf-8")
    listed = parse_toml(text, source="governs.toml")["group"]
    return tuple(validated(_Governs, each, source="governs.toml") for each in listed)


def groups_of(layout: Layout) -> Mapping[str, str]:
    """The title of the group of each entry, by key. An entry that a description puts into several stands in the first."""
    own: dict[str, str] = {}
    for group in layout.groups:
        for key in group.entries:
            own.setdefault(key, group.title)
    roles = {key: name for name, role in layout.roles.items() for key in role.entries}
    return {e.key: own.get(e.key) or _governed(e, roles.get(e.key, "")) for e in layout.entries}


def group_order(layout: Layout) -> list[str]:
    """The titles of all groups in the order in which they are shown: the description's, then ours."""
    return [*dict.fromkeys(g.title for g in layout.groups), *(k.title for k in _kinds()), OTHER]


def _governed(entry: Entry, role: str) -> str:
    name = f" {entry.key} {entry.title}".casefold().replace("_", " ").replace("-", " ")
    quantity = UNITS[entry.unit].quantity if entry.unit in UNITS else ""
    kinds = _kinds()
    found = (
        next((k for k in kinds if role in k.roles), None)
        or next((k for k in kinds if any(f" {w}" in name for w in k.words)), None)
        or next((k for k in kinds if quantity in k.quantities), None)
    )
    return found.title if found is not None else OTHER
