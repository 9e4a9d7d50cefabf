"""Logs: eight traces of five million samples moved sideways, drawn offscreen; all checks on an hour."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from benchmarks.measuring import ROOT, once, paired, row
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel, Log

PULL_EVERY_S = 60.0
LONG_H, LONG_CHANNELS, LONG_GIB = 4, 100, 4.0
CAGED_MS, CAGED_TIMES = 50.0, 9
PAN_MS, PAN_99_MS, CHECKED_AS = 16.0, 33.0, 0.5

PANNED = """
import json, os, sys, time
import numpy as np
from yarvic.desk.app import application
from yarvic.desk.views.logs.track import Lane, Track
from yarvic.desk.widgets.plot import sheet
app = application()
page = sheet(); page.resize(1280, 700)
tracks = [Track(page, n, Lane("Engine speed", ("engine_speed",)), last=n == 7) for n in range(8)]
for track in tracks[1:]:
    track.plot.setXLink(tracks[0].plot)
count = 5_000_000
x, random = np.arange(count) / 100.0, np.random.default_rng(1)
for track in tracks:
    track.show([(x, np.cumsum(random.standard_normal(count)))], [], [], "rpm", (0.0, 100.0), None)
page.show(); app.processEvents()
def pan(moves):
    times = []
    for n in range(moves):
        begin = time.perf_counter()
        tracks[0].plot.setXRange(n * 200.0, n * 200.0 + 20_000.0, padding=0)
        app.processEvents()
        times.append(time.perf_counter() - begin)
    return times
pan(5)
times = pan(120)
print(json.dumps([float(np.median(times)), float(np.percentile(times, 99))])); sys.stdout.flush()
os._exit(0)
"""

LONG = """
import json, sys
from pathlib import Path
from yarvic.core.checks.limits import default_limits
from yarvic.core.checks.of_file import Judging, check_file
found = check_file(Path(sys.argv[1]), Judging(default_limits()))
print(json.dumps(found[0]["pulls"]))
"""


def logs() -> None:
    """A pan, and all checks on an hour."""
    _checked()
    _caged()
    _long()
    _panned()


def _checked() -> None:
    """All checks on an hour of 60 channels at 100 Hz with a pull a minute, against importing it from CSV."""
    from yarvic.core.checks.limits import default_limits
    from yarvic.core.checks.run import check_log
    from yarvic.core.formats.csv_log import write_csv_log
    from yarvic.core.formats.logs.import_log import import_logs

    log = _hour()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "hour.csv"
        path.write_text(write_csv_log(log), encoding="utf-8")
        pulls = len(check_log("hour", log, default_limits()))
        a, b, ratio = paired(lambda: check_log("hour", log, default_limits()), lambda: import_logs(path)[0].log, 3)
    what = f"all checks on an hour, {pulls} pulls"
    row(what, f"{a * 1e3:.0f} ms", f"{b * 1e3:.0f} ms", ratio, f"at most {CHECKED_AS}", ratio <= CHECKED_AS)


def _caged() -> None:
    """An ordinary log, ten minutes of a dozen channels at 20 Hz, read in a process of its own against reading it here."""
    from yarvic.core.caged import CAGE
    from yarvic.core.formats.logs.read import read_recordings

    random = np.random.default_rng(4)
    rows = np.column_stack([np.arange(12_000) / 20.0, random.normal(100.0, 20.0, (12_000, 12)).round(2)])
    lines = [",".join(f"{v:g}" for v in row) for row in rows]
    head = "time [s]," + ",".join(f"Signal {n} [V]" for n in range(12))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "ordinary.csv"
        path.write_text("\n".join([head, *lines]) + "\n")
        data = path.read_bytes()
        CAGE.start()
        read_recordings(path)
        more = []
        for _ in range(CAGED_TIMES):
            time.sleep(0.5)  # as a person's files come: what reads the next one is ready
            a, b = once(lambda: read_recordings(path)), once(lambda: read_recordings.inside(data, "ordinary.csv"))
            more.append((a, b))
    ours, inside = (float(np.median([pair[k] for pair in more])) for k in (0, 1))
    cost = float(np.median([a - b for a, b in more])) * 1e3
    what = f"a log of {len(data) / 1e6:.1f} MB in its cage"
    row(
        what,
        f"{ours * 1e3:.0f} ms",
        f"{inside * 1e3:.0f} ms",
        cost,
        f"at most {CAGED_MS:g} ms more",
        cost <= CAGED_MS,
    )


def _hour() -> Log:
    t = np.arange(360_000) / 100.0
    phase = t % PULL_EVERY_S
    on = (phase > 2.0) & (phase < 12.0)
    random = np.random.default_rng(1)
    values = {
        "engine_speed": np.where(on, 1800.0 + 440.0 * (phase - 2.0), 1800.0),
        "throttle": np.where(on, 1.0, 0.15),
        "boost_pressure": np.where(on, np.minimum(100e3 + 50e3 * (phase - 2.0), 200e3), 100e3),
        "boost_target": np.full(t.size, 200e3),
        "charge_temperature": 303.0 + 0.8 * phase,
        "ambient_temperature": np.full(t.size, 293.0),
        "rail_pressure": 350e5 + random.normal(0.0, 1e5, t.size),
        "rail_target": np.full(t.size, 350e5),
        "lambda_measured": 0.86 + random.normal(0.0, 0.004, t.size),
        "lambda_target": np.full(t.size, 0.86),
        "exhaust_temperature": 1000.0 + 10.0 * phase,
        "vehicle_speed": np.where(on, 12.0 + 3.0 * (phase - 2.0), 12.0),
        **{f"spark_correction_{n}": np.zeros(t.size) for n in range(1, 4)},
    }
    others = [k for k in CHANNELS if k not in values and not CHANNELS[k].waveform][: 60 - len(values)]
    values |= {k: 1.0 + 0.01 * random.random(t.size) for k in others}
    kinds = {k: CHANNELS[k] for k in values}
    return Log({k: Channel(k, c.title, c.quantity, c.unit, t, values[k]) for k, c in kinds.items()})


def _long() -> None:
    """The memory that four hours of 100 channels at 100 Hz take, from Parquet to the verdict."""
    import polars as pl

    log, count = _hour(), LONG_H * 360_000
    columns = {"time [s]": np.arange(count) / 100.0}
    named = {"engine_speed": "Engine speed [rpm]", "boost_pressure": "Boost pressure [Pa]"}
    for n, (key, c) in enumerate(log.channels.items()):
        columns[named.get(key, c.title if key == "throttle" else f"Signal {n}")] = np.tile(c.values, LONG_H)
    random = np.random.default_rng(2)
    while len(columns) <= LONG_CHANNELS:
        columns[f"Signal {len(columns)}"] = random.random(count)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "long.parquet"
        pl.DataFrame(columns).write_parquet(path)
        columns.clear()
        done = subprocess.Popen([sys.executable, "-c", LONG, str(path)], stdout=subprocess.PIPE, text=True, cwd=ROOT)
        gib = _peak_gib(done)
    pulls = json.loads(done.communicate()[0])
    what = f"{LONG_H} h of {LONG_CHANNELS} channels checked, {pulls} pulls"
    row(what, f"{gib:.2f} GiB", "", gib / LONG_GIB, f"<= {LONG_GIB:g} GiB", gib <= LONG_GIB)


def _peak_gib(process: subprocess.Popen[str]) -> float:
    """The most memory that a process and those that it started have at one time, shared pages counted once."""
    peak = 0
    while process.poll() is None:
        total, waiting = 0, [process.pid]
        while waiting:
            one = Path(f"/proc/{waiting.pop()}")
            with contextlib.suppress(OSError):
                lines = (one / "smaps_rollup").read_text().splitlines()
                total += sum(int(line.split()[1]) for line in lines if line.startswith("Pss:"))
                waiting += [int(c) for t in (one / "task").iterdir() for c in (t / "children").read_text().split()]
        peak = max(peak, total)
        time.sleep(0.02)
    return peak / 2**20


def _panned() -> None:
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    done = subprocess.run(
        [sys.executable, "-c", PANNED], capture_output=True, text=True, env=env, check=True, cwd=ROOT
    )
    median_s, most_s = json.loads(done.stdout.strip().splitlines()[-1])
    for what, seconds, bar_ms in (("median", median_s, PAN_MS), ("99th percentile", most_s, PAN_99_MS)):
        ours = seconds * 1e3
        row(
            f"8 x 5 million samples panned, {what}",
            f"{ours:.1f} ms",
            "",
            ours / bar_ms,
            f"<= {bar_ms:g} ms",
            ours <= bar_ms,
        )
