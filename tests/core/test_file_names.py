"""Names that a disk allows are ordinary names: each reader reads the file that was named, and no other beside it."""

import os
from datetime import date
from pathlib import Path

import pytest

from tests.fuzz.targets import every_reader, targets
from yarvic.bench.vehicles import layout_text, stock_image
from yarvic.core.errors import FormatError, YarvicError
from yarvic.core.formats.logs.import_log import read_file
from yarvic.core.job.file import verify
from yarvic.core.job.store import Job
from yarvic.core.reading import DEFECTS, READERS
from yarvic.core.release.keys import key_path, make_key, read_key
from yarvic.demo.fieldfare import FIELDFARE
from yarvic.state.settings import Settings, kept_path, path_to_keep

NAMES = {
    "brackets": b"log[1]", "star": b"a*", "question": b"a?", "braces": b"{a,b}", "no text": b"l\xff\xfe", "newline": b"a\nb",
    "from the right": "a\u202eb".encode(), "long": b"x" * 240, "percent": b"a%41b", "hash": b"a#b", "quotes": b"a'b\"c",
    "blanks": b" a ", "dash": b"-rf", "tilde": b"~", "address": b"http:a", "store": b"s3:a", "escape": b"\x1b[31ma",
    "backslash": b"a\\b", "dots": b"...", "wide": "日本語".encode(), "apart": "e\u0301".encode(),
}  # fmt: skip
# What a pattern or a careless reading of each name could lead to.
DECOYS = [b"log1", b"ab", b"aa", b"a", b"b", b"aAb", b"a\\x0ab"]
OTHER = b"time [s],RPM [rpm]\n0,1\n1,2\n2,3\n3,4\n"
KEYS = sorted(k for k in every_reader() if k not in ("signing key",))


@pytest.fixture(params=NAMES, ids=[n.replace(" ", "-") for n in NAMES])
def name(request):
    return NAMES[request.param]


def path_in(folder, name, suffix):
    for decoy in DECOYS:
        (Path(os.fsdecode(os.path.join(os.fsencode(folder), decoy + suffix.encode())))).write_bytes(OTHER)
    return Path(os.fsdecode(os.path.join(os.fsencode(folder), name + suffix.encode())))


@pytest.mark.parametrize("key", KEYS)
def test_every_reader_reads_the_file_that_was_named(key, name, tmp_path):
    DEFECTS.clear()
    seed = targets()[key].seeds[0]
    suffix = READERS[key].suffix
    plain, named = tmp_path / f"plain{suffix}", path_in(tmp_path, name, suffix)
    for path in (plain, named):
        path.write_bytes(seed)
        targets()[key].read(path)
    assert not DEFECTS


@pytest.mark.parametrize("form", ["csv", "parquet", "gz", "zip", "xlsx", "mf4"])
def test_a_pattern_in_a_name_leads_to_no_other_log(form, tmp_path):
    seeds = [s for s in targets()["log"].seeds if _form(s) == form]
    for plain in (b"log[1]", b"a*", b"a?", b"{a,b}"):
        named = path_in(tmp_path, plain, f".{form}")
        named.write_bytes(seeds[0])
        (found, *_) = read_file(named)
        assert found.raw.columns and len(found.raw.columns[0].values) > 30
        named.unlink()
        with pytest.raises(FormatError, match="is not there"):
            read_file(named)


def _form(data):
    marks = {b"\x1f\x8b": "gz", b"PAR1": "parquet", b"MDF ": "mf4"}
    form = next((f for mark, f in marks.items() if data.startswith(mark)), "csv")
    if data.startswith(b"PK"):
        form = "xlsx" if b"xl/workbook" in data else "zip"
    return form


def test_a_job_of_any_name_is_made_opened_changed_and_verified(name, tmp_path):
    path = path_in(tmp_path, name, ".yarvic")
    job = Job.create(path, FIELDFARE.sheet(), layout_text("fieldfare"), stock_image("fieldfare"), author="x")
    job.note("job", "One line more.")
    job.close()
    assert path.exists()
    job = Job.open(path)
    assert job.journal()[-1].sentence == "One line more."
    job.copy_to(path_in(tmp_path, name, "-copy.yarvic"))
    job.close()
    assert verify(path).faults == ()


def test_the_path_of_a_job_is_remembered_whatever_its_letters(name, tmp_path):
    path = path_in(tmp_path, name, ".yarvic")
    settings = Settings()
    settings.remember_job(path)
    again = Settings.model_validate_json(settings.model_dump_json())
    assert kept_path(again.last_job) == path == kept_path(again.recent[0])
    assert kept_path(path_to_keep(path)) == path


def test_a_file_name_is_said_and_steers_nothing(name, tmp_path):
    with pytest.raises(YarvicError) as caught:
        read_file(path_in(tmp_path, name, ".csv"))
    said = str(caught.value)
    assert said.isprintable() or said.replace("\u3000", "").isprintable()
    said.encode("utf-8")


def test_a_job_whose_name_leaves_no_room_beside_it_says_so(tmp_path):
    path = tmp_path / ("x" * 247 + ".yarvic")
    with pytest.raises(YarvicError, match="too long") as caught:
        job = Job.create(path, FIELDFARE.sheet(), author="x")
        try:
            job.note("job", "One line more.")
        finally:
            job.close()
    assert "shorter name" in caught.value.remedy


def test_a_person_of_any_name_has_a_key(tmp_path):
    for person in ("Zoë Ångström", "日本", "O'Neill", "a/b", "..", "x" * 80):
        made = make_key(tmp_path / "keys", person, date(2026, 1, 1))
        assert read_key(key_path(tmp_path / "keys", person)).public == made.public
    assert sorted(p.name for p in tmp_path.iterdir()) == ["keys"]


def test_a_path_that_is_too_long_is_named_as_the_cause(tmp_path):
    long = tmp_path
    while len(str(long)) < 5000:
        long = long / ("y" * 200)
    for act in (
        lambda: read_file(long / "a.csv"),
        lambda: Job.open(long / "a.yarvic"),
        lambda: Job.create(long / "a.yarvic", FIELDFARE.sheet(), author="x"),
    ):
        with pytest.raises(YarvicError, match="name that is too long"):
            act()


def test_a_path_as_long_as_the_system_allows_is_an_ordinary_one(tmp_path):
    here = os.open(tmp_path, os.O_RDONLY)
    deep = ""
    try:
        while len(str(tmp_path)) + len(deep) < 3800:
            os.mkdir("z" * 200, dir_fd=here)
            inner = os.open("z" * 200, os.O_RDONLY, dir_fd=here)
            os.close(here)
            here, deep = inner, f"{deep}/{'z' * 200}"
        path = Path(f"{tmp_path}{deep}/a.csv")
        path.write_bytes(OTHER)
        assert read_file(path)
        job = path.with_suffix(".yarvic")
        try:
            Job.create(job, FIELDFARE.sheet(), author="x").close()
            assert verify(job).faults == ()
        except YarvicError as error:
            assert "too long" in error.what and error.remedy
    finally:
        os.close(here)
