"""Doing something once, after what is in hand: what follows an edit must not hold up its own repaint."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer


class Soon(QTimer):
    """Asked any number of times, it acts once, when the events before it are through. It ends with its owner."""

    def __init__(self, owner: QObject, act: Callable[[], object]) -> None:
        super().__init__(owner)
        self.setSingleShot(True)
        self.timeout.connect(act)

    def ask(self) -> None:
        """Act soon."""
        self.start(0)
