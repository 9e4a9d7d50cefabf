"""Logs: eight traces of five million samples moved sideways, drawn offscreen; no reference but the eye's own."""

from __future__ import annotations

import json
import os
import subprocess
import sys

from benchmarks.measuring import ROOT, row

PAN_MS, PAN_99_MS = 16.0, 33.0

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


def logs() -> None:
    """Both rows of a pan."""
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
