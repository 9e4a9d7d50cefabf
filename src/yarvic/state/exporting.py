"""Maps out to files and tables back into the draft, beside the window."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from types import MappingProxyType

from yarvic.core.calibration.compare import compare_images
from yarvic.core.calibration.image import Image
from yarvic.core.errors import FormatError, JobError
from yarvic.core.formats.files import write_whole
from yarvic.core.formats.map_book import Reason, map_book
from yarvic.core.formats.tables import (
    Cells,
    edits_from,
    read_tables_csv,
    read_tables_json,
    tables_to_csv,
    tables_to_json,
)
from yarvic.core.formats.tables_xlsx import differences_to_xlsx, read_tables_xlsx, tables_to_xlsx
from yarvic.core.job.lineage import line_of
from yarvic.state.compared import Compared
from yarvic.state.shown_table import ShownTable
from yarvic.state.work import Asked, Progress

READ: Mapping[str, Callable[[Path], list[Cells]]] = MappingProxyType(
    {".csv": read_tables_csv, ".json": read_tables_json, ".xlsx": read_tables_xlsx}
)

EXPORTING = "exporting the maps"


class Exporting:
    """Of the maps that are selected when it is asked for."""

    def __init__(self, maps: ShownTable, compared: Compared) -> None:
        self.maps, self.compared = maps, compared

    def tables(self, path: Path, keys: list[str] | None) -> None:
        """Write tables and values of the slot, or all of all slots, by the file's ending. Raises FormatError, JobError."""
        session = self.maps.session
        image, name = self._image(), session.working_name()
        slots = [session.slot] if keys is not None else list(image.layout.sets)
        suffix = path.suffix.casefold()

        def made() -> bytes:
            if suffix == ".xlsx":
                return tables_to_xlsx(image, name, slots, keys)
            write = {
                ".csv": lambda: tables_to_csv(image, slots, keys),
                ".json": lambda: tables_to_json(image, name, slots, keys),
            }
            return write[suffix]().encode("utf-8")

        if suffix not in READ:
            raise FormatError("has no known ending", concerns=path.name, remedy="End it in .csv, .json or .xlsx.")
        self._write(path, made)

    def book(self, path: Path) -> None:
        """Write the revision as a printable book, against what it is compared with. Raises JobError."""
        session = self.maps.session
        image, name, job = self._image(), session.working_name(), session.job
        assert job is not None
        revision = session.evidence_revision()
        line = line_of(session.revisions(), revision.id) if revision is not None else []
        reasons = [Reason(r.name, r.time[:10], r.author, r.reason) for r in reversed(line)]
        other, other_name = self.compared.image(), self.compared.name()
        title = job.sheet.title
        self._write(path, lambda: map_book(image, name, title, reasons, other, other_name).encode("utf-8"))

    def differences(self, path: Path) -> None:
        """Write what differs from what the maps are compared with as a workbook. Raises JobError."""
        session = self.maps.session
        image, other = self._image(), self.compared.image()
        if other is None:
            raise JobError("there is no reference", remedy="Shift-click a rung on the ladder.")
        title = f"{session.working_name()} against {self.compared.name()}"
        slot = session.slot

        def made() -> bytes:
            found = compare_images(other, image)
            return differences_to_xlsx(title, [(slot, d) for d in found[slot]])

        self._write(path, made)

    def _image(self) -> Image:
        session = self.maps.session
        image = session.image(session.working)
        if image is None:
            raise JobError("there are no maps", remedy="Import the stock image first.")
        return image

    def _write(self, path: Path, made: Callable[[], bytes]) -> None:
        session = self.maps.session

        def work(progress: Progress, cancelled: Asked) -> int:
            progress(0.1, path.name)
            data = made()
            if not cancelled():
                write_whole(path, data)
            return len(data)

        def apply(size: int) -> None:
            session.say(f"{path.name} is written, {size:,} bytes.")

        session.requests.submit(session.request(EXPORTING), f"Exporting {path.name}", work, apply)

    def import_tables(self, path: Path) -> None:
        """Take tables out of a file into the draft, as one step, once it is read. What is wrong with it is shown."""
        session = self.maps.session
        read = READ.get(path.suffix.casefold())
        if read is None:
            raise FormatError("has no known ending", concerns=path.name, remedy="Choose a .csv, .json or .xlsx.")

        def enter(found: list[Cells]) -> None:
            draft = session.editable_draft()
            step = edits_from(draft.image, found, f"imported from {path.name}")
            if step:
                draft.add(step)
                session.edited(draft)
            count = len({(e.slot, e.key) for e in step})
            session.say(
                f"{count} tables and values imported from {path.name}." if step else "It holds the same values."
            )

        session.read_file(session.image_request(), path, lambda: read(path), enter)
