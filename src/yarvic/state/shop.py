"""What the shop keeps from job to job: templates, readiness lists, and a library of its own beside the shipped one."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from yarvic.core.errors import JobError
from yarvic.core.formats.files import file_name, make_folder, write_whole
from yarvic.core.job.model import JobSheet
from yarvic.core.job.template import as_template, write_sheet
from yarvic.core.plan.parts import Kind, read_kinds
from yarvic.core.plan.readiness import fresh
from yarvic.core.plan.vehicle import Vehicle
from yarvic.core.reading import read_text, reader
from yarvic.state.settings import home

if TYPE_CHECKING:
    from yarvic.core.evidence.dictionary import Dictionary

LIBRARY = "library.toml"
CHANNEL_NAMES = "channels.toml"
MOST_NAMES_BYTES = 1024 * 1024


def shop_folder() -> Path:
    """The folder of what the shop keeps."""
    return home() / "shop"


def channel_words() -> Dictionary:
    """How logs name channels: what ships, and what the shop adds in a file of its own. Raises FormatError."""
    from yarvic.core.evidence.dictionary import dictionary

    path = shop_folder() / CHANNEL_NAMES
    if not path.is_file():
        return dictionary()
    return read_names(path)


@reader("channel names", "Names of channels", ".toml", MOST_NAMES_BYTES)
def read_names(path: Path) -> Dictionary:
    """The names of channels that ship with those of a file added: by channel, `names` and `counted_down` by language."""
    from yarvic.core.evidence.dictionary import dictionary

    return dictionary().with_names(read_text(path, MOST_NAMES_BYTES), str(path))


def _file_name(title: str) -> str:
    name = file_name(title)
    if not name:
        raise JobError(f"{title!r} gives no file name", remedy="Use letters or digits.")
    return name


def save_template(sheet: JobSheet, title: str) -> Path:
    """Keep a sheet as a template of this title. Raises JobError, FormatError; a template of that name is replaced."""
    path = shop_folder() / "templates" / f"{_file_name(title)}.toml"
    return _write(as_template(sheet, title), path)


def _write(sheet: JobSheet, path: Path) -> Path:
    make_folder(path.parent)
    write_sheet(sheet, path)
    return path


def templates() -> dict[str, Path]:
    """The shop's templates by file name."""
    folder = shop_folder() / "templates"
    return {p.stem: p for p in sorted(folder.glob("*.toml"))} if folder.is_dir() else {}


def readiness_path(vehicle: Vehicle) -> Path:
    """Where the shop's own readiness list for this kind of engine is kept."""
    kind = f"{vehicle.ignition}-{vehicle.induction}-{vehicle.injection}".replace(" ", "-")
    return shop_folder() / "readiness" / f"{kind}.toml"


def save_readiness(sheet: JobSheet) -> Path:
    """Keep a job's readiness list as the shop's, for engines of this kind. Raises FormatError."""
    v = sheet.vehicle
    bare = Vehicle(name="shop", ignition=v.ignition, induction=v.induction, injection=v.injection)
    return _write(JobSheet(title="shop", vehicle=bare, readiness=fresh(sheet.readiness)), readiness_path(v))


def own_kinds() -> dict[str, Kind]:
    """The kinds that the shop has added itself. Raises FormatError naming what is wrong with them."""
    path = shop_folder() / LIBRARY
    return read_kinds(path) if path.is_file() else {}


def save_kind(sheet: JobSheet, title: str) -> Path:
    """Add a job's limits and parts to the shop's own library under a title. Raises FormatError, JobError."""
    import tomli_w

    path, own = shop_folder() / LIBRARY, own_kinds()
    made = Kind(_file_name(title), title.strip(), sheet.limits, sheet.parts)
    document = {
        key: {
            "title": kind.title,
            "limit": [m.model_dump(mode="json", exclude_none=True) for m in kind.limits],
            "part": [p.model_dump(mode="json", exclude_none=True) for p in kind.parts],
        }
        for key, kind in {**own, made.key: made}.items()
    }
    make_folder(path.parent)
    write_whole(path, tomli_w.dumps(document).encode("utf-8"))
    return path
