"""A column of rows that scrolls, one for each thing that is kept; rows stay as long as their things do."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from typing import Generic, Protocol, TypeVar

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QScrollArea, QVBoxLayout, QWidget

from yarvic.desk.widgets.words import label


class Row(Protocol):
    """A widget that shows one thing; `key` tells which."""

    @property
    def key(self) -> Hashable:
        """Which thing it shows."""

    def refresh(self) -> None:
        """Show what is kept."""


R = TypeVar("R", bound=Row)


class Rows(QScrollArea, Generic[R]):
    """Rows made by `make` for the keys they are given; `nothing` stands there where there are none."""

    def __init__(self, make: Callable[[Hashable], R], nothing: str = "", spacing: int = 0) -> None:
        super().__init__()
        self._make = make
        self.rows: list[R] = []
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        inner.setObjectName("plain")
        self._column = QVBoxLayout(inner)
        self._column.setContentsMargins(0, 0, 8, 0)
        self._column.setSpacing(spacing)
        self._nothing = label(nothing, "quiet", wrap=True)
        self._column.addWidget(self._nothing)
        self._column.addStretch(1)
        self.setWidget(inner)

    def show_rows(self, keys: Sequence[Hashable]) -> None:
        """Rows for these keys, in this order, each showing what is kept."""
        if [r.key for r in self.rows] != list(keys):
            for gone in self.rows:
                assert isinstance(gone, QWidget)
                self._column.removeWidget(gone)
                gone.hide()
                gone.deleteLater()  # not at once: the focus may just be leaving it
            self.rows = [self._make(key) for key in keys]
            for at, made in enumerate(self.rows):
                assert isinstance(made, QWidget)
                self._column.insertWidget(at + 1, made)
        self._nothing.setVisible(not keys)
        for row in self.rows:
            row.refresh()

    def row(self, key: Hashable) -> R:
        """The row of a key. Raises StopIteration when there is none."""
        return next(r for r in self.rows if r.key == key)
