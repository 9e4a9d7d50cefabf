"""The job file: what is committed stays, what is no job is refused, and nobody writes twice."""

import os
import random
import sqlite3
import stat
import subprocess
import sys
import time
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pytest
from kept import kept_drafts

from yarvic.bench.vehicles import layout_text
from yarvic.core.calibration.cells import add_to_cells
from yarvic.core.calibration.edits import Edit
from yarvic.core.calibration.image import Image, unpack
from yarvic.core.errors import CalibrationError, JobError, JobInUseError, JobNotWritableError
from yarvic.core.job import columns, file
from yarvic.core.job.edits_json import edits_from_json, edits_to_json
from yarvic.core.job.store import Job
from yarvic.core.plan.derived import displacement_m3
from yarvic.demo.ptarmigan import PTARMIGAN
from yarvic.demo.story import AUTHOR


def revised(job, name="A1"):
    image = Image(job.layout, job.image(job.revisions()[-1].image))
    spark = image["RON 95"].table("spark_advance")
    changed = add_to_cells(spark, np.ones(spark.values.shape, dtype=bool), -1.0)
    edits = image.edits_to("RON 95", changed, "less spark")
    return image.with_edits(edits).sealed(name), tuple(edits)


def commit(job, name="A1", reason="less spark everywhere"):
    image, edits = revised(job, name)
    return job.commit_revision(name, job.revisions()[-1].id, reason, AUTHOR, image, edits)


def test_a_new_job_holds_its_stock_image(job, stock):
    assert [r.name for r in job.revisions()] == ["Stock"]
    assert job.image(job.revision("Stock").image) == stock
    assert displacement_m3(job.sheet.vehicle) * 1e6 == pytest.approx(1399.4, abs=0.1)
    assert job.next_name() == "A1"
    assert [b.number for b in job.builds()] == [1]


def test_everything_is_there_after_reopening(job, pulled):
    log, conditions = pulled
    first = commit(job)
    run = job.add_evidence("A1 pull 1", first.id, log, conditions, source="test")
    job.record_flash(first.id, "unit 1", first.image, 3)
    job.fit("front intercooler", {"intercooler": "front intercooler"})
    job.waive(first.id, "pulls", "Rowan Sedge", "one was enough for a try")
    job.begin_draft(first.id, [job.edits(first.id)])
    drafts = kept_drafts(job)
    path = job.path
    job.close()
    again = Job.open(path)
    try:
        assert again.revision("A1") == first
        assert again.evidence() == [run]
        assert kept_drafts(again) == drafts
        assert again.flashes()[0].blocks == 3
        assert again.waivers(first.id)[0].reason == "one was enough for a try"
        assert again.fitted()["intercooler"] == "front intercooler"
        assert again.next_name() == "B1"
        stored = again.log(run.id)
        for key, channel in log.channels.items():
            assert np.array_equal(stored.channels[key].values, channel.values)
            assert np.array_equal(stored.channels[key].time_s, channel.time_s)
        assert set(again.log(run.id, ["rail_pressure"]).channels) == {"rail_pressure"}
        assert [e.subject for e in again.journal()] == ["job", "Stock", "A1", run.id, "flash", "build", "waiver"]
    finally:
        again.close()


def test_logs_are_compressed(job, pulled):
    log, conditions = pulled
    before = job.path.stat().st_size
    job.add_evidence("pull", 1, log, conditions, source="test")
    raw = sum(c.values.size * 8 for c in log.channels.values())
    assert job.path.stat().st_size - before < 0.6 * raw


def test_a_reason_is_needed(job):
    image, edits = revised(job)
    for reason in ("", "   "):
        with pytest.raises(JobError, match="reason"):
            job.commit_revision("A1", 1, reason, AUTHOR, image, edits)
    assert len(job.revisions()) == 1


def test_an_image_of_another_family_is_refused(job, stock):
    with pytest.raises(CalibrationError, match="wether"):
        job.commit_revision("A1", 1, "try", AUTHOR, stock.replace(b"ptarmigan-14", b"wether-32\0\0\0", 1), ())
    assert len(job.revisions()) == 1


def test_a_waiver_needs_name_and_reason(job):
    for name, reason in (("", "why"), ("who", " ")):
        with pytest.raises(JobError, match="name and a reason"):
            job.waive(1, "pulls", name, reason)


def test_a_revision_is_released_once(job):
    job.record_release(1, "Rowan Sedge", "ab" * 32, "a.zip")
    with pytest.raises(JobError, match="released already"):
        job.record_release(1, "Rowan Sedge", "ab" * 32, "b.zip")
    assert len(job.releases()) == 1


def test_a_file_in_the_way_is_not_replaced(job, stock):
    with pytest.raises(JobError, match=r"there already|open in another"):
        Job.create(job.path, PTARMIGAN.sheet(), layout_text("ptarmigan"), stock, author=AUTHOR)
    other = job.path.with_name("other.yarvic")
    other.write_text("mine")
    with pytest.raises(JobError, match="there already"):
        Job.create(other, PTARMIGAN.sheet(), layout_text("ptarmigan"), stock, author=AUTHOR)
    assert other.read_text() == "mine"
    assert not [p for p in job.path.parent.iterdir() if p.name.endswith(".new")]


# -- files that are none


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (b"", "not a job"),
        (b"hello", "not a job"),
        (b"SQLite format 3\0" + b"\0" * 200, "not a job"),
        (random.Random(3).randbytes(5000), "not a job"),
    ],
    ids=["empty", "a word", "a head", "noise"],
)
def test_what_is_no_job_is_refused(tmp_path, content, message):
    path = tmp_path / "a.yarvic"
    path.write_bytes(content)
    with pytest.raises(JobError, match=message) as caught:
        Job.open(path)
    assert caught.value.remedy and str(path) in str(caught.value)
    assert path.read_bytes() == content


def test_a_missing_file_and_another_database_are_refused(tmp_path):
    with pytest.raises(JobError, match="is not there"):
        Job.open(tmp_path / "none.yarvic")
    assert not list(tmp_path.iterdir())
    other = tmp_path / "other.yarvic"
    connection = sqlite3.connect(other)
    connection.execute("CREATE TABLE t (x)")
    connection.commit()
    connection.close()
    with pytest.raises(JobError, match="not a job"):
        Job.open(other)


def test_a_newer_file_is_left_alone(demo_path):
    connection = sqlite3.connect(demo_path)
    connection.execute("PRAGMA user_version=99")
    connection.commit()
    connection.close()
    before = Path(demo_path).read_bytes()
    with pytest.raises(JobError, match="newer Yarvic"):
        Job.open(demo_path)
    assert Path(demo_path).read_bytes() == before


def test_a_file_that_lacks_a_table_is_damaged(demo_path):
    connection = sqlite3.connect(demo_path)
    connection.execute("DROP TABLE waiver")
    connection.commit()
    connection.close()
    with pytest.raises(JobError, match="lacks waiver"):
        Job.open(demo_path)


@pytest.mark.parametrize("seed", range(6))
def test_damage_anywhere_is_an_error_not_a_crash(demo_path, seed):
    """Overwrite pages; whatever is read then is either right or a JobError."""
    rng = np.random.default_rng(seed)
    data = bytearray(Path(demo_path).read_bytes())
    for _ in range(40):
        at = int(rng.integers(4096, len(data) - 64))
        data[at : at + 64] = rng.bytes(64)
    Path(demo_path).write_bytes(data)
    errors = 0
    try:
        file.verify(demo_path)
    except JobError:
        errors += 1
    try:
        job = Job.open(demo_path)
    except JobError:
        return
    try:
        for action in (job.revisions, job.evidence, job.journal, job.builds):
            try:
                action()
            except JobError:
                errors += 1
        for number in range(1, 10):
            try:
                job.log(f"R{number:04d}")
            except JobError:
                errors += 1
    finally:
        job.close()
    assert errors > 0


def test_an_intact_file_verifies(demo_path):
    found = file.verify(demo_path)
    assert found.faults == () and found.lines > 10


def test_columns_are_guarded():
    values = np.array([1.0, np.nan, -3.5, 1e300])
    crc, data = columns.encode(values)
    nothing = columns.encode(np.empty(0))
    again = columns.decode([(4, crc, data), (0, *nothing), (4, crc, data)], concerns="x")
    assert np.array_equal(again[0], values, equal_nan=True) and again[1].size == 0 and len(again) == 3
    with pytest.raises(JobError, match="damaged"):
        columns.decode([(4, crc, data[:-1] + b"\0")], concerns="x")
    for count in (3, 5, -4):
        with pytest.raises(JobError, match="length"):
            columns.decode([(count, crc, data)], concerns="x")


def test_a_column_that_would_burst_is_refused():
    import zlib

    import zstandard

    bomb = zstandard.ZstdCompressor().compress(b"\0" * 50_000_000)
    with pytest.raises(JobError, match="length"):
        columns.decode([(10, zlib.crc32(bomb), bomb)], concerns="x")
    nothing = b"not a frame at all"
    with pytest.raises(JobError, match="damaged"):
        columns.decode([(10, zlib.crc32(nothing), nothing)], concerns="x")
    # A frame cut short, under a checksum of its own.
    short = columns.encode(np.arange(1000.0))[1][:-20]
    with pytest.raises(JobError, match="damaged"):
        columns.decode([(1000, zlib.crc32(short), short)], concerns="x")


def test_a_damaged_image_is_found(demo_path):
    connection = sqlite3.connect(demo_path)
    import zlib

    connection.execute("UPDATE image SET data = ?", (zlib.compress(b"\0" * 65536),))
    connection.commit()
    connection.close()
    job = Job.open(demo_path)
    try:
        with pytest.raises(JobError, match="image is damaged"):
            job.image(job.revisions()[0].image)
        with pytest.raises(JobError, match="missing"):
            job.image("00" * 32)
    finally:
        job.close()


def test_a_sheet_that_cannot_be_understood(demo_path):
    connection = sqlite3.connect(demo_path)
    connection.execute("UPDATE sheet SET document = '{\"title\": 3}'")
    connection.commit()
    connection.close()
    with pytest.raises(JobError, match="job sheet cannot be understood"):
        Job.open(demo_path)


def test_a_closed_job_says_that_it_is_closed(job):
    job.close()
    with pytest.raises(JobError, match="closed meanwhile"):
        job.revisions()


def test_edits_survive_json(layout):
    edits = (
        Edit("RON 95", "spark_advance", "x", ((1, 2), (3, 4)), (1.0, 2.0), (0.5, float("inf"))),
        Edit("RON 95", "n", "y", ((0, 1),), (-0.0,), (2.0**60,), "axis"),
        Edit("RON 95", "t", "z", (), (2.0, 1.0, 7.0), (1.0, 1.0), "form"),
    )
    assert edits_from_json(edits_to_json(edits), layout) == edits
    # A file up to version 6 holds values: they become what was stored for them, ten counts a degree.
    [old] = edits_from_json('[["RON 95", "spark_advance", "x", [[0, 0]], [12.5], [-3.0]]]', layout)
    low = layout.storing(layout.by_key["spark_advance"]).origin
    step = layout.storing(layout.by_key["spark_advance"]).step
    assert old.before == (round((12.5 - low) / step),) and old.after == (round((-3.0 - low) / step),)
    with pytest.raises(ValueError, match="no part"):
        edits_from_json('[["a", "b", "c", [], [], [], "nothing"]]', layout)


# -- one writer


def test_a_second_process_is_refused_and_may_read(demo_path):
    job = Job.open(demo_path)
    try:
        code = (
            "import sys; from pathlib import Path; from yarvic.core.job.store import Job\n"
            "from yarvic.core.errors import JobInUseError\n"
            "p = Path(sys.argv[1])\n"
            "try: Job.open(p); print('opened')\n"
            "except JobInUseError as e: print('in use:', e)\n"
            "j = Job.open(p, read_only=True); print(len(j.revisions()), j.read_only)\n"
        )
        done = subprocess.run(
            [sys.executable, "-c", code, str(demo_path)], capture_output=True, text=True, check=True
        )
        assert "in use:" in done.stdout and f"process {os.getpid()}" in done.stdout
        assert "3 True" in done.stdout
    finally:
        job.close()
    Job.open(demo_path).close()


def test_read_only_refuses_to_write(demo_path):
    before = Path(demo_path).read_bytes()
    job = Job.open(demo_path, read_only=True)
    try:
        for action in (
            lambda: commit(job),
            lambda: job.begin_draft(1, []),
            lambda: job.note("x", "y"),
            lambda: job.fit("x", {}),
        ):
            with pytest.raises(JobError, match="read only"):
                action()
    finally:
        job.close()
    assert Path(demo_path).read_bytes() == before


@pytest.mark.skipif(os.geteuid() != 0, reason="needs to become another user")
def test_a_folder_that_may_not_be_written(tmp_path, demo_file):
    """As another user: opening to write says what to do, reading works."""
    import shutil

    folder = tmp_path / "theirs"
    folder.mkdir()
    path = shutil.copy(demo_file, folder / "a.yarvic")
    for p in (tmp_path, *tmp_path.parents[:3], folder):
        p.chmod(p.stat().st_mode | stat.S_IXOTH | stat.S_IROTH)
    os.chmod(path, 0o644)
    reader = os.fork()
    if reader == 0:  # pragma: no cover - the other user
        code = 3
        try:
            os.setgid(65534)
            os.setuid(65534)
            try:
                Job.open(path)
            except JobNotWritableError as error:
                code = 0 if "may not be written" in str(error) and "read only" in str(error) else 4
            job = Job.open(path, read_only=True)
            code = code if len(job.revisions()) == 3 else 5
        finally:
            os._exit(code)
    assert os.waitstatus_to_exitcode(os.waitpid(reader, 0)[1]) == 0


def test_a_full_disk_is_said_and_nothing_is_lost(job):
    before = len(job.revisions())
    # SQLite's own bound on the file's pages fails in the way a full disk does.
    pages = job._connection.execute("PRAGMA page_count").fetchone()[0]
    job._connection.execute(f"PRAGMA max_page_count={pages}")
    rng = np.random.default_rng(1)
    from yarvic.core.evidence.log import Channel, Log

    t = np.arange(50_000) / 100.0
    noise = Log({"throttle": Channel("throttle", "Throttle", "ratio", "fraction", t, rng.normal(size=t.size))})
    with pytest.raises(JobError, match="disk is full") as caught:
        job.add_evidence("big", 1, noise, None, source="test")
    assert "nothing was changed" in str(caught.value)
    job._connection.execute("PRAGMA max_page_count=1000000")
    assert job.evidence() == [] and len(job.revisions()) == before
    job.note("after", "it works again")
    file.verify(job.path)


# -- killed


KILLED = """
import sys
from pathlib import Path
import numpy as np
from yarvic.core.job.store import Job
from yarvic.core.calibration.cells import add_to_cells
from yarvic.core.calibration.image import Image, Image
job = Job.open(Path(sys.argv[1]))
print("ready", flush=True)
for n in range(1, 10000):
    parent = job.revisions()[-1]
    image = Image(job.layout, job.image(parent.image))
    spark = image["RON 95"].table("spark_advance")
    mask = np.zeros(spark.values.shape, dtype=bool)
    mask[n % 10, n % 13] = True
    changed = add_to_cells(spark, mask, 0.1 if n % 2 else -0.1)
    edits = image.edits_to("RON 95", changed, "step")
    draft = job.begin_draft(parent.id, [edits])
    name = job.next_name()
    image = image.with_edits(edits).sealed(name)
    job.commit_revision(name, parent.id, f"step {n}", "killed", image, edits, drop_draft=draft)
    print(name, flush=True)
"""


@pytest.mark.parametrize("moment", range(12))
def test_kill_at_any_moment_loses_no_commit(demo_path, moment):
    """SIGKILL while revisions are committed: every one that was reported is there, and the file is whole."""
    process = subprocess.Popen([sys.executable, "-c", KILLED, str(demo_path)], stdout=subprocess.PIPE, text=True)
    assert process.stdout.readline().strip() == "ready"
    time.sleep(0.05 + 0.037 * moment)
    process.kill()
    said = process.stdout.read().split()
    process.wait()
    file.verify(demo_path)
    job = Job.open(demo_path)
    try:
        names = [r.name for r in job.revisions()]
        assert [n for n in said if n not in names] == []
        # At most the one in flight is there beyond what was reported.
        assert len(names) - 3 <= len(said) + 1
        for revision in job.revisions():
            for slot in job.layout.sets:
                unpack(job.image(revision.image), job.layout, slot)
        assert len(job.drafts()) <= 1 and {d.parent_id for d in job.drafts()} <= {r.id for r in job.revisions()}
        commit(job, job.next_name())
    finally:
        job.close()


def test_a_reader_sets_right_what_a_killed_writer_left(demo_path):
    """The journal of an interrupted commit is rolled back even when the job is opened read only."""
    code = (
        "import os, sys, sqlite3\n"
        "c = sqlite3.connect(sys.argv[1], isolation_level=None)\n"
        "c.execute('PRAGMA cache_size=1')\n"
        "c.execute('BEGIN IMMEDIATE')\n"
        "c.execute('UPDATE evidence_column SET data = zeroblob(length(data))')\n"
        "os.kill(os.getpid(), 9)\n"
    )
    subprocess.run([sys.executable, "-c", code, str(demo_path)], check=False)
    assert os.path.exists(f"{demo_path}-journal")
    job = Job.open(demo_path, read_only=True)
    try:
        assert job.log("R0001").channels
    finally:
        job.close()
    assert not os.path.exists(f"{demo_path}-journal")


def test_kill_while_a_job_is_made_leaves_nothing(tmp_path):
    code = (
        "import sys, os\nfrom pathlib import Path\nimport yarvic.core.formats.files as f\n"
        "f._name = lambda handle, name: os.kill(os.getpid(), 9)\n"
        "from yarvic.core.job.store import Job\nfrom yarvic.demo.ptarmigan import PTARMIGAN\n"
        "Job.create(Path(sys.argv[1]), PTARMIGAN.sheet(), author='x')\n"
    )
    path = tmp_path / "a.yarvic"
    assert subprocess.run([sys.executable, "-c", code, str(path)], check=False).returncode == -9
    assert list(tmp_path.iterdir()) == []


def test_times_come_from_the_clock(tmp_path, stock):
    clock = lambda: datetime(2024, 5, 6, 7, 8, 9, tzinfo=UTC)  # noqa: E731
    job = Job.create(
        tmp_path / "a.yarvic", PTARMIGAN.sheet(), layout_text("ptarmigan"), stock, author=AUTHOR, clock=clock
    )
    assert job.revisions()[0].time == "2024-05-06T07:08:09+00:00"
    job.close()


def test_in_use_is_a_job_error():
    assert issubclass(JobInUseError, JobError)
