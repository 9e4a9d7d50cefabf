"""What a signature over a line of the journal holds: every kind of record, changed in every way, is told, or not covered."""

import json
import shutil
import sqlite3
from datetime import date

import pytest

from yarvic.bench.vehicles import layout_text, stock_image
from yarvic.core.errors import FormatError, JobError
from yarvic.core.job import history
from yarvic.core.job.history import CHANGING, write_line
from yarvic.core.job.store import Job
from yarvic.core.release.keys import KnownKeys, of_seed
from yarvic.core.release.package import build_package
from yarvic.core.release.whole_job import verify_job
from yarvic.core.release.witness import Witnessed, add_witness, read_witness
from yarvic.demo.fieldfare import FIELDFARE

KEY = of_seed(bytes(range(32)), "Rowan Sedge", date(2026, 1, 1))
THIEF = of_seed(bytes(range(1, 33)), "Rowan Sedge", date(2026, 1, 1))
KNOWN = KnownKeys().added(KEY.public, date(2026, 1, 1))
TIME = "2026-03-01T10:00:00+00:00"
IMAGE = "ab" * 32
# A record of each kind under the release and one above it: its key, what puts it there, and the column that is changed.
RECORDS = {
    "build": ("{n}", "INSERT INTO build VALUES ({n}, 'build {n}', 't', '{{}}', '{{}}')", "title"),
    "revision": (
        "{n}",
        "INSERT INTO revision VALUES ({n}, 'R{n}', 1, 'why', 'x', 't', '{image}', 1, '[]')",
        "reason",
    ),
    "evidence": ("run {n}", "INSERT INTO evidence VALUES ('run {n}', 'pull {n}', 1, 1, 't', 'file', NULL)", "title"),
    "evidence_note": ("{n}", "INSERT INTO evidence_note VALUES ({n}, 'run 2', 'set aside', '{n}', 't')", "document"),
    "flash": ("{n}", "INSERT INTO flash VALUES ({n}, 1, 't', 'unit', 'ab', {n})", "blocks"),
    "carried": ("{n}", "INSERT INTO carried VALUES ({n}, 1, 't', 'taken', 'x {n}', '{{}}')", "name"),
    "merge": ("{n}", "INSERT INTO merge VALUES ({n}, {n} - 1)", "merged_id"),
    "tag": ("{n}", "INSERT INTO tag VALUES ({n}, 1, 'good', 1, 'x', 'why {n}', 't')", "reason"),
    "expectation": ("{n}", "INSERT INTO expectation VALUES ({n}, 1, '{n}', 'x', 't')", "document"),
    "pairing": ("{n}", "INSERT INTO pairing VALUES ({n}, 1, 't', 'x', 'title {n}', '{{}}', '{image}')", "title"),
    "waiver": (
        "1 gate {n}",
        "INSERT INTO waiver (revision_id, condition, name, reason, time) VALUES (1, 'gate {n}', 'x', 'why {n}', 't')",
        "reason",
    ),
}
UNDER, ABOVE = 2, 3


def key_of(kind, n):
    return RECORDS[kind][0].format(n=n)


def where(kind, n):
    column = {"build": "number", "merge": "revision_id", "waiver": "condition"}.get(kind, "id")
    value = f"gate {n}" if kind == "waiver" else key_of(kind, n)
    return f"{column} = '{value}'"


@pytest.fixture(scope="module")
def signed(tmp_path_factory):
    """A job with a record of each kind, a release, and a record of each kind again."""
    path = tmp_path_factory.mktemp("job") / "a.yarvic"
    job = Job.create(path, FIELDFARE.sheet(), layout_text("fieldfare"), stock_image("fieldfare"), author="x")
    image = job.revisions()[0].image
    job.close()
    put(path, UNDER, image)
    job = Job.open(path)
    lines, head = job.head()
    built = package(lines, head, image, KEY)
    job.record_release(1, "Rowan Sedge", built.sha256, "a.zip", built.manifest, built.signature)
    job.close()
    put(path, ABOVE, image)
    return path, lines


def package(lines, head, image, key, revision="Stock"):
    files = {"image.hex": b":00000001FF\n", "evidence.json": b"{}", "customer-sheet.pdf": b"%PDF"}
    facts = {
        "job": "a", "vehicle": "a", "family": "a", "revision": revision, "reason": "why", "build": "1", "author": "x",
        "signed_by": "Rowan Sedge", "time": TIME, "history": {"lines": lines, "sha256": head}, "image_sha256": image,
        "image_size": len(stock_image("fieldfare")), "simulated": True, "waivers": [],
    }  # fmt: skip
    return build_package(files, facts, key)


def put(path, n, image):
    with opened(path) as db:
        for kind, (_, insert, _) in RECORDS.items():
            db.execute(insert.format(n=n, image=image))
            write_line(db, TIME, kind, f"{kind} {n}.", [(kind, key_of(kind, n))])


class opened:
    def __init__(self, path):
        self.db = sqlite3.connect(path, isolation_level=None)

    def __enter__(self):
        return self.db

    def __exit__(self, *_):
        self.db.close()


def link_anew(db, first=1):
    """Write the sums of the lines from one on anew, and what they name as it is now, as anybody could."""
    previous = ""
    rows = db.execute("SELECT id, time, subject, sentence, about FROM journal ORDER BY id").fetchall()
    for number, row in enumerate(rows, 1):
        about = row[4]
        if number >= first:
            about = []
            for kind, key, found in json.loads(row[4]):
                try:
                    about += json.loads(history.about(db, [(kind, key)]))
                except TypeError:  # it is not there any more
                    about.append([kind, key, found])
            about = json.dumps(about, separators=(",", ":"))
            db.execute("UPDATE journal SET about = ? WHERE id = ?", (about, row[0]))
        previous = history.link(previous, *row[:4], about)
        if number >= first:
            db.execute("UPDATE journal SET hash = ? WHERE id = ?", (previous, row[0]))


def act_on(db, act, kind, n):
    column = RECORDS[kind][2]
    table = kind
    if act == "changed":
        value = "7" if column in ("blocks", "merged_id") else "'another'"
        db.execute(f"UPDATE {table} SET {column} = {value} WHERE {where(kind, n)}")  # noqa: S608
    elif act == "removed":
        db.execute(f"DELETE FROM {table} WHERE {where(kind, n)}")  # noqa: S608
    elif act == "added":
        db.execute(RECORDS[kind][1].format(n=9, image=db.execute("SELECT image FROM revision").fetchone()[0]))
    else:  # two that change places
        for a, b in ((n, 77), (5 - n, n), (77, 5 - n)):
            column_of = where(kind, a).partition(" = ")[0]
            to = where(kind, b).partition(" = ")[2]
            db.execute(f"UPDATE {table} SET {column_of} = {to} WHERE {where(kind, a)}")  # noqa: S608


@pytest.mark.parametrize("kind", RECORDS)
@pytest.mark.parametrize("act", ["changed", "removed", "added", "reordered"])
@pytest.mark.parametrize("n", [UNDER, ABOVE], ids=["under", "above"])
@pytest.mark.parametrize("cover", ["nothing", "a line that names it", "all lines above anew", "all lines anew"])
def test_every_record_that_is_changed_is_told_or_is_not_covered(signed, tmp_path, kind, act, n, cover):
    path, line = signed
    other = shutil.copy(path, tmp_path / "other.yarvic")
    with opened(other) as db:
        db.execute("PRAGMA foreign_keys=OFF")
        act_on(db, act, kind, n)
        named = key_of(kind, 9 if act == "added" else n)
        if cover == "a line that names it" and act != "removed":
            write_line(db, TIME, kind, "All as it was.", [(kind, named)])
        elif cover != "nothing":
            link_anew(db, line + 1 if cover == "all lines above anew" else 1)
    try:
        v = verify_job(other, KNOWN)
    except JobError:
        return  # told before anything of it is believed
    since = {record for each in v.changed_since for record in each.records}
    touched = [(kind, named)] if act != "reordered" else [(kind, key_of(kind, n)), (kind, key_of(kind, 5 - n))]
    covered = act != "added" and (n == UNDER or act == "reordered")
    if covered and kind not in CHANGING:
        assert not v.intact
    elif covered:
        # A waiver that was signed: the line that changes it says so, or it does not fit.
        assert not v.intact or any(v.signed_as_another(each) for each in v.changed_since)
    else:
        # Nobody signed it: it does not fit, or the report names the line as one that is not covered.
        assert not v.intact or set(touched) <= since


def test_a_job_as_it_is_says_how_far_its_signature_reaches(signed):
    path, line = signed
    v = verify_job(path, KNOWN)
    assert v.intact and v.signed_up_to == line and v.history.lines == line + 1 + len(RECORDS)
    assert [each.number for each in v.changed_since] == list(range(line + 1, v.history.lines + 1))
    assert v.changed_since[0].records == (("release", "1"),)


def test_a_signature_of_another_key_covers_nothing_that_a_known_one_does_not(signed, tmp_path):
    path, line = signed
    other = shutil.copy(path, tmp_path / "other.yarvic")
    with opened(other) as db:
        lines, head, image = *db.execute("SELECT id, hash FROM journal ORDER BY id DESC").fetchone(), IMAGE
        image = db.execute("SELECT image FROM revision WHERE id = 2").fetchone()[0]
        built = package(lines, head, image, THIEF, "R2")
        row = (2, "Rowan Sedge", TIME, built.sha256, "b.zip", built.manifest, built.signature)
        db.execute("INSERT INTO release VALUES (?, ?, ?, ?, ?, ?, ?)", row)
        write_line(db, TIME, "release", "Signed.", [("release", "2")])
    v = verify_job(other, KNOWN)
    assert v.signed_up_to == line and v.changed_since
    states = {r.revision: r.signer for r in v.releases}
    assert (
        states["R2"].state == "unknown"
        and "Another key here has the same name, Rowan Sedge." in states["R2"].sentence
    )
    # Where no key is known at all, the report says of each signature that it is of an unknown one.
    assert verify_job(other, KnownKeys()).signed_up_to == lines


def test_lines_that_were_cut_from_the_end_are_missed_by_a_witness(signed, tmp_path):
    path, line = signed
    whole = verify_job(path, KNOWN).history
    file = tmp_path / "witness.txt"
    for lines in (line, whole.lines):
        add_witness(file, whole.start, lines, whole.journal[lines - 1].sum, TIME)
    add_witness(file, "ab" * 32, 900, "cd" * 32, TIME)  # of another job
    seen = read_witness(file)
    assert (
        verify_job(path, KNOWN, witnesses=seen).intact and len(verify_job(path, KNOWN, witnesses=seen).witnesses) == 2
    )
    other = shutil.copy(path, tmp_path / "other.yarvic")
    with opened(other) as db:
        db.execute("PRAGMA foreign_keys=OFF")
        for kind in RECORDS:
            db.execute(f"DELETE FROM {kind} WHERE {where(kind, ABOVE)}")  # noqa: S608
        db.execute("DELETE FROM journal WHERE id > ?", (line + 1,))
    assert verify_job(other, KNOWN).intact  # what stands in the report: nothing outside the file was asked
    found = verify_job(other, KNOWN, witnesses=seen).faults
    assert found == (f"witness.txt names line {whole.lines} of 2026-03-01: lines were cut off, there are {line + 1}",)
    written_anew = Witnessed(whole.start, 3, "ef" * 32, TIME, "a.zip")
    assert "another sum" in verify_job(path, KNOWN, witnesses=[written_anew]).faults[0]


def test_a_line_that_was_cut_in_the_middle_of_writing_spoils_no_other(tmp_path):
    file = tmp_path / "witness.txt"
    add_witness(file, "ab" * 32, 1, "cd" * 32, TIME)
    with file.open("a") as out:
        out.write("yarvic-witness-1 abab")
    assert [w.lines for w in read_witness(file)] == [1]
    add_witness(file, "ab" * 32, 2, "cd" * 32, TIME)
    assert [w.lines for w in read_witness(file)] == [1, 2]
    file.write_text(file.read_text().rstrip("\n"))  # as an editor may save it
    assert [w.lines for w in read_witness(file)] == [1, 2]
    add_witness(file, "ab" * 32, 3, "cd" * 32, TIME)
    assert [w.lines for w in read_witness(file)] == [1, 2, 3]


@pytest.mark.parametrize("line", ["no line", "yarvic-witness-1 ab 1 cd t", "yarvic-witness-2 " + "ab" * 32])
def test_what_is_no_witness_file_is_refused_by_its_line(tmp_path, line):
    file = tmp_path / "witness.txt"
    add_witness(file, "ab" * 32, 1, "cd" * 32, TIME)
    with file.open("a") as out:
        out.write(line + "\n")
    with pytest.raises(FormatError, match="line 2"):
        read_witness(file)
