"""Where a job without maps gets them: a description of the memory and the image the vehicle arrived with."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtGui import QTextCursor
from PyQt6.QtWidgets import QFileDialog, QFrame, QLineEdit, QPlainTextEdit, QVBoxLayout, QWidget

from yarvic.bench.vehicles import VEHICLES, layout_text, stock_image
from yarvic.core.calibration.checksum import KINDS
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.desk.views.view import Desk
from yarvic.desk.widgets.entry import Line, Sheet
from yarvic.desk.widgets.fault import FaultLine
from yarvic.desk.widgets.words import act, chooser, label, row, show_choice, word
from yarvic.state.session import Session
from yarvic.state.stock import StockState, Sum

FIELD_PX, ADDRESS_PX, LIST_PX = 420, 110, 240
# So many fill a line of the list, about: its height follows from it.
CHARACTERS = 100
DESCRIPTIONS = "Descriptions (*.a2l *.toml);;All files (*)"
IMAGES = "Images (*.hex *.s19 *.s37 *.srec *.bin);;All files (*)"


class StockForm(QFrame):
    """Two files, what they say, and the one act; or a read of a simulated unit."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__()
        self.session = session
        self.search = word("No description: look for tables in the image", window.open_searching)
        self.stock = StockState(session)
        self.setObjectName("sheet")
        self.description = Line(
            "Description file", self._description, FIELD_PX, "layout (TOML) or description (ASAP2)"
        )
        self.image = Line("Image file", self._image, FIELD_PX, "stock image: Intel HEX, S-record or raw bytes")
        self.base = Line("Address of the first byte", self._base, ADDRESS_PX, "of raw bytes")
        self.kind = chooser("Rule of the checksum", lambda: [(k, partial(self._kind, k)) for k in KINDS[:-1]])
        self.first, self.last, self.place = (QLineEdit() for _ in range(3))
        self.go = act("Import the stock image", self._import)
        self.unit = chooser("Read from a simulated unit", self._units)
        show_choice(self.unit, "Read from a simulated unit")
        self.said = label("", wrap=True)
        self.fault = FaultLine()
        self.listed = QPlainTextEdit()
        self.listed.setReadOnly(True)
        self.listed.setAccessibleName("What is wrong, and what is left out")
        self._rule = KINDS[0]
        self._arrange()
        self.stock.changed.connect(self.refresh)
        self.refresh()

    def _arrange(self) -> None:
        sheet = Sheet("")
        for name, field, files, take in (
            ("Description", self.description, DESCRIPTIONS, self._description),
            ("Image", self.image, IMAGES, self._image),
        ):
            sheet.line(name, self._with_word(field, partial(self._choose, name, files, take)))
            sheet.wide(field.fault)
        sheet.line("First address", self.base)
        column = QVBoxLayout(self)
        column.setContentsMargins(40, 24, 40, 24)
        column.setSpacing(8)
        column.addWidget(label("This job has no maps yet", "big"))
        text = (
            "Read the unit before anything is changed and keep the image: it is what later revisions are compared with."
            " The description says where tables lie in its memory. Drop both files on the window, or choose them."
        )
        column.addWidget(label(text, "quiet", wrap=True))
        column.addLayout(sheet)
        column.addWidget(self.said)
        column.addWidget(self.listed)
        column.addWidget(self._checksum())
        column.addLayout(row(self.go, self.unit, None, self.search, spacing=12))
        column.addWidget(self.fault)
        column.addStretch(1)

    @staticmethod
    def _with_word(field: Line, choose: Callable[[], None]) -> QWidget:
        holder = QWidget()
        line = row(field, word("Choose", choose), None)
        holder.setLayout(line)
        return holder

    def _checksum(self) -> QWidget:
        """How a checksum is stated that the description says nothing of."""
        self.sum = QWidget()
        for field, name, hint in (
            (self.first, "First address of the range", "from 0x"),
            (self.last, "Last address of the range", "to 0x"),
            (self.place, "Address of the checksum", "lies at 0x"),
        ):
            field.setAccessibleName(name)
            field.setPlaceholderText(hint)
            field.setFixedWidth(ADDRESS_PX)
        show_choice(self.kind, self._rule)
        state = word("State it", self._state_sum)
        self.sum.setLayout(row(label("Checksum", "quiet"), self.kind, self.first, self.last, self.place, state, None))
        return self.sum

    # -- showing

    def refresh(self) -> None:
        """Show what the files say."""
        stock, taken = self.stock, self.stock.taken
        self.description.show_text(str(stock.description or ""))
        self.image.show_text(str(stock.image or ""))
        self.base.show_text(stock.base)
        refusal = stock.refusal()
        self.fault.say(refusal)
        self.go.setEnabled(taken is not None and refusal is None)
        self.sum.setVisible(taken is not None and bool(taken.unknown))
        lines = []
        if taken is not None:
            layout = taken.layout
            count, out = len(layout.entries), len(layout.left_out)
            text = f"{layout.family}{f', {layout.version}' if layout.version else ''}: {count:,} entries can be used"
            text += f", {out:,} {'is' if out == 1 else 'are'} left out." if out else "."
            text += f" {taken.image.name}: {taken.image.in_words()}."
            if not layout.identification:
                text += (
                    " The description names no mark by which an image of it is known: see that they belong together."
                )
            if taken.unknown:
                what = "; ".join(taken.unknown)
                text += f" {what[0].upper()}{what[1:]}: state it, or the release will ask for a waiver."
            self.said.setText(text)
            faults = stock.faults()
            said = {f.about for f in faults}
            lines = [f.sentence() for f in faults]
            lines += [f"Left out: {x.key}: {x.reason}" for x in layout.left_out[:200] if x.key not in said]
        self.said.setVisible(taken is not None)
        self._list(lines)

    def _list(self, lines: list[str]) -> None:
        wrapped = sum(1 + len(line) // CHARACTERS for line in lines)
        self.listed.setFixedHeight(min(LIST_PX, 26 + self.listed.fontMetrics().lineSpacing() * wrapped))
        self.listed.setVisible(bool(lines))
        self.listed.setPlainText("\n".join(lines))
        self.listed.moveCursor(QTextCursor.MoveOperation.Start)

    # -- choosing

    def take_file(self, path: Path, kind: str) -> None:
        """Take a file that was dropped: an image, or a description."""
        if kind == "image":
            self.stock.choose(image=path)
        else:
            self.stock.choose(description=path)

    def _choose(self, name: str, files: str, take: Callable[[str], None]) -> None:
        chosen, _ = QFileDialog.getOpenFileName(self, f"Choose the {name.lower()}", "", files)
        if chosen:
            take(chosen)

    def _description(self, text: str) -> None:
        self.stock.choose(description=_path(text))

    def _image(self, text: str) -> None:
        self.stock.choose(image=_path(text))

    def _base(self, text: str) -> None:
        self.stock.choose(base=text)

    def _kind(self, kind: str) -> None:
        self._rule = kind
        show_choice(self.kind, kind)

    def _state_sum(self) -> None:
        self.fault.attempt(
            lambda: self.stock.with_checksum(
                Sum(self._rule, self.first.text().strip(), self.last.text().strip(), self.place.text().strip())
            )
        )

    def _units(self) -> list[tuple[str, Callable[[], None]]]:
        return [(f"{name.capitalize()}, simulated", partial(self.read_unit, name)) for name in VEHICLES]

    def read_unit(self, name: str) -> None:
        """Read the unit of a simulated vehicle."""
        s = self.session

        def enter(found: tuple[Layout, bytes]) -> None:
            s.import_stock(*found, s.settings.author)

        request = s.request("importing the stock image")
        read = lambda: (parse_layout(layout_text(name)), stock_image(name))  # noqa: E731 - what the act does
        s.read_file(request, Path(name), read, enter, failed=self.fault.say)

    def _import(self) -> None:
        self.fault.attempt(self.stock.import_)


def _path(text: str) -> Path | None:
    text = text.strip()
    return Path(os.path.expanduser(text)) if text else None
