"""What the shop keeps from job to job: templates, readiness lists, and a library of its own beside the shipped one."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

from yarvic.core.errors import FormatError, JobError
from yarvic.core.formats.files import read_bounded
from yarvic.core.job.model import JobSheet
from yarvic.core.job.template import MOST_BYTES, as_template, read_sheet, write_sheet
from yarvic.core.plan.parts import Kind, library, parse_kinds
from yarvic.core.plan.readiness import Item, fresh
from yarvic.core.plan.vehicle import Vehicle
from yarvic.state.settings import home

LIBRARY = "library.toml"


def shop_folder() -> Path:
    """The folder of what the shop keeps."""
    return home() / "shop"


def _file_name(title: str) -> str:
    name = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")
    if not name:
        raise JobError(f"{title!r} gives no file name", remedy="Use letters or digits.")
    return name[:60]


def keep_template(sheet: JobSheet, title: str) -> Path:
    """Keep a sheet as a template of this title. Raises JobError, FormatError; a template of that name is replaced."""
    path = shop_folder() / "templates" / f"{_file_name(title)}.toml"
    return _write(as_template(sheet, title), path)


def _write(sheet: JobSheet, path: Path) -> Path:
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FormatError(f"cannot be made: {error.strerror}", concerns=str(path.parent)) from None
    write_sheet(sheet, path)
    return path


def templates() -> dict[str, Path]:
    """The shop's templates by file name."""
    folder = shop_folder() / "templates"
    return {p.stem: p for p in sorted(folder.glob("*.toml"))} if folder.is_dir() else {}


def _list_path(vehicle: Vehicle) -> Path:
    kind = f"{vehicle.ignition}-{vehicle.induction}-{vehicle.injection}".replace(" ", "-")
    return shop_folder() / "readiness" / f"{kind}.toml"


def keep_readiness(sheet: JobSheet) -> Path:
    """Keep a job's readiness list as the shop's, for engines of this kind. Raises FormatError."""
    v = sheet.vehicle
    bare = Vehicle(name="shop", ignition=v.ignition, induction=v.induction, injection=v.injection)
    return _write(JobSheet(title="shop", vehicle=bare, readiness=fresh(sheet.readiness)), _list_path(v))


def shop_readiness(vehicle: Vehicle) -> tuple[Item, ...]:
    """The shop's own list for this kind of engine; empty when it keeps none that can be read."""
    try:
        return read_sheet(_list_path(vehicle)).readiness
    except FormatError:
        return ()


def kinds() -> Mapping[str, Kind]:
    """The shipped library with the shop's own kinds beside. Raises FormatError naming what is wrong with the shop's."""
    path = shop_folder() / LIBRARY
    if not path.is_file():
        return library()
    try:
        text = read_bounded(path, MOST_BYTES).decode("utf-8")
    except UnicodeDecodeError:
        raise FormatError("is not text", concerns=str(path), remedy="Write it as TOML.") from None
    return {**library(), **parse_kinds(text, source=str(path))}


def keep_kind(sheet: JobSheet, title: str) -> Path:
    """Add a job's limits and parts to the shop's own library under a title. Raises FormatError, JobError."""
    import tomli_w

    from yarvic.core.formats.files import write_whole

    path = shop_folder() / LIBRARY
    own = parse_kinds(path.read_text("utf-8"), source=str(path)) if path.is_file() else {}
    made = Kind(_file_name(title), title.strip(), sheet.limits, sheet.parts)
    document = {
        key: {
            "title": kind.title,
            "limit": [m.model_dump(mode="json", exclude_none=True) for m in kind.limits],
            "part": [p.model_dump(mode="json", exclude_none=True) for p in kind.parts],
        }
        for key, kind in {**own, made.key: made}.items()
    }
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FormatError(f"cannot be made: {error.strerror}", concerns=str(path.parent)) from None
    write_whole(path, tomli_w.dumps(document).encode("utf-8"))
    return path
