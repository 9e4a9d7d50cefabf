"""Processes that we start run our code and what is installed, whatever lies in the folder where the program was started."""

import os
import subprocess
import sys

import pytest

from tests.core.cage.readers import Kept  # noqa: F401 - the readers that a cage loads are found beside the tests
from yarvic.bench.control_unit.process import new_unit, start_unit
from yarvic.bench.vehicles import layout_text, stock_image
from yarvic.core import children
from yarvic.core.caged import Cage
from yarvic.core.calibration.layout_file import parse_layout

NAMES = ["can", "numpy", "polars", "json", "yarvic", "sitecustomize", "usercustomize", "socket", "hashlib"]


@pytest.fixture
def laid_out(tmp_path, monkeypatch):
    """A folder full of modules that leave a mark when they are run; the program is started there."""
    for name in NAMES:
        (tmp_path / f"{name}.py").write_text(f"open({str(tmp_path / 'run')!r}, 'a').write({name!r} + ' ')\n")
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("PYTHONSTARTUP", str(tmp_path / "can.py"))
    monkeypatch.delenv("PYTHONPATH", raising=False)
    return tmp_path


def test_the_simulated_unit_is_not_led_astray(laid_out, tmp_path_factory, monkeypatch):
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path_factory.mktemp("bus")))
    folder = tmp_path_factory.mktemp("unit")
    new_unit(folder, parse_layout(layout_text("fieldfare")), stock_image("fieldfare"))
    unit = start_unit(folder, "test")
    assert unit.runs
    unit.kill()
    assert not (laid_out / "run").exists()


def test_the_cage_is_not_led_astray(laid_out):
    cage = Cage(("yarvic.core.formats.logs.read", "polars"))
    path = laid_out / "a.csv"
    path.write_text("time [s],RPM [rpm]\n" + "".join(f"{n / 10},{1000 + n}\n" for n in range(50)))
    from yarvic.core.cage.bounds import for_size
    from yarvic.core.evidence.raw import RawLog

    with path.open("rb") as file:
        read = cage.read(
            "yarvic.core.formats.logs.read:read_recordings", file.fileno(), "a.csv", list[RawLog], for_size(99)
        )
    cage.close()
    assert read.value[0].columns[0].values.size == 50
    assert not (laid_out / "run").exists()


def test_the_environment_of_a_child_is_what_we_state(monkeypatch):
    monkeypatch.setenv("PYTHONINSPECT", "1")
    monkeypatch.setenv("LD_PRELOAD", "")
    monkeypatch.setenv("SECRET", "x")
    found = children.environment(MORE="y")
    assert set(found) <= {*children.PASSED_ON, "MORE"} and found["MORE"] == "y"
    assert not {"PYTHONINSPECT", "LD_PRELOAD", "SECRET", "PYTHONSTARTUP"} & set(found)


def test_the_program_itself_is_not_led_astray_where_it_is_started(laid_out):
    script = f"{os.path.dirname(sys.executable)}/yarvic"
    if not os.path.exists(script):
        pytest.skip("the program is not installed beside this Python")
    done = subprocess.run([script, "keys", "show"], capture_output=True, text=True, check=False, timeout=60)
    assert done.returncode == 0, done.stderr
    assert not (laid_out / "run").exists()


@pytest.mark.parametrize(
    ("stated", "threads"), [({}, "1"), ({"OPENBLAS_NUM_THREADS": "2"}, str(min(2, os.cpu_count() or 1)))]
)
def test_linear_algebra_uses_one_thread_unless_more_are_stated(stated, threads):
    code = (
        "import yarvic, numpy as np, pathlib, re\n"
        "np.linalg.svd(np.random.default_rng(1).normal(size=(300, 300)))\n"
        "print(re.search(r'Threads:\\s+(\\d+)', pathlib.Path('/proc/self/status').read_text())[1])"
    )
    kept = {k: v for k, v in os.environ.items() if not k.endswith("_NUM_THREADS")}
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True, env={**kept, **stated}
    )
    assert done.stdout.strip() == threads
