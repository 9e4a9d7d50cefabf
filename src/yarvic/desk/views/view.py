"""What every view has: a title line, words, a figure, its keys and commands."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from yarvic.desk.overlays import Command
from yarvic.desk.widgets.words import Elided, label, word
from yarvic.state.session import Session

if TYPE_CHECKING:
    from yarvic.state.arrivals import Arrivals
    from yarvic.state.maps import MapsState
    from yarvic.state.requests import Request


class Desk(Protocol):
    """What a view asks of the window that it stands in."""

    session: Session
    maps: MapsState
    arrivals: Arrivals

    def open_bench(self) -> None:
        """Show the bench's page."""

    def open_import(self) -> None:
        """Show the page of what arrived from outside."""

    def open_comparing(self, *paths: Path) -> None:
        """Show the page on which two images are compared, of these files where some are given."""

    def open_live(self) -> None:
        """Show the page of the log as it comes from the unit."""

    def open_searching(self) -> None:
        """Show the page on which tables are looked for in an image."""

    def ask_for_logs(self) -> None:
        """Let a person choose logs to import."""

    def ask_for_job(self) -> None:
        """Let a person choose a job file."""

    def open_job(self, path: Path, *, read_only: bool = False, opened: Callable[[], None] = lambda: None) -> None:
        """Open a job beside the window."""

    def open_demo(self, name: str = "ptarmigan") -> None:
        """Open a demo job."""

    def import_image(self, path: Path, request: Request | None = None) -> None:
        """Take the maps of an image file into the draft."""

    def take_stock(self, path: Path, kind: str) -> None:
        """Take an image, or what describes one, for a job that has no maps yet."""

    def use_mapping(self, path: Path) -> None:
        """Read what waits to be imported by a mapping from a file."""

    def new_job(self) -> None:
        """Show the form for a new job."""

    def show_vehicle(self, panel: str = "vehicle") -> None:
        """Show a panel of the job's sheet."""


class View(QWidget):
    """Base of the eight figures, and of the pages that stand in place of one; such a page leads back to a step."""

    came_from = ""

    def __init__(self, session: Session, title: str) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("ground")
        self.setAccessibleName(title)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(6)
        self.heading = label(title, "title")
        self.about = Elided()
        head = QHBoxLayout()
        head.setSpacing(12)
        head.addWidget(self.heading)
        head.addWidget(self.about, 1)
        self.head = head
        self.column.addLayout(head)
        self._stale = True

    def add_bench(self, open_bench: Callable[[], None]) -> None:
        """The word that leads to the bench; the window has its key."""
        self.bench_word = word("Bench", open_bench, "B")
        self.head.addWidget(self.bench_word)

    def refresh_on(self, *signals: Any) -> None:
        """Refresh when one of the signals comes; a view out of sight waits until it is shown."""
        for signal in signals:
            signal.connect(self.changed)

    def changed(self) -> None:
        """What the view shows is not what it was: it is shown anew, at once where it is in sight."""
        if self.isVisible():
            self._stale = False
            self.refresh()
        else:
            self._stale = True

    def nothing_yet(self, comes_here: str) -> tuple[str, str, bool]:
        """Title, text and whether to offer the way, for a view that shows evidence and has none."""
        s = self.session
        revision = s.evidence_revision()
        if s.job is not None and revision is None:
            text = f"{comes_here} appear here once its stock image was imported, under Maps, and it was pulled."
            return "This job has no maps yet", text, False
        if s.job is None or revision is None:
            return "No job is open", f"{comes_here} appear here once a job is open.", True
        by = "once a log or a dyno sheet of it was imported: drop the file on the window"
        if not s.from_outside:
            by = "once it was flashed and pulled, or a log of it was imported"
        return f"No pulls of {revision.name} yet", f"{comes_here} appear here {by}.", True

    def bring_up_to_date(self) -> None:
        """Called when the view is shown: refresh it if something changed while it was out of sight."""
        if self._stale:
            self._stale = False
            self.refresh()

    def refresh(self) -> None:
        """Show the state anew."""

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view, for F1."""
        return []

    def commands(self) -> list[Command]:
        """Commands of this view, for Ctrl+K."""
        return []

    def main_widget(self) -> QWidget:
        """Where the focus goes when the figure is chosen by key."""
        return self

    def show_panel(self, name: str) -> None:
        """Show a part of the view, for those that have parts."""

    def escape(self) -> None:
        """Esc: leave what is half-way; never lose work."""
