"""Layouts as TOML, written by hand (docs/layout-file.md), and as they are kept in a job."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any, TypeVar

from pydantic import ValidationError

from yarvic.core.calibration.described import MOST_ENTRIES, Described
from yarvic.core.calibration.faults import Fault, inspected
from yarvic.core.calibration.layout import Entry, Layout, LeftOut, SharedAxis
from yarvic.core.calibration.old_layout import brought_up
from yarvic.core.document import first_fault, parse_toml
from yarvic.core.errors import CalibrationError, UnitError
from yarvic.core.reading import read_text, reader
from yarvic.core.units import UNITS, read_unit

MOST_BYTES = 16_000_000
FORMAT = "yarvic layout 2"
M = TypeVar("M", bound=Described)
_HEADS = re.compile(r"^[ \t]*\[\[[ \t]*(\w+)[ \t]*\]\]", re.MULTILINE)


def parse_layout(text: str, *, source: str = "layout") -> Layout:
    """A layout from TOML, or from the JSON in which a job keeps it, in which nothing is wrong.

    Raises CalibrationError naming the place of the first fault.
    """
    if text.lstrip()[:1] == "{":
        return _kept(text, source)
    layout, faults = understood_layout(text, source=source)
    if faults:
        fault = faults[0]
        place = f"{source}, line {fault.line}" if fault.line else source
        raise CalibrationError(f"{fault.about}: {fault.what}", concerns=place, remedy=fault.remedy)
    return layout


def _kept(text: str, source: str) -> Layout:
    try:
        return Layout.model_validate_json(text)
    except ValidationError as error:
        raise CalibrationError(first_fault(error), concerns=source, remedy="Restore it from a copy.") from None


def understood_layout(text: str, *, source: str = "layout") -> tuple[Layout, list[Fault]]:
    """A layout from TOML without the parts that are wrong, and all that is wrong with it.

    Raises CalibrationError for what is no layout at all.
    """
    return from_data(parse_toml(text, source=source, error_type=CalibrationError), text, source)


def from_data(data: dict[str, Any], text: str, source: str) -> tuple[Layout, list[Fault]]:
    """The layout that a parsed text says, and all that is wrong with it. Raises CalibrationError."""
    lines = _lines(text)
    if "format" not in data and "family" in data:
        data, lines = brought_up(data, source), {"entries": lines.get("tables", []) + lines.get("scalars", [])}
    if data.get("format") != FORMAT:
        raise CalibrationError(
            f'is no layout: its first entry must be format = "{FORMAT}"',
            concerns=source,
            remedy="Choose another file.",
        )
    faults: list[Fault] = []
    left: list[LeftOut] = []
    parts = {}
    for name, kind in (("entries", Entry), ("axes", SharedAxis)):
        listed = data.pop(name, [])
        if not isinstance(listed, list):
            raise CalibrationError(f"{name} must be a list", concerns=source, remedy=f"Write each as [[{name}]].")
        if len(listed) > MOST_ENTRIES:
            raise CalibrationError(f"has more than {MOST_ENTRIES:,} {name}", concerns=source, remedy="Divide it.")
        parts[name] = _parts(listed, kind, lines.get(name, []), faults, left)
    whole = _made(Layout, {**data, "left_out": []}, source)
    layout = whole.changed(entries=parts["entries"], axes=parts["axes"], left_out=tuple(left))
    layout, more = inspected(layout)
    return layout, [*faults, *more]


def _lines(text: str) -> dict[str, list[int]]:
    """The line on which each part of a list begins, by the list's name."""
    found: dict[str, list[int]] = {}
    line, at = 1, 0
    for head in _HEADS.finditer(text):
        line += text.count("\n", at, head.start(1))
        at = head.start(1)
        found.setdefault(head.group(1), []).append(line)
    return found


def _parts(
    listed: list[Any],
    kind: type[Entry] | type[SharedAxis],
    lines: list[int],
    faults: list[Fault],
    left: list[LeftOut],
) -> tuple[Any, ...]:
    """The parts that can be; of the others a fault each."""
    found: dict[str, Any] = {}
    for number, each in enumerate(listed):
        line = lines[number] if number < len(lines) else 0
        key = str(each.get("key", "")) if isinstance(each, dict) else ""
        about = key or f"number {number + 1}"
        try:
            if not isinstance(each, dict):
                raise CalibrationError("is no table of entries", remedy="Write it as a table.")
            made = _made(kind, {**_units_known(each), "line": line}, about)
            if made.key in found:
                raise CalibrationError("is there twice", remedy="Give each its own key.")
            found[made.key] = made
        except CalibrationError as error:
            faults.append(Fault(about, error.what, error.remedy, line))
            left.append(LeftOut(key=about[:1000], reason=error.what, line=line))
    return tuple(found.values())


def _units_known(part: dict[str, Any]) -> dict[str, Any]:
    """A part with its units by the labels that they have here, those of its axes too; what is unknown stays."""
    found = dict(part)
    if isinstance(found.get("unit"), str):
        found["unit"] = known_unit(found["unit"])
    for axis in ("x", "y"):
        if isinstance(found.get(axis), dict):
            found[axis] = _units_known(found[axis])
    return found


def known_unit(words: str) -> str:
    """The label of a unit by its words; the words themselves where nobody knows them, nothing for no unit.

    A gauge pressure stays as it is written: it is another number than an absolute one.
    """
    words = words.strip()
    if words in UNITS or words in ("", "-"):
        return words if words != "-" else ""
    try:
        unit, reference = read_unit(words)
    except UnitError:
        return words
    return unit.label if reference in ("", "absolute") else words


def _made(kind: type[M], values: dict[str, Any], source: str) -> M:
    """A part from what TOML says. Raises CalibrationError naming the entry that is wrong."""
    try:
        return kind.model_validate_json(json.dumps(values))
    except ValidationError as error:
        raise CalibrationError(first_fault(error), concerns=source, remedy="Correct the entry named.") from None
    except (TypeError, ValueError, RecursionError):
        raise CalibrationError(
            "holds a date, or a number that cannot be", concerns=source, remedy="Write numbers and texts."
        ) from None


@reader("layout", "Layout of a unit's memory, TOML", ".toml", MOST_BYTES)
def read_layout(path: Path) -> tuple[Layout, list[Fault]]:
    """The layout that a file holds, and what is wrong with it. Raises FormatError, CalibrationError."""
    return understood_layout(read_text(path, MOST_BYTES), source=path.name)
