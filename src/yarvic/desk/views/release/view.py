"""Release: the gate as a list of conditions with evidence, waivers by name, the sheet as it will print, sign and export."""

from __future__ import annotations

from datetime import date
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QFileDialog,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from yarvic.core.errors import ReleaseError, YarvicError
from yarvic.core.formats.files import file_name
from yarvic.core.release.gate import Condition, is_open
from yarvic.desk.overlays import Command
from yarvic.desk.views.release.keys import KeysDialog
from yarvic.desk.views.release.preview import SheetPreview
from yarvic.desk.views.release.sign import SignDialog
from yarvic.desk.views.release.verify import VerifyDialog
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.glyphs import Glyph
from yarvic.desk.widgets.words import Elided, act, label, row, rule, word
from yarvic.state.acts import DRAWING
from yarvic.state.keys import KeyState, key_state, signing_key
from yarvic.state.release import Waiving, begin_waiver, capture, gate_conditions, release, waive
from yarvic.state.session import Session
from yarvic.state.signing import Signing, sheet_pdf
from yarvic.state.verifying import Report, report_of
from yarvic.state.work import Asked, Progress


class ReleaseView(View):
    """Gate, waiver, sheet, signature."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Release")
        self.folder: Path | None = None
        self._waiving: Waiving | None = None  # begun, and not yet signed by name
        self._drawn: object = None
        body = QHBoxLayout()
        body.setSpacing(8)
        left = QVBoxLayout()
        left.setSpacing(6)
        self.gate_area = QScrollArea()
        self.gate_area.setWidgetResizable(True)
        self.gate_area.setFrameShape(self.gate_area.Shape.NoFrame)
        self.gate_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.gate_area.setAccessibleName("Conditions of release")
        left.addWidget(self.gate_area, 1)
        self.waiver = self._waiver_strip()
        left.addWidget(self.waiver)
        self.sign_strip = self._sign_strip()
        left.addWidget(self.sign_strip)
        body.addLayout(left, 11)
        paper = QFrame()
        paper.setObjectName("sheet")
        column = QVBoxLayout(paper)
        column.setContentsMargins(6, 6, 6, 6)
        column.addWidget(label("Customer sheet, as it will print", "caption"))
        self.preview = SheetPreview()
        column.addWidget(self.preview, 1)
        body.addWidget(paper, 9)
        self.column.addLayout(body, 1)
        self.refresh_on(
            session.job_changed,
            session.selection_changed,
            session.results_changed,
            session.bench_changed,
            session.units_changed,
        )

    def _waiver_strip(self) -> QFrame:
        frame = QFrame()
        frame.setObjectName("card")
        column = QVBoxLayout(frame)
        column.setContentsMargins(10, 6, 10, 6)
        column.setSpacing(4)
        self.waiver_title = label("", wrap=True)
        self.waiver_name = QLineEdit()
        self.waiver_name.setPlaceholderText("Name")
        self.waiver_name.setAccessibleName("Name on the waiver")
        self.waiver_name.setFixedWidth(130)
        self.waiver_reason = QLineEdit()
        self.waiver_reason.setPlaceholderText("Reason for the waiver")
        self.waiver_reason.setAccessibleName("Reason of the waiver")
        self.waiver_reason.returnPressed.connect(self._waive)
        self.waiver_fault = label("", "fault", wrap=True)
        self.waiver_fault.hide()
        column.addWidget(self.waiver_title)
        column.addLayout(row(self.waiver_name, self.waiver_reason))
        column.addLayout(row(None, word("Waive", self._waive, "Enter"), word("Cancel", self.escape, "Esc")))
        column.addWidget(self.waiver_fault)
        frame.hide()
        return frame

    def _sign_strip(self) -> QFrame:
        frame = QFrame()
        frame.setObjectName("card")
        column = QVBoxLayout(frame)
        column.setContentsMargins(10, 8, 10, 8)
        column.setSpacing(6)
        self.state = label("", "title", wrap=True)
        self.signer = QLineEdit()
        self.signer.setPlaceholderText("Who signs")
        self.signer.setAccessibleName("Signer")
        self.signer.setFixedWidth(150)
        self.sign = act("Sign and export", self._ask)
        self.place = Elided()
        self.place.setAccessibleName("Folder of the package")
        self.elsewhere = word("Another folder", self._choose_folder)
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        self.keys_word = word("Keys", self.show_keys)
        self.verify_word = word("Verify", self.ask_to_verify)
        top = row(self.state, self.keys_word)
        top.setStretch(0, 1)
        column.addLayout(top)
        column.addLayout(row(self.signer, self.sign, None, spacing=10))
        line = row(self.place)
        line.setStretch(0, 1)
        line.addWidget(self.elsewhere)
        line.addWidget(self.verify_word)
        column.addLayout(line)
        column.addWidget(self.fault)
        return frame

    # -- showing

    def refresh(self) -> None:
        """Show the gate of the working revision."""
        s = self.session
        conditions = gate_conditions(s)
        revision = s.working_revision()
        self.about.setText(f"{revision.name}: {revision.reason}" if revision else "")
        self._list(conditions)
        released = None
        if s.job is not None and revision is not None:
            released = next((r for r in s.job.releases() if r.revision_id == revision.id), None)
        if not self.signer.text():
            self.signer.setText(s.settings.author)
        folder = self._folder()
        self.place.setText(f"into {folder}" if folder else "")
        self.elsewhere.setEnabled(folder is not None)
        if s.job is None:
            self.state.setText("The gate of a revision appears here once a job is open.")
        elif revision is None:
            self.state.setText("A draft has no gate: commit, flash and pull it first.")
        elif released is not None:
            self.state.setText(f"{revision.name} is released: signed by {released.name}, {released.package}")
        elif is_open(conditions):
            self.state.setText(f"The gate is open: {revision.name} may be signed.")
        else:
            short = sum(not c.met for c in conditions)
            word_ = "condition" if short == 1 else "conditions"
            self.state.setText(f"{revision.name} does not meet {short} {word_}.")
        may = bool(conditions) and is_open(conditions) and released is None and s.busy is None
        self.sign.setEnabled(may and s.job is not None and not s.job.read_only)
        if self.isVisible():
            self._draw_sheet()

    def showEvent(self, event) -> None:
        """The sheet is drawn when it can be seen."""
        super().showEvent(event)
        self._draw_sheet()

    def _list(self, conditions: list[Condition]) -> None:
        frame = QFrame()
        frame.setObjectName("sheet")
        grid = QGridLayout(frame)
        grid.setContentsMargins(10, 6, 10, 6)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(1, 1)
        line = 0
        # What keeps the gate shut comes first; within that, the order of the work.
        for c in sorted(conditions, key=lambda c: c.met):
            if line:
                grid.addWidget(rule(), line, 0, 1, 3)
                line += 1
            text = QVBoxLayout()
            text.setSpacing(1)
            title = label(c.title, wrap=True)
            heavy = title.font()
            heavy.setBold(True)
            title.setFont(heavy)
            text.addWidget(title)
            text.addWidget(label(c.evidence, "caption", wrap=True))
            if c.waiver is not None:
                text.addWidget(label(f"Waived by {c.waiver.name}: {c.waiver.reason}", "caption", wrap=True))
            if c.lapsed is not None:
                why = "it was for less than is found now" if c.lapsed.finding else "it does not say for what finding"
                words = f"A waiver by {c.lapsed.name} does not hold any more: {why}."
                text.addWidget(label(words, "caption", wrap=True))
            glyph = Glyph(c.severity)
            grid.addWidget(glyph, line, 0, Qt.AlignmentFlag.AlignTop)
            grid.addLayout(text, line, 1)
            if c.may_waive and not c.met:
                grid.addWidget(word("Waive", partial(self._begin_waiver, c)), line, 2, Qt.AlignmentFlag.AlignTop)
            line += 1
        if not conditions:
            grid.addWidget(label("Nothing to judge yet.", "quiet"), 0, 0, 1, 3)
        grid.setRowStretch(line + 1, 1)
        old = self.gate_area.takeWidget()
        self.gate_area.setWidget(frame)
        if old is not None:
            old.hide()
            old.deleteLater()  # not at once: the focus may be leaving it

    def _draw_sheet(self) -> None:
        s = self.session
        revision = s.working_revision()
        if s.job is None or revision is None:
            self.preview.say("The sheet of a revision appears here: before and after, conditions, changes, fuel.")
            self._drawn = None
            return
        signer = next((r.name for r in s.job.releases() if r.revision_id == revision.id), "")
        key = (
            signer,
            s.job.path,
            revision.id,
            id(s.results.get(revision.id)),
            s.standard,
            str(s.settings.units),
            len(s.job.waivers(revision.id)),
        )
        if key == self._drawn:
            return
        self._drawn = key
        try:
            signing = capture(s, signer)
        except YarvicError as error:
            self.preview.say(str(error))
            return

        def work(progress: Progress, cancelled: Asked) -> bytes:
            return sheet_pdf(signing)

        def done(pdf: bytes) -> None:
            if self._drawn == key:
                self.preview.show_pdf(pdf)

        def failed(error: YarvicError) -> None:
            if self._drawn == key:
                self.preview.say(str(error))

        request = s.request(DRAWING, revision=revision.id)
        s.requests.submit(request, "Drawing the sheet", work, done, failed=failed, visible=False)

    # -- acting

    def _begin_waiver(self, condition: Condition) -> None:
        try:
            self._waiving = begin_waiver(self.session, condition.key)
        except YarvicError as error:
            self.session.failed.emit(error)
            return
        about = self._waiving
        self.waiver_title.setText(
            f"Waive for {about.revision.name}: {about.condition.title.lower()}. {about.condition.evidence}"
        )
        self.waiver_name.setText(self.waiver_name.text() or self.session.settings.author)
        self.waiver_fault.hide()
        self.waiver.show()
        self.waiver_reason.setFocus()

    def _waive(self) -> None:
        if self._waiving is None:
            return
        try:
            waive(self.session, self._waiving, self.waiver_name.text(), self.waiver_reason.text())
        except YarvicError as error:
            self.waiver_fault.setText(str(error))
            self.waiver_fault.show()
            return
        self.escape()
        self.refresh()

    def _folder(self) -> Path | None:
        if self.folder is not None:
            return self.folder
        return self.session.job.path.parent if self.session.job is not None else None

    def _choose_folder(self) -> None:
        request = self.session.request("choosing the folder")
        chosen = QFileDialog.getExistingDirectory(self, "Folder of the package", str(self._folder() or ""))
        if chosen and self.session.holds(request):
            self.folder = Path(chosen)
            self.refresh()

    def package_path(self) -> Path | None:
        """Where the package of the working revision will be written."""
        folder, job = self._folder(), self.session.job
        if folder is None or job is None:
            return None
        # A name may hold anything, a file's name may not.
        words = [file_name(w) for w in (job.sheet.vehicle.name, self.session.working_name())]
        return folder / f"{words[0] or 'vehicle'}-{words[1] or 'map'}-release.zip"

    def _ask(self) -> None:
        self.fault.hide()
        path, name = self.package_path(), self.signer.text().strip()
        try:
            if not name:
                raise ReleaseError("a release is signed by name", remedy="Fill in who signs.")
            signing = capture(self.session, name)
        except YarvicError as error:
            self.fault.setText(str(error))
            self.fault.show()
            self.signer.setFocus()
            return
        if path is None:
            return
        s, asked = self.session, partial(self._question, signing, path)
        request = s.request("reading the key", revision=signing.revision.id)
        s.requests.submit(request, "Key", lambda p, c: key_state(name, date.today()), asked, visible=False)

    def _question(self, signing: Signing, path: Path, key: KeyState) -> None:
        # What is signed is what stood here when it was asked for, whatever is chosen while the question is open.
        name = signing.signer
        text = (
            f"{signing.revision.name} will be signed by {name} and written to {path}."
            " A signature stays in the job's journal and cannot be undone."
        )
        dialog = SignDialog(self, text, key)
        dialog.accepted.connect(lambda: self._sign(signing, path, dialog.passphrase.text()))
        dialog.finished.connect(dialog.deleteLater)
        dialog.open()

    def _sign(self, signing: Signing, path: Path, passphrase: str) -> None:
        try:
            self.session.still(signing.request)
        except YarvicError as error:
            self.fault.setText(str(error))
            self.fault.show()
            return
        release(self.session, signing, path, partial(signing_key, signing.signer, passphrase))

    def show_keys(self) -> None:
        """Show the keys that are known at this desk."""
        dialog = KeysDialog(self, self.session, self.signer.text())
        dialog.finished.connect(dialog.deleteLater)
        dialog.open()

    def ask_to_verify(self) -> None:
        """Let a person choose a package, or a job, to be verified."""
        kinds = "Packages and jobs (*.zip *.yarvic);;All files (*)"
        chosen, _ = QFileDialog.getOpenFileName(self, "Verify a package or a job", str(self._folder() or ""), kinds)
        if chosen:
            self.verify(Path(chosen))

    def verify(self, path: Path) -> None:
        """Verify a package or a job, and show what it turned out to be."""
        s = self.session
        s.start(s.request("verifying"), f"Verifying {path.name}", lambda p, c: report_of(path, c), self._show_report)

    def _show_report(self, report: Report) -> None:
        dialog = VerifyDialog(self, report)
        dialog.finished.connect(dialog.deleteLater)
        dialog.open()

    def escape(self) -> None:
        """Leave the waiver."""
        self._waiving = None
        self.waiver_reason.clear()
        self.waiver.hide()

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        return [("Tab, Space", "reach and press Waive or Sign"), ("Esc", "leave a waiver")]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        found = [
            Command("Verify a package or a job", "", self.ask_to_verify),
            Command("Keys: yours, and those you know", "", self.show_keys),
        ]
        return [Command("Sign and export the working map", "", self._ask), *found] if self.sign.isEnabled() else found

    def main_widget(self) -> QWidget:
        """The signer's field takes the focus."""
        return self.signer


def make(session: Session, window: Desk) -> ReleaseView:
    """The view of this step."""
    return ReleaseView(session, window)
