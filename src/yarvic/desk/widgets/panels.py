"""The panels of a view, one in sight; each is made when it is first asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from PyQt6.QtWidgets import QStackedWidget, QWidget

from yarvic.desk.widgets.words import sideways


class Panels(QStackedWidget):
    """Panels by name. Each has `refresh`; where the window is too narrow for one, it scrolls."""

    def __init__(self, makers: Mapping[str, Callable[[], Any]], first: str) -> None:
        super().__init__()
        self._makers = makers
        self._made: dict[str, Any] = {}
        self._areas: dict[str, QWidget] = {}
        self.chosen = first

    def panel(self, name: str) -> Any:
        """The panel of this name."""
        if name not in self._made:
            self._made[name] = self._makers[name]()
            self._areas[name] = sideways(self._made[name])
            self.addWidget(self._areas[name])
        return self._made[name]

    def show_panel(self, name: str) -> None:
        """Bring a panel into sight, up to date."""
        panel = self.panel(name)
        self.chosen = name
        self.setCurrentWidget(self._areas[name])
        panel.refresh()
