"""The page that lists all tables and values: by what they govern, with marks, searched as it is typed."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QModelIndex, Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QLineEdit, QTableView, QVBoxLayout, QWidget

from yarvic.desk.theme import font, tokens
from yarvic.desk.widgets.headed import NAME_PX, Headed, dress_rows
from yarvic.desk.widgets.words import label, row, word
from yarvic.state.listing import MARK_TITLES, Narrowed, Row
from yarvic.state.maps import MapsState

HEADS = ("", "Table or value", "Kind", "Unit", "Role", "Against reference", "Changed in", "Marks")
STAR, TITLE, DIFFERS = 0, 1, 5
WIDTHS = {0: 28, 2: 106, 3: 64, 4: 104, 5: 160, 6: 76, 7: 112}


class ListModel(Headed):
    """The rows of the list. What differs, and by how much, is worked out for those that are in sight."""

    def __init__(self, maps: MapsState) -> None:
        super().__init__(HEADS)
        self.maps = maps
        self.listed: list[Row] = []
        self.changed_in: dict[str, str] = {}

    def refresh(self) -> None:
        """Take the rows up anew."""
        self.beginResetModel()
        self.listed = self.maps.listing.rows()
        names = {r.id: r.name for r in self.maps.session.revisions()}
        self.changed_in = {key: names.get(n, "") for key, n in self.maps.history.touched().items()}
        self.endResetModel()

    def rows(self) -> list[Row]:
        """Entries and the titles of their groups."""
        return self.listed

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        """The title of a group is not chosen."""
        there = self.listed[index.row()].key if index.isValid() else ""
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable if there else Qt.ItemFlag.NoItemFlags

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        """The words of a cell."""
        if not index.isValid():
            return None
        found = self.listed[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            return self._words(found, index.column())
        if role == Qt.ItemDataRole.FontRole and not found.key:
            return font(bold=True)
        if role == Qt.ItemDataRole.ForegroundRole and index.column() == DIFFERS:
            return tokens().color("working")
        if role == Qt.ItemDataRole.ToolTipRole and found.key:
            return found.key
        return None

    def _words(self, found: Row, column: int) -> str:
        if not found.key:
            return found.title if column == TITLE else ""
        if column == DIFFERS:
            return self._difference(found) if found.differs else ""
        marks = ("draft" if found.draft else "", "evidence" if found.evidence else "")
        return (
            "★" if found.favourite else "",
            found.title,
            found.what,
            found.unit,
            found.role,
            "",
            self.changed_in.get(found.key, ""),
            ", ".join(m for m in marks if m),
        )[column]

    def _difference(self, found: Row) -> str:
        difference = self.maps.listing.difference(found.key)
        return difference.sentence().removeprefix(f"{difference.title}: ") if difference is not None else ""


class ListPage(QWidget):
    """A line to search in, what to narrow to, and the rows. `taken` brings the key of one that is opened."""

    taken = pyqtSignal(str)

    def __init__(self, maps: MapsState) -> None:
        super().__init__()
        self.maps = maps
        self.model = ListModel(maps)
        maps.history.changed.connect(self._history_came)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Part of a name, unit, group, role or address")
        self.search.setAccessibleName("Search tables and values")
        self.search.textChanged.connect(self._searched)
        self.search.returnPressed.connect(self._first)
        self.marks = {key: word(text, partial(self.narrow, key), checkable=True) for key, text in MARK_TITLES.items()}
        self.count = label("", "quiet")
        self.table = QTableView()
        self.table.setModel(self.model)
        dress_rows(self.table, "Tables and values", WIDTHS, TITLE, NAME_PX)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.doubleClicked.connect(self._take)
        self.table.activated.connect(self._take)
        self.table.clicked.connect(self._clicked)
        column_ = QVBoxLayout(self)
        column_.setContentsMargins(0, 0, 0, 0)
        column_.setSpacing(6)
        column_.addLayout(row(self.search, self.count, spacing=8))
        column_.addLayout(row(*self.marks.values(), None, word("Favourite", self.favourite, "*")))
        column_.addWidget(self.table, 1)

    def refresh(self) -> None:
        """All rows anew; the one in hand stays in hand."""
        listing = self.maps.listing
        for key, button in self.marks.items():
            button.setChecked(key == listing.narrowed)
        self.model.refresh()
        count = sum(1 for r in self.model.listed if r.key)
        self.count.setText("1 fits" if count == 1 else f"{count:,} fit" if count else "none fits")
        at = next((n for n, r in enumerate(self.model.listed) if r.key == self.maps.key), None)
        if at is not None:
            self.table.setCurrentIndex(self.model.index(at, TITLE))
            self.table.scrollTo(self.model.index(at, TITLE))

    def _history_came(self) -> None:
        if self.isVisible():
            self.refresh()

    def narrow(self, to: Narrowed) -> None:
        """Show only what bears a mark."""
        self.maps.listing.narrowed = to
        self.refresh()

    def _searched(self, text: str) -> None:
        self.maps.listing.text = text
        self.refresh()

    def _first(self) -> None:
        key = next((r.key for r in self.model.listed if r.key), "")
        if key:
            self.taken.emit(key)

    def _key_at(self, index: QModelIndex) -> str:
        return self.model.listed[index.row()].key if index.isValid() else ""

    def _take(self, index: QModelIndex) -> None:
        if self._key_at(index) and index.column() != STAR:
            self.taken.emit(self._key_at(index))

    def _clicked(self, index: QModelIndex) -> None:
        if self._key_at(index) and index.column() == STAR:
            self.maps.listing.toggle_favourite(self._key_at(index))

    def favourite(self) -> None:
        """Mark the row in hand as a favourite, or take the mark off."""
        key = self._key_at(self.table.currentIndex())
        if key:
            self.maps.listing.toggle_favourite(key)

    def keyPressEvent(self, event) -> None:
        """A star marks the row in hand; down leads from the search into the rows."""
        if event.text() == "*":
            self.favourite()
        elif event.key() == Qt.Key.Key_Down and self.search.hasFocus():
            self.table.setFocus()
        else:
            super().keyPressEvent(event)
