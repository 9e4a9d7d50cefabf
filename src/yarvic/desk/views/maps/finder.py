"""Finding a table or value by part of what it is called, among thousands."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QPoint, QRect
from PyQt6.QtWidgets import QWidget

from yarvic.core.calibration.finding import Names
from yarvic.desk.widgets.typed_list import Fitting, TypedList

WIDTH_PX, HEIGHT_PX, LEAST_PX = 520, 420, 160


class Finder(TypedList):
    """The list of all tables and values, opened for one act at a time."""

    def __init__(self, parent: QWidget) -> None:
        self._take: Callable[[str], None] = lambda key: None
        self._names: Names | None = None
        super().__init__(parent, "Tables and values", "Part of a name, unit, group, role or address", self._fitting)

    def open(self, names: Names, at: QPoint, take: Callable[[str], None]) -> None:
        """Show all under a place, ready for typing; `take` is given the key of the one that is chosen."""
        self._names, self._take = names, take
        parent = self.parentWidget()
        assert parent is not None
        left = min(at.x(), max(parent.width() - WIDTH_PX - 10, 0))
        self.show_at(QRect(left, at.y(), WIDTH_PX, min(HEIGHT_PX, max(parent.height() - at.y() - 10, LEAST_PX))))

    def _fitting(self, text: str) -> tuple[Fitting, str]:
        found, count = self._names.search(text) if self._names is not None else ([], 0)
        shown = f"the first {len(found):,} of {count:,}" if count > len(found) else f"{count:,}"
        said = "1 fits" if count == 1 else f"{shown} fit" if count else ""
        return [(f"{f.title}     {f.beside}", partial(self._take, f.key)) for f in found], said
