"""A window that is closed in the middle of any work: the program ends, with all that it started, and without a word."""

import os
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from yarvic.core.link.journal import JOURNALS, unfinished

KINDS = ["open", "import", "search", "pull", "demo", "verify", "write"]


@pytest.fixture(scope="module")
def file(tmp_path_factory):
    """A log that takes a while, and is noise to whoever looks for tables in it."""
    path = tmp_path_factory.mktemp("file") / "long.csv"
    rows = np.random.default_rng(3).random((60_000, 20))
    rows[:, 0] = np.arange(rows.shape[0]) / 100.0
    np.savetxt(
        path, rows, fmt="%.4f", delimiter=",", header="time [s]," + ",".join("abcdefghijklmnopqrs"), comments=""
    )
    return path


def started_by(mark):
    """The processes of this run that are alive, but for one that nobody has waited for yet."""
    found = []
    for entry in Path("/proc").iterdir():
        try:
            alive = entry.name.isdigit() and (entry / "stat").read_text().rpartition(")")[2].split()[0] != "Z"
            if alive and mark in (entry / "environ").read_bytes():
                found.append(int(entry.name))
        except OSError:
            continue
    return found


@pytest.mark.parametrize("kind", KINDS)
def test_closing_in_the_middle_of_work_ends_the_program(kind, demo_path, tmp_path, file):
    mark = f"{tmp_path}/home"
    (tmp_path / "home").mkdir()
    done = subprocess.run(
        [sys.executable, "-m", "tests.desk.closing", kind, str(demo_path), str(file)],
        capture_output=True, text=True, timeout=120, check=False, cwd=Path(__file__).parents[2],
        env={**os.environ, "YARVIC_HOME": mark, "HOME": mark, "QT_QPA_PLATFORM": "offscreen"},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
    said = [line for line in done.stderr.splitlines() if not line.startswith("This plugin does not support")]
    assert said == [] and done.stdout.startswith(("at work", "idle"))
    for _ in range(100):
        left = started_by(mark.encode())
        if not left:
            break
        time.sleep(0.05)
    assert left == []
    if (
        kind == "write"
    ):  # put back before the program ended: nothing waits to be recovered, and no half of a memory is left
        journals = list(Path(mark, "vault", JOURNALS).iterdir())
        assert journals and unfinished(Path(mark, "vault", JOURNALS)) == []
        assert not list(Path(mark, "units").glob("*/memory.bin"))
