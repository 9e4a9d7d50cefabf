"""A line to type in over the figure, and under it what fits: arrows move, Enter or a click does, Esc closes."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QEvent, QRect, Qt
from PyQt6.QtWidgets import QFrame, QLineEdit, QListWidget, QVBoxLayout, QWidget

from yarvic.desk.widgets.words import label

NOTHING = "Nothing of that name. Try another word."
Fitting = Sequence[tuple[str, Callable[[], object]]]


class TypedList(QFrame):
    """`found` gives what fits a text, each with what it does, and a line of words on how many there are."""

    def __init__(self, parent: QWidget, name: str, hint: str, found: Callable[[str], tuple[Fitting, str]]) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self.setAccessibleName(name)
        self._found = found
        self._shown: Fitting = ()
        self.search = QLineEdit()
        self.search.setPlaceholderText(hint)
        self.search.setAccessibleName(f"Search: {name.lower()}")
        self.list = QListWidget()
        self.list.setAccessibleName(f"{name} that fit")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.count = label("", "caption")
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 10, 10, 8)
        column.setSpacing(6)
        for widget in (self.search, self.list, self.count):
            column.addWidget(widget)
        self.search.textChanged.connect(self._filter)
        self.search.returnPressed.connect(self._do)
        self.search.installEventFilter(self)
        self.list.itemClicked.connect(lambda _: self._do())
        self.hide()

    def show_at(self, place: QRect) -> None:
        """Show all that there is, ready for typing."""
        self.setGeometry(place)
        self.search.clear()
        self._filter("")
        self.show()
        self.raise_()
        self.search.setFocus()

    def _filter(self, text: str) -> None:
        self._shown, count = self._found(text)
        self.list.clear()
        self.list.addItems([title for title, _ in self._shown] or [NOTHING])
        self.list.setCurrentRow(0)
        self.count.setText(count)
        self.count.setVisible(bool(count))

    def _do(self) -> None:
        at = self.list.currentRow()
        self.hide()
        if 0 <= at < len(self._shown):
            self._shown[at][1]()

    def eventFilter(self, watched, event) -> bool:
        """Up and down move in the list while typing goes on."""
        if event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
            if event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
        return super().eventFilter(watched, event)
