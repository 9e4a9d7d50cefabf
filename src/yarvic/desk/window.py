"""The window: ladder above, route left, figure in the middle, readings right, status below."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QByteArray, Qt, QTimer
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from yarvic.core.errors import (
    FormatError,
    JobGoneError,
    JobInUseError,
    JobNotWritableError,
    LinkError,
    NotReadyError,
    YarvicError,
    in_plain,
)
from yarvic.desk.arriving import Arriving
from yarvic.desk.commands import COMMON_KEYS, WITH_BENCH, commands_of
from yarvic.desk.demos import Demos
from yarvic.desk.head import Group, Head, job_groups
from yarvic.desk.ladder import Ladder
from yarvic.desk.overlays import Command, CommandList, KeySheet, Notice
from yarvic.desk.readings import Readings
from yarvic.desk.route import Route
from yarvic.desk.statusline import StatusLine
from yarvic.desk.theme import apply_theme
from yarvic.desk.views.view import View
from yarvic.desk.watching import Watching
from yarvic.desk.workers import QtRunner
from yarvic.state.arrivals import Arrivals
from yarvic.state.maps import MapsState
from yarvic.state.requests import Request
from yarvic.state.selection import DRAFT
from yarvic.state.session import STEPS, Session
from yarvic.state.settings import Settings, save_settings

if TYPE_CHECKING:
    from yarvic.desk.views.job import JobView

# How often a job that is open read only is looked at for what its writer did.
LOOKS_EVERY_MS = 2000
# The steps whose edits are the sheet's, not the draft's.
OF_THE_SHEET = ("job", "plan", "checks")


class Window(QMainWindow):
    """The desk. Views are made when they are first shown."""

    def __init__(self, settings: Settings) -> None:
        super().__init__()
        self.setWindowTitle("Yarvic")
        self.runner = QtRunner(self)
        self.session = Session(settings, self.runner)
        self.maps = MapsState(self.session)
        self.arrivals = Arrivals(self.session)
        self.arriving = Arriving(self)
        self.watching = Watching(self, self.session, self.runner, self.arriving.bring)
        self.head = Head(
            self, self._job_groups, lambda: self.commands.open(), lambda: self.open_keys(), self.watching.button
        )
        self.ladder = Ladder(self.session)
        self.route = Route(self.session)
        self.readings = Readings(self.session)
        self.status = StatusLine(self.session, self.runner)
        self.notice = Notice()
        self.stack = QStackedWidget()
        self.views: dict[str, View] = {}
        self._leaves = False  # it was asked once to close while a unit was being written
        self.demos = Demos(self.session, self.runner, self.open_job)
        self._arrange()
        self.commands = CommandList(self, self._commands)
        self.keys = KeySheet(self)
        self._shortcuts()
        self.session.step_changed.connect(self._show_step)
        self.session.failed.connect(self._show_error)
        self.session.theme_changed.connect(self._retheme)
        self.session.job_changed.connect(self._opened)
        self.session.panel_asked.connect(lambda panel: self.shown().show_panel(panel))
        looks = QTimer(self)
        looks.timeout.connect(lambda: self.session.attempt(self.session.look_again))
        looks.start(LOOKS_EVERY_MS)
        self.resize(1280, 800)
        self.setMinimumSize(960, 640)
        self.setAcceptDrops(True)
        if settings.geometry:
            self.restoreGeometry(QByteArray.fromBase64(settings.geometry.encode("ascii", errors="ignore")))
        self._show_step(settings.step)
        self.ladder.setFocus(Qt.FocusReason.OtherFocusReason)

    def _arrange(self) -> None:
        middle = QWidget()
        middle.setObjectName("ground")
        figure = QVBoxLayout()
        figure.setContentsMargins(10, 10, 4, 6)
        figure.setSpacing(6)
        figure.addWidget(self.notice)
        figure.addWidget(self.stack, 1)
        row = QHBoxLayout(middle)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self.route)
        row.addLayout(figure, 1)
        row.addWidget(self.readings)
        whole = QWidget()
        whole.setObjectName("ground")
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.head)
        column.addWidget(self.ladder)
        column.addWidget(middle, 1)
        column.addWidget(self.status)
        self.setCentralWidget(whole)

    def _shortcuts(self) -> None:
        for number, step in enumerate(STEPS, 1):
            self._key(f"Alt+{number}", partial(self.session.go, step))
        self._key("Ctrl+K", partial(self._toggle_layer, self.commands, self.commands.open))
        self._key("F1", partial(self._toggle_layer, self.keys, self.open_keys))
        self._key("Ctrl+O", self.ask_for_job)
        self._key("Ctrl+N", self.new_job)
        self._key("Ctrl+I", self.ask_for_logs)
        self._key("Ctrl+W", self.session.leave_job)
        self._key("Ctrl+Q", self.close)
        self._key("F6", self._next_part)
        self._key("B", self._to_or_from_bench)
        self._key("Ctrl+Z", self._undo)
        self._key("Ctrl+Shift+Z", self._redo)
        self._key("Escape", self._escape)

    def _key(self, keys: str, action: Callable[[], object]) -> None:
        shortcut = QShortcut(QKeySequence(keys), self)
        shortcut.activated.connect(lambda: action())

    def _toggle_layer(self, layer: QWidget, open_: Callable[[], object]) -> None:
        """A key that opens closes."""
        if layer.isVisible():
            self._escape()
        else:
            open_()

    # -- views

    def view(self, step: str) -> View:
        """The view of a step, made when first asked for."""
        if step not in self.views:
            module = import_module(f"yarvic.desk.views.{step}")
            made: View = module.make(self.session, self)
            self.views[step] = made
            self.stack.addWidget(made)
        return self.views[step]

    def ask_to_discard(self) -> None:
        """Ask under Maps whether the draft is to be discarded."""
        from yarvic.desk.views.maps.view import MapsView

        self.session.go("maps")
        self.session.choose_working(DRAFT)
        view = self.view("maps")
        assert isinstance(view, MapsView)
        view.bring_up_to_date()
        view.commit.ask_to_discard()

    def open_bench(self) -> None:
        """Show the bench's page in place of the step's figure; Esc or its first word leads back."""
        from yarvic.desk.views.bench import BenchView  # its charts are not needed before it is asked for

        page = self.view("bench")
        assert isinstance(page, BenchView)
        page.came_from = self.session.settings.step
        page.refresh()
        page.bring_up_to_date()
        self.stack.setCurrentWidget(page)
        page.main_widget().setFocus(Qt.FocusReason.OtherFocusReason)

    def open_import(self) -> None:
        """Show the page of what arrived, in place of the step's figure; Esc leads back, and what waits, waits."""
        self.session.go("logs")
        page = self.view("importing")
        page.came_from = "logs"
        page.refresh()
        page.bring_up_to_date()
        self.stack.setCurrentWidget(page)
        page.main_widget().setFocus(Qt.FocusReason.OtherFocusReason)

    def open_comparing(self, *paths: Path) -> None:
        """Show the page on which two images are compared, of these files where some are given."""
        self._page("comparing")
        page = self.view("comparing")
        if paths:
            from yarvic.desk.views.comparing import ComparingView  # made when it is first asked for

            assert isinstance(page, ComparingView)
            page.compare(*paths)

    def open_searching(self) -> None:
        """Show the page on which tables are looked for in an image, in place of the step's figure."""
        self._page("searching")

    def open_live(self) -> None:
        """Show the page of the log as it comes from the unit, in place of the step's figure."""
        self._page("live")

    def _page(self, name: str) -> None:
        page = self.view(name)
        page.came_from = self.session.settings.step
        page.bring_up_to_date()
        self.stack.setCurrentWidget(page)
        page.main_widget().setFocus(Qt.FocusReason.OtherFocusReason)

    def ask_for_logs(self) -> None:
        """Let a person choose logs to import; what waits already is shown where nothing is chosen."""
        chosen, _ = QFileDialog.getOpenFileNames(
            self,
            "Import logs and dyno sheets",
            "",
            "Logs and dyno sheets (*.csv *.txt *.log *.tsv *.gz *.zip *.parquet *.xlsx *.mf4);;All files (*)",
        )
        if chosen:
            self.arriving.bring([Path(c) for c in chosen])
        elif self.arrivals.waiting:
            self.open_import()

    def use_mapping(self, path: Path) -> None:
        """Read what waits to be imported by a mapping from a file."""
        from yarvic.core.formats.mapping_file import read_mapping

        request = self.session.request("using a mapping")
        self.session.read_file(request, path, lambda: read_mapping(path), self.arrivals.use_mapping)

    def dragEnterEvent(self, event) -> None:
        """Files may be dropped anywhere."""
        self.arriving.offered(event)

    def dropEvent(self, event) -> None:
        """Each file is known by its content and led to its place."""
        self.arriving.dropped(event)

    def _to_or_from_bench(self) -> None:
        if self.shown() is self.views.get("bench"):
            self.shown().escape()
        elif self.session.settings.step in WITH_BENCH:
            self.open_bench()

    def shown(self) -> View:
        """The figure that is in sight: the step's, or the bench."""
        at = self.stack.currentWidget()
        return at if isinstance(at, View) else self.view(self.session.settings.step)

    def _show_step(self, step: str) -> None:
        view = self.view(step)
        self.stack.setCurrentWidget(view)
        view.bring_up_to_date()
        self._name_window()
        # The figure takes the keys, unless somebody is at the ladder or the readings.
        at = QApplication.focusWidget()
        if at is not None and (self.stack.isAncestorOf(at) or self.route.isAncestorOf(at)):
            view.main_widget().setFocus(Qt.FocusReason.OtherFocusReason)

    def _to_the_figure(self) -> None:
        self.shown().main_widget().setFocus(Qt.FocusReason.OtherFocusReason)

    def _opened(self) -> None:
        self.notice.hide()
        self._name_window()

    def _name_window(self) -> None:
        job = self.session.job
        self.setWindowTitle(f"{in_plain(job.sheet.title, 80)} · Yarvic" if job is not None else "Yarvic")

    def _job_groups(self) -> list[Group]:
        copy = lambda: self._job_view().ask_to_copy()  # noqa: E731 - the view is made when it is asked for
        return job_groups(
            self, close=self.session.leave_job, quit_=self.close, copy=copy, image=self.ask_for_image,
            watch=self.watching.ask,
        )  # fmt: skip

    def _retheme(self) -> None:
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        apply_theme(app, self.session.settings.theme)
        from yarvic.desk.widgets.plot import restyle

        # Views stay as they are: what is written in them, and what is half-way, is not lost with a colour.
        restyle()
        for view in self.views.values():
            view.changed()
        self.update()

    # -- jobs

    def open_job(self, path: Path, *, read_only: bool = False, opened: Callable[[], None] = lambda: None) -> None:
        """Open a job, beside the window; an error is shown in place, and the present job stays."""

        def failed(error: YarvicError) -> None:
            if isinstance(error, JobInUseError | JobNotWritableError):
                again = partial(self.open_job, path, read_only=True, opened=opened)
                self.notice.show_error(error, "Open it read only", again)
            else:
                self._show_error(error)

        def then() -> None:
            opened()
            QTimer.singleShot(0, self._to_the_figure)  # once it is drawn: what is hidden takes no focus

        self.session.open_beside(path, read_only=read_only, opened=then, failed=failed)

    def import_image(self, path: Path, request: Request | None = None) -> None:
        """Take the maps of an image file into the draft; an error is shown in place."""
        try:
            self.session.import_image(path, request)
        except YarvicError as error:
            self._show_error(error)

    def take_stock(self, path: Path, kind: str) -> None:
        """Take an image, or what describes one, for a job that has no maps yet."""
        from yarvic.desk.views.maps.view import MapsView

        view = self.view("maps")
        assert isinstance(view, MapsView)
        view.stock.take_file(path, kind)

    def ask_for_image(self) -> None:
        """Let a person choose an image file."""
        request = self.session.image_request()
        chosen, _ = QFileDialog.getOpenFileName(
            self, "Import maps from an image", "", "Images (*.hex *.s19 *.s37 *.srec *.bin);;All files (*)"
        )
        if chosen:
            self.import_image(Path(chosen), request)

    def open_demo(self, name: str = "ptarmigan") -> None:
        """Open a demo job, built first if it is not there yet."""
        self.demos.open(name)

    def ask_for_job(self) -> None:
        """Let a person choose a job file."""
        chosen, _ = QFileDialog.getOpenFileName(self, "Open a job", "", "Yarvic jobs (*.yarvic)")
        if chosen:
            self.open_job(Path(chosen))

    def new_job(self) -> None:
        """Show the form for a new job."""
        self.session.go("job")
        self._job_view().begin_new()

    def show_vehicle(self, panel: str = "vehicle") -> None:
        """Show a panel of the job's sheet: vehicle, readiness or history."""
        self.session.go("job")
        view = self._job_view()
        view.show_panel(panel)
        view.strip.setFocus(Qt.FocusReason.OtherFocusReason)

    def _job_view(self) -> JobView:
        from yarvic.desk.views.job import JobView

        view = self.view("job")
        assert isinstance(view, JobView)
        return view

    def _undo(self) -> None:
        self._step_back(back=True)

    def _redo(self) -> None:
        self._step_back(back=False)

    def _step_back(self, *, back: bool) -> None:
        """Job, Plan and Checks undo changes of the sheet, every other step those of the draft."""
        s = self.session
        if self.shown() is self.views.get("importing") and self.arrivals.shown is not None:
            if not self.arrivals.step(-1 if back else 1):
                s.say("Nothing to undo." if back else "Nothing to redo.")
            return
        if s.settings.step in ("logs", "dyno") and back:
            try:
                if self.arrivals.undo():
                    return
            except YarvicError as error:
                self._show_error(error)
                return
        if s.settings.step not in OF_THE_SHEET or s.sheet is None:
            (self.maps.edits.undo if back else self.maps.edits.redo)()
            return
        try:
            what = s.sheet.undo() if back else s.sheet.redo()
        except YarvicError as error:
            self._show_error(error)
            return
        word = "Undone" if back else "Redone"
        s.say(f"{word}: {what}" if what else "Nothing to undo." if back else "Nothing to redo.")

    def ask_for_job_to_read(self) -> None:
        chosen, _ = QFileDialog.getOpenFileName(self, "Open a job read only", "", "Yarvic jobs (*.yarvic)")
        if chosen:
            self.open_job(Path(chosen), read_only=True)

    # -- overlays

    def _show_error(self, error: YarvicError) -> None:
        if isinstance(error, NotReadyError):
            self.notice.show_error(error, "Go to readiness", partial(self.show_vehicle, "readiness"))
        elif isinstance(error, JobGoneError) and self.session.job is not None:
            self.notice.show_error(error, "Save a copy", self._job_view().ask_to_copy)
        else:
            self.notice.show_error(error)

    def open_keys(self) -> None:
        shown = self.shown()
        self.keys.open(shown.heading.text(), [*shown.keys(), *COMMON_KEYS])

    def _escape(self) -> None:
        for layer in (self.keys, self.commands, self.notice):
            if layer.isVisible():
                layer.hide()
                return
        self.shown().escape()

    def _next_part(self) -> None:
        parts: list[QWidget] = [self.ladder, self.shown().main_widget(), self.readings]
        focus = QApplication.focusWidget()
        at = next((i for i, p in enumerate(parts) if focus is not None and (p is focus or p.isAncestorOf(focus))), -1)
        target = parts[(at + 1) % len(parts)]
        if target is self.readings and self.readings.cards:
            target = next((c for c in self.readings.cards if c.isEnabled()), target)
        target.setFocus(Qt.FocusReason.TabFocusReason)

    def _commands(self) -> list[Command]:
        return commands_of(self)

    def closeEvent(self, event) -> None:
        """Remember the window; the draft is on disk already. While a unit is written it takes a second time to close it."""
        if self.session.link.writing and not self._leaves:
            self._leaves = True
            self._show_error(
                LinkError(
                    "the unit is being written",
                    concerns=self.session.busy or "",
                    remedy="Wait until it is done, or cancel it. Closed again, the window goes, and what was written is put"
                    " back before the program ends: keep the supply on until then.",
                )
            )
            event.ignore()
            return
        settings = self.session.settings
        settings.geometry = bytes(self.saveGeometry().toBase64().data()).decode("ascii")
        with suppress(FormatError):  # said at the start, where something could be done about it
            save_settings(settings)
        # The job first: what is under way for it is dropped, and one that is being opened is closed again.
        self.session.close_job()
        self.runner.stop()
        super().closeEvent(event)
