"""Rows under heads: a plain table of words, and what models of such tables have in common."""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Sized

from PyQt6.QtCore import QAbstractTableModel, QEvent, QModelIndex, QObject, Qt
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QTableWidget

ROW_PX = 24
NAME_PX = 180  # what the name of a table needs at least


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


class _Fitted(QObject):
    """Gives one column what the others leave, yet never less than its words need: rather the others are scrolled."""

    def __init__(self, table: QTableView, widths: Mapping[int, int], stretched: int, least: int) -> None:
        super().__init__(table)
        self._table, self._widths, self._stretched, self._least = table, dict(widths), stretched, least
        viewport = table.viewport()
        assert viewport is not None
        viewport.installEventFilter(self)
        for column, width in widths.items():
            table.setColumnWidth(column, width)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Fit anew when there is another width."""
        if event is not None and event.type() == QEvent.Type.Resize:
            self._fit()
        return False

    def _fit(self) -> None:
        viewport = self._table.viewport()
        assert viewport is not None
        left = viewport.width() - sum(self._widths.values())
        self._table.setColumnWidth(self._stretched, max(left, self._least))


def dress_rows(table: QTableView, name: str, widths: Mapping[int, int], stretched: int = 0, least: int = 0) -> None:
    """Whole rows, no grid, columns of these widths; one takes what is left, and so much at least."""
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
    horizontal.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
    _Fitted(table, widths, stretched, least)


def plain_rows(heads: Sequence[str], name: str, widths: Mapping[int, int], least: int = 0) -> QTableWidget:
    """An empty table of words under heads."""
    table = QTableWidget(0, len(heads))
    table.setHorizontalHeaderLabels(list(heads))
    dress_rows(table, name, widths, least=least)
    return table
