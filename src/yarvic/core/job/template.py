"""Job sheets as TOML: to begin a job from, to carry vehicle and limits from one job to another."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from yarvic.core.document import first_fault, parse_toml, validated
from yarvic.core.errors import FormatError, JobError
from yarvic.core.formats.files import write_whole
from yarvic.core.job.model import JobSheet
from yarvic.core.plan.readiness import default_items, fresh
from yarvic.core.plan.vehicle import Vehicle
from yarvic.core.reading import read_text, reader

FORMAT = "yarvic sheet 1"
MOST_BYTES = 1_000_000


@cache
def _starts() -> dict[str, dict[str, Any]]:
    return tomllib.loads(files("yarvic.core.plan").joinpath("data/starts.toml").read_text("utf-8"))


def starts() -> Mapping[str, str]:
    """The kinds of engine that a sheet can begin with, by key, with their titles."""
    return {key: str(entry["title"]) for key, entry in _starts().items()}


def begin(kind: str, title: str, shop: str = "") -> JobSheet:
    """A sheet of which only the kind of engine is known, with its usual readiness list.

    Raises FormatError for a title that cannot be.
    """
    entry = _starts()[kind]
    try:
        vehicle = Vehicle(name=title, **entry["vehicle"])
        return JobSheet(
            title=title,
            shop=shop,
            vehicle=vehicle,
            band_rpm=tuple(entry["band_rpm"]),
            readiness=default_items(vehicle),
        )
    except ValidationError as error:
        raise FormatError(first_fault(error), concerns="new job", remedy="Give it another title.") from None


def as_template(sheet: JobSheet, title: str) -> JobSheet:
    """The sheet for another vehicle of this kind: nothing seen yet, no revision bound, no answers."""
    plan = sheet.plan.model_copy(
        update={
            "answers": (),
            "stages": tuple(s.model_copy(update={"revisions": ()}) for s in sheet.plan.stages),
        }
    )
    vehicle = sheet.vehicle.model_copy(update={"name": title})
    changed = {"title": title, "vehicle": vehicle, "plan": plan, "readiness": fresh(sheet.readiness)}
    try:
        return sheet.changed(**changed)
    except JobError as error:
        raise FormatError(error.what, concerns="template", remedy="Give it another title.") from None


def to_toml(sheet: JobSheet) -> str:
    """A sheet as TOML text: what was not entered is left out, and so is who saw what when."""
    import tomli_w

    document = sheet.model_copy(update={"readiness": fresh(sheet.readiness)})
    text = tomli_w.dumps({"format": FORMAT, **document.model_dump(mode="json", exclude_none=True)})
    return f"# A job sheet of Yarvic. Units are in the names.\n{text}"


def parse_sheet(text: str, *, onto: JobSheet | None = None, source: str = "sheet") -> JobSheet:
    """A sheet from TOML text; with `onto`, its parts in place of that sheet's, what it leaves out staying.

    Raises FormatError naming the line, or the entry and what is wrong with it.
    """
    data = parse_toml(text, source=source)
    if data.pop("format", None) != FORMAT:
        raise FormatError(
            f'is no job sheet: its first entry must be format = "{FORMAT}"', concerns=source, remedy="Choose another."
        )
    base = onto.entries() if onto is not None else {}
    if onto is not None and isinstance(data.get("vehicle"), dict):
        # Title and name stay the job's own: what is taken is what the vehicle is.
        data["vehicle"] = {**data["vehicle"], "name": onto.vehicle.name}
        data["title"] = onto.title
    return validated(JobSheet, {**base, **data}, source=source)


@reader("job sheet", "Job sheet, TOML", ".toml", MOST_BYTES)
def read_sheet(path: Path, *, onto: JobSheet | None = None) -> JobSheet:
    """A sheet from a TOML file. Raises FormatError."""
    text = read_text(path, MOST_BYTES)
    return parse_sheet(text, onto=onto, source=path.name)


def write_sheet(sheet: JobSheet, path: Path) -> None:
    """Write a sheet as TOML, whole or not at all. Raises FormatError."""
    write_whole(path, to_toml(sheet).encode("utf-8"))
