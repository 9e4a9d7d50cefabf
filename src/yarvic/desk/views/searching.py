"""Tables looked for in an image without a description: ranked, a picture of each, confirmed into a layout."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QKeyEvent, QPainter, QPen
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from yarvic.core.calibration.undescribed.discover import FoundTable
from yarvic.core.errors import YarvicError
from yarvic.desk.theme import CAPTION_PX, font, tokens
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.entry import Line
from yarvic.desk.widgets.fault import FaultLine
from yarvic.desk.widgets.headed import plain_rows
from yarvic.desk.widgets.tinted import tinted
from yarvic.desk.widgets.words import act, label, row, word
from yarvic.state.searching import SearchState
from yarvic.state.session import Session

HEADS = ("Place", "Confidence", "Shape", "Numbers", "Confirmed")
WIDTHS, ADDRESS_PX = {1: 72, 2: 76, 3: 58, 4: 68}, 86
CONFIRMED = HEADS.index("Confirmed")
SHORT_PX, LEAST_PX, ROWS_PX, PICTURE_PX = 110, 120, 378, 120
SURE = 0.8
IMAGES = "Images (*.hex *.s19 *.s37 *.srec *.mot *.bin);;All files (*)"


class Picture(QWidget):
    """A found table as a picture, its axes' ends beside it."""

    def __init__(self, state: SearchState) -> None:
        super().__init__()
        self.state = state
        self.table: FoundTable | None = None
        self.setMinimumSize(PICTURE_PX, 180)
        self.setAccessibleName("Picture of the place")

    def show_table(self, table: FoundTable | None) -> None:
        """Draw another."""
        self.table = table
        self.setAccessibleDescription(self.state.sentence(table) if table is not None else "")
        self.update()

    def paintEvent(self, event) -> None:
        """The cells, tinted from the least to the greatest, and what these are."""
        painter = QPainter(self)
        t = tokens()
        painter.fillRect(self.rect(), t.color("sheet"))
        if self.table is None:
            return
        values = self.state.values(self.table)
        there = values[np.isfinite(values)]
        low, high = (float(there.min()), float(there.max())) if there.size else (0.0, 0.0)
        painter.setFont(font(CAPTION_PX))
        painter.setPen(QPen(t.color("quiet")))
        line = painter.fontMetrics().height()
        box = QRectF(1, 1, self.width() - 2, max(self.height() - line - 8, 20))
        painter.drawImage(box, tinted(values, low, high))
        painter.drawText(1, self.height() - 4, f"stored {low:g} to {high:g}")


class SearchingView(View):
    """The image, the places found, and the act that makes a layout of the confirmed."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Look for tables")
        self.window_ = window
        self.state = SearchState(session)
        self.about.setText(
            "in an image without a description; what is found is a proposal until a person confirms it"
        )
        self.head.insertWidget(0, word("Back", self.escape, "Esc"))
        self.image = Line("Image file", self._entered, 0, "Intel HEX, S-record or raw bytes")
        self.base = Line("Address of the first byte", self.state.state_base, SHORT_PX, "0x0")
        self.family = Line("Name of the family", self._family, 0, "what the unit is called")
        self.family.setMinimumWidth(LEAST_PX)
        self.headline = label("", "quiet", wrap=True)
        self.rows = plain_rows(HEADS, "Places that look like tables", WIDTHS, ADDRESS_PX)
        self.rows.setMinimumWidth(ROWS_PX)
        self.rows.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.rows.itemSelectionChanged.connect(self._show_one)
        self.rows.activated.connect(lambda index: self.confirm_selected())
        self.rows.installEventFilter(self)
        self.picture = Picture(self.state)
        self.why = label("", "quiet", wrap=True)
        self.confirm = word("Confirm selected", self.confirm_selected, "Space")
        self.sure = word(f"Confirm all from {SURE * 100:.0f} % up", self._confirm_sure)
        self.save = act("Save as a layout", self._save)
        self.fault = FaultLine()
        self._arrange()
        self.state.changed.connect(self.refresh)
        self.refresh()

    def _arrange(self) -> None:
        frame = QFrame()
        frame.setObjectName("sheet")
        column = QVBoxLayout(frame)
        column.setContentsMargins(16, 12, 16, 12)
        column.setSpacing(8)
        top = row(label("Image", "quiet"), self.image, word("Choose", self._choose), spacing=6)
        top.addWidget(label("First address", "quiet"))
        top.addWidget(self.base)
        column.addLayout(top)
        column.addWidget(self.image.fault)
        column.addWidget(self.base.fault)
        column.addWidget(self.headline)
        side = QVBoxLayout()
        side.setSpacing(6)
        side.addWidget(self.picture, 1)
        side.addWidget(self.why)
        both = QHBoxLayout()
        both.setSpacing(12)
        both.addWidget(self.rows, 3)
        both.addLayout(side, 2)
        column.addLayout(both, 1)
        column.addLayout(row(self.confirm, self.sure, None, spacing=8))
        bottom = row(label("Family", "quiet"), self.family, self.save, spacing=8)
        bottom.setStretch(1, 1)
        column.addLayout(bottom)
        column.addWidget(self.family.fault)
        column.addWidget(self.fault)
        self.column.addWidget(frame, 1)

    # -- choosing

    def look(self, path: Path) -> None:
        """Look for tables in an image."""
        self.image.show_text(str(path))
        self.state.look(path)

    def _choose(self) -> None:
        chosen, _ = QFileDialog.getOpenFileName(self, "Choose an image", "", IMAGES)
        if chosen:
            self.look(Path(chosen))

    def _entered(self, text: str) -> None:
        if text.strip():
            self.state.look(Path(os.path.expanduser(text.strip())))

    def _family(self, text: str) -> None:
        self.state.family = text.strip()
        self.refresh()

    # -- showing

    def refresh(self) -> None:
        """What was found, and what of it is confirmed."""
        s = self.state
        self.fault.say(s.error)
        chosen = self.selected()
        self.rows.blockSignals(True)
        self.rows.setRowCount(len(s.tables))
        for n, table in enumerate(s.tables):
            texts = (
                f"0x{table.address + s.base:X}", f"{table.confidence * 100:.0f} %", f"{table.rows} x {table.columns}",
                table.storage,
                "yes" if table.address in s.confirmed else "",
            )  # fmt: skip
            for column, text in enumerate(texts):
                self.rows.setItem(n, column, QTableWidgetItem(text))
        self.rows.blockSignals(False)
        if s.tables and not chosen:
            self.rows.selectRow(0)
        self.headline.setText(self._said())
        self._show_one()
        self.base.show_text(f"0x{s.base:X}")
        some = bool(s.tables)
        for button in (self.confirm, self.sure):
            button.setEnabled(some)
        self.save.setEnabled(bool(s.confirmed) and bool(s.family))

    def _said(self) -> str:
        s = self.state
        if s.found is None:
            if s.under_way and s.path is not None:
                return f"Looking through {s.path.name}. It can be cancelled on the strip below."
            return "" if s.error else "Choose an image: a raw read of a unit, or one as Intel HEX or S-record."
        ends = "big" if s.found.byte_order == "big" else "little"
        count = len(s.found.tables)
        places = f"{count:,} place{'s' if count != 1 else ''} look{'s' if count == 1 else ''} like tables"
        if count > len(s.tables):
            places += f" (the likeliest {len(s.tables):,} are listed)"
        return f"{places}, numbers of more bytes {ends} end first; {len(s.confirmed):,} confirmed."

    def selected(self) -> list[FoundTable]:
        """The places that are selected."""
        model = self.rows.selectionModel()
        lines = sorted({i.row() for i in model.selectedRows()}) if model is not None else []
        return [self.state.tables[n] for n in lines if n < len(self.state.tables)]

    def _show_one(self) -> None:
        chosen = self.selected()
        self.picture.show_table(chosen[0] if chosen else None)
        self.why.setText(self.state.sentence(chosen[0]) if chosen else "")

    # -- acts

    def confirm_selected(self) -> None:
        """Confirm the selected; where all of them are confirmed already, no longer."""
        chosen = self.selected()
        self.state.confirm(chosen, yes=any(t.address not in self.state.confirmed for t in chosen))

    def _confirm_sure(self) -> None:
        self.state.confirm([t for t in self.state.tables if t.confidence >= SURE], yes=True)

    def _save(self) -> None:
        name = f"{self.state.family.lower().replace(' ', '_') or 'layout'}.toml"
        chosen, _ = QFileDialog.getSaveFileName(self, "Save the layout", name, "Layouts (*.toml)")
        if chosen:
            self.save_to(Path(chosen))

    def save_to(self, path: Path) -> None:
        """Write the layout; a job without maps takes it and the image at once as what it is imported from."""
        s = self.state
        try:
            count = s.save(path)
        except YarvicError as error:
            self.fault.say(error)
            return
        self.fault.say(None)
        self.session.say(f"{count:,} tables written to {path.name}.")
        job = self.session.job
        if job is not None and self.session.working_revision() is None and s.path is not None:
            self.window_.take_stock(path, "description")
            self.window_.take_stock(s.path, "image")

    def eventFilter(self, watched, event) -> bool:
        """Space confirms what is selected."""
        pressed = isinstance(event, QKeyEvent) and event.type() == QKeyEvent.Type.KeyPress
        if watched is self.rows and pressed and event.key() == Qt.Key.Key_Space:
            self.confirm_selected()
            return True
        return super().eventFilter(watched, event)

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this page."""
        return [("Space", "confirm the selected places, or no longer"), ("Esc", "back to the step")]

    def escape(self) -> None:
        """Back to the step that it came from."""
        self.session.go(self.came_from or "maps")

    def main_widget(self) -> QWidget:
        """The image, or the places once there are some."""
        return self.rows if self.state.tables else self.image


def make(session: Session, window: Desk) -> SearchingView:
    """The page."""
    return SearchingView(session, window)
