"""What a readiness item asks, and the number it is judged by, to be changed."""

from __future__ import annotations

from pydantic import ValidationError
from PyQt6.QtWidgets import QFrame, QVBoxLayout

from yarvic.core.document import first_fault
from yarvic.core.errors import JobError, YarvicError
from yarvic.core.plan.readiness import Measure
from yarvic.core.typed_numbers import parse_number
from yarvic.core.units import parse_unit
from yarvic.desk.widgets.entry import Line, choice
from yarvic.desk.widgets.words import act, label, row, show_choice, word
from yarvic.state.session import Session

SIDES = {"above": "trouble above", "below": "trouble below"}


class ItemForm(QFrame):
    """Title and question; without a unit the item is judged by hand."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("card")
        self.key = ""
        self.side = "above"
        self.title = Line("Title of the item", lambda text: None, 170, "title")
        self.ask = Line("What is looked at", lambda text: None, hint="what is looked at")
        self.number = Line("Name of the number", lambda text: None, 150, "its number, if it has one")
        self.unit = Line("Unit of the number", lambda text: None, 62, "unit")
        self.pick = choice("Side", lambda: list(SIDES.items()), self._enter_side)
        self.watch = Line("Watch from", lambda text: None, 56)
        self.stop = Line("Stop from", lambda text: None, 56)
        self.source = Line("Source of the limits", lambda text: None, hint="where the limits are from")
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 6, 10, 6)
        column.setSpacing(3)
        column.addLayout(row(self.title, self.ask, act("Save", self.save), word("Cancel", self.hide)))
        names = (label("watch from", "caption"), self.watch, label("stop from", "caption"), self.stop)
        column.addLayout(row(self.number, self.unit, self.pick, *names, self.source))
        column.addWidget(self.fault)
        for field in (self.title, self.ask, self.number, self.unit, self.watch, self.stop, self.source):
            field.returnPressed.connect(self.save)
        self.hide()

    def open(self, key: str) -> None:
        """Begin with what is kept of an item."""
        assert self.session.sheet is not None
        item = self.session.sheet.item(key)
        m = item.measure
        self.key = key
        self.title.setText(item.title)
        self.ask.setText(item.ask)
        self.number.setText(m.title if m else "")
        self.unit.setText(m.unit if m else "")
        self.watch.setText(f"{m.watch:g}" if m else "")
        self.stop.setText(f"{m.stop:g}" if m else "")
        self.source.setText(m.source if m else "")
        self._enter_side(m.side if m else "above")
        self.fault.hide()
        self.show()
        self.title.setFocus()

    def _enter_side(self, side: str) -> None:
        self.side = side
        show_choice(self.pick, SIDES[side])

    def _measure(self) -> Measure | None:
        if not self.unit.text().strip():
            return None
        values = {
            "title": self.number.text().strip(),
            "unit": parse_unit(self.unit.text()).label,
            "side": self.side,
            "watch": parse_number(self.watch.text()),
            "stop": parse_number(self.stop.text()),
            "source": self.source.text().strip(),
        }
        try:
            return Measure.model_validate(values)
        except ValidationError as error:
            raise JobError(first_fault(error), remedy="Nothing was changed.") from None

    def save(self) -> None:
        """Keep what was written."""
        sheet = self.session.sheet
        if sheet is None:
            return
        try:
            sheet.change_item(self.key, title=self.title.text(), ask=self.ask.text(), measure=self._measure())
        except YarvicError as error:
            self.fault.setText(str(error))
            self.fault.show()
            return
        self.hide()
