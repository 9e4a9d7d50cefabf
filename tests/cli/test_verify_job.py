"""`yarvic verify JOB`: how far signatures reach, what came since, and what packages and witness files miss."""

import json
import shutil
import sqlite3
from contextlib import closing

import pytest
from test_cli import yarvic

from tests.core.release.test_signed_history import KEY, TIME, package, put
from yarvic.bench.vehicles import layout_text, stock_image
from yarvic.core.job.history import write_line
from yarvic.core.job.store import Job
from yarvic.core.release.keys import to_toml
from yarvic.core.release.witness import add_witness
from yarvic.demo.fieldfare import FIELDFARE


@pytest.fixture(scope="module")
def released(tmp_path_factory):
    """A job with a release, its package, a witness file, and a home where the key is known."""
    folder = tmp_path_factory.mktemp("released")
    path = folder / "a.yarvic"
    job = Job.create(path, FIELDFARE.sheet(), layout_text("fieldfare"), stock_image("fieldfare"), author="x")
    image = job.revisions()[0].image
    job.close()
    put(path, 2, image)
    job = Job.open(path)
    lines, head = job.head()
    built = package(lines, head, image, KEY)
    job.record_release(1, "Rowan Sedge", built.sha256, "a.zip", built.manifest, built.signature)
    (folder / "a.zip").write_bytes(built.data)
    add_witness(folder / "witness.txt", job.first_line(), *job.head(), TIME)
    job.close()
    (folder / "key.toml").write_bytes(to_toml(KEY.public))
    home = folder / "home"
    assert (
        yarvic("keys", "add", folder / "key.toml", "--fingerprint", KEY.public.fingerprint, home=home).returncode == 0
    )
    return folder, path, home, lines


def changed(path, tmp_path, *statements):
    other = shutil.copy(path, tmp_path / "other.yarvic")
    with closing(sqlite3.connect(other, isolation_level=None)) as db:
        db.execute("PRAGMA foreign_keys=OFF")
        for each in statements:
            db.execute(each) if isinstance(each, str) else each(db)
    return other


def test_a_whole_job_says_how_far_it_is_signed(released):
    folder, path, home, lines = released
    done = yarvic("verify", path, "--json", home=home)
    found = json.loads(done.stdout)
    assert done.returncode == 0 and found["intact"] and found["signed_up_to"] == lines and found["lines"] == lines + 1
    (since,) = found["changed_since"]
    assert since["line"] == lines + 1 and since["subject"] == "release" and since["records"] == [["release", "1"]]
    assert found["releases"][0]["line"] == lines and found["witnesses"] == 0
    text = yarvic("verify", path, home=home).stdout
    assert f"Signed up to line {lines} of {lines + 1}: what follows is not covered." in text
    assert "no package or witness file was named" in text
    text = yarvic("verify", path, "--witness", folder / "witness.txt", home=home).stdout
    assert "noted once" in text


def test_a_record_that_was_changed_and_named_anew_is_not_whole(released, tmp_path):
    _, path, home, _ = released

    def names_it(db):
        write_line(db, TIME, "R2", "All as it was.", [("evidence", "run 2")])

    other = changed(path, tmp_path, "UPDATE evidence SET title = 'another' WHERE id = 'run 2'", names_it)
    done = yarvic("verify", other, home=home)
    assert done.returncode == 1 and "never changes" in done.stdout and "Not whole" in done.stdout


def test_a_waiver_that_was_changed_since_is_named(released, tmp_path):
    _, path, home, lines = released

    def names_it(db):
        write_line(db, TIME, "R2", "All as it was.", [("waiver", "1 gate 2")])

    other = changed(path, tmp_path, "UPDATE waiver SET reason = 'another'", names_it)
    done = yarvic("verify", other, home=home)
    assert done.returncode == 0
    assert "Changes the waiver of gate 2, which was signed as another." in done.stdout
    assert f"Line {lines + 2}" in done.stdout


def test_lines_that_were_cut_are_missed_by_package_and_witness(released, tmp_path):
    folder, path, home, lines = released
    cut = ("DELETE FROM release", "DELETE FROM journal WHERE subject = 'release'")
    other = changed(path, tmp_path, *cut)
    assert yarvic("verify", other, home=home).returncode == 0  # nothing outside the file was asked, and that is said
    done = yarvic("verify", other, "--witness", folder / "witness.txt", home=home)
    assert done.returncode == 1 and "lines were cut off" in done.stdout
    last = f"DELETE FROM journal WHERE id >= {lines}"  # noqa: S608
    deeper = changed(path, tmp_path, *cut, "DELETE FROM waiver", last)
    done = yarvic("verify", deeper, "--package", folder / "a.zip", home=home)
    assert done.returncode == 1 and "a.zip names line" in done.stdout
    assert yarvic("verify", path, "--package", folder / "a.zip", home=home).returncode == 0


def test_what_is_no_witness_is_said(released, tmp_path):
    folder, path, home, _ = released
    done = yarvic("verify", folder / "a.zip", "--witness", folder / "witness.txt", home=home)
    assert done.returncode == 2 and "no job" in done.stderr
    done = yarvic("verify", path, "--witness", path, home=home)
    assert done.returncode == 2
    bad = tmp_path / "bad.zip"
    data = bytearray((folder / "a.zip").read_bytes())
    data[data.index(b'"why"') + 1] ^= 1
    bad.write_bytes(data)
    done = yarvic("verify", path, "--package", bad, home=home)
    assert done.returncode == 1 and "bad.zip is no witness" in done.stdout


def test_a_list_of_this_desk_that_nobody_can_read_is_said_and_stops_nothing(released):
    _, path, home, _ = released
    noted = home / "keys/signed.txt"
    noted.write_text("Dear diary\n")
    done = yarvic("verify", path, home=home)
    noted.unlink()
    assert done.returncode == 0 and "could not be asked" in done.stdout and "signed.txt, line 1" in done.stdout
