"""A disk that refuses: full, over quota, read only, faulty, too large a file; at every call of every write, counted.

And killed at random moments, a few times; `python -m tests.fuzz.kills` does it a thousand times.
"""

import errno
import os
import resource
import signal
import types
from pathlib import Path

import numpy as np
import pytest

from yarvic.core.errors import FormatError, JobError, YarvicError
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.formats import files
from yarvic.core.formats.files import write_new, write_whole
from yarvic.core.job.file import verify
from yarvic.core.job.store import Job
from yarvic.core.job.template import write_sheet
from yarvic.core.release.keys import make_key
from yarvic.core.release.package import write_package

from .kills import campaign
from .targets import _job, _package

REFUSALS = {
    errno.ENOSPC: "disk is full", errno.EDQUOT: "share of the disk", errno.EROFS: "read only", errno.EACCES: "may not be",
    errno.EIO: "reports a fault", errno.EFBIG: "larger than", errno.ESTALE: "network folder",
}  # fmt: skip
CALLS = ("open", "write", "fsync", "fchmod", "link", "replace")


class Disk(types.SimpleNamespace):
    """The system's calls, of which the one with this number fails; `links` and `nameless` files may be missing."""

    def __init__(self, fails_at, code, *, links=True, nameless=True):
        super().__init__(**{name: getattr(os, name) for name in dir(os) if not name.startswith("__")})
        self.calls, self.fails_at, self.code = 0, fails_at, code
        for name in CALLS:
            setattr(self, name, self._counted(name, links, nameless))

    def _counted(self, name, links, nameless):
        real = getattr(os, name)

        def call(*arguments, **named):
            if name == "open" and not nameless and arguments[1] & os.O_TMPFILE == os.O_TMPFILE:
                raise OSError(errno.EOPNOTSUPP, "Operation not supported")
            if name == "link" and not links:
                raise OSError(errno.EPERM, "Operation not permitted")
            self.calls += 1
            if self.calls == self.fails_at:
                raise OSError(self.code, os.strerror(self.code))
            return real(*arguments, **named)

        return call


def tried(monkeypatch, code, write, check, **disk):
    """Let each call of a write fail in turn; gives how many there were."""
    refused = 0
    for number in range(1, 100):
        faulty = Disk(number, code, **disk)
        with monkeypatch.context() as m:
            m.setattr(files, "os", faulty)
            try:
                write()
            except YarvicError as error:
                assert error.remedy and error.concerns
                refused += 1
                check(error)
                continue
        if faulty.calls < number:
            return refused
    raise AssertionError("no end of calls")


@pytest.mark.parametrize("code", REFUSALS, ids=lambda c: errno.errorcode[c])
@pytest.mark.parametrize("disk", [{}, {"nameless": False}, {"nameless": False, "links": False}], ids=str)
def test_a_file_is_written_whole_or_not_at_all_wherever_the_disk_refuses(tmp_path, monkeypatch, code, disk):
    path = tmp_path / "a"
    path.write_bytes(b"before")

    def check(error):
        assert path.read_bytes() in (b"before", b"behind") and [p.name for p in tmp_path.iterdir()] == ["a"]
        assert REFUSALS[code] in str(error) and "Nothing was written" in str(error)

    assert tried(monkeypatch, code, lambda: write_whole(path, b"behind"), check, **disk) >= 4
    assert path.read_bytes() == b"behind"


@pytest.mark.parametrize("code", REFUSALS, ids=lambda c: errno.errorcode[c])
@pytest.mark.parametrize("disk", [{}, {"nameless": False}, {"nameless": False, "links": False}], ids=str)
def test_a_new_file_is_there_or_nothing_is(tmp_path, monkeypatch, code, disk):
    path = tmp_path / "a"

    def write():
        path.unlink(missing_ok=True)
        write_new(path, b"x" * 5000)

    def check(error):
        # Where there are neither nameless files nor hard links, the name may be held by an empty file; never by half of one.
        assert [p.stat().st_size for p in tmp_path.iterdir()] in ([], [0])

    # A link that may not be made is made otherwise: it is no refusal.
    assert tried(monkeypatch, code, write, check, **disk) >= 3
    assert path.read_bytes() == b"x" * 5000
    with monkeypatch.context() as m:
        m.setattr(files, "os", Disk(0, code, **disk))
        with pytest.raises(FormatError, match="there already"):
            write_new(path, b"other")
    assert path.read_bytes() == b"x" * 5000 and len(list(tmp_path.iterdir())) == 1


@pytest.mark.parametrize("what", ["package", "key", "job", "sheet"])
def test_what_is_made_of_files_leaves_nothing_half_done(tmp_path, monkeypatch, what):
    from datetime import date

    from yarvic.demo.fieldfare import FIELDFARE

    folder = tmp_path / "in"
    folder.mkdir()
    sheet = FIELDFARE.sheet()
    writes = {
        "package": lambda: write_package(folder / "a.zip", _package(True)),
        "key": lambda: make_key(folder, "Wren", date(2026, 1, 1)),
        "job": lambda: Job.create(folder / "a.yarvic", sheet, author="x").close(),
        "sheet": lambda: write_sheet(sheet, folder / "a.toml"),
    }

    def write():
        for old in folder.iterdir():
            old.unlink()
        writes[what]()

    def check(error):
        # The public half of a key may be there, and does nothing by itself.
        assert [p.name for p in folder.iterdir()] in ([], ["wren.pub.toml"])

    assert tried(monkeypatch, errno.ENOSPC, write, check) >= 3


def test_parts_of_a_writer_that_was_killed_are_swept(tmp_path):
    path = tmp_path / "a"
    gone, mine = tmp_path / f".a.999999999{files.PART}", tmp_path / f".a.{os.getppid()}{files.PART}"
    for part in (gone, mine):
        part.write_bytes(b"half")
    write_whole(path, b"whole")
    assert not gone.exists() and mine.exists() and path.read_bytes() == b"whole"


# -- the job: a real limit of the system


def in_child(do):
    """Do something in a process of its own; gives what it says."""
    out, into = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.write(into, do().encode())
        except BaseException as error:  # noqa: BLE001 - the child must not come back into the suite
            os.write(into, f"{type(error).__name__}: {error}".encode())
        finally:
            os._exit(0)
    os.close(into)
    with os.fdopen(out, "rb") as pipe:
        told = pipe.read().decode()
    os.waitpid(child, 0)
    return told


def test_a_file_that_may_not_grow_keeps_what_is_in_it(tmp_path):
    """RLIMIT_FSIZE, as quota does it: the system refuses the write itself, at one place after another."""
    path = tmp_path / "a.yarvic"
    path.write_bytes(_job())
    t = np.arange(0.0, 20.0, 0.001)
    log = Log({"engine_speed": Channel("engine_speed", "Speed", "engine speed", "rpm", t, np.sin(t * 1e3))})
    size, refused = path.stat().st_size, 0
    before = verify(path)
    for more in (*range(0, 40_000, 4096), 100_000):

        def grow(limit=size + more):
            signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
            job = Job.open(path)
            resource.setrlimit(resource.RLIMIT_FSIZE, (limit, resource.RLIM_INFINITY))
            try:
                job.add_evidence("large", 1, log, None, source="test")
                return "written"
            except JobError as error:
                job.revisions()
                return str(error)

        told = in_child(grow)
        assert "larger than your account may make one" in told and "was whole" not in told, told
        assert "What was committed before is whole" in told
        refused += 1
        assert verify(path) == before and path.stat().st_size == size
    assert refused == 11


def test_killed_at_random_moments(capsys):
    kills, acts, wrong = campaign(12, seed=70_000)
    assert wrong == [] and kills == 12 and acts > 5


def test_an_export_that_may_not_be_written_names_its_folder(tmp_path):
    with pytest.raises(FormatError, match="its folder is not there"):
        write_new(tmp_path / "none" / "a", b"x")
    with pytest.raises(FormatError, match="no folder"):
        write_new(Path(__file__) / "a", b"x")
    with pytest.raises(FormatError, match="too long"):
        write_new(tmp_path / ("x" * 300), b"x")
    with pytest.raises(FormatError, match="no name"):
        write_new(tmp_path / "a\0b", b"x")
