"""Job: the vehicle as a strip of stations, and under it what is in hand: its sheet, a station, readiness, builds."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property, partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QFrame, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from yarvic.core.errors import MOST_NAME, YarvicError, in_plain
from yarvic.core.job.model import JobSheet
from yarvic.core.job.template import read_sheet, write_sheet
from yarvic.desk.names import DEMO_NAMES
from yarvic.desk.overlays import Command
from yarvic.desk.views.job.history import HistoryPanel
from yarvic.desk.views.job.items import ReadinessPanel
from yarvic.desk.views.job.new import NewJob
from yarvic.desk.views.job.station import StationPanel
from yarvic.desk.views.job.strip import Strip
from yarvic.desk.views.job.vehicle import VehiclePanel
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.panels import Panels
from yarvic.desk.widgets.words import act, chooser, label, row, show_choice, word
from yarvic.state.requests import Request
from yarvic.state.session import Session
from yarvic.state.settings import kept_path
from yarvic.state.shop import save_template

# The strip gives way to what is long.
TALL, LOW = 292, 236
MOST_LATELY = 5
PANELS = ("vehicle", "station", "readiness", "history")


class JobView(View):
    """The strip above; below it one panel."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Job")
        self.window_ = window
        self.strip = Strip(session)
        self.strip.chose.connect(self._chose)
        makers = {
            "vehicle": VehiclePanel,
            "station": StationPanel,
            "readiness": ReadinessPanel,
            "history": HistoryPanel,
        }
        self.panels = Panels({name: partial(make, session) for name, make in makers.items()}, "vehicle")
        self.words: dict[str, QPushButton] = {}
        for name, text, keys in (
            ("vehicle", "Vehicle", "V"),
            ("readiness", "Readiness", ""),
            ("history", "Build history", ""),
        ):
            self.words[name] = word(text, partial(self.show_panel, name), keys, checkable=True)
            self.head.addWidget(self.words[name])
        self.sheets = chooser("Sheet", self._sheets)
        show_choice(self.sheets, "Sheet")
        self.head.addWidget(self.sheets)
        self.full = QFrame()
        self.full.setObjectName("sheet")
        column = QVBoxLayout(self.full)
        column.setContentsMargins(10, 8, 10, 8)
        column.addWidget(self.strip)
        column.addWidget(self.panels, 1)
        self.empty = self._welcome(window)
        self.pages = QStackedWidget()
        for page in (self.empty, self.full):
            self.pages.addWidget(page)
        self.column.addWidget(self.pages, 1)
        self._show_words()
        session.job_changed.connect(self._opened)
        self.refresh_on(
            session.job_changed,
            session.sheet_changed,
            session.results_changed,
            session.units_changed,
            session.selection_changed,
            session.bench_changed,
        )

    def _welcome(self, window: Desk) -> QFrame:
        frame = QFrame()
        frame.setObjectName("sheet")
        column = QVBoxLayout(frame)
        column.setContentsMargins(40, 40, 40, 40)
        column.addWidget(label("No job is open", "big"))
        text = (
            "A job holds one vehicle: its maps, every revision with its reason, every pull, and what the checks said."
            " Open one, or build a demo: a rescue buggy with a map that fails its checks, a supply carrier whose gearbox is"
            " the weak link, or an ice-race twin that came with somebody's map."
        )
        column.addWidget(label(text, "quiet", wrap=True))
        column.addLayout(
            row(
                *(
                    act(f"Open the demo: {title}", partial(window.open_demo, name))
                    if name == "ptarmigan"
                    else word(title, partial(window.open_demo, name))
                    for name, title in DEMO_NAMES
                ),
                None,
                spacing=12,
            )
        )
        column.addLayout(
            row(
                word("New job  Ctrl+N", window.new_job, "Ctrl+N"),
                word("Open a job  Ctrl+O", window.ask_for_job, "Ctrl+O"),
                None,
                spacing=12,
            )
        )
        column.addSpacing(12)
        self.lately = QVBoxLayout()
        column.addLayout(self.lately)
        column.addSpacing(12)
        drop = (
            "Or drop a job on this window. With a job open, drop logs, images and mappings: each is led to its place."
        )
        column.addWidget(label(drop, "caption", wrap=True))
        column.addStretch(1)
        return frame

    def _show_lately(self) -> None:
        """The jobs that were opened lately, each a word."""
        while (item := self.lately.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()
        paths = [kept_path(p) for p in self.session.settings.recent[:MOST_LATELY]]
        if paths:
            self.lately.addWidget(label("Opened lately", "title"))
        for path in paths:
            again = word(in_plain(path.stem, MOST_NAME), partial(self.window_.open_job, path))
            again.setToolTip(str(path))
            self.lately.addWidget(again, 0, Qt.AlignmentFlag.AlignLeft)

    @property
    def vehicle(self) -> VehiclePanel:
        """The vehicle's sheet."""
        return self.panels.panel("vehicle")

    @property
    def station(self) -> StationPanel:
        """The station in hand."""
        return self.panels.panel("station")

    @property
    def readiness(self) -> ReadinessPanel:
        """All items."""
        return self.panels.panel("readiness")

    @property
    def history(self) -> HistoryPanel:
        """The builds."""
        return self.panels.panel("history")

    @cached_property
    def new(self) -> NewJob:
        """The form for a new job."""
        page = NewJob(self.session, self.window_, self._leave_new)
        self.pages.addWidget(page)
        return page

    def _on_new(self) -> bool:
        return "new" in self.__dict__ and self.pages.currentWidget() is self.new

    # -- which page, which panel

    def _opened(self) -> None:
        self.pages.setCurrentWidget(self.full if self.session.job is not None else self.empty)
        self.strip.chosen = ""
        self.panels.chosen = "vehicle"

    def begin_new(self) -> None:
        """Show the form for a new job."""
        self.pages.setCurrentWidget(self.new)
        self._show_words()
        self.new.open()

    def _leave_new(self) -> None:
        self.pages.setCurrentWidget(self.full if self.session.job is not None else self.empty)
        self._show_words()

    def show_panel(self, name: str) -> None:
        """Show one of the panels."""
        if name not in PANELS or self.session.job is None:
            return
        if name != "station" and self.strip.chosen:
            self.strip.chosen = ""
            self.strip.bring_up_to_date()
        self.strip.setFixedHeight(LOW if name in ("vehicle", "readiness") else TALL)
        self.panels.show_panel(name)
        self._show_words()

    def _show_words(self) -> None:
        new = self._on_new()
        for name, button in self.words.items():
            button.setChecked(name == self.panels.chosen)
            button.setVisible(self.session.job is not None and not new)
        self.sheets.setVisible(self.session.job is not None and not new)

    def show_station(self, key: str) -> None:
        """Choose a station, as a click does."""
        self.strip.choose(key)

    def _chose(self, key: str) -> None:
        self.station.station = key
        self.show_panel("station")

    # -- the sheet as a whole

    def _sheets(self) -> list[tuple[str, Callable[[], None]]]:
        job = self.session.job
        if job is None:
            return []
        return [
            ("Save as a template of the shop", self._save_template),
            ("Write to a TOML file", self.ask_to_write),
            ("Import from a TOML file", self.ask_to_read),
            ("Save a copy of the job", self.ask_to_copy),
            ("New job", self.window_.new_job),
        ]

    def _save_template(self) -> None:
        assert self.session.job is not None
        sheet = self.session.job.sheet
        try:
            path = save_template(sheet, sheet.title)
        except YarvicError as error:
            self.session.failed.emit(error)
            return
        self.session.say(f"Saved as a template: {path}. A new job can begin with it.")

    def ask_to_write(self) -> None:
        """Let a person choose where the sheet is written."""
        job = self.session.job
        assert job is not None
        sheet, name = job.sheet, f"{job.path.stem}-sheet.toml"
        chosen, _ = QFileDialog.getSaveFileName(self, "Write the job sheet", name, "TOML (*.toml)")
        if chosen:
            self.write(Path(chosen), sheet)

    def write(self, path: Path, sheet: JobSheet) -> None:
        """Write a sheet as TOML."""
        try:
            write_sheet(sheet, path)
        except YarvicError as error:
            self.session.failed.emit(error)
            return
        self.session.say(f"The sheet is written: {path}")

    def ask_to_copy(self) -> None:
        """Let a person choose where a copy of the job is saved, also when its own file is gone."""
        s, job = self.session, self.session.job
        assert job is not None
        name = str(job.path.with_name(f"{job.path.stem}-copy.yarvic"))
        chosen, _ = QFileDialog.getSaveFileName(self, "Save a copy of the job", name, "Yarvic jobs (*.yarvic)")
        if chosen:
            path = Path(chosen)
            s.start(
                s.request("saving a copy"),
                f"Saving {path.name}",
                lambda progress, cancelled: job.copy_to(path),
                lambda _: s.say(f"The copy is saved: {path}"),
            )

    def ask_to_read(self) -> None:
        """Let a person choose a sheet to take vehicle and limits from."""
        request = self.session.request("importing the sheet")
        chosen, _ = QFileDialog.getOpenFileName(self, "Import a job sheet", "", "TOML (*.toml)")
        if chosen:
            self.read(Path(chosen), request)

    def read(self, path: Path, request: Request) -> None:
        """Take vehicle, limits and what else a sheet holds, where the request holds; Ctrl+Z undoes it."""
        s = self.session
        try:
            s.still(request)
        except YarvicError as error:
            s.failed.emit(error)
            return
        job, sheet = s.job, s.sheet
        assert job is not None and sheet is not None
        onto = job.sheet

        def enter(found: JobSheet) -> None:
            sheet.import_sheet(found, path.name)
            s.say(f"Imported from {path.name}. Ctrl+Z undoes it.")

        about = s.request(request.kind, reads=("the sheet",))
        s.read_file(about, path, partial(read_sheet, path, onto=onto), enter)

    # -- what every view has

    def refresh(self) -> None:
        """Show what the job says."""
        job = self.session.job
        if not self._on_new():
            self.pages.setCurrentWidget(self.full if job is not None else self.empty)
        self._show_words()
        if job is None:
            self.about.setText("")
            self._show_lately()
            return
        sheet = job.sheet
        altitude = f"{sheet.altitude_m:.0f} m altitude" if sheet.altitude_m is not None else ""
        words = (sheet.shop, f"{sheet.purpose}, {sheet.use}", altitude)
        self.about.setText(" · ".join(w for w in words if w))
        self.strip.bring_up_to_date()
        self.show_panel(self.panels.chosen)

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        return [
            ("Arrows", "move from station to station"),
            ("Tab", "into the panel under the strip"),
            ("Enter", "save what was written in a line"),
            ("Ctrl+N", "new job"),
        ]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        if self.session.job is None:
            return []
        return [
            Command("Vehicle: what it is and what it is for", "", partial(self.show_panel, "vehicle")),
            Command("Readiness of the vehicle", "", partial(self.show_panel, "readiness")),
            Command("Build history", "", partial(self.show_panel, "history")),
            *(
                Command(f"Station: {station.title}", "", partial(self.show_station, key))
                for key, (station, _) in self.strip.places().items()
            ),
            Command("Save the sheet as a template of the shop", "", self._save_template),
            Command("Write the sheet to a TOML file", "", self.ask_to_write),
            Command("Save a copy of the job", "", self.ask_to_copy),
            Command("Import vehicle and limits from a TOML file", "", self.ask_to_read),
        ]

    def main_widget(self) -> QWidget:
        """The strip takes the keys."""
        return self.strip

    def escape(self) -> None:
        """Esc leaves the form of a new job."""
        if self._on_new():
            self._leave_new()


def make(session: Session, window: Desk) -> JobView:
    """The view of this step."""
    return JobView(session, window)
