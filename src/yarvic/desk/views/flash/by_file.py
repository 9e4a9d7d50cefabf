"""The way by file: an image is exported, what is to be seen to is ticked, and what was read back is compared."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QVBoxLayout,
    QWidget,
)

from yarvic.core.calibration.faults import unknown_sums
from yarvic.core.errors import YarvicError
from yarvic.core.formats.images import FORMS, SUFFIXES, Form
from yarvic.core.job.model import Carried, Revision
from yarvic.core.link.by_file import Item, blocks_aside, blocks_by_name, items
from yarvic.desk.overlays import Command
from yarvic.desk.views.flash.memory import ASIDE, COLUMNS, DIFFERS, MOST_PX, OTHER, PROVEN, SAME, Memory
from yarvic.desk.widgets.fault import FaultLine
from yarvic.desk.widgets.fields import show_switch
from yarvic.desk.widgets.words import act, chooser, label, row, show_choice, sideways, word
from yarvic.state.by_file import export, file_name, last_read_back, read_back, say_written, steps_of, unit_in_words
from yarvic.state.requests import Request
from yarvic.state.session import Session

WHEN = {"before": "Before", "while": "While it is written", "after": "After"}
MOST_NAMES, STRIP_PX = 14, 150


class ByFile(QFrame):
    """Three acts from left to right, the list to tick, the memory, the journal."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("sheet")
        self._form: Form = "hex"
        self._ticked: dict[tuple[int, int], set[str]] = {}  # by opening and revision
        self.unit = label("", wrap=True)
        self.name = QLineEdit()
        self.name.setPlaceholderText("Your name")
        self.name.setAccessibleName("Who does this")
        self.name.setFixedWidth(140)
        self.form = chooser("Form of the file", lambda: [(FORMS[f], partial(self._choose_form, f)) for f in FORMS])
        self.export = act("Export", self.ask_to_export)
        self.wrote = word("I wrote it to the unit", self._say_written)
        self.take = word("Take the file that was read back", self.ask_for_read_back)
        self.said = label("", wrap=True)
        self.fault = FaultLine()
        self.memory = Memory()
        self.key = label("", "caption", wrap=True)
        self.journal = QListWidget()
        self.journal.setAccessibleName("Journal")
        self.boxes: dict[str, QCheckBox] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        column.setSpacing(6)
        column.addWidget(self.unit)
        column.addLayout(row(self.export, self.form, label("by", "quiet"), self.name, None, spacing=8))
        column.addLayout(row(self.wrote, self.take, None, spacing=8))
        column.addWidget(self.said)
        column.addWidget(self.fault)
        column.addWidget(self._list(), 4)
        column.addWidget(self.memory)
        column.addWidget(self.key)
        column.addWidget(self.journal, 2)

    def _list(self) -> QWidget:
        inner = QWidget()
        grid = QVBoxLayout(inner)
        grid.setContentsMargins(0, 0, 8, 0)
        grid.setSpacing(1)
        for when, title in WHEN.items():
            grid.addWidget(label(title, "quiet"))
            for item in items():
                if item.when == when:
                    grid.addLayout(self._line(item))
        grid.addStretch(1)
        area = sideways(inner)
        area.setMinimumHeight(120)
        return area

    def _line(self, item: Item) -> QHBoxLayout:
        """A tick and what it is for, in as many lines as that takes."""
        box, text = QCheckBox(), label(item.text, wrap=True)
        box.setAccessibleName(item.text)
        box.toggled.connect(partial(self._tick, item.key))
        text.setBuddy(box)
        text.mousePressEvent = lambda _: box.click()  # type: ignore[method-assign, assignment]
        self.boxes[item.key] = box
        line = row(box, text, spacing=6)
        line.setStretch(1, 1)
        return line

    # -- showing

    def refresh(self) -> None:
        """Show where the working revision stands."""
        s = self.session
        revision, job = s.working_revision(), s.job
        if job is None:
            return
        if not self.name.text():
            self.name.setText(s.settings.author)
        show_choice(self.form, FORMS[self._form])
        self.unit.setText(f"Unit: {unit_in_words(s)}.")
        steps = steps_of(job, revision)
        free = revision is not None and s.busy is None and not job.read_only
        self.export.setText(f"Export {revision.name}" if revision is not None else "Export")
        self.export.setEnabled(free)
        self.wrote.setEnabled(free and bool(steps) and steps[-1].kind == "exported")
        self.take.setEnabled(free)
        ticked = self._of_revision(revision)
        for key, box in self.boxes.items():
            box.setEnabled(free)
            show_switch(box, key in ticked)
        self.said.setText(self._sentence(revision, steps))
        self.fault.hide()
        self._strip(revision)
        self.journal.clear()
        for entry in reversed(job.journal()):
            self.journal.addItem(f"{entry.time[:16].replace('T', ' ')}   {entry.sentence}")

    def _sentence(self, revision: Revision | None, steps: list[Carried]) -> str:
        job = self.session.job
        assert job is not None
        if revision is None:
            return "The draft is not a revision yet: commit it under Maps."
        unknown = unknown_sums(job.layout)
        caution = f" Mind: {'; '.join(unknown)}: the writer must correct it." if unknown else ""
        if not steps:
            return f"{revision.name} is {job.layout.length:,} bytes from 0x{job.layout.base:X}.{caution}"
        last = steps[-1]
        when = f"{last.time[:16].replace('T', ' ')} UTC"
        if last.kind == "exported":
            return f"Exported to {last.document.file}, {when}: tick what is seen to, write it, and say so.{caution}"
        if last.kind == "written":
            return f"Written by {last.name}, {when}, and not read back: read the whole memory, and take the file."
        if last.document.equal:
            aside = f", {last.document.aside:,} left aside" if last.document.aside else ""
            return f"Read back by {last.name}, {when}: equal in {last.document.compared:,} bytes{aside}."
        return f"Read back, {when}, and not what was written. {last.document.said}"

    def _strip(self, revision: Revision | None) -> None:
        """What the unit holds, as far as it is known, against the working image; or what was read back against it."""
        s = self.session
        job = s.job
        assert job is not None
        layout = job.layout
        self.memory.block, self.memory.base = layout.block, layout.base
        rows = -(-layout.blocks // COLUMNS)
        self.memory.setFixedHeight(min(round(rows * MOST_PX) + 4, STRIP_PX))
        if revision is None:
            self.memory.show_states([SAME] * layout.blocks, {})
            self.key.setText("")
            return
        last = last_read_back(s, revision)
        if last is not None:
            names: dict[int, tuple[str, ...]] = {}
            for d in last.document.differs:
                for b in range(
                    (d.start - layout.base) // layout.block, (d.end - 1 - layout.base) // layout.block + 1
                ):
                    names[b] = tuple(dict.fromkeys((*names.get(b, ()), *(d.names or ("no table",)))))
            aside = blocks_aside(layout)
            states = [OTHER if b in names else ASIDE if b in aside else PROVEN for b in range(layout.blocks)]
            self.memory.show_states(states, names)
            shapes = "Filled: read back equal. Dash: left aside, for the unit changes it or no file holds it"
            self.key.setText(self._legend(f"{shapes}. Crossed: other than written" if names else shapes, names))
            return
        held = s.unit_holds() or next(iter(s.revisions()), revision)
        found = dict(blocks_by_name(layout, s.image_of(held).memory, s.image_of(revision).memory))
        self.memory.show_states([DIFFERS if b in found else SAME for b in range(layout.blocks)], found)
        self.key.setText(self._legend(f"Thin outline: as in {held.name}. Heavy outline: differs", found))

    def _legend(self, shapes: str, names: dict[int, tuple[str, ...]]) -> str:
        job = self.session.job
        assert job is not None
        tables = list(dict.fromkeys(n for each in names.values() for n in each))
        more = f" and {len(tables) - MOST_NAMES} more" if len(tables) > MOST_NAMES else ""
        listed = f": {', '.join(tables[:MOST_NAMES])}{more}" if tables else ""
        return f"{job.layout.blocks} blocks of {job.layout.block:,} bytes. {shapes}{listed}."

    # -- acting

    def _of_revision(self, revision: Revision | None) -> set[str]:
        key = self.session.opening, revision.id if revision is not None else 0
        return self._ticked.setdefault(key, set())

    def _tick(self, key: str, on: bool) -> None:
        ticked = self._of_revision(self.session.working_revision())
        (ticked.add if on else ticked.discard)(key)

    def _choose_form(self, form: Form) -> None:
        self._form = form
        show_choice(self.form, FORMS[form])

    def ask_to_export(self) -> None:
        """Let a person choose where the image goes."""
        s = self.session
        revision, job = s.working_revision(), s.job
        if revision is None or job is None:
            return
        request, form = s.request("exporting the image", revision=revision.id), self._form
        proposed = str(job.path.with_name(file_name(job, revision, form)))
        chosen, _ = QFileDialog.getSaveFileName(self, f"Export {revision.name}", proposed, f"*{SUFFIXES[form]}")
        if chosen:
            self.export_to(Path(chosen), request, form)

    def export_to(self, path: Path, request: Request, form: Form) -> None:
        """Export the revision that was asked for."""
        revision = self._asked(request)
        if revision is not None:
            # What was ticked was for the write before.
            self._of_revision(revision).clear()
            self.fault.hide()
            self.fault.attempt(lambda: export(self.session, revision, path, form, self.name.text()))

    def _asked(self, request: Request) -> Revision | None:
        try:
            self.session.still(request)
        except YarvicError as error:
            self.fault.say(error)
            return None
        return self.session.revision(request.revision)

    def _say_written(self) -> None:
        revision = self.session.working_revision()
        if revision is not None:
            ticked = set(self._of_revision(revision))
            self.fault.hide()
            self.fault.attempt(lambda: say_written(self.session, revision, self.name.text(), ticked))

    def ask_for_read_back(self) -> None:
        """Let a person choose the file that was read back from the unit."""
        revision = self.session.working_revision()
        if revision is None:
            return
        request = self.session.request("reading back", revision=revision.id)
        chosen, _ = QFileDialog.getOpenFileName(
            self,
            f"What was read back, to be compared with {revision.name}",
            "",
            "Images (*.hex *.s19 *.s37 *.srec *.bin);;All files (*)",
        )
        if chosen:
            self.take_read_back(Path(chosen), request)

    def take_read_back(self, path: Path, request: Request) -> None:
        """Compare a file with the revision that was asked for."""
        revision = self._asked(request)
        if revision is not None:
            self.fault.hide()
            self.fault.attempt(lambda: read_back(self.session, revision, path, self.name.text()))

    def commands(self) -> list[Command]:
        """Commands of this view."""
        return [
            Command("Export the working image", "", self.ask_to_export),
            Command("Take the file that was read back from the unit", "", self.ask_for_read_back),
        ]
