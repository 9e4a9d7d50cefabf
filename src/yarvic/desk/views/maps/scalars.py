"""Single values as rows: what each is, its number or word, the reference's, and its bounds."""

from __future__ import annotations

import math
from collections.abc import Callable

from PyQt6.QtCore import QModelIndex, Qt
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableView

from yarvic.core.calibration.table import Scalar, Text
from yarvic.desk.widgets.headed import Headed
from yarvic.state.maps import MapsState

HEADS = ("Limit or constant", "Value", "Unit", "Reference", "Bounds")
VALUE = 1


class ScalarModel(Headed):
    """All values, those of the texts below them. There may be thousands: a row is read when it is looked at."""

    def __init__(self, maps: MapsState, typed: Callable[[str, str], None]) -> None:
        super().__init__(HEADS)
        self.maps, self._typed = maps, typed
        self.keys: list[str] = []

    def refresh(self) -> None:
        """Take the values up anew; where they are the same ones, what is selected stays."""
        keys = self.maps.value_keys()
        if keys == self.keys:
            if keys:
                self.dataChanged.emit(self.index(0, 0), self.index(len(keys) - 1, len(HEADS) - 1))
            return
        self.beginResetModel()
        self.keys = keys
        self.endResetModel()

    def rows(self) -> list[str]:
        """The keys of the values, then of the texts."""
        return self.keys

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        """The words of a cell; what is typed over begins with what stands there."""
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole) and index.isValid():
            return self._cells(self.keys[index.row()])[index.column()]
        return None

    def setData(self, index: QModelIndex, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        """Hand over what was typed; what comes of it is shown by the next refresh."""
        self._typed(self.keys[index.row()], str(value))
        return True

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        """A value may be typed over, unless the layout says otherwise."""
        found = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        if index.isValid() and index.column() == VALUE:
            now, _ = self.maps.value(self.keys[index.row()])
            if isinstance(now, Scalar) and not now.read_only:
                found |= Qt.ItemFlag.ItemIsEditable
        return found

    def _cells(self, key: str) -> tuple[str, ...]:
        now, then = self.maps.value(key)
        if now is None:
            return ("",) * len(HEADS)
        if isinstance(now, Text):
            before = then.text if isinstance(then, Text) else ""
            return now.title, now.text, "", before, f"text, {now.length} bytes"
        return now.title, now.shown(), now.unit, then.shown() if isinstance(then, Scalar) else "", _bounds(now)


class ScalarTable(QTableView):
    """A row for each value; a number or a word is typed into its cell."""

    def __init__(self, maps: MapsState, typed: Callable[[str, str], None]) -> None:
        super().__init__()
        self.cells = ScalarModel(maps, typed)
        self.setModel(self.cells)
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

    def refresh(self) -> None:
        """Show the values as they are now."""
        self.cells.refresh()

    def show_key(self, key: str) -> None:
        """Bring the row of a value into sight and in hand."""
        if key in self.cells.keys:
            index = self.cells.index(self.cells.keys.index(key), VALUE)
            self.setCurrentIndex(index)
            self.scrollTo(index)


def _bounds(value: Scalar) -> str:
    words = value.storing.words
    if words is not None:
        return ", ".join(w.text for w in words.words[:6]) + (" and others" if len(words.words) > 6 else "")
    if not math.isfinite(value.low) and not math.isfinite(value.high):
        return "none stated"
    return f"{value.low:g} to {value.high:g}"
