"""Job files that were made to harm, moved away, or opened twice: what is refused, and what is said."""

import os
import shutil
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest
from kept import kept_drafts

from yarvic.core.errors import JobError, JobInUseError, JobNotWritableError, YarvicError
from yarvic.core.job import columns, file, history, lock
from yarvic.core.job.file import verify
from yarvic.core.job.schema import SEALED_SINCE, VERSION
from yarvic.core.job.shape import shapes
from yarvic.core.job.store import Job
from yarvic.core.reading import DEFECTS
from yarvic.demo.story import AUTHOR

OLD = sorted((Path(__file__).parents[2] / "data/old_jobs").glob("*.yarvic"))


@pytest.fixture(autouse=True)
def nothing_unforeseen():
    """Whatever is tried here is foreseen: no error from below has to be converted at the door."""
    DEFECTS.clear()
    yield
    assert not list(DEFECTS)


def change(path, *statements, writable_schema=False):
    connection = sqlite3.connect(path, isolation_level=None)
    if writable_schema:
        connection.execute("PRAGMA writable_schema=ON")
    for each in statements:
        connection.execute(*each) if isinstance(each, tuple) else connection.execute(each)
    connection.close()


def everything(path):
    """Open a job as the window does, and read all of it."""
    job = Job.open(path)
    try:
        job.builds(), job.revisions(), job.flashes(), job.releases(), job.journal(), kept_drafts(job)
        for revision in job.revisions():
            job.edits(revision.id), job.image(revision.image), job.waivers(revision.id)
        for run in job.evidence():
            job.log(run.id)
    finally:
        job.close()


# -- the schema

ACTS_BY_ITSELF = [
    "CREATE TRIGGER t AFTER INSERT ON revision BEGIN DELETE FROM revision WHERE id = new.id; END",
    "CREATE TRIGGER t AFTER UPDATE ON sheet BEGIN UPDATE release SET manifest_sha256 = 'x'; END",
    "CREATE VIEW v AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i FROM n",
    "CREATE TABLE more (x)",
    "CREATE INDEX more ON journal (sentence)",
    "CREATE UNIQUE INDEX more ON flash (abs(id))",
    "ALTER TABLE journal ADD COLUMN more TEXT",
    "ALTER TABLE journal ADD COLUMN more AS (hex(zeroblob(100000000)))",
    "ALTER TABLE build RENAME COLUMN title TO name",
    "DROP INDEX evidence_by_revision",
    "CREATE VIRTUAL TABLE more USING fts5(x)",
]


@pytest.mark.parametrize("statement", ACTS_BY_ITSELF)
@pytest.mark.parametrize("read_only", [False, True])
def test_what_our_schema_does_not_hold_is_refused(demo_path, statement, read_only):
    change(demo_path, statement)
    content = demo_path.read_bytes()
    with pytest.raises(JobError, match=r"another form|lacks") as caught:
        Job.open(demo_path, read_only=read_only)
    assert str(demo_path) in str(caught.value) and caught.value.remedy
    assert demo_path.read_bytes() == content
    assert not lock.is_connected(lock.inode(demo_path))


def test_a_table_under_anothers_text_is_refused(demo_path):
    change(
        demo_path,
        "UPDATE sqlite_master SET sql = replace(sql, 'reason TEXT NOT NULL', 'reason TEXT') WHERE name = 'revision'",
        writable_schema=True,
    )
    with pytest.raises(JobError, match="revision"):
        Job.open(demo_path)


@pytest.mark.parametrize("version", range(1, VERSION + 1))
def test_a_file_of_any_version_has_a_known_shape_however_it_came_to_be(version):
    names = shapes(version)
    assert {"sheet", "revision", "journal", "evidence_by_revision"} <= names.keys()
    # Made so, or brought up from each version before: as many ways at most, and one where nothing was changed since.
    assert all(1 <= len(ways) <= version for ways in names.values())
    assert len(names["image"]) == 1


@pytest.mark.parametrize("old", OLD, ids=[p.stem for p in OLD])
def test_an_old_file_is_sealed_when_it_is_brought_up_to_date(tmp_path, old):
    path = Path(shutil.copy(old, tmp_path / "old.yarvic"))
    if int(old.stem[-1]) < SEALED_SINCE:
        assert verify(path).lines == 0  # as it is, it carries no sums
    everything(path)
    found = verify(path)
    assert found.faults == () and found.lines > 1
    change(path, "UPDATE revision SET reason = 'another' WHERE id = 1")
    assert verify(path).faults == ("revision Stock is not as it was recorded",)


# -- what columns hold

HOSTILE_VALUES = [
    "UPDATE image SET size = -1",
    "UPDATE image SET size = 2000000000",
    "UPDATE image SET size = 'big'",
    "UPDATE image SET data = zeroblob(100)",
    "UPDATE image SET data = 7",
    "UPDATE evidence_column SET count = -1",
    "UPDATE evidence_column SET count = 2000000000",
    "UPDATE evidence_column SET count = 1.5",
    "UPDATE evidence_column SET count = 'many'",
    "UPDATE evidence_column SET crc32 = x'00'",
    "UPDATE evidence_column SET data = 'text'",
    "UPDATE evidence_column SET time_position = 'x'",
    "UPDATE evidence_column SET time_position = 999 WHERE time_position IS NOT NULL",
    "UPDATE evidence_column SET position = -position",
    "UPDATE evidence_column SET key = x'ff', title = x'fe'",
    "UPDATE evidence SET conditions = '{\"pressure_pa\": NaN}'",
    "UPDATE evidence SET conditions = replace(conditions, '\"gear\":', '\"gear\":\"x\",\"gear2\":')",
    "UPDATE evidence SET conditions = 5",
    "UPDATE evidence SET conditions = x'00'",
    "UPDATE evidence SET title = x'ff'",
    "UPDATE evidence SET time = 12",
    "UPDATE build SET fitted = '[]'",
    "UPDATE build SET fitted = '{\"a\": 1}'",
    "UPDATE build SET event = '{\"cost\": 1e999}'",
    "UPDATE build SET title = 5.5",
    "UPDATE sheet SET document = 'null'",
    "UPDATE sheet SET document = replace(document, '1', '1e999')",
    "UPDATE sheet SET document = CAST(x'fffe' AS TEXT)",
    "UPDATE sheet SET layout = x'00'",
    "UPDATE sheet SET layout = replace(layout, 'factor\":0.1', 'factor\":nan')",
    "UPDATE revision SET edits = '[[1e999]]' WHERE id > 1",
    "UPDATE revision SET edits = '[[\"RON 95\",\"spark_advance\",\"x\",[[0,0]],[NaN],[1]]]' WHERE id > 1",
    "UPDATE revision SET edits = '7' WHERE id > 1",
    "UPDATE revision SET author = x'00'",
    "UPDATE revision SET build = 'x'",
    "UPDATE journal SET sentence = 5",
    "UPDATE journal SET sentence = CAST(x'ff' AS TEXT)",
    "UPDATE journal SET sentence = CAST(zeroblob(50000) AS TEXT)",
    "INSERT INTO flash VALUES ('99', 'x', 'x', 'x', 'x', 'x')",
]  # fmt: skip


@pytest.mark.parametrize("statement", HOSTILE_VALUES)
def test_a_column_that_holds_what_it_cannot_is_said_and_nothing_else_happens(demo_path, statement):
    try:
        change(demo_path, "PRAGMA ignore_check_constraints=ON", statement)
    except sqlite3.IntegrityError:
        pytest.skip("SQLite itself refuses it")
    try:
        everything(demo_path)
    except YarvicError as error:
        assert error.remedy and error.concerns
    faults = ()
    try:
        faults = verify(demo_path).faults
    except YarvicError as error:
        faults = (str(error),)
    assert faults, "a file that was changed is said to be"


def test_a_few_bytes_do_not_unpack_to_a_memory_full(demo_path):
    import zlib

    import zstandard

    bomb = zstandard.ZstdCompressor(level=1).compress(bytes(8 * 40_000_000))
    with pytest.raises(JobError, match="more numbers than one can"):
        columns.decode([(40_000_000, zlib.crc32(bomb), bomb)], concerns="bomb")
    change(
        demo_path,
        ("UPDATE evidence_column SET count = 40000000, crc32 = ?, data = ?", (zlib.crc32(bomb), bomb)),
    )
    job = Job.open(demo_path)
    try:
        with pytest.raises(JobError, match="more numbers than one can"):
            job.log("R0001")
    finally:
        job.close()


def test_pages_that_lead_in_circles_come_to_an_end(demo_path):
    """An inner page whose children are itself, over and over: each level would be read a hundred times as often."""
    data = bytearray(demo_path.read_bytes())
    size = int.from_bytes(data[16:18], "big")
    inner = [n for n in range(1, len(data) // size) if data[n * size] == 0x05]
    assert inner, "the demo job has a tree of two levels"
    for n in inner:
        cells = int.from_bytes(data[n * size + 3 : n * size + 5], "big")
        for c in range(cells):
            at = int.from_bytes(data[n * size + 12 + 2 * c : n * size + 14 + 2 * c], "big")
            data[n * size + at : n * size + at + 4] = (n + 1).to_bytes(4, "big")
        data[n * size + 8 : n * size + 12] = (n + 1).to_bytes(4, "big")
    demo_path.write_bytes(data)
    with pytest.raises(JobError, match="damaged"):
        everything(demo_path)
    with pytest.raises(JobError, match="damaged"):
        verify(demo_path)


def test_reading_without_end_is_stopped(job):
    with pytest.raises(JobError, match="comes to no end"):
        job._rows("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT count(*) FROM n")
    assert job.revisions()  # and the next thing that is asked is answered


# -- the lock


@pytest.mark.parametrize("link", [os.link, os.symlink])
def test_a_second_name_is_the_same_file(job, link):
    other = job.path.with_name("other.yarvic")
    link(job.path, other)
    with pytest.raises(JobInUseError, match="open in another window"):
        Job.open(other)
    reader = Job.open(other, read_only=True)
    assert [r.name for r in reader.revisions()] == ["Stock"]
    reader.close()
    # What was opened beside it and closed again has not cost the writer its locks.
    job.note("test", "still held")
    code = (
        "import sys\nfrom pathlib import Path\nfrom yarvic.core.job.store import Job\n"
        "from yarvic.core.errors import JobInUseError\n"
        "try:\n    Job.open(Path(sys.argv[1]))\nexcept JobInUseError as e:\n    print(e)\n"
    )
    told = subprocess.run([sys.executable, "-c", code, str(other)], capture_output=True, text=True, check=True)
    assert f"process {os.getpid()}" in told.stdout


def test_a_name_with_a_second_link_is_said(job):
    assert lock.cautions(job.path) == []
    os.link(job.path, job.path.with_name("other.yarvic"))
    assert "2 names" in lock.cautions(job.path)[0].what


def test_a_network_folder_is_told_by_the_mount_that_is_nearest(tmp_path, monkeypatch):
    table = tmp_path / "mounts"
    table.write_text(
        "22 1 8:1 / / rw - ext4 /dev/sda1 rw\n"
        f"30 22 0:50 / {tmp_path}/shop\\040files rw - nfs4 server:/shop rw\n"
        f"31 30 8:2 / {tmp_path}/shop\\040files/local rw - ext4 /dev/sdb1 rw\n"
    )
    monkeypatch.setattr(lock, "MOUNTS", table)
    assert lock.network_kind(tmp_path / "a.yarvic") == ""
    assert lock.network_kind(tmp_path / "shop files" / "a.yarvic") == "nfs4"
    assert lock.network_kind(tmp_path / "shop files" / "local" / "a.yarvic") == ""


def test_in_a_network_folder_the_lock_is_beside_the_file_and_that_is_said(job, monkeypatch):
    path = job.path
    job.close()
    monkeypatch.setattr(lock, "network_kind", lambda p: "nfs4")
    one = Job.open(path)
    with pytest.raises(JobInUseError):
        Job.open(path)
    assert "network folder (nfs4)" in lock.cautions(path)[0].what
    one.note("test", "written")
    one.close()


def test_a_folder_that_may_not_be_written_is_named(job, monkeypatch):
    path = job.path
    job.close()
    monkeypatch.setattr(lock.os, "access", lambda place, how: Path(place) != path.parent)
    with pytest.raises(JobNotWritableError, match="the folder may not be written"):
        Job.open(path)
    assert not lock.is_connected(lock.inode(path))


def test_a_full_disk_keeps_no_job_shut(job, monkeypatch):
    """The lock takes no space: nothing is created for it."""
    path = job.path
    job.close()
    before = sorted(p.name for p in path.parent.iterdir())
    again = Job.open(path)
    assert sorted(p.name for p in path.parent.iterdir()) == before
    again.close()


# -- the file goes away


@pytest.mark.parametrize("how", ["deleted", "moved", "replaced"])
def test_a_file_that_goes_away_under_the_window_is_said_and_can_be_saved(job, tmp_path, how):
    job.note("test", "before")
    if how == "deleted":
        job.path.unlink()
    elif how == "moved":
        job.path.rename(tmp_path / "elsewhere.yarvic")
    else:
        other = tmp_path / "other"
        shutil.copy(job.path, other)
        os.replace(other, job.path)
    with pytest.raises(JobError, match="moved, deleted or replaced") as caught:
        job.note("test", "lost?")
    assert "save a copy" in caught.value.remedy
    saved = tmp_path / "saved.yarvic"
    job.copy_to(saved)
    assert verify(saved).faults == ()
    copy = Job.open(saved, read_only=True)
    assert [e.sentence for e in copy.journal()][-1] == "before"
    copy.close()


# -- the history


def test_the_history_of_all_that_a_job_records_fits(demo_path):
    found = verify(demo_path)
    assert found.faults == ()
    job = Job.open(demo_path, read_only=True)
    assert job.head() == (found.lines, found.head)
    assert found.lines == len(job.journal()) > 10
    job.close()


TAMPERED = [
    ("UPDATE journal SET sentence = 'nothing happened' WHERE id = 3", "line 3 of the journal is not as it was"),
    ("DELETE FROM journal WHERE id = 3", "line 3 of the journal is missing"),
    ("INSERT INTO journal (time, subject, sentence) VALUES ('', 'x', 'y')", "is not as it was written"),
    ("UPDATE revision SET reason = 'another' WHERE id = 2", "is not as it was recorded"),
    ("UPDATE revision SET edits = '[]' WHERE id = 2", "is not as it was recorded"),
    ("UPDATE sheet SET document = replace(document, '\"stretch\":', '\"stretch\": 1')", "sheet of the job is not"),
    ("UPDATE build SET title = 'x' WHERE number = 1", "build 1 is not"),
    ("UPDATE evidence SET title = 'x' WHERE id = 'R0002'", "evidence R0002 is not"),
    ("UPDATE evidence_column SET title = 'x' WHERE evidence_id = 'R0002'", "evidence R0002 is not"),
    ("DELETE FROM evidence_column WHERE evidence_id = 'R0002'", "evidence R0002 is not"),
    ("UPDATE flash SET blocks = 999 WHERE id = 1", "flash 1 is not"),
    ("DELETE FROM flash WHERE id = 1", "flash 1 is recorded, and is not there"),
    ("INSERT INTO waiver VALUES (9, 2, 'check Knock', 'x', 'y', '', '')", "is in no line of the journal"),
    ("INSERT INTO release VALUES (1, 'x', 'y', '', '', '', '')", "release 1 is in no line"),
    ("INSERT INTO image VALUES ('ab', 1, x'00')", "an image belongs to no revision"),
]


@pytest.mark.parametrize(("statement", "message"), TAMPERED)
def test_what_was_changed_by_other_means_is_named(demo_path, statement, message):
    change(demo_path, statement)
    assert message in " | ".join(verify(demo_path).faults)


def test_the_sum_of_a_line_by_hand():
    """SHA-256 of what docs/security.md says it is over, computed here anew with the reference library."""
    import hashlib

    text = '["yarvic history 1","ab",2,"2026-01-01","B1","why","[]"]'
    assert history.link("ab", 2, "2026-01-01", "B1", "why", "[]") == hashlib.sha256(text.encode()).hexdigest()


def test_a_check_that_is_cancelled_ends(demo_path):
    from yarvic.core.errors import Cancelled

    asked = iter([False, False, True])
    with pytest.raises(Cancelled):
        verify(demo_path, cancelled=lambda: next(asked, True))


def test_a_job_that_fails_to_open_is_closed(demo_path):
    change(demo_path, "UPDATE sheet SET document = '{}'")
    for _ in range(3):
        with pytest.raises(JobError, match="job sheet"):
            Job.open(demo_path)
    assert not lock.is_connected(lock.inode(demo_path))
    handles = [os.path.realpath(f"/proc/self/fd/{n}") for n in os.listdir("/proc/self/fd")]
    assert str(demo_path) not in handles
    change(demo_path, "DELETE FROM sheet")
    with pytest.raises(JobError, match="no job sheet"):
        Job.open(demo_path)


def test_what_is_wrong_is_said_without_the_files_content(demo_path):
    change(demo_path, ("UPDATE sheet SET document = ?", ('{"title": "SECRET", "password": "SECRET"}',)))
    with pytest.raises(JobError) as caught:
        Job.open(demo_path)
    assert "SECRET" not in str(caught.value) + caught.value.details
    change(demo_path, "UPDATE sheet SET document = CAST(x'53454352455420ff' AS TEXT)")
    with pytest.raises(JobError) as caught:
        Job.open(demo_path)
    assert "SECRET" not in str(caught.value) + caught.value.details
    assert AUTHOR not in str(caught.value)


def test_sqlites_own_defences_are_on(job):
    on = {
        name: job._connection.execute(f"PRAGMA {name}").fetchone()[0]
        for name in ("trusted_schema", "cell_size_check")
    }
    assert on == {"trusted_schema": 0, "cell_size_check": 1}
    assert job._connection.getlimit(sqlite3.SQLITE_LIMIT_ATTACHED) == 0
    with pytest.raises(sqlite3.OperationalError):
        job._connection.execute("ATTACH ':memory:' AS x")
    assert file.STEPS_AT_LEAST > 0
