"""Starting the desk."""

from __future__ import annotations

import gc
import os
import sys
from pathlib import Path

from PyQt6.QtCore import QLocale, QTimer
from PyQt6.QtWidgets import QApplication

from yarvic import __version__
from yarvic.core.caged import CAGE
from yarvic.desk.theme import apply_theme, load_fonts
from yarvic.desk.unexpected import Unexpected
from yarvic.desk.window import Window
from yarvic.state.settings import Settings, kept_path, remembered

SWITCH_S = 0.0005
READY_TO_READ_MS = 1500  # behind the first picture: what reads files is made ready
# Qt objects die with the application: it is held as long as the process lives.
_kept: list[QApplication] = []
_unexpected: list[Unexpected] = []


def has_display() -> bool:
    """Whether a screen is there to open a window on."""
    chosen = os.environ.get("QT_QPA_PLATFORM", "")
    if chosen:
        return chosen not in ("offscreen", "minimal")
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def application() -> QApplication:
    """The one QApplication, with fonts loaded."""
    existing = QApplication.instance()
    if isinstance(existing, QApplication):
        return existing
    # Each call into Qt gives the interpreter away: with the usual 5 ms the window waits for every judgement beside it.
    sys.setswitchinterval(SWITCH_S)
    # Numbers stand alike in the window, in files and on paper, in every language of the system.
    QLocale.setDefault(QLocale.c())
    app = QApplication([sys.argv[0]])
    app.setApplicationName("yarvic")
    app.setApplicationVersion(__version__)
    app.setStyle("Fusion")
    load_fonts()
    _kept.append(app)
    _unexpected.append(Unexpected())
    # What was imported stays: else each full collection goes through it, and the window stands still for 30 ms.
    gc.freeze()
    return app


def make_window(settings: Settings | None = None) -> Window:
    """A window in the remembered theme."""
    app = application()
    fault = None
    if settings is None:
        settings, fault = remembered()
    apply_theme(app, settings.theme)
    window = Window(settings)
    unexpected().happened.connect(window.notice.show_error)
    if fault is not None:
        window.notice.show_error(fault)
    return window


def unexpected() -> Unexpected:
    """Where errors that nobody foresaw arrive."""
    return _unexpected[0]


def run(job: Path | None = None, *, read_only: bool = False, build_demo: bool = False) -> int:
    """Open the desk and stay until it is closed."""
    app = application()
    window = make_window()
    window.show()

    def begin() -> None:
        if build_demo:
            window.open_demo()
        elif job is not None:
            window.open_job(job, read_only=read_only)
        elif window.session.settings.last_job and os.path.exists(kept_path(window.session.settings.last_job)):
            window.open_job(kept_path(window.session.settings.last_job))

    QTimer.singleShot(0, begin)
    QTimer.singleShot(READY_TO_READ_MS, CAGE.start)
    code = app.exec()
    _end(window)
    return code


def _end(window: Window) -> None:
    """End what is still at work behind a window that was closed: the program is not kept by it.

    A unit that is being written is put back first, however long that takes.
    """
    if window.session.link.writing:
        window.runner.wait()
    CAGE.close()
    if window.runner.at_work():
        # It was asked to stop and does not look, as while a library is loaded; what was committed is on disk.
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(0)
