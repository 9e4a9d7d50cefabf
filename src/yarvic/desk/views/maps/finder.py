"""Finding a table or value by part of what it is called: a line to type in, and what fits under it."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QPoint, Qt
from PyQt6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from yarvic.core.calibration.finding import Names
from yarvic.desk.widgets.words import label

WIDTH_PX, HEIGHT_PX = 520, 420


class Finder(QFrame):
    """A list over the figure; Enter or a click takes what is chosen, Esc leaves it."""

    def __init__(self, parent: QWidget, take: Callable[[str], None]) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self.setAccessibleName("Find a table or value")
        self._take = take
        self._names: Names | None = None
        self.search = QLineEdit()
        self.search.setPlaceholderText("Part of a name, unit, group, role or address")
        self.search.setAccessibleName("Part of a name")
        self.list = QListWidget()
        self.list.setAccessibleName("Tables and values that fit")
        self.count = label("", "caption")
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 10, 10, 8)
        column.setSpacing(6)
        for widget in (self.search, self.list, self.count):
            column.addWidget(widget)
        self.search.textChanged.connect(self._filter)
        self.search.returnPressed.connect(self._chosen)
        self.list.itemClicked.connect(lambda _: self._chosen())
        self.search.installEventFilter(self)
        self.hide()

    def open(self, names: Names, at: QPoint) -> None:
        """Show all, ready for typing."""
        self._names = names
        self.search.clear()
        self._filter("")
        parent = self.parentWidget()
        assert parent is not None
        height = min(HEIGHT_PX, max(parent.height() - at.y() - 10, 160))
        self.setGeometry(min(at.x(), max(parent.width() - WIDTH_PX - 10, 0)), at.y(), WIDTH_PX, height)
        self.show()
        self.raise_()
        self.search.setFocus()

    def _filter(self, text: str) -> None:
        if self._names is None:
            return
        found, count = self._names.search(text)
        self.list.clear()
        for each in found:
            item = QListWidgetItem(f"{each.title}     {each.beside}")
            item.setData(Qt.ItemDataRole.UserRole, each.key)
            self.list.addItem(item)
        self.list.setCurrentRow(0)
        shown = f"the first {len(found):,} of {count:,}" if count > len(found) else f"{count:,}"
        self.count.setText(f"{shown} fit" if count != 1 else "1 fits")

    def _chosen(self) -> None:
        item = self.list.currentItem()
        self.hide()
        if item is not None:
            self._take(str(item.data(Qt.ItemDataRole.UserRole)))

    def eventFilter(self, watched, event) -> bool:
        """Up and down move in the list while typing goes on; Esc closes."""
        if event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
            if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
        return super().eventFilter(watched, event)
