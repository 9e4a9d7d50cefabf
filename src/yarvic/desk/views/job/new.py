"""A new job: from nothing but the kind of engine, from a template of the shop, or like the job that is open."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFrame, QVBoxLayout

from yarvic.core.errors import JobError, YarvicError
from yarvic.core.job.model import JobSheet
from yarvic.core.job.template import as_template, begin, read_sheet, starts
from yarvic.desk.views.view import Desk
from yarvic.desk.widgets.entry import Line, Sheet
from yarvic.desk.widgets.words import act, chooser, label, row, show_choice, word
from yarvic.state.jobs import create_job, job_path
from yarvic.state.session import Session
from yarvic.state.settings import home
from yarvic.state.shop import templates

FIELD_PX = 320


class NewJob(QFrame):
    """A short form; Enter in its last line creates the job."""

    def __init__(self, session: Session, window: Desk, leave: Callable[[], None]) -> None:
        super().__init__()
        self.session, self.window_ = session, window
        self.setObjectName("sheet")
        self._kind = next(iter(starts()))
        self._template: Path | None = None
        self._like_open = False
        self.title = Line("Title of the job", lambda text: None, FIELD_PX, "such as Lapwing, delivery van")
        self.start = chooser("Begin with", self._choices)
        self.folder = Line("Folder", lambda text: None, FIELD_PX)
        self.where = label("", "caption", wrap=True)
        self.go = act("Create the job", self.make)
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        sheet = Sheet("")
        sheet.line("Title", self.title)
        sheet.line("Begin with", self.start)
        sheet.line("Folder", self.folder)
        column = QVBoxLayout(self)
        column.setContentsMargins(40, 30, 40, 30)
        column.setSpacing(10)
        column.addWidget(label("New job", "big"))
        text = (
            "Only the title is needed now. The sheet is saved as far as it is filled in, and each step says what it"
            " still lacks. Maps come later, from an image file or from the unit."
        )
        column.addWidget(label(text, "quiet", wrap=True))
        column.addLayout(sheet)
        column.addWidget(self.where)
        column.addLayout(row(self.go, word("Cancel", leave, "Esc"), None, spacing=12))
        column.addWidget(self.fault)
        column.addStretch(1)
        self.title.textChanged.connect(lambda _: self._show())
        self.folder.textChanged.connect(lambda _: self._show())
        self.title.returnPressed.connect(self.make)
        self.folder.returnPressed.connect(self.make)

    def open(self) -> None:
        """Begin anew."""
        self.title.clear()
        if not self.folder.text():
            self.folder.setText(str(home() / "jobs"))
        self._template, self._like_open = None, False
        self.fault.hide()
        self._show()
        self.title.setFocus()

    def _choices(self) -> list[tuple[str, Callable[[], None]]]:
        found: list[tuple[str, Callable[[], None]]] = [
            (title, partial(self._choose, kind=key)) for key, title in starts().items()
        ]
        if self.session.job is not None:
            title = f"Like {self.session.job.sheet.title}, which is open"
            found.append((title, partial(self._choose, like_open=True)))
        return found + [
            (f"Template: {name}", partial(self._choose, template=path)) for name, path in templates().items()
        ]

    def _choose(self, *, kind: str = "", template: Path | None = None, like_open: bool = False) -> None:
        self._kind = kind or self._kind
        self._template, self._like_open = template, like_open
        self._show()

    def _show(self) -> None:
        if self._template is not None:
            text = f"Template: {self._template.stem}"
        elif self._like_open and self.session.job is not None:
            text = f"Like {self.session.job.sheet.title}"
        else:
            text = starts()[self._kind]
        show_choice(self.start, text)
        title = self.title.text().strip()
        self.where.setText(f"File: {job_path(Path(self.folder.text()), title)}" if title else "")

    def _sheet_from(self) -> Callable[[], JobSheet]:
        """What makes the sheet that the job begins with, beside the window. Raises JobError without a title."""
        title = self.title.text().strip()
        if not title:
            raise JobError("the job needs a title", remedy="Write what the vehicle is called here.")
        if self._template is not None:
            template = self._template
            return lambda: as_template(read_sheet(template), title)
        if self._like_open and self.session.job is not None:
            like = self.session.job.sheet
            return lambda: as_template(like, title)
        return partial(begin, self._kind, title)

    def make(self) -> None:
        """Create the job and open it."""
        self.fault.hide()
        try:
            sheet = self._sheet_from()
        except YarvicError as error:
            self._fail(error)
            return
        s, folder, author = self.session, Path(self.folder.text()), self.session.settings.author

        def opened(path: Path) -> None:
            self.window_.open_job(path, opened=self.window_.show_vehicle)

        s.start(
            s.request("creating the job"),
            "Creating the job",
            lambda progress, cancelled: create_job(folder, sheet(), author),
            opened,
            failed=self._fail,
        )

    def _fail(self, error: YarvicError) -> None:
        self.fault.setText(str(error))
        self.fault.show()
