"""Maps: thousands of tables listed and compared, an edit to its repaint, pictures, an hour's log into a table, a search."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

from benchmarks.measuring import ROOT, median, once, row, timed

TABLES, SIDE = 3000, 8
LIST_MS, EDIT_MS, PICTURE_MS, EVIDENCE_MS = 50.0, 16.0, 33.0, 150.0
SEARCH_S_A_MIB, OPENS_AS = 3.0, 1.2

EDITED = """
import json, os, sys, time
from pathlib import Path
import numpy as np
from yarvic.desk.app import application, make_window
from yarvic.desk.views.maps.grid import Grid
from yarvic.state.settings import Settings
app = application()
window = make_window(Settings(step="maps")); window.resize(1920, 1080); window.show()
window.session.open_job(Path(sys.argv[1])); window.session.go("maps")
app.processEvents()
view = window.view("maps")
painted, paint = [0.0], Grid.paintEvent
def painting(self, event):
    paint(self, event); painted[0] = time.perf_counter()
Grid.paintEvent = painting
def edits(count):
    times = []
    for n in range(count):
        begin = time.perf_counter()
        view.maps.edits.calculate("- 1" if n % 2 else "+ 1")
        while painted[0] < begin:
            app.processEvents()
        times.append(painted[0] - begin)
        app.processEvents(); app.processEvents()
    return sorted(times)[len(times) // 2]
view.grid.select_block(5, 5, 5, 5); app.processEvents(); edits(4)
found = [edits(24)]
view.grid.select_block(5, 5, 15, 15); app.processEvents()
found.append(edits(24))
for n in (1, 2):
    view.page.show_picture(n); app.processEvents()
    pane = view.page.pictures.currentWidget()
    times = []
    for _ in range(15):
        begin = time.perf_counter(); pane.redraw(); pane.repaint(); times.append(time.perf_counter() - begin)
    found.append(sorted(times)[7])
print(json.dumps(found)); sys.stdout.flush()
os._exit(0)
"""

OPENED = """
import json, os, sys, time
from pathlib import Path
from yarvic.desk.app import application, make_window
from yarvic.state.settings import Settings
app = application()
window = make_window(Settings(step="maps")); window.resize(1280, 800); window.show(); app.processEvents()
begin = time.perf_counter()
window.session.open_job(Path(sys.argv[1])); window.session.go("maps"); app.processEvents(); window.grab()
print(json.dumps(time.perf_counter() - begin)); sys.stdout.flush()
os._exit(0)
"""


def maps() -> None:
    """All rows of the maps."""
    _listed()
    _edited()
    _evidence()
    _searched()
    _opened()


def _below(what: str, seconds: float, bar_ms: float, beside: str = "") -> None:
    row(
        what,
        f"{seconds * 1e3:.1f} ms",
        beside,
        seconds * 1e3 / bar_ms,
        f"at most {bar_ms:.0f} ms",
        seconds * 1e3 <= bar_ms,
    )


def _job(path: Path, tables: int, side: int, revisions: int = 1) -> Path:
    """A job of so many square tables, with revisions in each of which twenty of them differ."""
    from yarvic.core.calibration.image import Image
    from yarvic.core.calibration.layout import Axis, Entry, Layout
    from yarvic.core.job.store import Job
    from yarvic.demo.whinchat import WHINCHAT

    size = 2 * side * side
    x = Axis(title="Engine speed", unit="rpm", address=0, storage="u16", count=side)
    y = Axis(title="Throttle", unit="%", address=128, storage="u8", count=side)
    entries = tuple(
        Entry(key=f"t{n}", title=f"Table number {n} of boost", kind="map", unit="deg", address=256 + n * size, storage="u16",
              factor=0.1, x=x, y=y)
        for n in range(tables)
    )  # fmt: skip
    layout = Layout(family="f", byte_order="big", size=256 + tables * size, entries=entries)
    data = bytearray(256 + tables * size)
    data[: 2 * side] = np.arange(1000, 1000 + 100 * side, 100).astype(">u2").tobytes()
    data[128 : 128 + side] = np.arange(1, side + 1).astype("u1").tobytes()
    values = (np.add.outer(np.arange(side), np.arange(side)) * 5 + 20).astype(">u2").tobytes()
    for n in range(tables):
        data[256 + n * size : 256 + (n + 1) * size] = values
    job = Job.create(path, WHINCHAT.sheet(), author="bench")
    parent = job.import_stock(layout, bytes(data), "bench").id
    image = Image(layout, bytes(data))
    for n in range(1, revisions + 1):
        edits = []
        for t in range(n % max(tables // 20, 1), tables, max(tables // 20, 1)):
            table = image["Maps"].table(f"t{t}")
            edits += image.edits_to("Maps", table.with_values(table.values + 0.5), "x")
        sealed = image.with_edits(edits).sealed(f"A{n}")
        parent = job.commit_revision(f"A{n}", parent, "bench", "bench", sealed, edits).id
        image = Image(layout, sealed)
    job.close()
    return path


def _listed() -> None:
    from yarvic.state.maps import MapsState
    from yarvic.state.session import Session
    from yarvic.state.settings import Settings
    from yarvic.state.work import InlineRunner

    with tempfile.TemporaryDirectory() as folder:
        session = Session(Settings(), InlineRunner())
        session.open_job(_job(Path(folder) / "t.yarvic", TABLES, SIDE))
        state = MapsState(session)

        def work() -> None:
            state.listing.text = ""
            assert sum(1 for r in state.listing.rows() if r.key) == TABLES
            state.listing.text = "number 27 boost"
            assert sum(1 for r in state.listing.rows() if r.key) > 50
            assert len(state.compared.differences()) == 20

        first = once(work)
        took = timed(work)
        session.close_job()
    _below(f"{TABLES:,} tables listed, searched, compared", took, LIST_MS, f"{first * 1e3:.0f} ms first")


def _edited() -> None:
    with tempfile.TemporaryDirectory() as folder:
        env = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "YARVIC_HOME": folder}
        path = _job(Path(folder) / "e.yarvic", 1, 40)
        done = subprocess.run(
            [sys.executable, "-c", EDITED, str(path)], env=env, check=True, cwd=ROOT, capture_output=True
        )
    cell, block, isolines, relief = json.loads(done.stdout.splitlines()[-1])
    _below("a cell of 40 x 40 edited, on disk, repainted", cell, EDIT_MS)
    _below("121 cells of it edited and repainted", block, EDIT_MS)
    _below("isolines of 40 x 40 redrawn", isolines, PICTURE_MS)
    _below("relief of 40 x 40 redrawn", relief, PICTURE_MS)


def _evidence() -> None:
    from yarvic.core.calibration.storing import Storing
    from yarvic.core.calibration.table import Axis, Table
    from yarvic.core.evidence.cells import cell_evidence
    from yarvic.core.evidence.log import Channel, Log
    from yarvic.core.evidence.pulls import Pull

    samples = 360_000
    t = np.arange(samples) * 0.01
    random = np.random.default_rng(1)
    channels = {"engine_speed": 3000.0 + 2000.0 * np.sin(t / 7.0), "throttle": 0.5 + 0.45 * np.sin(t / 3.0)}
    for n in range(1, 5):
        channels[f"spark_correction_{n}"] = -np.round(np.maximum(random.normal(-2.0, 1.0, samples), 0.0), 1)
    log = Log({k: Channel(k, k, "", "", t, v) for k, v in channels.items()})
    axes = (
        Axis("n", "rpm", np.linspace(800.0, 6500.0, 20), "engine_speed"),
        Axis("a", "%", np.linspace(0.0, 100.0, 20), "throttle"),
    )
    table = Table("t", "T", "deg", *axes, np.zeros((20, 20)), -90.0, 90.0, Storing("f64"))
    took = timed(lambda: cell_evidence(table, [(log, Pull(0.0, 1e9, 1.0, 0.0, 0.0))]))
    _below("an hour at 100 Hz into a 20 x 20 table", took, EVIDENCE_MS)


def _searched() -> None:
    """An image that no method was made on, of 60 tables a MiB between code, texts, addresses and erased memory."""
    from yarvic.bench.random_images import random_image, score
    from yarvic.core.calibration.undescribed.discover import discover

    image = random_image(1003, tables=100, apart=64)
    discover(image.data[: 1 << 16])
    found = []
    took = once(lambda: found.append(discover(image.data))) / len(image.data) * 2**20
    result = score(image.tables, found[0].tables)
    row(
        "tables looked for in an image, a MiB",
        f"{took:.2f} s",
        f"{result.recall:.2f} {result.precision:.2f}",
        took / SEARCH_S_A_MIB,
        f"at most {SEARCH_S_A_MIB:.0f} s",
        took <= SEARCH_S_A_MIB,
    )


def _opened() -> None:
    with tempfile.TemporaryDirectory() as folder:
        env = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "YARVIC_HOME": folder}
        paths = {n: _job(Path(folder) / f"{n}.yarvic", 400, 16, n) for n in (3, 300)}
        found: dict[int, list[float]] = {3: [], 300: []}
        for _ in range(5):
            for n, path in paths.items():
                done = subprocess.run(
                    [sys.executable, "-c", OPENED, str(path)], env=env, check=True, cwd=ROOT, capture_output=True
                )
                found[n].append(json.loads(done.stdout.splitlines()[-1]))
    many, few = median(found[300]), median(found[3])
    row(
        "400 tables, 300 revisions open as with 3",
        f"{many * 1e3:.0f} ms",
        f"{few * 1e3:.0f} ms",
        many / few,
        f"at most {OPENS_AS}",
        many / few <= OPENS_AS,
    )
