"""The table in hand as a model of cells: values, differences and evidence, as they are shown."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt

from yarvic.core.calibration.table import Table
from yarvic.core.physics import FloatArray
from yarvic.state.maps import MapsState

# Tints nearer than this look alike; a word in a cell is shown so long.
LEAST_TINT, MOST_WORD = 1.0 / 512, 16


class TableModel(QAbstractTableModel):
    """The table in hand, in the display unit; `other`: as it is on the side that it is compared with, plain."""

    def __init__(self, maps: MapsState, *, other: bool = False) -> None:
        super().__init__()
        self.maps, self.other = maps, other
        self.reload()

    def _table(self) -> Table | None:
        return self.maps.reference() if self.other else self.maps.table()

    def reload(self) -> None:
        """Take the table up anew."""
        self.beginResetModel()
        self.table = self._table()
        self._values()
        self.endResetModel()

    def revalue(self) -> None:
        """The numbers moved; shape and selection stay. Only what looks otherwise is painted again."""
        before = self.shown, self.share, self.difference, self.evidence, self.instead
        before_shape = self.shown.shape
        self.table = self._table()
        self._values()
        if self.table is None or self.shown.shape != before_shape:
            self.reload()
            return
        moved = np.ones(self.shown.shape, dtype=bool)
        same_facts = self.evidence is before[3] and self.instead is None and before[4] is None and not self.overlaid
        if same_facts and all(
            (x is None) == (y is None) and (x is None or y is None or x.shape == y.shape)
            for x, y in ((self.shown, before[0]), (self.difference, before[2]))
        ):
            moved = ~np.isclose(self.shown, before[0], rtol=0.0, atol=1e-12, equal_nan=True)
            moved |= np.abs(self.share - before[1]) > LEAST_TINT
            if self.difference is not None and before[2] is not None:
                moved |= ~np.isclose(self.difference, before[2], rtol=0.0, atol=1e-12, equal_nan=True)
        if moved.any():
            rows, columns = np.flatnonzero(moved.any(axis=1)), np.flatnonzero(moved.any(axis=0))
            first, last = (self.index(int(rows[n]), int(columns[n])) for n in (0, -1))
            self.dataChanged.emit(first, last)

    def _values(self) -> None:
        table = self.table
        self.shown = self.maps.shown(table) if table is not None else np.zeros((0, 0))
        self.difference = self.maps.difference() if not self.other else None
        self.evidence = self.maps.evidence() if not self.other else None
        self.decimals = self.maps.decimals(table) if table is not None else 0
        self.named = table.storing.words if table is not None else None
        found = self.maps.cells.shown() if table is not None and not self.other else None
        if found is not None and found[0].shape != self.shown.shape:
            found = None
        # What stands in the cells in place of the values: of the evidence.
        self.instead: FloatArray | None = found[0] if found is not None else None
        self.instead_decimals = found[2] if found is not None else 0
        tinted = self.shown if self.instead is None else self.instead
        there = tinted[np.isfinite(tinted)]
        low, high = (there.min(), there.max()) if there.size else (0.0, 1.0)
        share = (tinted - low) / (high - low) if high > low else np.full(tinted.shape, 0.4)
        self.share = np.nan_to_num(share, nan=0.0, posinf=1.0, neginf=0.0)

    @property
    def overlaid(self) -> bool:
        """Whether something is drawn over the cells that does not stop at their edges."""
        return not self.other and (self.maps.cells.trace_shown or self.maps.cells.cursor is not None)

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        """Rows of the table."""
        return 0 if self.table is None else self.table.values.shape[0]

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        """Columns of the table."""
        return 0 if self.table is None else self.table.values.shape[1]

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        """The value as text; in words for those who listen."""
        if self.table is None or not index.isValid():
            return None
        r, c = index.row(), index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return self.number(r, c)
        if role in (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
            return self.words(r, c)
        return None

    def number(self, r: int, c: int) -> str:
        """A cell's value as text: the word that it stands for where it stands for one."""
        if self.instead is not None:
            value = self.instead[r, c]
            return f"{value:.{self.instead_decimals}f}" if np.isfinite(value) else ""
        value = self.shown[r, c]
        if self.named is not None:
            return self.named.word(float(value)) or f"{value:g}"
        return f"{value:.{self.decimals}f}" if np.isfinite(value) else "none"

    def difference_text(self, r: int, c: int) -> str:
        """The difference to the reference as text, with its sign."""
        assert self.difference is not None
        if self.maps.compared.shown_as == "percent":
            share = self.maps.percent()
            if share is not None and np.isfinite(share[r, c]):
                return f"{share[r, c]:+.1f} %"
        return f"{self.difference[r, c]:+.{self.decimals}f}"

    def words(self, r: int, c: int) -> str:
        """A cell in words: value, place, difference, evidence."""
        assert self.table is not None
        unit = self.maps.display_unit(self.table.unit)
        value = self.shown[r, c]
        shown = f"{value:.{self.decimals}f}" if np.isfinite(value) else "none"
        if self.named is not None:
            shown = self.named.word(float(value)) or f"{value:g}"
        text = f"{shown} {unit}".rstrip() + f" at {self.table.place(r, c)}"
        if self.difference is not None and abs(self.difference[r, c]) > 1e-9:
            text += f"; {self.difference_text(r, c)} against the reference"
        said = self.maps.cells.words(r, c)
        return f"{text}; {said}" if said else text

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole):
        """Axis values."""
        if self.table is None or role != Qt.ItemDataRole.DisplayRole:
            return None
        axis = self.table.x if orientation == Qt.Orientation.Horizontal else self.table.y
        return "" if axis is self.table.y and self.table.is_curve else f"{axis.values[section]:g}"
