"""Shared set-up: the computing half of the tests must pass where PyQt6 cannot be imported."""

import contextlib
import fcntl
import functools
import hashlib
import importlib.abc
import os
import pickle
import shutil
import sqlite3
import sys
import time
from pathlib import Path


class _NoQt(importlib.abc.MetaPathFinder):
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] in {"PyQt6", "pyqtgraph"}:
            raise ImportError(f"{name} is barred in this process: computation must not need Qt")
        return None


if os.environ.get("YARVIC_NO_QT"):
    sys.meta_path.insert(0, _NoQt())


import numpy as np  # noqa: E402
import pytest  # noqa: E402
from hypothesis import settings as hypothesis_settings  # noqa: E402

import yarvic  # noqa: E402
from yarvic.bench.cell import Weather  # noqa: E402
from yarvic.bench.rig import Rig  # noqa: E402
from yarvic.bench.settings import PullSettings  # noqa: E402
from yarvic.bench.unit import SimulatedUnit  # noqa: E402
from yarvic.bench.vehicles import layout_text, plant_for, stock_image  # noqa: E402
from yarvic.core.calibration.layout_file import parse_layout  # noqa: E402
from yarvic.core.calibration.storing import steps  # noqa: E402
from yarvic.core.calibration.table import Axis, Table  # noqa: E402
from yarvic.core.checks.run import check_log  # noqa: E402
from yarvic.core.checks.signature import first_signature  # noqa: E402
from yarvic.core.job.store import Job  # noqa: E402
from yarvic.core.physics.air import Air  # noqa: E402
from yarvic.demo.jobs import DEMO_JOBS  # noqa: E402
from yarvic.demo.ptarmigan import PTARMIGAN  # noqa: E402
from yarvic.demo.story import AUTHOR  # noqa: E402
from yarvic.state import baselines, evaluating  # noqa: E402


@pytest.fixture(scope="session", autouse=True)
def home_of_all(tmp_path_factory):
    """Settings, units and vault of what all tests share are none of a person's."""
    before = os.environ.get("YARVIC_HOME")
    os.environ["YARVIC_HOME"] = str(tmp_path_factory.mktemp("home"))
    yield
    os.environ.pop("YARVIC_HOME")
    if before is not None:
        os.environ["YARVIC_HOME"] = before


@pytest.fixture(autouse=True)
def home(tmp_path, monkeypatch):
    """Settings, keys and what was signed with them stay with the test that they are of."""
    monkeypatch.setenv("YARVIC_HOME", str(tmp_path / "home"))
    return tmp_path / "home"


# The suite draws the same cases each time, so that it passes or fails alike everywhere; `make fuzz` draws new ones. What
# was found stands beside its test as an example.
hypothesis_settings.register_profile("repeatable", derandomize=True, database=None)
hypothesis_settings.register_profile("new", max_examples=400, print_blob=True)
hypothesis_settings.load_profile(os.environ.get("YARVIC_CASES", "repeatable"))


DAY = Air(97_400.0, 293.15, 0.5)


@pytest.fixture(scope="session", autouse=True)
def judged_once():
    """A run of the demo is judged once in a process: the same log by the same limits gives the same findings."""

    def once(work):
        known = {}

        def done(*given):
            asked = hashlib.sha256(pickle.dumps(given)).digest()
            if asked not in known:
                known[asked] = work(*given)
            return known[asked]

        return done

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(evaluating, "check_log", once(check_log))
        patch.setattr(baselines, "first_signature", once(first_signature))
        yield


@pytest.fixture(scope="session")
def layout():
    """The layout of the demo's control unit."""
    return parse_layout(layout_text("ptarmigan"))


@pytest.fixture(scope="session")
def stock(layout):
    """The image with which the demo's vehicle arrives."""
    return stock_image("ptarmigan")


@pytest.fixture
def table():
    """A small table with a value per cell."""
    return Table(
        "spark",
        "Spark",
        "deg",
        Axis("Engine speed", "rpm", np.array([1000.0, 2000.0, 4000.0, 6000.0])),
        Axis("Cylinder filling", "%", np.array([20.0, 60.0, 100.0])),
        np.array([[30.0, 32.0, 36.0, 40.0], [20.0, 24.0, 28.0, 32.0], [8.0, 10.0, 14.0, 20.0]]),
        -10.0,
        50.0,
        steps(0.1),
    )


@pytest.fixture
def rig(layout, stock):
    """The demo's vehicle on the simulated dyno."""
    return Rig(plant_for(layout.family), SimulatedUnit(layout, stock), "RON 95", Weather(DAY), seed=7)


@pytest.fixture(scope="session")
def pulled(layout, stock):
    """One stock pull: its log and conditions."""
    unit = SimulatedUnit(layout, stock)
    return Rig(plant_for(layout.family), unit, "RON 95", Weather(DAY), seed=7).pull(PullSettings())


@pytest.fixture
def job(tmp_path, stock):
    """A new job with only its stock image."""
    made = Job.create(tmp_path / "new.yarvic", PTARMIGAN.sheet(), layout_text("ptarmigan"), stock, author=AUTHOR)
    yield made
    made.close()


def _told_by():
    """What the demo jobs are told by, as a hash: another one when any of it changes."""
    source = Path(yarvic.__file__).parent
    digest = hashlib.sha256()
    for part in ("core", "bench", "demo", "state"):
        for path in sorted(p for p in (source / part).rglob("*") if p.is_file() and "__pycache__" not in p.parts):
            digest.update(path.relative_to(source).as_posix().encode() + b"\0" + path.read_bytes())
    return digest.hexdigest()[:16]


@functools.cache
def _told_in():
    """The folder of the demo jobs of this source; those of another source go, unless somebody may still use them."""
    shelf = Path(__file__).parent.parent / ".demo-jobs"
    folder = shelf / _told_by()
    folder.mkdir(parents=True, exist_ok=True)
    for other in shelf.iterdir():
        with contextlib.suppress(FileNotFoundError):  # another worker clears up as well
            if other != folder and time.time() - other.stat().st_mtime > 3600.0:
                shutil.rmtree(other, ignore_errors=True)
    return folder


def built_once(name):
    """A demo job, built once for each state of the source; tests copy it."""
    folder = _told_in()
    path = folder / f"{name}.yarvic"
    with open(folder / f"{name}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not path.exists():
            next(j for j in DEMO_JOBS if j.name == name).build(path)
    return path


@pytest.fixture(scope="session")
def demo_job():
    """Gives the file of a demo job by its name."""
    return built_once


@pytest.fixture
def demo_copy(demo_job, tmp_path):
    """Gives a copy of a demo job, to work on, by its name."""
    return lambda name: Path(shutil.copy(demo_job(name), tmp_path / f"{name}.yarvic"))


@pytest.fixture(scope="session")
def demo_file(demo_job):
    """The main demo job."""
    return demo_job("ptarmigan")


@pytest.fixture(scope="session", params=[j.name for j in DEMO_JOBS if not j.outside])
def any_demo_file(request, demo_job):
    """Each demo job that the bench told, in turn."""
    return demo_job(request.param)


@pytest.fixture
def demo_path(demo_file, tmp_path):
    """A copy of the demo job to work on, without its draft."""
    path = shutil.copy(demo_file, tmp_path / "ptarmigan.yarvic")
    with contextlib.closing(sqlite3.connect(path)) as connection, connection:
        connection.execute("DELETE FROM draft_edit")
        connection.execute("DELETE FROM draft")
    return path
