"""The strip in which break points of an axis are moved, put in and taken out."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFrame, QLineEdit, QVBoxLayout

from yarvic.core.calibration.axes import Along, axis_of
from yarvic.core.errors import YarvicError
from yarvic.core.typed_numbers import parse_number
from yarvic.desk.widgets.fault import FaultLine
from yarvic.desk.widgets.words import Elided, chooser, label, row, show_choice, word
from yarvic.state.axis_edits import AxisChange
from yarvic.state.maps import MapsState


class AxisStrip(QFrame):
    """One axis of the table in hand. What an act would come to stands under it before it is done."""

    left = pyqtSignal()

    def __init__(self, maps: MapsState) -> None:
        super().__init__()
        self.maps = maps
        self.along: Along = "x"
        self.place = 0
        self.setObjectName("card")
        self._named = Elided("")
        self._point = chooser("Break point", self._points)
        self.to = QLineEdit()
        self.to.setFixedWidth(100)
        self.to.setPlaceholderText("new place")
        self.to.setAccessibleName("New place of the break point")
        self.to.textChanged.connect(lambda _: self._preview())
        self.to.returnPressed.connect(self.move_point)
        self._unit = label("", "quiet")
        self.said, self.also = Elided(), Elided()
        self.shared = Elided("caption")
        self.fault = FaultLine()
        self._acts = [
            word("Move", self.move_point, "Enter"),
            word("Insert", self.insert),
            word("Delete", self.delete),
        ]
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 5, 12, 5)
        column.setSpacing(3)
        ends = word("Close", self.left.emit, "Esc")
        first = row(self._named, self._point, self.to, self._unit, *self._acts, ends, spacing=8)
        first.setStretch(0, 1)
        column.addLayout(first)
        column.addWidget(self.said)
        column.addWidget(self.also)
        column.addWidget(self.fault)
        column.addWidget(self.shared)
        self.hide()

    def open(self, along: Along, place: int) -> None:
        """Show an axis of the table in hand, with a break point of it chosen."""
        table = self.maps.table()
        if table is None or (along == "y" and table.is_curve):
            self.maps.session.say(
                "There is no such axis: this is a curve." if table else "Choose a table.", trouble=True
            )
            return
        self.along, self.place = along, min(place, axis_of(table, along).values.size - 1)
        self.to.clear()
        self.fault.say(None)
        self.refresh()
        self.show()
        self.to.setFocus()

    def refresh(self) -> None:
        """The axis as it is now."""
        table = self.maps.table()
        if table is None:
            self.hide()
            return
        axis = axis_of(table, self.along)
        self.place = min(self.place, axis.values.size - 1)
        self._named.setText(f"{'Across' if self.along == 'x' else 'Down'}: {axis.title.lower() or 'axis'}")
        show_choice(self._point, f"{axis.values[self.place]:g}")
        self._unit.setText(axis.unit)
        why_not = self.maps.axes.why_not(self.along)
        for each in self._acts:
            each.setEnabled(not why_not)
        self.to.setEnabled(not why_not)
        others = self.maps.axes.shared_with(self.along)
        self.shared.setText(
            f"Shared axis: {len(others)} other tables move with it: {', '.join(others)}" if others else ""
        )
        self.shared.setVisible(bool(others))
        if why_not:
            self.said.setText(why_not[0].upper() + why_not[1:])
        else:
            self._preview()

    def _points(self) -> list[tuple[str, Callable[[], None]]]:
        table = self.maps.table()
        if table is None:
            return []
        return [(f"{v:g}", partial(self._choose, n)) for n, v in enumerate(axis_of(table, self.along).values)]

    def _choose(self, place: int) -> None:
        self.place = place
        self.refresh()

    def _preview(self) -> None:
        self.fault.say(None)
        text = self.to.text().strip()
        if not text:
            self.also.setText("")
            self.said.setText("Move takes the break point to a new place, Insert adds one there, Delete needs none.")
            return
        said = []
        for words, made in (("Move", self._moved), ("Insert", self._inserted)):
            try:
                said.append(f"{words}: {made().sentence()}")
            except YarvicError as error:
                said.append(f"{words}: {error.what}")
        self.said.setText(said[0])
        self.also.setText(said[1])

    def _moved(self) -> AxisChange:
        return self.maps.axes.move(self.along, self.place, parse_number(self.to.text()))

    def _inserted(self) -> AxisChange:
        return self.maps.axes.insert(self.along, parse_number(self.to.text()))

    def move_point(self) -> None:
        """Move the chosen break point."""
        self._do(self._moved)

    def insert(self) -> None:
        """Put a break point in."""
        self._do(self._inserted)

    def delete(self) -> None:
        """Take the chosen break point out."""
        self._do(lambda: self.maps.axes.delete(self.along, self.place))

    def _do(self, made: Callable[[], AxisChange]) -> None:
        if self.fault.attempt(lambda: self.maps.axes.do(made())):
            self.to.clear()
            self.refresh()
