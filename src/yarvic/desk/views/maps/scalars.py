"""Single values as rows: what each is, its number or word, the reference's, and its bounds."""

from __future__ import annotations

import math
from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from yarvic.core.calibration.table import Scalar
from yarvic.state.maps import MapsState


class ScalarTable(QTableWidget):
    """A row for each value; a number or a word is typed into its cell."""

    def __init__(self, maps: MapsState, typed: Callable[[str, str], None]) -> None:
        super().__init__(0, 5)
        self.maps, self._typed_in = maps, typed
        self.setHorizontalHeaderLabels(["Limit or constant", "Value", "Unit", "Reference", "Bounds"])
        self.setAccessibleName("Limits and constants")
        self.setShowGrid(False)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
            | QAbstractItemView.EditTrigger.AnyKeyPressed
        )
        vertical, horizontal = self.verticalHeader(), self.horizontalHeader()
        assert vertical is not None and horizontal is not None
        vertical.hide()
        horizontal.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        for column in (0, 4):
            horizontal.setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)
        for column, width in ((1, 120), (2, 80), (3, 120)):
            self.setColumnWidth(column, width)
        horizontal.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.itemChanged.connect(self._typed)

    def refresh(self) -> None:
        """Show all values, those of the texts below them."""
        self.blockSignals(True)
        rows = self.maps.scalars()
        texts = self.maps.texts()
        self.setRowCount(len(rows) + len(texts))
        for line, (now, then) in enumerate(rows):
            cells = (now.title, now.shown(), now.unit, then.shown() if then is not None else "", _bounds(now))
            self._row(line, now.key, cells, editable=not now.read_only)
        for line, text in enumerate(texts, len(rows)):
            self._row(line, text.key, (text.title, text.text, "", "", f"text, {text.length} bytes"), editable=False)
        self.blockSignals(False)

    def _row(self, line: int, key: str, cells: tuple[str, ...], *, editable: bool) -> None:
        for at, text in enumerate(cells):
            item = QTableWidgetItem(text)
            if at != 1 or not editable:
                item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEditable)
            item.setData(Qt.ItemDataRole.UserRole, key)
            self.setItem(line, at, item)

    def show_key(self, key: str) -> None:
        """Bring the row of a value into sight and in hand."""
        for line in range(self.rowCount()):
            item = self.item(line, 1)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == key:
                self.setCurrentItem(item)
                self.scrollToItem(item)

    def _typed(self, item: QTableWidgetItem) -> None:
        self._typed_in(str(item.data(Qt.ItemDataRole.UserRole)), item.text())


def _bounds(value: Scalar) -> str:
    words = value.storing.words
    if words is not None:
        return ", ".join(w.text for w in words.words[:6]) + (" and others" if len(words.words) > 6 else "")
    if not math.isfinite(value.low) and not math.isfinite(value.high):
        return "none stated"
    return f"{value.low:g} to {value.high:g}"
