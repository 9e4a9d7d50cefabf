"""Writing over a link: the unit as it stands, the acts, the steps, the memory that fills block by block, the journal."""

from __future__ import annotations

from collections.abc import Container, Mapping
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QFileDialog, QFrame, QListWidget

from yarvic.core.calibration.image import memory_of
from yarvic.core.errors import YarvicError
from yarvic.core.link.by_file import blocks_by_name
from yarvic.desk.views.flash.bus import BusRow
from yarvic.desk.views.flash.memory import COLUMNS, DIFFERS, PROVEN, SAME, UNKNOWN, WRITTEN, Memory
from yarvic.desk.views.flash.picture import LinkPicture
from yarvic.desk.views.flash.steps import StepsLine
from yarvic.desk.widgets.fault import FaultLine
from yarvic.desk.widgets.words import act, label, row, scrolled_sheet, word
from yarvic.state.pairing import may_pair, pair_image, paired_in_words
from yarvic.state.reach.door import Reach
from yarvic.state.requests import Request
from yarvic.state.session import Session

if TYPE_CHECKING:
    from yarvic.core.link.journal import Journal
    from yarvic.core.link.sectors import Step
    from yarvic.core.link.standing import Standing

# The step on the line by what the journal has last.
AT_STEP = {
    "unlock": "Unlocking", "erase": "Writing", "write": "Writing", "verify": "Comparing", "codes": "Clearing codes",
    "reset": "Starting",
}  # fmt: skip
MOST_NAMED = 8
LEAST_JOURNAL_PX = 80
LOOK_MS, GEARBOX_PX = 1000, 16
CAUTION = (
    "Before you write: hold the battery on a maintainer, air the room or lead the exhaust away, take everything else off"
    " the bus, and write only while the vehicle stands off the road. Local rules come first."
)


class WritePage(QFrame):
    """Link, words, steps, memory, journal."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.link, self.bus = LinkPicture(session), BusRow(session)
        self.steps, self.memory = StepsLine(), Memory()
        self.key = label("", "caption", wrap=True)
        self.caution = label(CAUTION, "caption", wrap=True)
        self.go = act("Write and read back", session.link.write)
        self.everything = word("Write all", partial(session.link.write, everything=True))
        self.everything.setToolTip("Writes all blocks, also those that do not differ")
        self.read = word("Read and keep", session.link.read)
        self.read.setToolTip("Reads all that the unit holds into the vault")
        self.open = act("Open the unit", session.link.open_lock)
        self.summary = label("", "", wrap=True)
        self.gearbox, self.gearbox_key = Memory(), label("", "caption", wrap=True)
        self.gearbox.setAccessibleName("Memory of the gearbox's unit, block by block")
        self.paired = label("", "quiet", wrap=True)
        self.pair = word("Choose its image", self.ask_to_pair)
        self.fault = FaultLine()
        self.broken, self.by_hand = label("", "", wrap=True), label("", "", wrap=True)
        self.go_on = act("Go on with the write", lambda: session.link.finish("go on"))
        self.put_back = act("Put the backup back", lambda: session.link.finish("restore"))
        self.again = word("Look again", session.link.look_afresh)
        self.journal = QListWidget()
        self.journal.setAccessibleName("Journal")
        self.journal.setMinimumHeight(LEAST_JOURNAL_PX)
        self._lay_out()
        session.link.step_came.connect(self._step)
        self._proven: set[int] = set()
        self._proven_for: str = ""
        # A unit on a bus of its own changes without this program hearing of it.
        self._clock = QTimer(self)
        self._clock.timeout.connect(session.link.look)

    def _lay_out(self) -> None:
        # In a low window, with an error above, there is more than there is room for.
        column = scrolled_sheet(self)
        column.setSpacing(8)
        column.addWidget(self.bus)
        column.addWidget(self.link)
        column.addLayout(row(self.go, self.everything, self.read, self.open, None, spacing=12))
        column.addWidget(self.summary)
        column.addWidget(self.caution)
        column.addWidget(self.steps)
        column.addWidget(self.broken)
        column.addWidget(self.by_hand)
        column.addLayout(row(self.go_on, self.put_back, self.again, None, spacing=12))
        column.addWidget(self.memory)
        column.addWidget(self.key)
        line = row(self.paired, self.pair, spacing=12)
        line.setStretch(0, 1)
        column.addLayout(line)
        column.addWidget(self.fault)
        column.addWidget(self.gearbox)
        column.addWidget(self.gearbox_key)
        column.addWidget(label("Journal", "title"))
        column.addWidget(self.journal, 1)

    def showEvent(self, event) -> None:
        """In sight: the unit is looked at."""
        self._clock.start(LOOK_MS)
        self.session.link.look()

    def hideEvent(self, event) -> None:
        """Out of sight: it is left alone."""
        self._clock.stop()

    # -- showing

    def refresh(self) -> None:
        """Show the unit as it was found, and compare what it holds with the working image."""
        s = self.session
        revision, busy, reach = s.working_revision(), s.busy is not None, s.link.reached()
        if self.isVisible():
            s.link.look()
            if revision is not None:
                s.link.look_through(revision)
        self.bus.setVisible(s.link.elsewhere)
        self.bus.refresh()
        if not busy:
            self.link.volts = None
        self.link.refresh()
        left = reach.pair_left() if reach is not None and not busy else []
        self._enable(busy, left)
        self._say_broken(left)
        if reach is None or s.job is None:
            self._nothing()
            return
        held = reach.memory()
        if not busy:
            self.memory.block, self.memory.base = s.job.layout.block, s.job.layout.base
            names = self._names(held)
            self.memory.show_states(self._states(names, held), names)
            if not left:
                proven = revision is not None and self._proven_for == revision.image and PROVEN in self.memory.states
                self.steps.show_at("") if proven else self.steps.show_nothing()
        self._show_gearbox(reach, busy)
        self.summary.setText(self._sentence(busy, held))
        unknown = " Dashed: not read yet." if held is None else ""
        self.key.setText(
            f"{len(self.memory.states)} blocks of {s.job.layout.block} bytes.{unknown} Thin outline: same as the working"
            " image. Heavy outline: differs. Half filled: written. Filled: read back equal. The block with the header is"
            " written last."
        )
        self.journal.clear()
        for entry in reversed(s.job.journal()):
            self.journal.addItem(f"{entry.time[:16].replace('T', ' ')}   {entry.sentence}")

    def _show_gearbox(self, reach: Reach, busy: bool) -> None:
        """What the gearbox's unit holds against what it is to hold with the working revision."""
        s = self.session
        revision, job = s.working_revision(), s.job
        words = paired_in_words(s)
        self.paired.setText(words)
        self.pair.setVisible(bool(words) or (job is not None and job.sheet.vehicle.gearbox == "automatic"))
        self.pair.setText("Choose its image" if words else "Gearbox with a unit of its own")
        self.pair.setEnabled(not busy and job is not None and not job.read_only)
        self.fault.hide()
        wanted = job.pairing_of(revision.id) if job is not None and revision is not None else None
        held = reach.gearbox.memory() if reach.gearbox is not None else None
        for widget in (self.gearbox, self.gearbox_key):
            widget.setVisible(wanted is not None)
        if wanted is None or job is None or busy:
            return
        layout = wanted.layout
        self.gearbox.block, self.gearbox.base = layout.block, layout.base
        self.gearbox.setFixedHeight(round(-(-layout.blocks // COLUMNS) * GEARBOX_PX))
        if held is None:
            self.gearbox.show_states([UNKNOWN] * layout.blocks, {})
            self.gearbox_key.setText("Gearbox's unit: not read yet.")
            return
        names = blocks_by_name(layout, memory_of(held, layout), memory_of(job.image(wanted.image), layout))
        self.gearbox.show_states([DIFFERS if n in names else SAME for n in range(layout.blocks)], dict(names))
        tables = list(dict.fromkeys(n for each in names.values() for n in each))
        differs = f"differs in {', '.join(tables[:MOST_NAMED])}" if tables else f"holds {wanted.title} already"
        self.gearbox_key.setText(f"Gearbox's unit, {layout.blocks} blocks of {layout.block} bytes: {differs}.")

    def ask_to_pair(self) -> None:
        """Let a person choose the image that goes with the working revision, and once the description of its memory."""
        s = self.session
        request = s.request("pairing", revision=s.working)
        description = None
        revision = s.working_revision()
        try:
            may_pair(s, revision.id if revision is not None else None)
        except YarvicError as error:
            self.fault.say(error)
            return
        if s.job is not None and not s.job.pairings():
            chosen, _ = QFileDialog.getOpenFileName(
                self, "Description of the gearbox's unit", "", "Descriptions (*.a2l *.toml);;All files (*)"
            )
            if not chosen:
                return
            description = Path(chosen)
        title = "Image that goes with it" if description is None else "Image that the gearbox's unit came with"
        chosen, _ = QFileDialog.getOpenFileName(
            self, title, "", "Images (*.hex *.s19 *.s37 *.srec *.bin);;All files (*)"
        )
        if chosen:
            name = s.settings.author or "not named"
            self.fault.attempt(lambda: pair_image(s, Path(chosen), description, name=name, request=request))

    def _enable(self, busy: bool, left: list[Journal]) -> None:
        s = self.session
        now = s.link.looked.now if s.link.looked is not None else None
        there = s.link.reached() is not None and not busy
        may = there and not left and s.working_revision() is not None
        locked = now is not None and not now.state.opened
        self.go.setEnabled(may)
        self.everything.setEnabled(may)
        self.read.setEnabled(there and not left)
        self.open.setVisible(locked and now is not None and now.state.lock == "once")
        self.open.setEnabled(there)

    def _nothing(self) -> None:
        s = self.session
        self.memory.show_states([])
        looked = s.link.looked
        fault = looked.fault if looked is not None else None
        self.summary.setText(
            "Open a job first."
            if s.job is None
            else "This job has no maps yet: import its stock image under Maps."
            if not s.job.has_maps
            else f"{fault.what[:1].upper()}{fault.what[1:]}. {fault.remedy}"
            if fault is not None
            else "No unit is on the link: no simulated vehicle has a unit of this family."
        )
        self.key.setText("")
        self.journal.clear()

    def _say_broken(self, left: list[Journal]) -> None:
        """A write that has not ended: where the unit stands, and the ways that are open."""
        looked = self.session.link.looked
        stands = looked.standing if left and looked is not None else None
        ways = stands.next if stands is not None else ()
        self.go_on.setVisible("go on" in ways)
        self.put_back.setVisible("restore" in ways)
        self.again.setVisible(stands is not None and not {"go on", "restore"} & set(ways))
        self.broken.setVisible(bool(left))
        self.by_hand.setVisible(bool(stands is not None and stands.steps))
        if not left:
            return
        broken = next((j for j in left if j.ended is None), left[0])
        last = broken.entries[-1].step if broken.entries else ""
        self.steps.show_at(AT_STEP.get(last, "Writing"), stopped=True)
        began = broken.begun.time[:16].replace("T", " ")
        touched, all_ = (sum(len(n) for n in each) for each in
                         ([j.touched for j in left], [j.begun.sectors for j in left]))  # fmt: skip
        where = stands.sentence if stands is not None else "Where the unit stands is being looked at."
        self.broken.setText(
            f"The write of {broken.begun.revision or 'an image'}, begun {began} UTC, was broken off:"
            f" {touched} of {all_} blocks were begun. {where} Do not drive. What the unit held"
            " before is in the vault."
        )
        self.by_hand.setText(_steps(stands))

    def _names(self, held: bytes | None) -> Mapping[int, tuple[str, ...]]:
        """The blocks that differ between the unit and the working image, with what lies there."""
        s = self.session
        revision = s.working_revision()
        if revision is None or held is None or s.job is None:
            return {}
        layout = s.job.layout
        return blocks_by_name(layout, memory_of(held, layout), memory_of(s.job.image(revision.image), layout))

    def _states(self, changed: Container[int], held: bytes | None) -> list[str]:
        s = self.session
        assert s.job is not None
        count = s.job.layout.blocks
        revision = s.working_revision()
        if held is None:
            return [UNKNOWN] * count
        if revision is None:
            return [SAME] * count
        proven = self._proven if self._proven_for == revision.image else set()
        return [DIFFERS if i in changed else PROVEN if i in proven else SAME for i in range(count)]

    def _sentence(self, busy: bool, held: bytes | None) -> str:
        s = self.session
        revision = s.working_revision()
        if busy:
            return "Keep the supply on. A cancel takes effect behind the present block and puts back what was there."
        if revision is None:
            return "The draft is not a revision yet: commit it under Maps."
        if held is None:
            return f"What the unit holds is read first; then what differs from {revision.name} is written."
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

    def _step(self, request: Request, step: Step) -> None:
        """Show a step of the revision that is being written, while that is the one in hand."""
        s = self.session
        if request.job != s.opening:
            return
        if step.supply_v is not None:
            self.link.volts = step.supply_v
            self.link.refresh()
        revision = s.working_revision()
        if request.kind != "flashing" or (request.revision is not None and revision is None):
            return
        if request.revision is not None and revision is not None and revision.id != request.revision:
            return
        self.steps.show_at(step.phase)
        state = {"Writing": WRITTEN, "Comparing": PROVEN, "Restoring": DIFFERS}.get(step.phase)
        if step.sector is None or state is None:
            return
        if step.half == "gearbox":
            if step.sector < len(self.gearbox.states):
                self.gearbox.states[step.sector] = state
                self.gearbox.show_states(self.gearbox.states)
            return
        first, end = self._blocks(step.sector)
        # What is put back, or gone on with, is not the image in hand: nothing of that is proven by it.
        if state == PROVEN and request.revision is not None:
            image = revision.image if revision is not None else ""
            if self._proven_for != image:
                self._proven, self._proven_for = set(), image
            # Read from the first on, several at a time.
            first = 0
            self._proven.update(range(end))
        self.memory.states[first:end] = [state] * (end - first)
        self.memory.show_states(self.memory.states)

    def _blocks(self, sector: int) -> tuple[int, int]:
        """The squares of a sector: those of the strip are as the layout divides it, sectors as the unit does."""
        looked = self.session.link.looked
        size = looked.now.map.sector if looked is not None and looked.now is not None else self.memory.block
        count, block = len(self.memory.states), self.memory.block
        first = min(sector * size // block, count)
        return first, max(min(-(-(sector + 1) * size // block), count), first)


def _steps(stands: Standing | None) -> str:
    """What to do by hand, numbered."""
    steps = stands.steps if stands is not None else ()
    return "\n".join(f"{n}. {step}" for n, step in enumerate(steps, 1))
