"""The page of a table's history: its states as small pictures, who changed the cell, and acts on the revisions."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import get_args

import numpy as np
from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QPainter, QPen
from PyQt6.QtWidgets import QFrame, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from yarvic.core.calibration.table import Table
from yarvic.core.job.model import Revision, TagKind
from yarvic.desk.theme import BODY_PX, CAPTION_PX, font, tokens
from yarvic.desk.widgets.fault import FaultLine
from yarvic.desk.widgets.tinted import tinted
from yarvic.desk.widgets.words import Elided, act, chooser, label, row, show_choice, sideways, tip, word
from yarvic.state.maps import MapsState

PICTURE_PX, HEIGHT_PX, GAP_PX = 148, 84, 12


class Pictures(QWidget):
    """The states of a table, from left to right. `chosen` brings the revision that was clicked."""

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.states: list[tuple[Revision, Table]] = []
        self.working, self.reference = 0, 0
        self.setAccessibleName("States of the table")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)

    def show_states(self, states: list[tuple[Revision, Table]], working: int, reference: int) -> None:
        """Draw these."""
        self.states, self.working, self.reference = states, working, reference
        self.setMinimumWidth(len(states) * (PICTURE_PX + GAP_PX) + GAP_PX)
        self.setAccessibleDescription("; ".join(f"{r.name}: {r.reason}" for r, _ in states))
        self.update()

    def sizeHint(self) -> QSize:
        """As wide as its pictures."""
        return QSize(max(len(self.states), 1) * (PICTURE_PX + GAP_PX) + GAP_PX, HEIGHT_PX + 56)

    def paintEvent(self, event) -> None:
        """A picture for each, tinted by one scale, its revision and reason under it."""
        painter = QPainter(self)
        t = tokens()
        painter.fillRect(self.rect(), t.color("sheet"))
        there = [table.values[np.isfinite(table.values)] for _, table in self.states]
        values = np.concatenate(there) if there else np.zeros(0)
        low, high = (float(values.min()), float(values.max())) if values.size else (0.0, 1.0)
        for n, (revision, table) in enumerate(self.states):
            box = QRectF(GAP_PX + n * (PICTURE_PX + GAP_PX), 8, PICTURE_PX, HEIGHT_PX)
            painter.drawImage(box, tinted(table.values, low, high))
            chosen = revision.id in (self.working, self.reference)
            token = "working" if revision.id == self.working else "reference" if chosen else "line"
            painter.setPen(QPen(t.color(token), 2.2 if chosen else 1))
            painter.drawRect(box)
            painter.setFont(font(BODY_PX, bold=True))
            painter.setPen(t.color("ink"))
            painter.drawText(box.adjusted(0, HEIGHT_PX + 3, 0, 20), int(Qt.AlignmentFlag.AlignLeft), revision.name)
            painter.setFont(font(CAPTION_PX))
            painter.setPen(t.color("quiet"))
            metrics = QFontMetrics(font(CAPTION_PX))
            said = metrics.elidedText(revision.reason, Qt.TextElideMode.ElideRight, PICTURE_PX)
            painter.drawText(box.adjusted(0, HEIGHT_PX + 20, 0, 38), int(Qt.AlignmentFlag.AlignLeft), said)

    def _at(self, x: float) -> int | None:
        n = int((x - GAP_PX) // (PICTURE_PX + GAP_PX))
        return n if 0 <= n < len(self.states) else None

    def mousePressEvent(self, event) -> None:
        """Choose a state."""
        n = self._at(event.position().x())
        if n is not None:
            self.chosen.emit(self.states[n][0].id)

    def mouseMoveEvent(self, event) -> None:
        """The whole reason, who, and when."""
        n = self._at(event.position().x())
        if n is not None:
            r = self.states[n][0]
            tip(self, f"{r.name}, {r.time[:10]}, {r.author}: {r.reason}")


class HistoryPage(QWidget):
    """States of the table, then what can be done with the revision in hand. `merge_asked` brings a revision's number."""

    merge_asked = pyqtSignal(int)

    def __init__(self, maps: MapsState) -> None:
        super().__init__()
        self.maps = maps
        maps.history.changed.connect(self._came)
        self.pictures = Pictures()
        self.pictures.chosen.connect(maps.session.choose_reference)
        self.cell = Elided("quiet")
        self.empty = label("", "quiet")
        area: QScrollArea = sideways(self.pictures)
        area.setFixedHeight(HEIGHT_PX + 72)
        frame = QFrame()
        frame.setObjectName("sheet")
        inner = QVBoxLayout(frame)
        inner.setContentsMargins(8, 6, 8, 6)
        inner.addWidget(label("Each state of the table; click one to hold the maps against it.", "caption"))
        inner.addWidget(self.empty)
        inner.addWidget(area)
        inner.addWidget(self.cell)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(frame)
        column.addWidget(self._acts())
        column.addStretch(1)

    def _acts(self) -> QFrame:
        frame = QFrame()
        frame.setObjectName("sheet")
        column = QVBoxLayout(frame)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(8)
        self.which = chooser("Revision", self._revisions)
        self.revert = word("Revert to it", self._revert)
        self.merge = word("Merge it into the draft", self._merge)
        column.addLayout(row(label("Revision", "quiet"), self.which, self.revert, self.merge, None, spacing=8))
        self.name = QLineEdit()
        self.name.setPlaceholderText("name of the new draft")
        self.name.setAccessibleName("Name of the new draft")
        self.name.setMaxLength(80)
        column.addLayout(
            row(label("Branch", "quiet"), self.name, act("Begin a draft on it", self._branch), spacing=8)
        )
        self.tag = chooser("Mark", self._tags)
        self._tag: TagKind = get_args(TagKind)[0]
        show_choice(self.tag, self._tag)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("reason")
        self.reason.setAccessibleName("Reason of the mark")
        self.reason.setMaxLength(400)
        self.by = QLineEdit()
        self.by.setPlaceholderText("Your name")
        self.by.setAccessibleName("Who marks it")
        self.by.setFixedWidth(130)
        column.addLayout(
            row(label("Mark", "quiet"), self.tag, self.reason, self.by, word("Mark it", self._mark), spacing=8)
        )
        self.marks = QVBoxLayout()
        column.addLayout(self.marks)
        self.fault = FaultLine()
        column.addWidget(self.fault)
        self._revision_id: int | None = None
        self._mark_lines: list[QWidget] = []
        return frame

    # -- showing

    def refresh(self) -> None:
        """The table and the revision in hand."""
        session = self.maps.session
        found = self.maps.history.of_table()
        states = list(found.states) if found is not None else []
        evidence = session.evidence_revision()
        self.pictures.show_states(states, evidence.id if evidence is not None else 0, session.reference or 0)
        self.pictures.setVisible(bool(states))
        self.empty.setVisible(not states)
        self.empty.setText("Choose a table." if self.maps.table() is None else "Its history is being read.")
        words = self.maps.history.in_words(self.maps.row, self.maps.column)
        table = self.maps.table()
        if table is not None and words and self.maps.row < table.values.shape[0]:
            self.cell.setText(f"{table.place(self.maps.row, self.maps.column)}: {words}")
        else:
            self.cell.setText("")
        revision = self._revision()
        show_choice(self.which, revision.name if revision is not None else "")
        for each in (self.revert, self.merge):
            each.setEnabled(revision is not None)
        if not self.by.text():
            self.by.setText(session.settings.author)
        self._show_marks(revision)

    def _came(self) -> None:
        if self.isVisible():
            self.refresh()

    def _show_marks(self, revision: Revision | None) -> None:
        for line in self._mark_lines:
            self.marks.removeWidget(line)
            line.deleteLater()
        self._mark_lines = []
        job = self.maps.session.job
        for tag in job.tags_of(revision.id) if job is not None and revision is not None else ():
            line = QWidget()
            text = label(f"{tag.tag}, by {tag.name} on {tag.time[:10]}: {tag.reason}")
            text.setWordWrap(True)
            layout = row(text, word("Remove", partial(self._unmark, tag.tag)), spacing=8)
            layout.setStretch(0, 1)
            line.setLayout(layout)
            self._mark_lines.append(line)
            self.marks.addWidget(line)

    def _revision(self) -> Revision | None:
        session = self.maps.session
        chosen = session.revision(self._revision_id)
        return chosen or session.evidence_revision()

    # -- choosing

    def _revisions(self) -> list[tuple[str, Callable[[], None]]]:
        return [
            (f"{r.name}: {r.reason}"[:80], partial(self._choose, r.id))
            for r in reversed(self.maps.session.revisions())
        ]

    def _choose(self, revision_id: int) -> None:
        self._revision_id = revision_id
        self.fault.say(None)
        self.refresh()

    def _tags(self) -> list[tuple[str, Callable[[], None]]]:
        return [(tag, partial(self._choose_tag, tag)) for tag in get_args(TagKind)]

    def _choose_tag(self, tag: TagKind) -> None:
        self._tag = tag
        show_choice(self.tag, tag)

    # -- acts

    def _of_revision(self, do: Callable[[Revision], object]) -> bool:
        revision = self._revision()
        if revision is None:
            return False
        self.fault.say(None)
        return self.fault.attempt(lambda: do(revision))

    def _revert(self) -> None:
        self._of_revision(self.maps.history.revert)

    def _merge(self) -> None:
        revision = self._revision()
        if revision is not None:
            self.merge_asked.emit(revision.id)

    def _branch(self) -> None:
        if self._of_revision(lambda r: self.maps.history.branch(r, self.name.text())):
            self.name.clear()

    def _mark(self) -> None:
        made = self._of_revision(lambda r: self.maps.history.mark(r, self._tag, self.by.text(), self.reason.text()))
        if made:
            self.reason.clear()

    def _unmark(self, tag: TagKind) -> None:
        def off(revision: Revision) -> None:
            self.maps.history.mark(revision, tag, self.by.text(), self.reason.text(), put=False)

        if self._of_revision(off):
            self.reason.clear()
