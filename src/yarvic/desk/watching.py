"""Watches a folder beside the window and offers in the head what appears there; nothing is imported by itself."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtWidgets import QFileDialog, QWidget

from yarvic.core.errors import YarvicError
from yarvic.desk.widgets.words import chooser, show_choice, tip
from yarvic.desk.workers import QtRunner
from yarvic.state.session import Session
from yarvic.state.settings import kept_path, path_to_keep
from yarvic.state.watching import Entry, FolderWatch, entries

LOOKS_EVERY_MS = 2000


class Watching(QObject):
    """The watched folder of this desk; remembered from one start to the next."""

    def __init__(
        self, window: QWidget, session: Session, runner: QtRunner, bring: Callable[[list[Path]], None]
    ) -> None:
        super().__init__(window)
        self._window, self._session, self._runner, self._bring_files = window, session, runner, bring
        self.watch: FolderWatch | None = None
        self.offered: list[Path] = []
        self._looking = False
        self.button = chooser("Files that appeared in the watched folder", self._choices)
        self.button.hide()
        self.timer = QTimer(self)
        self.timer.setInterval(LOOKS_EVERY_MS)
        self.timer.timeout.connect(self.look)
        settings = session.settings
        if settings.watched:
            self._begin(kept_path(settings.watched), settings.watched_until)

    def _begin(self, folder: Path, until_s: float) -> None:
        self.watch, self.offered = FolderWatch(folder, until_s), []
        self.timer.start()
        self._show()

    # -- choosing

    def ask(self) -> None:
        """Let a person choose the folder."""
        chosen = QFileDialog.getExistingDirectory(self._window, "Watch a folder for logs and dyno sheets")
        if chosen:
            self.begin(Path(chosen))

    def begin(self, folder: Path) -> None:
        """Watch a folder from now on: what lies in it already is not offered."""
        settings = self._session.settings
        settings.watched, settings.watched_until = path_to_keep(folder), time.time()
        self._begin(folder, settings.watched_until)
        self._session.say(f"{folder} is watched: what appears there is offered at the top.")

    def stop(self) -> None:
        """Watch nothing any more."""
        self.timer.stop()
        self.watch, self.offered = None, []
        self._session.settings.watched = ""
        self._show()

    # -- looking

    def look(self) -> None:
        """Look into the folder, beside the window."""
        watch = self.watch
        if watch is None or self._looking:
            return
        self._looking = True
        self._runner.run(
            "Looking into the watched folder",
            lambda progress, cancelled: entries(watch.folder),
            partial(self._looked, watch),
            self._failed,
            visible=False,
        )

    def _looked(self, watch: FolderWatch, found: list[Entry]) -> None:
        self._looking = False
        if watch is not self.watch:
            return  # another folder was chosen meanwhile
        offered = watch.look(found)
        if offered != self.offered:
            self.offered = offered
            self._show()

    def _failed(self, error: YarvicError) -> None:
        self._looking = False
        if self.watch is not None:
            self.stop()
            self._session.failed.emit(error)

    # -- offering

    def _show(self) -> None:
        count = len(self.offered)
        show_choice(self.button, f"Appeared: {count}" if count else "")
        self.button.setVisible(count > 0)
        if self.watch is not None:
            tip(self.button, f"In {self.watch.folder}: {', '.join(p.name for p in self.offered[:20])}")

    def _choices(self) -> list[tuple[str, Callable[[], None]]]:
        found: list[tuple[str, Callable[[], None]]] = []
        if len(self.offered) > 1:
            found.append((f"Import all {len(self.offered)}", partial(self._bring, list(self.offered))))
        found += [(f"Import {p.name}", partial(self._bring, [p])) for p in self.offered]
        folder = self.watch.folder.name if self.watch is not None else ""
        return [*found, ("Leave them", partial(self._bring, [])), (f"Stop watching {folder}", self.stop)]

    def _bring(self, paths: list[Path]) -> None:
        """Lead files to their place; the others that were offered with them are offered no more."""
        if self.watch is None:
            return
        self._session.settings.watched_until = self.watch.dealt_with()
        self.offered = []
        self._show()
        if paths:
            self._bring_files(paths)
