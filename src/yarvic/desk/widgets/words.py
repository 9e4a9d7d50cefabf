"""What acts on a figure, as words at its top edge."""

from __future__ import annotations

import html
from collections.abc import Callable

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QMenu, QPushButton, QScrollArea, QVBoxLayout, QWidget


def word(text: str, action: Callable[[], None], keys: str = "", *, checkable: bool = False) -> QPushButton:
    """A word that does something; its key stands in the tooltip and its name."""
    button = QPushButton(text)
    button.setObjectName("word")
    button.setCheckable(checkable)
    button.setCursor(Qt.CursorShape.PointingHandCursor)
    button.setToolTip(f"{text} ({keys})" if keys else text)
    button.setAccessibleName(text)
    button.clicked.connect(lambda: action())
    return button


def chooser(name: str, choices: Callable[[], list[tuple[str, Callable[[], None]]]]) -> QPushButton:
    """A word that shows what is chosen and opens the other choices; `choices` gives text and doing."""
    button = QPushButton()
    button.setObjectName("word")
    button.setAccessibleName(name)
    button.setToolTip(f"Choose: {name.lower()}")
    button.setCursor(Qt.CursorShape.PointingHandCursor)

    def open_menu() -> None:
        menu = QMenu(button)
        for text, action in choices():
            added = menu.addAction(_letters(text))
            if added is not None:
                added.triggered.connect(lambda _=False, do=action: do())
        menu.popup(button.mapToGlobal(button.rect().bottomLeft()))

    button.clicked.connect(lambda: open_menu())
    return button


def _letters(text: str) -> str:
    """Text in which an ampersand is a letter and marks no key: names come from files."""
    return text.replace("&", "&&")


def tip(widget: QWidget, text: str) -> None:
    """Say more where the mouse rests. What a file holds stands there as it is written: nothing in it is markup."""
    widget.setToolTip(f"<p>{html.escape(text)}</p>" if "<" in text else text)


def show_choice(button: QPushButton, text: str) -> None:
    """Show what is chosen."""
    button.setText(f"{_letters(text)}  ▾" if text else "")


def act(text: str, action: Callable[[], None]) -> QPushButton:
    """The one main action of a place."""
    button = QPushButton(text)
    button.setObjectName("act")
    button.setAccessibleName(text)
    button.clicked.connect(lambda: action())
    return button


def label(text: str = "", name: str = "", *, wrap: bool = False) -> QLabel:
    """A label in one of the styles: title, big, caption, quiet, fault."""
    made = QLabel(text)
    made.setObjectName(name)
    made.setWordWrap(wrap)
    made.setTextFormat(Qt.TextFormat.PlainText)
    return made


class Elided(QLabel):
    """A one-line label that gives way: what does not fit ends in dots, and the tooltip has it whole."""

    def __init__(self, name: str = "quiet") -> None:
        super().__init__()
        self.setObjectName(name)
        self.setTextFormat(Qt.TextFormat.PlainText)

    def minimumSizeHint(self) -> QSize:
        """Narrow."""
        return QSize(20, super().minimumSizeHint().height())

    def paintEvent(self, event) -> None:
        """The text as far as it goes."""
        painter = QPainter(self)
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        tip(self, self.text() if text != self.text() else "")
        painter.drawText(self.rect(), int(self.alignment()), text)


class Empty(QFrame):
    """What stands where nothing is yet: what comes here, and the one action that brings it."""

    def __init__(self, action: str, do: Callable[[], None]) -> None:
        super().__init__()
        self.setObjectName("sheet")
        column = QVBoxLayout(self)
        column.setContentsMargins(40, 36, 40, 36)
        column.setSpacing(10)
        self.title = label("", "big", wrap=True)
        self.text = label("", "quiet", wrap=True)
        self._usual = action, do
        self._do = do
        self.action = act(action, lambda: self._do())
        column.addWidget(self.title)
        column.addWidget(self.text)
        column.addLayout(row(self.action, None))
        column.addStretch(1)

    def say(
        self, title: str, text: str, *, may_act: bool = True, action: tuple[str, Callable[[], None]] | None = None
    ) -> None:
        """Show it with these words; `action` is another one than the usual."""
        name, self._do = action or self._usual
        self.action.setText(name)
        self.action.setAccessibleName(name)
        self.title.setText(title)
        self.text.setText(text)
        self.action.setVisible(may_act)
        self.show()


def rule() -> QFrame:
    """A one-pixel line."""
    line = QFrame()
    line.setObjectName("rule")
    line.setFixedHeight(1)
    return line


def row(*widgets: QWidget | None, spacing: int = 4) -> QHBoxLayout:
    """Widgets side by side; None stretches."""
    layout = QHBoxLayout()
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(spacing)
    for widget in widgets:
        if widget is None:
            layout.addStretch(1)
        else:
            layout.addWidget(widget)
    return layout


def scrolled_sheet(page: QWidget) -> QVBoxLayout:
    """The column of a sheet that fills a page, and scrolls where the window is too small for it."""
    inner = QFrame()
    inner.setObjectName("sheet")
    outer = QVBoxLayout(page)
    outer.setContentsMargins(0, 0, 0, 0)
    outer.addWidget(sideways(inner))
    column = QVBoxLayout(inner)
    column.setContentsMargins(12, 10, 12, 10)
    return column


def sideways(widget: QWidget) -> QScrollArea:
    """The widget in an area that gives way: where the window is too narrow or low for it, it scrolls."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    widget.setObjectName("plain")
    area.setWidget(widget)
    return area
