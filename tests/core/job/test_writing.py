"""Writes that wait, fail, or come from an older file: the job and its memory stay one."""

import sqlite3
import sys
import threading
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from shutil import copy

import numpy as np
import pytest
from kept import kept_drafts

from yarvic.core.calibration.cells import add_to_cells
from yarvic.core.errors import JobError
from yarvic.core.job import file, lock
from yarvic.core.job.file import verify
from yarvic.core.job.store import Job
from yarvic.demo.story import AUTHOR
from yarvic.state.draft import DraftState

OLD = Path(__file__).parents[2] / "data/old_jobs/version-2.yarvic"


# -- version 2


def looked_at(job):
    [(_, steps)] = kept_drafts(job)
    log = job.log(job.evidence()[0].id)
    return (
        [len(s) for s in steps], [e.what for e in job.edits(2)], sorted(log.channels), job.waivers(2)[0].finding
    )  # fmt: skip


def test_version_2_reads_the_same_before_and_after_it_is_brought_up_to_date(tmp_path):
    path = Path(copy(OLD, tmp_path / "old.yarvic"))
    content = path.read_bytes()
    job = Job.open(path, read_only=True)
    before = looked_at(job)
    job.close()
    assert path.read_bytes() == content
    job = Job.open(path)
    try:
        assert looked_at(job) == before
    finally:
        job.close()
    # A draft of two edits, each to be undone by itself; "manifold pressure" was pressure in the airbox.
    assert before == ([1, 1], ["spark off, one cell"], ["airbox_pressure", "engine_speed"], "")
    verify(path)


def test_a_draft_of_version_2_goes_on(tmp_path):
    job = Job.open(Path(copy(OLD, tmp_path / "old.yarvic")))
    try:
        [kept] = job.drafts()
        draft = DraftState(job, job.revision("A1"), kept)
        assert draft.undo() is not None and len(job.steps(kept.id)) == 1
        made = draft.commit("one of two", AUTHOR)
        assert [e.what for e in job.edits(made.id)] == ["two cells"]
    finally:
        job.close()


def test_a_draft_of_version_6_goes_on_in_counts(tmp_path):
    """Its edits hold values; they are read as what was stored for them, and undone to the bit."""
    job = Job.open(Path(copy(OLD.with_name("version-6.yarvic"), tmp_path / "old.yarvic")))
    try:
        [kept] = job.drafts()
        assert job.edits(2)[0].after == (1037.0, 837.0) and job.carried()[0].name == "Rowan Sedge"
        draft = DraftState(job, job.revision("A1"), kept)
        assert [e.part for e in draft.edits] == ["values", "values"]
        table = draft.image["RON 95"].table("injection_time")
        assert table.values[4, 2] == 1733 * 0.002
        draft.undo(), draft.undo()
        assert draft.image.data == draft.base.data
    finally:
        job.close()


# -- another program holds the file


class Reader:
    """Another program that begins to read and never ends."""

    def __init__(self, path):
        self.connection = sqlite3.connect(path, check_same_thread=False)
        self.connection.execute("BEGIN")
        self.connection.execute("SELECT count(*) FROM revision").fetchone()

    def end(self):
        self.connection.close()


def test_a_commit_that_a_reader_holds_up_is_rolled_back_and_can_be_done_again(job, monkeypatch):
    monkeypatch.setattr(file, "WAITS_S", 0.05)
    job._connection.execute("PRAGMA busy_timeout = 50")
    reader = Reader(job.path)
    try:
        for _ in range(2):
            with pytest.raises(JobError, match="another program holds the file") as caught:
                job.note("test", "held up")
            assert "again" in caught.value.remedy
    finally:
        reader.end()
    job.note("test", "done")
    assert [e.sentence for e in job.journal()][-1] == "done"
    assert "held up" not in [e.sentence for e in job.journal()]


def test_a_reader_that_ends_in_time_is_waited_for(job):
    reader = Reader(job.path)
    threading.Timer(0.2, reader.end).start()
    job.note("test", "waited")
    assert job.journal()[-1].sentence == "waited"


def test_who_holds_the_file_is_said(job, tmp_path):
    import subprocess
    import sys

    code = (
        "import fcntl, sys, time\nf = open(sys.argv[1], 'r+b')\nfcntl.lockf(f, fcntl.LOCK_EX)\n"
        "print('held', flush=True)\ntime.sleep(30)\n"
    )
    other = subprocess.Popen([sys.executable, "-c", code, str(job.path)], stdout=subprocess.PIPE)
    try:
        other.stdout.readline()
        assert f"process {other.pid}" in file.holders(job.path)
    finally:
        other.kill()
        other.wait()
    assert file.holders(job.path) == ""


def test_the_check_of_the_whole_file_makes_room_for_a_write(demo_path):
    """Without room the write would wait for the check; with it the check begins anew behind the write."""
    asked, looks = [], []

    def make_room():
        looks.append(time.monotonic())
        return len(looks) < 5

    verify(Path(demo_path), make_room, lambda: bool(asked))
    assert len(looks) > 5


# -- the disk is full at each write


@pytest.mark.parametrize(
    "act",
    ["commit", "draft", "undo", "discard", "evidence", "flash", "waiver", "release", "fit", "sheet", "note"],
)
def test_a_disk_that_is_full_at_any_statement_changes_nothing(demo_path, pulled, act):
    job = Job.open(Path(demo_path))
    try:
        revision = job.revisions()[-1]
        draft = DraftState(job, revision)
        slot = job.layout.sets[0]
        table = draft.image[slot].table("spark_advance")
        mask = np.zeros(table.values.shape, dtype=bool)
        mask[2, 2] = True
        draft.change(slot, add_to_cells(table, mask, -1.0), "one off")
        acts = {
            "commit": lambda: draft.commit("why", AUTHOR),
            "draft": lambda: draft.change(
                slot, draft.image[slot].scalar("shutters_open_above").with_value(31.0), "x"
            ),
            "undo": draft.undo,
            "discard": lambda: job.drop_draft(draft.id),
            "evidence": lambda: job.add_evidence("a run", revision.id, *pulled, source="test"),
            "flash": lambda: job.record_flash(revision.id, "unit", revision.image, 2),
            "waiver": lambda: job.waive(revision.id, "pulls", AUTHOR, "why", ""),
            "release": lambda: job.record_release(revision.id, AUTHOR, "ab" * 32, "a.zip"),
            "fit": lambda: job.fit("a part", {"fuel": "a part"}),
            "sheet": lambda: job.save_sheet(job.sheet.changed(purpose="track"), "purpose"),
            "note": lambda: job.note("test", "x"),
        }
        before = _all_of(job, draft)
        sound, failed = job._connection, 0
        while True:
            job._connection = Full(sound, failed)
            try:
                acts[act]()
            except JobError as error:
                assert error.remedy
            else:
                break
            finally:
                job._connection = sound
            failed += 1
            assert not sound.in_transaction
            assert _all_of(job, draft) == before
        # At least what is written and its COMMIT have failed, each by itself.
        assert failed >= 2
        assert _all_of(job, draft) != before
    finally:
        job.close()


def test_a_file_that_may_not_grow_takes_no_run_and_then_does(job, pulled):
    pages = job._connection.execute("PRAGMA page_count").fetchone()[0]
    job._connection.execute(f"PRAGMA max_page_count = {pages}")
    with pytest.raises(JobError) as caught:
        job.add_evidence("a run", 1, *pulled, source="test")
    assert caught.value.remedy and not job._connection.in_transaction and job.evidence() == []
    job._connection.execute("PRAGMA max_page_count = 1073741823")
    made = job.add_evidence("a run", 1, *pulled, source="test")
    assert job.evidence() == [made] and job.log(made.id).channels


class Full:
    """A connection to a file on a disk that has room for so many writing statements, and is full at the next."""

    def __init__(self, connection, room):
        self._connection, self._room = connection, room

    def __getattr__(self, name):
        return getattr(self._connection, name)

    def _write(self, statement):
        if statement.split(maxsplit=1)[0] in ("INSERT", "UPDATE", "DELETE", "REPLACE", "COMMIT"):
            self._room -= 1
            if self._room < 0:
                raise sqlite3.OperationalError("database or disk is full")

    def execute(self, statement, *values):
        self._write(statement)
        return self._connection.execute(statement, *values)

    def executemany(self, statement, rows):
        rows = list(rows)
        try:
            self._write(statement)
        except sqlite3.OperationalError:
            self._connection.executemany(statement, rows[: len(rows) // 2])  # it ends within the rows
            raise
        return self._connection.executemany(statement, rows)


def _all_of(job, draft):
    return (
        job.revisions(), job.evidence(), job.flashes(), job.releases(), [job.waivers(r.id) for r in job.revisions()],
        job.builds(), job.sheet, job.journal(), kept_drafts(job), list(draft.steps), draft.can_redo,
        {s: {k: t.values.tobytes() for k, t in c.tables.items()} for s, c in draft.image.items()},
    )  # fmt: skip


# -- a clock that goes back


def test_a_clock_that_goes_back_takes_nothing_out_of_its_order(tmp_path, stock, pulled):
    from yarvic.bench.vehicles import layout_text
    from yarvic.demo.ptarmigan import PTARMIGAN

    moment = [datetime(2024, 5, 1, 12, 0, tzinfo=UTC)]

    def back():
        moment[0] -= timedelta(days=1)
        return moment[0]

    path = tmp_path / "back.yarvic"
    job = Job.create(path, PTARMIGAN.sheet(), layout_text("ptarmigan"), stock, author=AUTHOR, clock=back)
    try:
        for n in range(3):
            job.add_evidence(f"run {n}", 1, *pulled, source="test")
            job.note("test", f"line {n}")
            job.record_flash(1, f"unit {n}", job.revisions()[0].image, n)
        assert [e.title for e in job.evidence()] == ["run 0", "run 1", "run 2"]
        assert [f.blocks for f in job.flashes()] == [0, 1, 2]
        assert [e.sentence for e in job.journal() if e.subject == "test"] == ["line 0", "line 1", "line 2"]
        assert job.next_name() == "A1"
    finally:
        job.close()


def test_connections_are_counted_whatever_threads_open_and_close_them():
    place, wrong = (-1, -1), []

    def come_and_go():
        try:
            for _ in range(4000):
                lock.connected(place)
                if not lock.is_connected(place):
                    wrong.append("an open connection is not counted")
                lock.disconnected(place)
        except (KeyError, RuntimeError, OSError) as error:
            wrong.append(repr(error))

    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    try:
        threads = [threading.Thread(target=come_and_go) for _ in range(4)]
        for each in threads:
            each.start()
        for each in threads:
            each.join()
    finally:
        sys.setswitchinterval(before)
    assert wrong == [] and not lock.is_connected(place)
