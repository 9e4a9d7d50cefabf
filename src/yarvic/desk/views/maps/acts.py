"""What is done to the cells, as words over them and as keys on them."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QKeySequence, QShortcut
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from yarvic.core.errors import YarvicError
from yarvic.desk.overlays import Command
from yarvic.desk.views.maps.grid import Grid
from yarvic.desk.widgets.words import chooser, show_choice, word
from yarvic.state.map_edits import Operation
from yarvic.state.maps import MapsState

Made = Callable[[], Operation]
STRENGTHS = (0.25, 0.5, 1.0)


class MapActs(QWidget):
    """The words. `asked`: arithmetic is to be typed, beginning so; `done`: an edit was made."""

    asked = pyqtSignal(str)
    axis_asked = pyqtSignal(str)
    table_asked = pyqtSignal(str)
    done = pyqtSignal()

    def __init__(self, maps: MapsState, grid: Grid) -> None:
        super().__init__()
        self.maps, self.grid = maps, grid
        self.bar = QHBoxLayout(self)
        self.bar.setContentsMargins(0, 0, 0, 0)
        self.bar.setSpacing(2)
        edits = maps.edits
        self._listed: list[Command] = []
        self.words: dict[str, QWidget] = {}
        for name, text, key, begin in (
            ("set", "Set", "S", "= "),
            ("add", "Add", "A", "+ "),
            ("scale", "Multiply", "M", "* "),
        ):
            self._word(name, text, key, partial(self.asked.emit, begin))
        self._menu("between", "Interpolate", [
            ("Interpolate both ways", "I", edits.between),
            ("Interpolate along the rows", "Shift+I", lambda: edits.between("rows")),
            ("Interpolate along the columns", "Ctrl+Shift+I", lambda: edits.between("columns")),
        ])  # fmt: skip
        smooth: list[tuple[str, str, Made]] = [
            (f"Smooth both ways, strength {s:g}", "H" if s == 0.5 else "", partial(edits.smooth, s))
            for s in STRENGTHS
        ]
        smooth += [
            ("Smooth along the rows, strength 0.5", "Shift+H", lambda: edits.smooth(0.5, "rows")),
            ("Smooth along the columns, strength 0.5", "Ctrl+Shift+H", lambda: edits.smooth(0.5, "columns")),
        ]
        self._menu("smooth", "Smooth", smooth)
        self._more()
        for keys, count in (("Alt+Up", 1), ("Alt+Down", -1), ("Alt+Shift+Up", 10), ("Alt+Shift+Down", -10)):
            self._key(keys, partial(self.do, partial(edits.steps, count)))

    def _more(self) -> None:
        edits = self.maps.edits
        choices: list[tuple[str, str, Callable[[], None]]] = [
            ("Set to the reference", "T", partial(self.do, edits.to_reference)),
            ("Fill along the rows", "F", partial(self.do, lambda: edits.fill("rows"))),
            ("Fill along the columns", "Shift+F", partial(self.do, lambda: edits.fill("columns"))),
            ("Copy from another table", "P", lambda: self.table_asked.emit("copy")),
            ("Scale by another table", "Shift+P", lambda: self.table_asked.emit("scale")),
            ("Break points across", "X", lambda: self.axis_asked.emit("x")),
            ("Break points down", "Y", lambda: self.axis_asked.emit("y")),
            ("Copy cells", "Ctrl+C", self.copy),
            ("Copy cells with axis values", "Ctrl+Shift+C", partial(self.copy, axes=True)),
            ("Paste cells", "Ctrl+V", self.paste),
        ]
        for text, key, act in choices:
            self._key(key, act)
            self._listed.append(Command(text, key, act))
        button = chooser("More", lambda: [(f"{text}     {key}", act) for text, key, act in choices])
        show_choice(button, "More")
        self.words["more"] = button
        self.bar.addWidget(button)

    def _word(self, name: str, text: str, key: str, act: Callable[[], None]) -> None:
        self.words[name] = word(text, act, key)
        self.bar.addWidget(self.words[name])
        self._key(key, act)
        self._listed.append(Command(f"{text}: the selected cells", key, act))

    def _menu(self, name: str, text: str, choices: list[tuple[str, str, Made]]) -> None:
        acts = [(said, key, partial(self.do, made)) for said, key, made in choices]
        for said, key, act in acts:
            self._listed.append(Command(said, key, act))
            if key:
                self._key(key, act)
        button = chooser(text, lambda: [(f"{said}     {key}".rstrip(), act) for said, key, act in acts])
        show_choice(button, text)
        button.setToolTip(f"{text}: choose how")
        self.words[name] = button
        self.bar.addWidget(button)

    def _key(self, keys: str, act: Callable[[], None]) -> None:
        shortcut = QShortcut(QKeySequence(keys), self.grid)
        shortcut.setContext(Qt.ShortcutContext.WidgetShortcut)
        shortcut.activated.connect(act)

    def commands(self) -> list[Command]:
        """All of them, for the list of commands."""
        return self._listed

    def enable(self, there: bool) -> None:
        """They act on a table only."""
        for each in self.words.values():
            each.setEnabled(there)

    def do(self, made: Made) -> None:
        """Do it to the cells in hand; why it was not done is said."""
        try:
            self.maps.edits.do(made())
        except YarvicError as error:
            self.maps.session.say(str(error), trouble=True)
            return
        self.done.emit()

    def copy(self, *, axes: bool = False) -> None:
        """Give the selected cells to the clipboard."""
        clipboard = QGuiApplication.clipboard()
        try:
            text = self.maps.edits.copied(axes=axes)
        except YarvicError as error:
            self.maps.session.say(str(error), trouble=True)
            return
        if clipboard is not None:
            clipboard.setText(text)
        self.maps.session.say("Copied, with axis values." if axes else "Copied.")

    def paste(self) -> None:
        """Take the cells that the clipboard holds."""
        clipboard = QGuiApplication.clipboard()
        text = clipboard.text() if clipboard is not None else ""
        self.do(partial(self.maps.edits.paste, text))
