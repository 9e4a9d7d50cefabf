"""The link from laptop to unit, the memory as a strip of blocks that fills, the journal under it."""

from __future__ import annotations

from collections.abc import Container, Mapping
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QFrame, QListWidget, QVBoxLayout, QWidget

from yarvic.core.calibration.image import memory_of
from yarvic.core.link.by_file import blocks_by_name
from yarvic.desk.overlays import Command
from yarvic.desk.theme import BODY_PX, CAPTION_PX, font, tokens
from yarvic.desk.views.flash.by_file import ByFile
from yarvic.desk.views.flash.memory import DIFFERS, PROVEN, SAME, WRITTEN, Memory
from yarvic.desk.views.flash.steps import StepsLine
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.words import Elided, act, label, row, sideways
from yarvic.state.bench import BenchState
from yarvic.state.requests import Request
from yarvic.state.session import Session

if TYPE_CHECKING:
    from yarvic.core.link.journal import Journal
    from yarvic.core.link.sectors import Step


# The step on the line by what the journal has last.
AT_STEP = {
    "unlock": "Unlocking", "erase": "Writing", "write": "Writing", "verify": "Comparing", "codes": "Clearing codes",
    "reset": "Starting",
}  # fmt: skip
MOST_NAMED = 4
LEAST_JOURNAL_PX = 80


def _battery(bench: BenchState) -> str:
    return "weak, simulated" if bench.faults.get("weak_battery") else "on maintainer, simulated"


class Link(QWidget):
    """Laptop, cable, unit, battery: a line that says whether the next step may be taken."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setFixedHeight(92)
        self.setAccessibleName("Link to the unit")

    def paintEvent(self, event) -> None:
        """Three boxes and two lines."""
        bench = self.session.bench
        if bench is None or self.session.job is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = tokens()
        identity = bench.unit.identify()
        revision = self.session.working_revision()
        boxes = (
            ("This desk", f"{revision.name} to write" if revision else "draft: not to be flashed", "bench link"),
            (
                "Control unit",
                f"{identity.name}",
                f"holds {bench.holds_in_words()}, family {identity.family}",
            ),
            ("Battery", f"{bench.unit.supply_voltage():.1f} V", _battery(bench)),
        )
        gap = 56.0
        width = (self.width() - 2 * gap - 4) / 3
        for i, (title, one, two) in enumerate(boxes):
            box = QRectF(2 + i * (width + gap), 6, width, 78)
            painter.setPen(QPen(t.color("line"), 1))
            painter.setBrush(t.color("ground"))
            painter.drawRoundedRect(box, 4, 4)
            painter.setFont(font(bold=True))
            painter.setPen(t.color("ink"))
            painter.drawText(QPointF(box.left() + 12, box.top() + 24), title)
            painter.setFont(font(BODY_PX))
            room = int(box.width()) - 20
            one = painter.fontMetrics().elidedText(one, Qt.TextElideMode.ElideMiddle, room)
            painter.drawText(QPointF(box.left() + 12, box.top() + 45), one)
            painter.setFont(font(CAPTION_PX))
            painter.setPen(t.color("quiet"))
            two = painter.fontMetrics().elidedText(two, Qt.TextElideMode.ElideRight, room)
            painter.drawText(QPointF(box.left() + 12, box.top() + 64), two)
            if i:
                painter.setPen(QPen(t.color("working"), 2))
                painter.drawLine(QPointF(box.left() - gap, 45), QPointF(box.left(), 45))


class FlashView(View):
    """Link, words, memory, journal."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Flash")
        self.add_bench(window.open_bench)
        self.link = Link(session)
        self.steps = StepsLine()
        self.memory = Memory()
        self.key = label("", "caption", wrap=True)
        self.go = act("Write and read back", session.flash)
        self.summary = Elided()
        self.broken = label("", "", wrap=True)
        self.go_on = act("Go on with the write", lambda: session.finish_write("go on"))
        self.put_back = act("Put the backup back", lambda: session.finish_write("restore"))
        self.journal = QListWidget()
        self.journal.setAccessibleName("Journal")
        self.journal.setMinimumHeight(LEAST_JOURNAL_PX)
        frame = QFrame()
        # In a low window, with an error above, there is more than there is room for.
        self.linked = sideways(frame)
        frame.setObjectName("sheet")
        column = QVBoxLayout(frame)
        column.setContentsMargins(12, 10, 12, 10)
        column.setSpacing(8)
        column.addWidget(self.link)
        line = row(self.go, self.summary, spacing=12)
        line.setStretch(1, 1)
        column.addLayout(line)
        column.addWidget(self.steps)
        column.addWidget(self.broken)
        column.addLayout(row(self.go_on, self.put_back, None, spacing=12))
        column.addWidget(self.memory)
        column.addWidget(self.key)
        column.addWidget(label("Journal", "title"))
        column.addWidget(self.journal, 1)
        self.by_file = ByFile(session)
        self.column.addWidget(self.linked, 1)
        self.column.addWidget(self.by_file, 1)
        self.refresh_on(session.job_changed, session.selection_changed, session.bench_changed, session.draft_changed)
        session.block_came.connect(self._block)
        self._proven: set[int] = set()
        self._proven_for: str = ""

    def refresh(self) -> None:
        """Compare the unit's memory with the working image."""
        s = self.session
        revision = s.working_revision()
        busy = s.busy is not None
        self.linked.setVisible(not s.from_outside)
        self.by_file.setVisible(s.from_outside)
        self.bench_word.setVisible(not s.from_outside)
        if s.from_outside:
            self.about.setText("no unit is on a link here: it is written by file, and read back")
            self.by_file.refresh()
            return
        left = s.bench.link.left_unfinished() if s.bench is not None and not busy else None
        self.go.setEnabled(s.bench is not None and revision is not None and not busy and left is None)
        self._say_broken(left)
        self.about.setText("writes what differs, block by block, and reads it back")
        self.link.update()
        if s.bench is None or s.job is None:
            self.memory.show_states([])
            self.summary.setText(
                "Open a job first."
                if s.job is None
                else "This job has no maps yet: import its stock image under Maps."
                if not s.job.has_maps
                else "No unit is on the link: no simulated vehicle has a unit of this family."
            )
            self.key.setText("")
            self.journal.clear()
            return
        if not busy:
            self.memory.block, self.memory.base = s.job.layout.block, s.job.layout.base
            names = self._names()
            self.memory.show_states(self._states(names), names)
            if left is None:
                proven = revision is not None and self._proven_for == revision.image and PROVEN in self.memory.states
                self.steps.show_at("") if proven else self.steps.show_nothing()
        self.summary.setText(self._sentence(busy))
        self.key.setText(
            f"{len(self.memory.states)} blocks of {s.job.layout.block} bytes. Thin outline: same as the working image. Blue"
            " outline: differs. Half filled: written. Filled: read back equal. The block with the header is written last."
        )
        self.journal.clear()
        for entry in reversed(s.job.journal()):
            self.journal.addItem(f"{entry.time[:16].replace('T', ' ')}   {entry.sentence}")

    def _say_broken(self, left: Journal | None) -> None:
        """A write that has not ended, and the two ways on."""
        for widget in (self.broken, self.go_on, self.put_back):
            widget.setVisible(left is not None)
        if left is not None:
            last = left.entries[-1].step if left.entries else ""
            self.steps.show_at(AT_STEP.get(last, "Writing"), stopped=True)
            began = left.begun.time[:16].replace("T", " ")
            self.broken.setText(
                f"The write of {left.begun.revision or 'an image'}, begun {began} UTC, was broken off:"
                f" {len(left.touched)} of {len(left.begun.sectors)} blocks were begun, and the unit does not start until it"
                " is ended. Do not drive. What the unit held before is in the vault."
            )

    def _names(self) -> Mapping[int, tuple[str, ...]]:
        """The blocks that differ between the unit and the working image, with what lies there."""
        s = self.session
        revision = s.working_revision()
        if revision is None or s.bench is None or s.job is None:
            return {}
        layout = s.job.layout
        return blocks_by_name(
            layout, memory_of(s.bench.unit.memory, layout), memory_of(s.job.image(revision.image), layout)
        )

    def _states(self, changed: Container[int]) -> list[str]:
        s = self.session
        assert s.bench is not None and s.job is not None
        count = s.job.layout.blocks
        revision = s.working_revision()
        if revision is None:
            return [SAME] * count
        proven = self._proven if self._proven_for == revision.image else set()
        return [DIFFERS if i in changed else PROVEN if i in proven else SAME for i in range(count)]

    def _sentence(self, busy: bool) -> str:
        s = self.session
        revision = s.working_revision()
        if busy:
            return "Keep the supply on. A cancel takes effect behind the present block and puts back what was there."
        if revision is None:
            return "The draft is not a revision yet: commit it under Maps."
        differs = self.memory.states.count(DIFFERS)
        if differs == 0:
            return f"The unit holds {revision.name} already."
        blocks = "1 block differs" if differs == 1 else f"{differs} blocks differ"
        names = list(dict.fromkeys(n for each in self.memory.names.values() for n in each))
        # Tables first: a checksum and the name differ whenever anything does.
        names.sort(key=lambda n: n.startswith("checksum") or n == "name of the revision")
        more = f" and {len(names) - MOST_NAMED} more" if len(names) > MOST_NAMED else ""
        where = f": {', '.join(names[:MOST_NAMED])}{more}" if names else ""
        return f"{blocks} between the unit and {revision.name}{where}."

    def _block(self, request: Request, step: Step) -> None:
        """Show a block of the revision that is being written, while that is the one in hand."""
        revision = self.session.working_revision()
        if revision is None or revision.id != request.revision or request.job != self.session.opening:
            return
        self.steps.show_at(step.phase)
        state = {"Writing": WRITTEN, "Comparing": PROVEN, "Restoring": DIFFERS}.get(step.phase)
        if step.sector is None or step.sector >= len(self.memory.states) or state is None:
            return
        if state == PROVEN:
            if self._proven_for != revision.image:
                self._proven, self._proven_for = set(), revision.image
            # Read from the first on, several at a time.
            self._proven.update(range(step.sector + 1))
            self.memory.states[: step.sector + 1] = [PROVEN] * (step.sector + 1)
        else:
            self.memory.states[step.sector] = state
        self.memory.show_states(self.memory.states)

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        if self.session.from_outside:
            return [("Tab, Space", "reach a word or a tick, and press it")]
        return [("Tab, Space", "reach and press Write and read back"), ("B", "bench: weather, run, fuel, faults")]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        if self.session.from_outside:
            return self.by_file.commands()
        return [Command("Flash the working map", "", self.session.flash)]

    def main_widget(self) -> QWidget:
        """The action takes the focus."""
        return self.by_file.export if self.session.from_outside else self.go


def make(session: Session, window: Desk) -> FlashView:
    """The view of this step."""
    return FlashView(session, window)
