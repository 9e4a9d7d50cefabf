"""What of the maps goes to files, and comes from them: words and the choice of a file."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from yarvic.core.errors import YarvicError
from yarvic.desk.overlays import Command
from yarvic.state.maps import MapsState
from yarvic.state.shown_table import SCALARS

TABLES = "Workbook (*.xlsx);;CSV (*.csv);;JSON (*.json)"
ANY = "Tables (*.csv *.json *.xlsx)"


class MapFiles:
    """Asks for a file, and hands it over."""

    def __init__(self, parent: QWidget, maps: MapsState) -> None:
        self.parent, self.maps = parent, maps

    def choices(self) -> list[tuple[str, Callable[[], None]]]:
        """All that can be done."""
        files = self.maps.files
        return [
            ("Export this table", self.export_table),
            ("Export all tables and values", partial(self._ask, "all", TABLES, self._all)),
            ("Export a printable book (HTML)", partial(self._ask, "book", "HTML (*.html)", files.book)),
            ("Export what differs (XLSX)", partial(self._ask, "differences", "Workbook (*.xlsx)", files.differences)),
            ("Import tables from CSV, JSON or XLSX", self.import_tables),
        ]  # fmt: skip

    def commands(self) -> list[Command]:
        """The same, for the list of commands."""
        return [Command(text, "", act) for text, act in self.choices()]

    def export_table(self) -> None:
        """Export the table, or the single values."""
        maps = self.maps
        keys = maps.value_keys() if maps.key == SCALARS else [maps.key]
        self._ask(maps.key, TABLES, lambda path: maps.files.tables(path, keys))

    def _all(self, path: Path) -> None:
        self.maps.files.tables(path, None)

    def _ask(self, name: str, kinds: str, do: Callable[[Path], None]) -> None:
        suffix = kinds.partition("*")[2].partition(")")[0]
        proposed = f"{self.maps.session.working_name()}-{name}{suffix}"
        chosen, kind = QFileDialog.getSaveFileName(self.parent, "Export", proposed, kinds)
        if not chosen:
            return
        path = Path(chosen)
        if not path.suffix:
            path = path.with_suffix(kind.partition("*")[2].partition(")")[0] or suffix)
        self._do(do, path)

    def import_tables(self) -> None:
        """Let a person choose a file of tables."""
        chosen, _ = QFileDialog.getOpenFileName(self.parent, "Import tables", "", ANY)
        if chosen:
            self._do(self.maps.files.import_tables, Path(chosen))

    def _do(self, do: Callable[[Path], None], path: Path) -> None:
        try:
            do(path)
        except YarvicError as error:
            self.maps.session.failed.emit(error)
