"""Prints one row per bar: what, ours, reference, ratio, bar. Noise hits both sides of a ratio alike."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path
from statistics import median

import numpy as np

from benchmarks.bus import bus
from benchmarks.logs import logs
from benchmarks.maps import maps
from benchmarks.measuring import ROOT, paired, row, timed
from benchmarks.memory import description, finding, image
from yarvic.core.job.runs import NewRun


def look_up() -> None:
    """A million points in a 20 x 20 table against SciPy."""
    from scipy.interpolate import RegularGridInterpolator

    from yarvic.core.calibration.table import look_up as ours

    rng = np.random.default_rng(1)
    xs, ys = np.cumsum(rng.uniform(1, 9, 20)), np.cumsum(rng.uniform(1, 9, 20))
    values = rng.normal(size=(20, 20))
    x, y = rng.uniform(xs[0], xs[-1], 1_000_000), rng.uniform(ys[0], ys[-1], 1_000_000)
    points = np.column_stack([y, x])
    reference = RegularGridInterpolator((ys, xs), values)
    a, b, ratio = paired(lambda: ours(xs, ys, values, x, y), lambda: reference(points))
    row(
        "table look-up, 1,000,000 points, 20 x 20",
        f"{a * 1e3:.0f} ms",
        f"{b * 1e3:.0f} ms",
        ratio,
        "at most 0.5",
        ratio <= 0.5,
    )


def pull() -> None:
    """A simulated pull of each vehicle against real time, every channel at 100 Hz; and an hour through the logger."""
    from yarvic.bench.cell import Weather
    from yarvic.bench.rig import Rig, usual_settings
    from yarvic.bench.unit import SimulatedUnit
    from yarvic.bench.vehicles import VEHICLES, layout_text, plant_for, stock_image
    from yarvic.core.calibration.layout_file import parse_layout
    from yarvic.core.physics.air import Air

    for name in VEHICLES:
        layout = parse_layout(layout_text(name))
        unit = SimulatedUnit(layout, stock_image(name))
        rig = Rig(plant_for(layout.family), unit, layout.sets[0], Weather(Air(97e3, 293.0, 0.5)), rate_hz=100.0)
        usual = usual_settings(rig.plant)
        log, _ = rig.pull(usual)
        seconds = log.span()[1]
        a = timed(lambda rig=rig, usual=usual: rig.pull(usual), 3)  # type: ignore[misc]
        row(
            f"one simulated pull of {seconds:.1f} s, {name}, {len(log.channels)} channels at 100 Hz",
            f"{a * 1e3:.0f} ms",
            f"{seconds:.1f} s",
            seconds / a,
            "at least 20",
            seconds / a >= 20,
        )
    _hour()


def _hour() -> None:
    import tracemalloc

    from yarvic.bench.recorder import Recorder
    from yarvic.bench.sensors import SENSORS

    names = tuple(SENSORS)[:30]
    values = tuple(1.0 for _ in names)
    tracemalloc.start()
    try:
        recorder = Recorder(names, 0.01, (1,), rate_hz=100.0)
        for _ in range(360_000):
            recorder.add(values)
        log = recorder.log()
        peak = tracemalloc.get_traced_memory()[1]
    finally:
        tracemalloc.stop()
    size = sum(c.time_s.nbytes + c.values.nbytes for c in log.channels.values())
    row(
        "peak memory of an hour of 30 channels at 100 Hz through the logger",
        f"{peak / 1e6:.0f} MB",
        f"{size / 1e6:.0f} MB",
        peak / size,
        "at most 2",
        peak / size <= 2.0,
    )


def log_import() -> None:
    """A CSV log of 360,000 x 60 against polars reading the same file; and the same log from the job."""
    import polars as pl

    from yarvic.core.formats.logs.import_log import import_logs

    rows = int(os.environ.get("YARVIC_BENCH_ROWS", "360000"))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "log.csv"
        rng = np.random.default_rng(1)
        columns = {
            "time [s]": np.round(np.arange(rows) * 0.01, 2),
            "Engine speed [rpm]": rng.integers(800, 7000, rows),
        }
        for i in range(59):
            columns[f"channel {i} [V]"] = np.round(rng.normal(50, 20, rows), 2)
        pl.DataFrame(columns).write_csv(path)
        size = path.stat().st_size / 1e6
        a, b, ratio = paired(lambda: import_logs(path)[0].log, lambda: pl.read_csv(path), 3)
        what = f"import of a {rows:,} x 60 CSV log ({size:.0f} MB)"
        row(what, f"{a * 1e3:.0f} ms", f"{b * 1e3:.0f} ms", ratio, "at most 1.3", ratio <= 1.3)
        _reopen(path)
        _mapped(Path(folder) / "known.csv", rows)


def _mapped(path: Path, rows: int) -> None:
    """The same where every column is a channel, in units that are not ours, and a person has confirmed them."""
    import polars as pl

    from yarvic.core.formats.logs.import_log import import_logs

    rng = np.random.default_rng(2)
    columns = {"time [ms]": np.arange(rows) * 10, "RPM": rng.integers(800, 7000, rows)}
    for bank in range(1, 3):
        for sensor in range(1, 10):
            columns[f"EGT bank {bank} sensor {sensor} [°F]"] = np.round(rng.normal(1300, 80, rows), 1)
            columns[f"Lambda bank {bank} sensor {sensor}"] = np.round(rng.normal(0.88, 0.02, rows), 3)
    for cylinder in range(1, 13):
        columns[f"Knock retard cyl {cylinder} [deg]"] = np.round(np.abs(rng.normal(0, 0.6, rows)), 2)
    for number in range(1, 9):
        columns[f"Oil temperature {number} [°F]"] = np.round(rng.normal(210, 5, rows), 1)
    columns |= {
        "MAP [psi a]": np.round(rng.normal(25, 2, rows), 2),
        "TPS [%]": np.round(rng.uniform(0, 100, rows), 1),
    }
    pl.DataFrame(columns).write_csv(path)
    mapping = import_logs(path)[0].mapping
    size = path.stat().st_size / 1e6
    a, b, ratio = paired(lambda: import_logs(path, mapping=mapping)[0].log, lambda: pl.read_csv(path), 3)
    what = f"{rows:,} x {len(columns)} by its mapping ({size:.0f} MB)"
    row(what, f"{a * 1e3:.0f} ms", f"{b * 1e3:.0f} ms", ratio, "at most 1.3", ratio <= 1.3)


def _reopen(path: Path) -> None:
    from yarvic.bench.vehicles import layout_text, stock_image
    from yarvic.core.formats.logs.import_log import import_logs
    from yarvic.core.job.store import Job
    from yarvic.demo.ptarmigan import PTARMIGAN
    from yarvic.demo.story import AUTHOR

    job = Job.create(
        path.with_suffix(".yarvic"),
        PTARMIGAN.sheet(),
        layout_text("ptarmigan"),
        stock_image("ptarmigan"),
        author=AUTHOR,
    )
    try:
        run = job.add_evidence("big", 1, import_logs(path)[0].log, None, source="benchmark")
        # What a view needs of it at once: eight of the sixty channels.
        keys = ["engine_speed", *(f"channel {i}" for i in range(7))]
        for what, wanted in (("eight channels", keys), ("all channels", None)):
            a, b, ratio = paired(lambda wanted=wanted: job.log(run.id, wanted), lambda: import_logs(path)[0].log, 3)
            row(
                f"the same log from the job, {what}",
                f"{a * 1e3:.0f} ms",
                f"{b * 1e3:.0f} ms",
                ratio,
                "at most 0.4",
                ratio <= 0.4,
            )
    finally:
        job.close()


EMPTY = """
import sys
from PyQt6.QtWidgets import QApplication, QMainWindow
import numpy, pyqtgraph
app = QApplication(sys.argv)
window = QMainWindow(); window.resize(1280, 800); window.show()
app.processEvents(); window.grab()
"""
OURS = """
import sys
from pathlib import Path
from yarvic.desk.app import application, make_window
from yarvic.state.settings import Settings
app = application()
window = make_window(Settings()); window.resize(1280, 800); window.show()
window.open_job(Path(sys.argv[1]))
while window.session.job is None:
    app.processEvents()
app.processEvents(); window.grab()
import os; os._exit(0)
"""


def start_up() -> None:
    """From nothing to a painted window with the demo job, against an empty window with PyQt6, numpy and pyqtgraph."""
    from yarvic.demo.ptarmigan import PTARMIGAN

    with tempfile.TemporaryDirectory() as folder:
        job = Path(folder) / "ptarmigan.yarvic"
        PTARMIGAN.build(job)
        env = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "YARVIC_HOME": folder}

        def process(code: str, *arguments: str) -> None:
            subprocess.run([sys.executable, "-c", code, *arguments], env=env, check=True, cwd=ROOT)

        a, b, ratio = paired(lambda: process(OURS, str(job)), lambda: process(EMPTY), 11)
        row(
            "start to a painted window with the demo job",
            f"{a * 1e3:.0f} ms",
            f"{b * 1e3:.0f} ms",
            ratio,
            "at most 3",
            ratio <= 3,
        )


def job_size() -> None:
    """Opening a job with 100 revisions and 500 logs against one with 1 and 5."""
    from yarvic.bench.vehicles import layout_text, stock_image
    from yarvic.core.evidence.log import Channel, Log
    from yarvic.core.job.store import Job
    from yarvic.demo.ptarmigan import PTARMIGAN
    from yarvic.demo.story import AUTHOR

    t = np.arange(0, 60, 0.02)
    log = Log({f"c{i}": Channel(f"c{i}", f"c{i}", "voltage", "V", t, np.sin(t * i)) for i in range(8)})
    with tempfile.TemporaryDirectory() as folder:
        paths = []
        for name, revisions, logs in (("small", 1, 5), ("large", 100, 500)):
            path = Path(folder) / f"{name}.yarvic"
            job = Job.create(
                path, PTARMIGAN.sheet(), layout_text("ptarmigan"), stock_image("ptarmigan"), author=AUTHOR
            )
            for i in range(revisions - 1):
                job.commit_revision(f"A{i + 1}", 1, "bench", AUTHOR, stock_image("ptarmigan", f"A{i + 1}"), ())
            for i in range(logs):
                job.add_evidence(f"log {i}", 1, log, None, source="benchmark")
            job.close()
            paths.append(path)
        small, large = paths
        a, b, ratio = paired(lambda: Job.open(large).close(), lambda: Job.open(small).close(), 9)
        row(
            "a job of 100 revisions and 500 logs opens",
            f"{a * 1e3:.1f} ms",
            f"{b * 1e3:.1f} ms",
            ratio,
            "at most 1.2",
            ratio <= 1.2,
        )


GROWN = """
import json, os, sys, time
from pathlib import Path
import numpy as np

from benchmarks.measuring import REPEATS, ROOT, once, paired, row, timed
from benchmarks.memory import description, finding, image
from yarvic.core.job.runs import NewRun
from yarvic.desk.app import application, make_window
from yarvic.state.settings import Settings
app = application()
window = make_window(Settings(step="maps")); window.resize(1280, 800); window.show()
app.processEvents()
begin = time.perf_counter()
window.open_job(Path(sys.argv[1]))
while window.session.job is None:
    app.processEvents()
app.processEvents(); window.grab()
opened = time.perf_counter() - begin
session, maps = window.session, window.maps
maps.choose("spark_advance")
mask = np.zeros(maps.table().values.shape, dtype=bool); mask[3, 3] = True
maps.select(mask, 3)
last = session.evidence_revision().id
until = time.monotonic() + 60
while len(session.results.get(last, session).pulls if last in session.results else ()) == 0 and time.monotonic() < until:
    app.processEvents(); time.sleep(0.01)
from PyQt6.QtCore import QEvent, QCoreApplication
from PyQt6.QtGui import QKeyEvent
def press():
    QCoreApplication.sendEvent(window.windowHandle(), QKeyEvent(QEvent.Type.KeyPress, 0x01000020, app.keyboardModifiers()))
times = []
for n in range(11):
    press()
    begin = time.perf_counter()
    maps.edits.calculate("- 0.5" if n % 2 else "+ 0.5")
    app.processEvents(); window.grab()
    times.append(time.perf_counter() - begin)
press()
begin = time.perf_counter()
window.ladder.refresh(); window.ladder.repaint(); app.processEvents()
ladder = time.perf_counter() - begin
# Of this process alone: what the system counts for its children holds the parent's peak too.
peak = int(next(line.split()[1] for line in open("/proc/self/status") if line.startswith("VmHWM"))) / 1024
print(json.dumps([opened, sorted(times)[5], ladder, peak])); sys.stdout.flush()
os._exit(0)
"""


def growth() -> None:
    """A job of 300 revisions of 2,000 edits and 1,000 logs, opened, drawn and edited, against one of 3 and 10."""
    import json

    sizes = {"small": (3, 10), "large": (300, 1000)}
    with tempfile.TemporaryDirectory() as folder:
        env = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "YARVIC_HOME": folder}
        found: dict[str, list[list[float]]] = {}
        paths = {name: _grown(Path(folder) / f"{name}.yarvic", *size) for name, size in sizes.items()}
        for _ in range(3):
            for name, path in paths.items():
                done = subprocess.run(
                    [sys.executable, "-c", GROWN, str(path)], env=env, check=True, cwd=ROOT, capture_output=True
                )
                found.setdefault(name, []).append(json.loads(done.stdout.splitlines()[-1]))
    medians = {name: [median(each[i] for each in runs) for i in range(4)] for name, runs in found.items()}
    words = ("opens and is drawn under Maps", "an edit, on disk and drawn", "its ladder anew", "peak memory")
    for word, a, b in zip(words, medians["large"], medians["small"], strict=True):
        ours, reference = (
            (f"{a:.0f} MB", f"{b:.0f} MB") if "memory" in word else (f"{a * 1e3:.0f} ms", f"{b * 1e3:.0f} ms")
        )
        row(f"300 revisions, 1,000 logs: {word}", ours, reference, a / b, "at most 1.5", a / b <= 1.5)


def _grown(path: Path, revisions: int, logs: int) -> Path:
    """A job of so many revisions of 2,000 edits each, the last two with five runs, and the other runs before them."""
    from yarvic.bench.cell import Weather
    from yarvic.bench.rig import Rig
    from yarvic.bench.settings import PullSettings
    from yarvic.bench.unit import SimulatedUnit
    from yarvic.bench.vehicles import layout_text, plant_for, stock_image
    from yarvic.core.calibration.edits import Edit
    from yarvic.core.calibration.layout_file import parse_layout
    from yarvic.core.job.store import Job
    from yarvic.core.physics.air import Air
    from yarvic.demo.ptarmigan import PTARMIGAN
    from yarvic.demo.story import AUTHOR

    layout, stock = parse_layout(layout_text("ptarmigan")), stock_image("ptarmigan")
    rig = Rig(plant_for(layout.family), SimulatedUnit(layout, stock), "RON 95", Weather(Air(97e3, 293.0, 0.5)))
    log, conditions = rig.pull(PullSettings())
    from_file = _run_of_a_file(path.with_suffix(".csv"))
    edits = tuple(Edit("RON 95", "spark_advance", "bench", ((3, 3),), (float(n),), (n + 1.0,)) for n in range(2000))
    job = Job.create(path, PTARMIGAN.sheet(), layout_text("ptarmigan"), stock, author=AUTHOR)
    try:
        made = [1]
        for n in range(1, revisions):
            image = stock_image("ptarmigan", f"A{n}")
            made.append(job.commit_revision(f"A{n}", made[-1], "bench", AUTHOR, image, edits).id)
        ends = [(made[-1], 5), (made[-2], 5)]
        rest = logs - 10
        each = -(-rest // max(len(made) - 2, 1)) if rest else 0
        ends += [(r, min(each, rest - i * each)) for i, r in enumerate(made[:-2]) if rest - i * each > 0]
        for revision, count in ends:
            # Every other one is from a file, as it stood there.
            runs = [NewRun(f"pull {n}", log, conditions) if n % 2 else from_file for n in range(count)]
            job.add_runs(runs, revision, source="benchmark")
    finally:
        job.close()
    return path


def _run_of_a_file(path: Path) -> NewRun:
    """A log of another logger as a job keeps it."""
    from yarvic.core.evidence.origin import Reading
    from yarvic.core.formats.logs.import_log import read_file
    from yarvic.demo import outside

    path.write_bytes(outside.shipped(outside.GAUGE))
    (found,) = read_file(path)
    reading = Reading(
        mapping=found.understood.mapping(found.raw), barometer_pa=96_840.0, stoichiometric_afr=outside.PETROL_AFR
    )
    return NewRun("evening", found.raw, None, found.origin, reading)


def main() -> None:
    """All rows, or those named on the command line."""
    rows = {
        "look_up": look_up,
        "pull": pull,
        "import": log_import,
        "start": start_up,
        "job": job_size,
        "growth": growth,
        "bus": bus,
        "description": description,
        "finding": finding,
        "maps": maps,
        "image": image,
        "logs": logs,
    }
    print(f"{'what':46} {'ours':>12} {'reference':>12} {'ratio':>9}   {'bar':18}")
    for name in sys.argv[1:] or rows:
        rows[name]()


main()
