"""Roles: which table of a layout does what. Proposed from name, description, unit and shape; a person confirms.

What a person confirmed is shared as TOML: roles, and the channels that measure the axes.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from types import MappingProxyType
from typing import Annotated

from pydantic import Field

from yarvic.core.calibration.described import Described, Words_
from yarvic.core.calibration.layout import Axis, Entry, Layout, Role
from yarvic.core.document import parse_toml, validated
from yarvic.core.errors import CalibrationError
from yarvic.core.units import UNITS

FORMAT = "yarvic roles 1"
# Quantities that descriptions give no unit.
UNIT_OF: Mapping[str, str] = MappingProxyType({"lambda_target": "lambda"})
MOST_BYTES = 1_000_000
# Of what a proposal's confidence is made, and from where on it is one: our choice.
NAMED, PARTLY, MEASURES, AXES, AGAINST, UNUSUAL, LEAST = 0.5, 0.3, 0.2, 0.3, 0.35, 0.05, 0.45
MOST_PROPOSED = 5


class Kind(Described):
    """What a role is recognised by; see the data."""

    title: str
    kinds: Annotated[tuple[str, ...], Field(strict=False)]
    quantities: Annotated[tuple[str, ...], Field(strict=False)]
    inputs: Annotated[tuple[str, ...], Field(strict=False)]
    words: Annotated[tuple[str, ...], Field(strict=False)]
    against: Annotated[tuple[str, ...], Field(strict=False)]


@dataclass(frozen=True)
class Proposal:
    """An entry that may have a role: how sure that is, from 0 to 1, and why."""

    role: str
    key: str
    confidence: float
    reason: str


@cache
def kinds() -> Mapping[str, Kind]:
    """All roles in the order in which they are shown."""
    text = files("yarvic.core.calibration").joinpath("data/roles.toml").read_text("utf-8")
    return {key: validated(Kind, each, source="roles.toml") for key, each in parse_toml(text, source="roles").items()}


def title_of(role: str) -> str:
    """What a role is called."""
    return kinds()[role].title if role in kinds() else role


def propose(layout: Layout) -> list[Proposal]:
    """Entries that may have each role, the likeliest first; the same entry is proposed for its likeliest role only."""
    found: list[Proposal] = []
    for entry in layout.entries:
        if entry.kind in ("text", "block"):
            continue
        text = _plain(f"{entry.key} {entry.title} {entry.text}")
        each = [p for role, kind in kinds().items() if (p := _of(role, kind, entry, text, layout)) is not None]
        if each:
            found.append(max(each, key=lambda p: p.confidence))
    order = list(kinds())
    found.sort(key=lambda p: (order.index(p.role), -p.confidence))
    return [p for role in order for p in [q for q in found if q.role == role][:MOST_PROPOSED]]


def _of(role: str, kind: Kind, entry: Entry, text: str, layout: Layout) -> Proposal | None:
    if entry.kind not in kind.kinds:
        return None
    why, confidence = [], 0.0
    word = next((w for w in kind.words if f" {_plain(w).strip()} " in f" {text} "), "")
    if word:
        confidence += NAMED
        why.append(f"it is called {word}")
    else:
        inside = next(
            (w for w in kind.words if len(w) > 5 and _plain(w).replace(" ", "") in text.replace(" ", "")), ""
        )
        if not inside:
            return None
        confidence += PARTLY
        why.append(f"its name holds {inside}")
    unit = entry.unit
    if unit in UNITS and UNITS[unit].quantity in kind.quantities:
        confidence += MEASURES
        why.append(f"it is in {unit}")
    elif unit in UNITS:
        confidence -= AGAINST
    inputs = [_input(a, layout) for a in (entry.x, entry.y) if a is not None]
    if inputs and all(i in kind.inputs for i in inputs):
        confidence += AXES
        why.append("its axes are " + " and ".join(i.replace("_", " ") for i in inputs))
    elif entry.kind == "value":
        confidence += AXES / 2
    against = next((w for w in kind.against if f" {_plain(w).strip()} " in f" {text} "), "")
    if against and against not in word:
        confidence -= AGAINST
        why.append(f"but {against} stands beside it")
    # The usual shape stands first.
    confidence -= UNUSUAL * kind.kinds.index(entry.kind)
    if confidence < LEAST:
        return None
    return Proposal(role, entry.key, round(min(confidence, 1.0), 2), ", ".join(why))


def _input(axis: Axis, layout: Layout) -> str:
    shared = layout.axis_by_key.get(axis.of) if axis.kind == "shared" else None
    return axis.input or (shared.input if shared is not None else "")


def _plain(text: str) -> str:
    """Words without case, accents and signs, each with blanks around it; a name in one word is cut at its capitals."""
    text = re.sub(r"(?<=[a-zß-ÿ])(?=[A-Z])", " ", text)
    flat = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode("ascii").casefold()
    return " ".join(re.findall(r"[a-z]+|\d+", flat))


def with_roles(layout: Layout, roles: Mapping[str, Iterable[str]], by: str) -> Layout:
    """The layout with roles as a person said. Raises CalibrationError for a role or an entry that is not there."""
    made = dict(layout.roles)
    bare: dict[str, str] = {}
    for role, keys in roles.items():
        named = tuple(dict.fromkeys(keys))
        if role not in kinds():
            raise CalibrationError(f"there is no role {role!r}", remedy=f"Roles: {', '.join(kinds())}.")
        lost = next((k for k in named if k not in layout.by_key), None)
        if lost is not None:
            raise CalibrationError(f"there is no table or value {lost!r}", concerns=role, remedy="Choose another.")
        made.pop(role, None)
        if named:
            made[role] = Role(entries=named, by=by)
        # What has no unit by its description has the one of what it is said to be.
        bare |= {k: UNIT_OF[role] for k in named if role in UNIT_OF and not layout.by_key[k].unit}
    layout = layout.changed(roles=made)
    if not bare:
        return layout
    entries = tuple(e.model_copy(update={"unit": bare[e.key]}) if e.key in bare else e for e in layout.entries)
    return layout.changed(entries=entries)


def with_input(layout: Layout, key: str, which: str, channel: str) -> Layout:
    """The layout with what a person said that an axis of an entry is of; empty: of nothing that is measured."""
    entries = []
    for entry in layout.entries:
        axis = entry.x if which == "x" else entry.y
        if entry.key == key and axis is not None:
            axis = axis.model_copy(update={"input": channel, "input_said": True})
            entry = entry.model_copy(update={which: axis})
        entries.append(entry)
    return layout.changed(entries=tuple(entries))


class _Inputs(Described):
    x: Words_ | None = None
    y: Words_ | None = None


class _File(Described):
    format: str
    family: Words_ = ""
    roles: dict[str, Role] = Field(default_factory=dict)
    inputs: dict[str, _Inputs] = Field(default_factory=dict)


def roles_to_toml(layout: Layout) -> str:
    """The roles of a layout, and what was said of its axes, as TOML."""
    import tomli_w

    inputs = {}
    for entry in layout.entries:
        said = {w: a.input for w, a in (("x", entry.x), ("y", entry.y)) if a is not None and a.input_said}
        if said:
            inputs[entry.key] = said
    document = {
        "format": FORMAT,
        "family": layout.family,
        "roles": {name: {"entries": list(r.entries), "by": r.by} for name, r in layout.roles.items()},
        "inputs": inputs,
    }
    return "# Which tables of a control unit's layout do what, as a person confirmed it.\n" + tomli_w.dumps(document)


def with_roles_of(layout: Layout, text: str, *, source: str = "roles.toml") -> tuple[Layout, list[str]]:
    """The layout with the roles of a file, and the keys that the file names and the layout has not.

    Raises CalibrationError for what is no such file, or one of another family.
    """
    data = parse_toml(text, source=source, error_type=CalibrationError)
    if data.get("format") != FORMAT:
        raise CalibrationError(
            f'is no list of roles: its first entry must be format = "{FORMAT}"',
            concerns=source,
            remedy="Choose another.",
        )
    found = validated(_File, data, source=source, error_type=CalibrationError)
    if found.family and found.family != layout.family:
        raise CalibrationError(
            f"is of family {found.family!r}, this layout of {layout.family!r}",
            concerns=source,
            remedy="Choose another.",
        )
    lost: list[str] = []
    for name, role in found.roles.items():
        there = [k for k in role.entries if k in layout.by_key]
        lost += [k for k in role.entries if k not in layout.by_key]
        if there:
            layout = with_roles(layout, {name: there}, role.by or source)
    for key, said in found.inputs.items():
        if key not in layout.by_key:
            lost.append(key)
            continue
        for which, channel in (("x", said.x), ("y", said.y)):
            if channel is not None:
                layout = with_input(layout, key, which, channel)
    return layout, lost
