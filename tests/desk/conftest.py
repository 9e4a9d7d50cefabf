"""The real window, offscreen, on a copy of the demo job."""

import warnings
from pathlib import Path

import pytest
from PyQt6.QtCore import QCoreApplication, QEvent, qInstallMessageHandler

from yarvic.desk.app import make_window, unexpected
from yarvic.desk.driver import Driver
from yarvic.desk.theme import apply_theme
from yarvic.state.settings import Settings

warnings.filterwarnings("error", category=RuntimeWarning, module="yarvic")


@pytest.fixture(scope="session")
def qapp():
    """Our own application, with the fonts that ship."""
    from yarvic.desk.app import application

    return application()


@pytest.fixture
def complaints():
    """What Qt itself complained of."""
    heard = []
    before = qInstallMessageHandler(lambda kind, context, text: heard.append(text))
    yield heard
    qInstallMessageHandler(before)


@pytest.fixture
def empty(qapp, tmp_path, complaints):
    """A driver of a window without a job."""
    window = make_window(Settings(author="Rowan Sedge"))
    window.resize(1280, 800)
    window.show()
    driver = Driver(window, tmp_path, lambda text: None)
    driver.settle()
    before = len(unexpected().errors)
    yield driver
    window.close()
    # A window that stays would be styled anew by every later test.
    window.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    assert [e.details for e in unexpected().errors[before:]] == []
    apply_theme(qapp, "paper")


@pytest.fixture
def driver(empty, demo_path):
    """A driver of a window with the demo job open and judged."""
    empty.open(Path(demo_path))
    empty.window.session.bench.unit.seconds_per_block = 0.0
    return empty
