"""Reading in a process of its own: whatever goes wrong there is one of our errors, and nothing else of it is felt."""

import hashlib
import os
import threading
import time
from pathlib import Path

import numpy as np
import pytest

from tests.core.cage.readers import Kept
from yarvic.core.cage.bounds import MIB, Bounds
from yarvic.core.cage.cage import Cage, Refused
from yarvic.core.errors import Cancelled, FormatError

READERS = "tests.core.cage.readers:"
SMALL = Bounds(memory_bytes=256 * MIB, processor_s=2, clock_s=30.0, answer_bytes=64 * MIB)


@pytest.fixture(scope="module")
def cage():
    made = Cage(("numpy",))
    before = os.environ.get("PYTHONPATH")
    os.environ["PYTHONPATH"] = str(Path(__file__).parents[3])
    made.start()
    yield made
    made.close()
    if before is None:
        del os.environ["PYTHONPATH"]
    else:
        os.environ["PYTHONPATH"] = before


@pytest.fixture
def read(cage, tmp_path):
    def read(name, expected=list[str], data=b"some bytes to read", bounds=SMALL, **more):
        path = tmp_path / "file"
        path.write_bytes(data)
        with path.open("rb") as file:
            return cage.read(READERS + name, file.fileno(), str(path), expected, bounds, **more)

    return read


def test_what_is_read_comes_back_as_it_is(read):
    data = bytes(range(200))
    found = read("whole", list[Kept], data, summed=True)
    (kept,) = found.value
    assert found.sha256 == hashlib.sha256(data).hexdigest() and found.size == len(data)
    assert kept.numbers.tolist() == list(range(200)) and kept.beside.tolist() == [list(range(199, -1, -1))]
    assert (kept.words, kept.by_name, kept.kind, kept.data) == (("a", "ß"), {"x": 1.5, "y": 2.0}, "two", b"\0\xff")
    kept.numbers[0] = 5.0  # its own memory, not the process's


def test_millions_of_numbers_come_back_in_their_order(read):
    data = np.random.default_rng(5).integers(0, 256, 3_000_000, dtype=np.uint8).tobytes()
    (kept,) = read("whole", list[Kept], data).value
    assert np.array_equal(kept.numbers, np.frombuffer(data, np.uint8)) and kept.numbers.dtype == np.float64


def test_the_readers_own_error_comes_out_with_its_parts(read):
    with pytest.raises(Refused) as caught:
        read("refuses")
    error = caught.value.error
    assert isinstance(error, FormatError) and error.what == "is not what it says"
    assert error.concerns.endswith("file, line 3") and error.remedy == "Write it again." and error.details == "why"
    assert not caught.value.defects


def test_an_error_that_nobody_foresaw_is_ours_and_is_told(read):
    with pytest.raises(Refused) as caught:
        read("unforeseen")
    assert caught.value.error.what == "cannot be understood" and "content" not in str(caught.value.error)
    assert [kind for _, kind, _ in caught.value.defects] == ["KeyError"]


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("outside_memory", "its reader failed"),
        ("frees_twice", "its reader failed"),
        ("endless", "was not read within 2 s"),
        ("greedy", "more than 256 MiB of memory"),
        ("talks", "more than 256 MiB of memory"),
        ("another_type", "its reader failed"),
        ("leaves", "its reader failed"),
    ],
)
def test_what_goes_wrong_inside_is_an_error_with_a_remedy(read, name, words):
    with pytest.raises((FormatError, Refused)) as caught:
        read(name)
    error = caught.value.error if isinstance(caught.value, Refused) else caught.value
    assert words in error.what and error.remedy and error.concerns.endswith("file")
    assert read("slow_letter").value == ["some bytes to read"], "the next file is read as ever"


def test_one_that_sleeps_is_ended_by_the_clock(read):
    with pytest.raises(FormatError, match=r"was not read within 0\.5 s"):
        read("asleep", bounds=Bounds(256 * MIB, 2, 0.5, MIB))


def test_reading_is_cancelled_at_once_and_its_process_ended(read, cage):
    asked = threading.Event()
    threading.Timer(0.4, asked.set).start()
    with pytest.raises(Cancelled):
        read("asleep", cancelled=asked.is_set)
    keeper = cage._keeper.pid
    for _ in range(200):
        running = [p for p in children(keeper) if cpu_state(p) == "S" and "asleep" in wchan(p)]
        if not running:
            break
        time.sleep(0.05)
    assert not running


def children(process):
    return [int(p) for p in Path(f"/proc/{process}/task/{process}/children").read_text().split()]


def cpu_state(process):
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0]
    except OSError:
        return ""


def wchan(process):
    try:
        return "asleep" if "nanosleep" in Path(f"/proc/{process}/wchan").read_text() else ""
    except OSError:
        return ""


def test_a_reader_reaches_nothing_but_its_file(read):
    found = dict(line.split(": ", 1) for line in read("reaches_out").value)
    acts = {k: v for k, v in found.items() if k not in ("files", "environment", "folder")}
    assert acts and set(acts.values()) == {"PermissionError"}
    assert int(found["files"]) <= 4  # its file, its answer, where it says that it is done, the folder that is listed
    assert found["folder"] == "/"
    stated = {"PATH", "PYTHONPATH", "LD_LIBRARY_PATH", "LANG", "LC_ALL", "TZ", "TMPDIR", "HOME", "XDG_RUNTIME_DIR"}
    set_inside = {"LC_CTYPE", "PYDANTIC_DISABLE_PLUGINS"}  # by Python and by us, once it runs
    assert set(found["environment"].split()) <= stated | {"OPENBLAS_NUM_THREADS", "PYTHONWARNINGS"} | set_inside


def test_several_files_are_read_at_once_and_none_is_taken_for_another(cage, tmp_path):
    found, begun = {}, time.monotonic()

    def one(n):
        path = tmp_path / f"{n}"
        path.write_text(f"letter {n}")
        with path.open("rb") as file:
            found[n] = cage.read(READERS + "slow_letter", file.fileno(), str(path), list[str], SMALL).value

    threads = [threading.Thread(target=one, args=(n,)) for n in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert found == {n: [f"letter {n}"] for n in range(8)}
    assert time.monotonic() - begun < 60.0


def test_a_keeper_that_was_killed_is_started_anew(read, cage):
    os.kill(cage._keeper.pid, 9)
    assert read("slow_letter").value == ["some bytes to read"]


def test_closing_ends_all_its_processes(tmp_path):
    cage = Cage(("numpy",))
    cage.start()
    path = tmp_path / "file"
    path.write_bytes(b"x")
    ended = []

    def reads():
        with path.open("rb") as file, pytest.raises((FormatError, Refused)):
            cage.read(READERS + "asleep", file.fileno(), "file", list[str], SMALL)
        ended.append(True)

    thread = threading.Thread(target=reads, daemon=True)
    thread.start()
    keeper = cage._keeper.pid
    while not children(keeper):
        time.sleep(0.01)
    mine = children(keeper)
    cage.close()
    assert not Path(f"/proc/{keeper}").exists() and not any(Path(f"/proc/{p}").exists() for p in mine)
