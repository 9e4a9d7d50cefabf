"""Readiness: a line per item with its number, what was decided, why, and who saw it when."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from yarvic.core.checks.finding import NO_DATA
from yarvic.core.errors import YarvicError
from yarvic.core.job.template import read_sheet
from yarvic.core.plan.readiness import Item, State, default_items, fresh
from yarvic.core.plan.stations import stations, usual_title
from yarvic.core.typed_numbers import parse_number
from yarvic.desk.views.job.item_form import ItemForm
from yarvic.desk.widgets.entry import Line
from yarvic.desk.widgets.glyphs import Glyph
from yarvic.desk.widgets.rows import Rows
from yarvic.desk.widgets.words import Elided, chooser, label, row, show_choice, tip, word
from yarvic.state.readiness import read_fault_codes
from yarvic.state.session import Session
from yarvic.state.shop import readiness_path, save_readiness

STATES: tuple[tuple[State, str], ...] = (("pass", "Pass"), ("watch", "Watch"), ("stop", "Stop"))

UNIT_PX = 112


class ItemRow(QFrame):
    """One item. A number that is written decides by itself; a person may decide otherwise, with a reason."""

    def __init__(self, session: Session, key: str, narrow: bool = False) -> None:
        super().__init__()
        self.session, self.key = session, key
        self.setObjectName("line")
        self.glyph = Glyph(NO_DATA)
        self.title = label("", "", wrap=True)
        self.ask = label("", "caption", wrap=True)
        self.value = Line("Value", self._enter_value, 62)
        self.unit = label("", "caption")
        self.states: dict[State, QPushButton] = {
            state: word(text, partial(self._decide, state), checkable=True) for state, text in STATES
        }
        self.reason = Line("Reason", self._enter_reason, hint="reason, for watch and stop")
        self.seen = Elided("caption")
        self.codes = word("Read from the unit", self._read_codes)
        self.codes.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(2, 3, 2, 3)
        column.setSpacing(2)
        names, why = QVBoxLayout(), QVBoxLayout()
        for part in (names, why):
            part.setSpacing(0)
        names.addWidget(self.title)
        names.addWidget(self.ask)
        names.addWidget(self.codes, 0, Qt.AlignmentFlag.AlignLeft)
        why.addWidget(self.reason)
        why.addWidget(self.seen)
        top = QHBoxLayout()
        top.setSpacing(6)
        top.addWidget(self.glyph, 0, Qt.AlignmentFlag.AlignTop)
        top.addLayout(names, 4)
        column.addLayout(top)
        if narrow:
            column.addLayout(row(self.value, self.unit, None, spacing=4))
            column.addLayout(row(*self.states.values(), None, spacing=2))
            column.addLayout(why)
        else:
            # The columns stand under each other, whether an item has a number or not.
            for widget in (self.value, self.unit):
                policy = widget.sizePolicy()
                policy.setRetainSizeWhenHidden(True)
                widget.setSizePolicy(policy)
            self.unit.setFixedWidth(UNIT_PX)
            top.addLayout(row(self.value, self.unit, *self.states.values(), spacing=3))
            top.addLayout(why, 5)
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        column.addWidget(self.value.fault)
        column.addWidget(self.fault)

    def refresh(self) -> None:
        """Show what is kept."""
        sheet = self.session.sheet
        assert sheet is not None
        item = sheet.item(self.key)
        self.glyph.show_severity(item.severity)
        self.title.setText(item.title)
        self.ask.setText(item.ask)
        self.ask.setVisible(bool(item.ask))
        self.value.setVisible(item.measure is not None)
        self.unit.setVisible(item.measure is not None)
        self.codes.setVisible(item.key == "fault_codes" and self.session.bench is not None)
        if item.measure is not None:
            m = item.measure
            word_ = "at most" if m.side == "above" else "at least"
            self.unit.setText(f"{m.unit}, {word_} {m.watch:g}".removeprefix("count, "))
            tip(self.unit, f"{m.title}: stop at {m.stop:g} {m.unit}. {m.source}")
            self.value.setAccessibleName(f"{item.title}: {m.title}, {m.unit}")
            self.value.show_text("" if item.value is None else f"{item.value:g}")
        self.reason.setAccessibleName(f"{item.title}: reason")
        self.reason.show_text(item.reason)
        read_only = sheet.job.read_only
        for state, button in self.states.items():
            button.setChecked(item.state == state)
            button.setEnabled(not read_only)
            button.setAccessibleName(f"{item.title}: {state}")
        when = item.when[:16].replace("T", " ")
        self.seen.setText(f"{item.who}, {when} UTC" if item.state else "nobody looked yet")
        self.setAccessibleName(f"{item.title}: {item.state or 'not looked at'}")

    def _enter_value(self, text: str) -> None:
        item = self._item()
        if not text.strip():
            self._see(item.state, None)
            return
        value = parse_number(text)
        self._see(item.by_number(value), value)

    def _enter_reason(self, text: str) -> None:
        item = self._item()
        if item.state:
            self._see(item.state, item.value, text)

    def _decide(self, state: State) -> None:
        item = self._item()
        chosen: State = "" if item.state == state else state
        self.fault.hide()
        try:
            self._see(chosen, item.value)
        except (YarvicError, ValueError) as error:
            self.fault.setText(str(error))
            self.fault.show()
            self.refresh()
            self.reason.setFocus()

    def _see(self, state: State, value: float | None, reason: str | None = None) -> None:
        sheet = self.session.sheet
        assert sheet is not None
        when = datetime.now(UTC).isoformat(timespec="seconds")
        why = self.reason.text() if reason is None else reason
        sheet.see(self.key, state, reason=why, who=self.session.settings.author, when=when, value=value)
        self.fault.hide()

    def _item(self) -> Item:
        assert self.session.sheet is not None
        return self.session.sheet.item(self.key)

    def _read_codes(self) -> None:
        try:
            read_fault_codes(self.session)
        except YarvicError as error:
            self.session.failed.emit(error)


class ReadinessPanel(QWidget):
    """All items, who looks at them, and the shop's own list."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.who = Line("Your name", self._enter_name, 130, "who looks at it")
        self.add = Line("New item", self._add, 150, "an item of your own")
        self.station = chooser("Station of the new item", self._stations)
        self._at = "cylinders"
        self.items: Rows[ItemRow] = Rows(lambda key: ItemRow(session, str(key)), "This job has no list.")
        self.drop = chooser("Remove an item from the list", self._droppable)
        show_choice(self.drop, "Remove")
        self.form = ItemForm(session)
        self.change = chooser("Change an item of the list", self._changeable)
        show_choice(self.change, "Change")
        self.lists = chooser("Lists", self._lists)
        show_choice(self.lists, "List")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addLayout(
            row(
                label("Seen by", "quiet"),
                self.who,
                None,
                self.add,
                self.station,
                self.change,
                self.drop,
                self.lists,
                spacing=6,
            )
        )
        column.addWidget(self.form)
        column.addWidget(self.items, 1)

    def _keys(self) -> list[str]:
        job = self.session.job
        return [i.key for i in job.sheet.readiness] if job is not None else []

    def _enter_name(self, text: str) -> None:
        self.session.settings.author = text.strip()

    def _stations(self) -> list[tuple[str, Callable[[], None]]]:
        job = self.session.job
        found = stations(job.sheet.vehicle) if job is not None else ()
        return [(s.title, partial(self._choose_station, s.key)) for s in found]

    def _choose_station(self, key: str) -> None:
        self._at = key
        show_choice(self.station, usual_title(key))

    def _add(self, text: str) -> None:
        if self.session.sheet is not None and text.strip():
            self.session.sheet.add_item(text, self._at)
            self.add.clear()
            self.add.show_text("")

    def _droppable(self) -> list[tuple[str, Callable[[], None]]]:
        job, sheet = self.session.job, self.session.sheet
        if job is None or sheet is None:
            return []
        return [
            (i.title, partial(self.session.attempt, partial(sheet.drop_item, i.key))) for i in job.sheet.readiness
        ]

    def _changeable(self) -> list[tuple[str, Callable[[], None]]]:
        job = self.session.job
        items = job.sheet.readiness if job is not None and not job.read_only else ()
        return [(i.title, partial(self.form.open, i.key)) for i in items]

    def _lists(self) -> list[tuple[str, Callable[[], None]]]:
        job, sheet = self.session.job, self.session.sheet
        if job is None or sheet is None:
            return []
        usual = default_items(job.sheet.vehicle)
        found: list[tuple[str, Callable[[], None]]] = [
            ("Save this list as the shop's", partial(self.session.attempt, self._save)),
            ("Load this list", lambda: self._load(fresh(job.sheet.readiness), "this list")),
            ("Reset to the default list", lambda: self._load(usual, "the default list")),
        ]
        own = readiness_path(job.sheet.vehicle)
        if own.is_file():
            found.append(("Load the shop's list", partial(self._load_own, own)))
        return found

    def _load_own(self, path: Path) -> None:
        request = self.session.request("loading the shop's list", reads=("the sheet",))
        self.session.read_file(
            request, path, lambda: read_sheet(path).readiness, lambda items: self._load(items, "the shop's list")
        )

    def _save(self) -> None:
        assert self.session.job is not None
        path = save_readiness(self.session.job.sheet)
        self.session.say(f"Saved as the shop's list for this kind of engine: {path}")

    def _load(self, items: tuple[Item, ...], what: str) -> None:
        sheet = self.session.sheet
        assert sheet is not None
        self.session.attempt(lambda: sheet.set(f"Readiness now uses {what}.", readiness=items))

    def refresh(self) -> None:
        """Show what is kept."""
        self.who.show_text(self.session.settings.author)
        show_choice(self.station, usual_title(self._at))
        if self.form.key not in self._keys():
            self.form.hide()
        self.items.show_rows(self._keys())
