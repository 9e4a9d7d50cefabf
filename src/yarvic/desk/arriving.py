"""Files that are dropped on the window: each is known by its content, and led to its place."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from urllib.parse import unquote_to_bytes

from PyQt6.QtCore import QUrl

from yarvic.core.errors import FormatError, JobError, YarvicError
from yarvic.core.formats.arrived import kind_of_file
from yarvic.core.job.lock import is_job_open
from yarvic.desk.views.view import Desk
from yarvic.state.work import Asked, Progress


class Arriving:
    """Leads files to where they belong: a job is opened, an image goes into the draft, a log waits to be answered."""

    def __init__(self, window: Desk) -> None:
        self.window = window
        self._left: list[Path] = []
        self._at_work = False

    def offered(self, event) -> None:
        """Take what holds files."""
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropped(self, event) -> None:
        """Bring what was dropped."""
        paths = [_path_of(url) for url in event.mimeData().urls() if url.isLocalFile()]
        event.acceptProposedAction()
        self.bring(paths)

    def bring(self, paths: Sequence[Path]) -> None:
        """Lead files to their places, one after the other."""
        self._left = [*self._left, *paths]
        if not self._at_work:
            self._next()

    def _next(self) -> None:
        self._at_work = bool(self._left)
        if not self._left:
            return
        path = self._left.pop(0)
        session = self.window.session
        request = session.request("looking at the file")

        def work(progress: Progress, cancelled: Asked) -> str:
            return "job" if is_job_open(path) else kind_of_file(path)

        session.requests.submit(
            request,
            f"Looking at {path.name}",
            work,
            lambda kind: self._lead(path, kind),
            failed=self._unknown,
            ended=self._ended,
            visible=False,
        )

    def _ended(self) -> None:
        self._at_work = False

    def _unknown(self, error: YarvicError) -> None:
        self.window.session.failed.emit(error)
        self._next()

    def _lead(self, path: Path, kind: str) -> None:
        window = self.window
        if kind == "job":
            window.open_job(path, opened=self._next)
        elif kind in ("image", "description", "layout"):
            self._memory(path, kind)
        elif kind == "mapping":
            self._mapping(path)
        elif kind == "package":
            window.session.go("release")
            window.session.say(f"{path.name} is a release package: check it under Release, Verify.")
        else:
            self._at_work = True
            window.arrivals.open(path, opened=window.open_import, ended=self._next)
        if kind not in ("log", "job"):
            self._next()

    def _memory(self, path: Path, kind: str) -> None:
        """An image, or what describes one: for a job without maps its stock image, else a draft's maps."""
        window, job = self.window, self.window.session.job
        if job is None:
            window.session.failed.emit(
                JobError(
                    f"this is {'an image' if kind == 'image' else 'the description of a memory'}, and no job is open",
                    concerns=str(path),
                    remedy="Open the vehicle's job, or begin one (Ctrl+N), and drop it again.",
                )
            )
            return
        window.session.go("maps")
        if not job.has_maps:
            window.take_stock(path, kind)
        elif kind == "image":
            window.import_image(path)
        else:
            window.session.failed.emit(
                JobError(
                    "this is the description of a memory, and the job has its own", concerns=str(path),
                    remedy="Nothing was changed. Begin another job for another unit.",
                )
            )  # fmt: skip

    def _mapping(self, path: Path) -> None:
        if self.window.arrivals.shown is None:
            self.window.session.failed.emit(
                FormatError(
                    "this is a mapping of columns, and no log waits for one", concerns=str(path),
                    remedy="Drop the log first, then its mapping.",
                )
            )  # fmt: skip
            return
        self.window.open_import()
        self.window.use_mapping(path)


def _path_of(url: QUrl) -> Path:
    """The path of a file's address, byte for byte: a name need not be text."""
    encoded = url.path(QUrl.ComponentFormattingOption.FullyEncoded)
    return Path(os.fsdecode(unquote_to_bytes(encoded)))
