"""A short run of the fuzzers, what they have found before, and that no reader can be forgotten."""

import ast
import os
import random
import re
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import yarvic
from yarvic.core.calibration.described import Described
from yarvic.core.document import Document, parse_json, parse_toml, validated
from yarvic.core.errors import FormatError, YarvicError
from yarvic.core.formats.logs.read import read_recordings
from yarvic.core.reading import DEFECTS, READERS

from . import second_reading
from .campaign import FOUND, one, ten_seconds
from .mutate import mutated
from .targets import every_reader, targets

SOURCES = Path(yarvic.__file__).parent
KEYS = sorted(every_reader())
SHORT = 60  # damaged files of each reader; `make fuzz` goes on for an hour

# Who may open, parse or unpack by themselves, and why.
DOORS = {
    "core/reading.py": "the door",
    "core/document.py": "the door for JSON and TOML",
    "core/cage/bounds.py": "the kernel's own table",
    "core/cage/cage.py": "what the keeper says, bounded",
    "core/cage/keeper.py": "what we ask of it",
    "core/cage/seal.py": "packs a filter",
    "core/cage/wire.py": "an answer, by the types that are expected",
    "core/release/witness.py": "writes",
    "core/job/file.py": "the door for jobs",
    "core/job/records.py": "a copy of an open job, in memory; documents of its columns",
    "core/job/runs.py": "documents of its columns",
    "core/job/store.py": "documents of its columns",
    "core/job/shape.py": "our own schemas, in memory",
    "core/job/history.py": "unpacks an image within its bound",
    "core/job/columns.py": "unpacks columns within their bounds",
    "core/job/lock.py": "the lock itself, and the kernel's own tables",
    "core/formats/arrived.py": "the first bytes of what is dropped, and the names in a zip",
    "core/formats/logs/text.py": "the rows of a log, in its cage",
    "core/formats/logs/packed.py": "unpacks within its bounds, in the cage",
    "core/formats/logs/columnar.py": "the columns of a log, in its cage",
    "core/formats/logs/mdf.py": "the channels of a log, in its cage",
    "core/formats/logs/mdf_blocks.py": "the blocks of a log, in its cage",
    "core/formats/workbook_shape.py": "the parts of a workbook, in its cage",
    "core/formats/unpacking.py": "what unpacking raises",
    "core/formats/logs/mdf_cut.py": "the blocks of a log, in its cage",
    "core/formats/files.py": "writes",
    "core/release/keys.py": "a key's own format, read through the door",
    "core/release/archive.py": "its own form, read through the door",
    "core/calibration/places.py": "the bytes of an image, checked against their layout",
    "core/calibration/decoding.py": "the bytes of an image, checked against their layout",
    "core/calibration/checksum.py": "the bytes of an image, checked against their layout",
    "core/calibration/spans.py": "the bytes of two images",
    "core/calibration/undescribed/numbers_seen.py": "the bytes of an image, as many as there are",
    "core/calibration/undescribed/checksum_pair.py": "the bytes of two images of one length",
    "core/calibration/undescribed/checksum_search.py": "the words of a sum, as many as there are",
    "core/calibration/undescribed/crc_algebra.py": "the bytes of an image",
    "state/searching.py": "the numbers of a place that was found",
    "core/calibration/merging.py": "the bytes of two images",
    "core/calibration/layout_file.py": "documents of a layout, behind its door",
    "core/formats/tables_xlsx.py": "the workbook, in its cage",
    "core/formats/image_comparison.py": "the bytes of two images",
    "demo/foreign.py": "ships with the program; the memory that it writes",
    "desk/tour_by_file.py": "what it has just written itself",
    "core/physics/correction.py": "ships with the program",
    "core/physics/fuel.py": "ships with the program",
    "core/link/turn.py": "the lock itself",
    "core/link/virtual_bus.py": "frames, as long as they may be",
    "core/link/identifiers.py": "data of a unit, of the length that each has",
    "core/link/diagnostics.py": "ships with the program",
    "core/link/unit.py": "ships with the program",
    "core/link/vault.py": "lines behind their door, each by itself",
    "core/link/journal.py": "lines behind their door, each by itself",
    "bench/flash_campaign.py": "the memory of its own unit",
    "core/link/live.py": "values of a unit, as many as were asked for",
    "bench/control_unit/values.py": "the simulated unit's own folder",
    "state/reach/simulated.py": "the simulated unit's own folder",
    "bench/control_unit/facts.py": "the simulated unit's own folder",
    "bench/control_unit/memory.py": "the simulated unit's own folder",
    "bench/control_unit/process.py": "the simulated unit's own folder",
    "bench/cell.py": "ships with the program",
    "bench/plant.py": "ships with the program",
    "bench/vehicles.py": "ships with the program",
    "desk/theme.py": "fonts that ship with the program",
    "demo/outside.py": "ships with the program; the workbook that it writes",
    "demo/story.py": "what it has just written itself",
    "cli.py": "the null device",
}
_READS = re.compile(
    r"(open|io\.open|os\.open|.+\.read_bytes|.+\.read_text|tomllib\.loads?|json\.loads?|sqlite3\.connect|np\.(load|from)\w*"
    r"|pl\.(read|scan)_\w+|(zipfile|gzip|bz2|lzma|zstandard|tarfile|pickle|marshal|openpyxl|bincopy)\.\w+.*"
    r"|zlib\.decompress\w*|struct\.\w+|.+\.(unpack_from|model_validate_json|validate_json|load_pem_private_key)|eval|exec)"
)


def reads(tree):
    """The calls of a module that read or parse something, but for what ships with the program beside it."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Call):
            name, text = ast.unparse(node.func), ast.unparse(node)
            modes = [a.value for a in node.args[:1] if isinstance(a, ast.Constant)]
            by_mode = name.endswith(".open") and modes and str(modes[0]).startswith(("r", "w", "a", "x"))
            if (_READS.fullmatch(name) or by_mode) and "files(" not in text and "bincopy.BinFile()" not in text:
                yield node.lineno, text


def test_nothing_is_read_but_through_the_doors():
    """A file, a document or packed bytes are opened in few places; everything else asks those."""
    others = []
    for path in sorted(SOURCES.rglob("*.py")):
        where = path.relative_to(SOURCES).as_posix()
        if where not in DOORS:
            others += [f"{where}:{line}: {text[:80]}" for line, text in reads(ast.parse(path.read_text("utf-8")))]
    assert others == []
    assert all((SOURCES / where).exists() for where in DOORS)


def test_nothing_is_ever_unpickled_or_executed():
    for path in SOURCES.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
            names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            assert not {"pickle", "marshal", "shelve", "dill", "yaml"} & {n.partition(".")[0] for n in names}, path


def test_every_reader_is_tried():
    assert set(KEYS) == set(targets()), "give the new reader a target in tests/fuzz/targets.py"
    assert len(KEYS) >= 12


@pytest.mark.parametrize("key", KEYS)
def test_whole_files_are_read(key, tmp_path):
    for n, seed in enumerate(targets()[key].seeds):
        path = tmp_path / f"{n}{READERS[key].suffix}"
        path.write_bytes(seed)
        targets()[key].read(path)


@pytest.mark.parametrize("key", KEYS)
def test_damaged_files_are_refused_or_read_and_nothing_else(key, tmp_path):
    target = targets()[key]
    for n in range(SHORT):
        r = random.Random(f"{key} short {n}")
        data = mutated(r, r.choice(target.seeds), r.choice(target.seeds))
        assert one(key, data, tmp_path) == "", f"{key}, number {n}"


@pytest.mark.parametrize("found", sorted(FOUND.glob("*/*")), ids=lambda p: f"{p.parent.name}/{p.name}")
def test_what_was_found_stays_mended(found, tmp_path):
    assert one(found.parent.name.replace("-", " "), found.read_bytes(), tmp_path) == ""


def test_a_second_reading_tells_what_stands_in_an_mdf(tmp_path, monkeypatch):
    """The channels of two files are as they were written; a reader that gives other numbers is told."""
    times = np.arange(0.0, 20.0, 0.01)
    rich = next(s for s in targets()["log"].seeds[::-1] if s.startswith(b"MDF"))
    standing = second_reading.plain_channels(rich)
    assert np.array_equal(standing["group 1", "RPM"][0], 1500.0 + 200.0 * times)
    assert np.array_equal(standing["group 1", "MAP"][0], 100.0 + times)

    path = tmp_path / "a.mf4"
    path.write_bytes(rich)
    assert second_reading.disagreement(path) == ""

    class Shifted:
        @staticmethod
        def read(path):
            raw = read_recordings.read(path).value
            speed = next(c for c in raw[0].columns if c.name == "RPM")
            speed.values = np.roll(speed.values, 1)
            return SimpleNamespace(value=raw)

    monkeypatch.setattr(second_reading, "read_recordings", Shifted)
    assert second_reading.disagreement(path).startswith("RPM of group 1 reads")


# -- what is no file at all


def _too_large(tmp_path, key):
    path = tmp_path / "large"
    path.touch()
    os.truncate(path, READERS[key].most_bytes + 1)  # a hole: it takes no room
    return path


def _pipe(tmp_path, key):
    os.mkfifo(tmp_path / "pipe")
    return tmp_path / "pipe"


def _circle(tmp_path, key):
    (tmp_path / "circle").symlink_to(tmp_path / "circle")
    return tmp_path / "circle"


NO_FILES = {
    "missing": lambda tmp_path, key: tmp_path / "none",
    "folder": lambda tmp_path, key: tmp_path,
    "pipe": _pipe,
    "endless": lambda tmp_path, key: Path("/dev/zero"),
    "circle": _circle,
    "long name": lambda tmp_path, key: tmp_path / ("x" * 5000),
    "zero in name": lambda tmp_path, key: tmp_path / "a\0b",
    "below a file": lambda tmp_path, key: Path(__file__) / "below",
    "too large": _too_large,
}


@pytest.mark.parametrize("kind", NO_FILES)
@pytest.mark.parametrize("key", KEYS)
def test_what_is_no_file_is_said(key, kind, tmp_path):
    if key == "job" and kind == "too large":
        pytest.skip("as large as any disk")
    path = NO_FILES[kind](tmp_path, key)
    DEFECTS.clear()
    with pytest.raises(YarvicError) as caught:
        READERS[key].read(path)
    assert caught.value.remedy and caught.value.concerns and not DEFECTS


# -- documents

NUMBERS = st.one_of(
    st.integers(), st.floats(), st.sampled_from([2**63, -(2**63), 10**400, 1e308, -0.0, float("nan"), float("inf")])
)
LEAVES = st.one_of(st.none(), st.booleans(), NUMBERS, st.text(max_size=20), st.dates())
VALUES = st.recursive(
    LEAVES, lambda inner: st.one_of(st.lists(inner, max_size=4), st.dictionaries(st.text(max_size=8), inner, max_size=4)),
    max_leaves=12,
)  # fmt: skip


def models(base=Document):
    for each in base.__subclasses__():
        yield each
        yield from models(each)


MODELS = sorted({*models(), *models(Described)}, key=lambda m: f"{m.__module__}.{m.__qualname__}")


def test_every_document_has_finite_numbers_and_no_unknown_entries():
    from pydantic import BaseModel

    assert len(MODELS) > 20
    for model in MODELS:
        assert model.model_config["allow_inf_nan"] is False and model.model_config["extra"] == "forbid", model
    loose = [m for m in models(BaseModel) if m.__module__.startswith("yarvic.core")]
    assert [m for m in loose if not issubclass(m, Document | Described)] == []


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
@pytest.mark.parametrize("model", MODELS, ids=lambda m: m.__qualname__)
def test_a_document_is_valid_or_says_what_is_wrong(model, data):
    """Any value under the document's own names: texts for numbers, lists for tables, numbers without end."""
    names = list(model.model_fields)
    shape = st.fixed_dictionaries({}, optional=dict.fromkeys(names, VALUES))
    value = data.draw(st.one_of(shape, VALUES))
    DEFECTS.clear()
    try:
        validated(model, value, source="any")
    except FormatError as error:
        assert error.remedy
    assert not DEFECTS


@settings(max_examples=150, deadline=None)
@given(st.one_of(st.text(max_size=200), st.binary(max_size=200)))
def test_any_text_is_json_or_toml_or_refused(text):
    DEFECTS.clear()
    for parse in (parse_json, parse_toml):
        if parse is parse_toml and isinstance(text, bytes):
            continue
        try:
            parse(text, source="any")
        except FormatError as error:
            assert error.remedy
    assert not DEFECTS


@pytest.mark.parametrize(
    "text",
    [
        "a" + ".a" * 200_000 + " = 1", "[" + "a." * 200_000 + "a]", "x = {" + "a." * 200_000 + "a = 1}",
        '"=".' + "a." * 200_000 + "a = 1", "a = " + "[" * 100_000, "a = " + "{a=" * 100_000, "a = " + "9" * 300_000,
        "a = 0x" + "f" * 300_000, "a = nan", "a = -inf", "a = 1e999", 'a = "' + "x" * 200_000 + '"', "a = 2024-02-30",
        "a = '''" + "'" * 200_000, 'a = """' + '\\"' * 100_000, "a" * 400_000, "[[a]]\n" * 100_000 + "b = inf",
    ],
    ids=range(17),
)  # fmt: skip
def test_toml_without_end_is_refused_at_once(text):
    with ten_seconds(), pytest.raises(FormatError):
        parse_toml(text, source="any")


@pytest.mark.parametrize(
    "text",
    [
        "[" * 200_000,
        '{"a":' * 200_000,
        "9" * 400_000,
        "NaN",
        "-Infinity",
        "1e999",
        '{"a": 1, "a": 2}',
        '"\\ud800"',
        b"\xff",
    ],
)
def test_json_without_end_is_refused_at_once(text):
    if text == '"\\ud800"':
        parse_json(text, source="any")  # half a letter is a text to JSON; it is shown by its number
        return
    with pytest.raises(FormatError):
        parse_json(text, source="any")
