"""Rows under heads: a plain table of words, and what models of such tables have in common."""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Sized

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QTableWidget

ROW_PX = 24


class Headed(QAbstractTableModel):
    """A model with a head over each column and a row for each of `rows`."""

    def __init__(self, heads: Sequence[str]) -> None:
        super().__init__()
        self.heads = heads

    def rows(self) -> Sized:
        """What there is a row for."""
        return ()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        """A row for each."""
        return len(self.rows())

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008
        """What is said of each."""
        return len(self.heads)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole):
        """What the columns are."""
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return self.heads[section]
        return None


def dress_rows(table: QTableView, name: str, widths: Mapping[int, int], stretched: int = 0) -> None:
    """Whole rows, no grid, columns of these widths; one takes what is left."""
    table.setAccessibleName(name)
    table.setShowGrid(False)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    vertical, horizontal = table.verticalHeader(), table.horizontalHeader()
    assert vertical is not None and horizontal is not None
    vertical.hide()
    vertical.setDefaultSectionSize(ROW_PX)
    horizontal.setMinimumSectionSize(ROW_PX)
    horizontal.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
    horizontal.setSectionResizeMode(stretched, QHeaderView.ResizeMode.Stretch)
    horizontal.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
    for column, width in widths.items():
        table.setColumnWidth(column, width)


def plain_rows(heads: Sequence[str], name: str, widths: Mapping[int, int]) -> QTableWidget:
    """An empty table of words under heads."""
    table = QTableWidget(0, len(heads))
    table.setHorizontalHeaderLabels(list(heads))
    dress_rows(table, name, widths)
    return table
