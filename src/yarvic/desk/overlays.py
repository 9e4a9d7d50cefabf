"""What lies over the window for a moment: the list of commands (Ctrl+K), the keys of the view (F1), an error."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QRect, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QFrame, QGridLayout, QVBoxLayout, QWidget

from yarvic.core.errors import YarvicError
from yarvic.desk.widgets.typed_list import Fitting, TypedList
from yarvic.desk.widgets.words import label, row, word


@dataclass(frozen=True)
class Command:
    """Something that can be done: its words, its keys, and the doing."""

    title: str
    keys: str
    action: Callable[[], object]


class CommandList(TypedList):
    """A searchable list of commands. Enter does the one that is marked, Esc closes."""

    def __init__(self, parent: QWidget, commands: Callable[[], list[Command]]) -> None:
        self._commands = commands
        super().__init__(parent, "Commands", "What do you want to do?", self._fitting)

    def open(self) -> None:
        """Show it over the figure."""
        parent = self.parentWidget()
        assert parent is not None
        width = min(560, parent.width() - 80)
        self.show_at(QRect((parent.width() - width) // 2, 96, width, min(420, parent.height() - 160)))

    def _fitting(self, text: str) -> tuple[Fitting, str]:
        words = text.lower().split()
        found = [c for c in self._commands() if all(w in c.title.lower() for w in words)]
        return [(c.title + (f"     {c.keys}" if c.keys else ""), c.action) for c in found], ""


class KeySheet(QFrame):
    """The keys of the view in hand; any key or click closes it."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("sheet")
        self.setAccessibleName("Keys of this view")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(24, 20, 24, 20)
        self._body: QWidget | None = None
        self.hide()

    def open(self, title: str, keys: list[tuple[str, str]]) -> None:
        """Show the keys with what they do."""
        if self._body is not None:
            self._body.deleteLater()
        self._body = QWidget()
        grid = QGridLayout(self._body)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(24)
        grid.addWidget(label(f"Keys: {title}", "title"), 0, 0, 1, 2)
        for line, (key, what) in enumerate(keys, 1):
            grid.addWidget(label(key), line, 0)
            grid.addWidget(label(what, "quiet"), line, 1)
        self._layout.addWidget(self._body)
        parent = self.parentWidget()
        assert parent is not None
        self.show()
        self.adjustSize()
        self.move((parent.width() - self.width()) // 2, 100)
        self.raise_()
        self.setFocus()

    def keyPressEvent(self, event) -> None:
        """Any key closes."""
        self.hide()

    def mousePressEvent(self, event) -> None:
        """So does a click."""
        self.hide()


class Notice(QFrame):
    """An error in full, above the figure: what happened, where, what to do; details fold out; it can be copied."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("notice")
        self.setAccessibleName("Error")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 8, 12, 8)
        layout.setSpacing(4)
        self.what = label("", "fault", wrap=True)
        self.remedy = label("", wrap=True)
        self.details = label("", "caption", wrap=True)
        self._fold = word("Details", self._toggle)
        self.offer = word("", self._use_offer)
        self._offered: Callable[[], object] | None = None
        buttons = row(self.offer, self._fold, word("Copy", self._copy), None, word("Close", self.hide, "Esc"))
        for part in (self.what, self.remedy, self.details):
            layout.addWidget(part)
        layout.addLayout(buttons)
        self.hide()

    def show_error(self, error: YarvicError, offer: str = "", action: Callable[[], object] | None = None) -> None:
        """Show an error until it is closed or another comes; `offer` names a way out that `action` takes."""
        self.offer.setText(offer)
        self.offer.setAccessibleName(offer)
        self.offer.setVisible(action is not None)
        self._offered = action
        text = f"{error.concerns}: {error.what}" if error.concerns else error.what[:1].upper() + error.what[1:]
        self.what.setText(text if text.endswith(".") else f"{text}.")
        self.remedy.setText(error.remedy)
        self.remedy.setVisible(bool(error.remedy))
        self.details.setText(error.details)
        self.details.hide()
        self._fold.setVisible(bool(error.details))
        self.show()

    def _use_offer(self) -> None:
        self.hide()
        if self._offered is not None:
            self._offered()

    def _toggle(self) -> None:
        self.details.setVisible(not self.details.isVisible())

    def _copy(self) -> None:
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText("\n".join(p for p in (self.what.text(), self.remedy.text(), self.details.text()) if p))
