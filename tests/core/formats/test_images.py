"""Images as files: raw, Intel HEX and S-record, with addresses and gaps, held against a reference library."""

import bincopy
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import FormatError
from yarvic.core.formats.images import fitted, in_memory, read_image, to_text, write_image

BASES = st.sampled_from([0, 0x40, 0xFFF0, 0x10000, 0x80000, 0x8003FFF8, 0xFFFF0000])


@st.composite
def memories(draw):
    """A memory with a base, and gaps that leave something at both ends."""
    data = draw(st.binary(min_size=1, max_size=600))
    base = draw(BASES)
    cuts = sorted(draw(st.lists(st.integers(1, max(len(data) - 1, 1)), max_size=6, unique=True)))
    gaps = [(base + a, base + b) for a, b in zip(cuts[::2], cuts[1::2], strict=False)]
    gaps = [g for g in gaps if g[1] < base + len(data)]
    filled = bytearray(data)
    for a, b in gaps:
        filled[a - base : b - base] = b"\xff" * (b - a)
    return bytes(filled), base, tuple(gaps)


@given(memories(), st.sampled_from(["hex", "srec"]))
@settings(max_examples=150, deadline=None)
def test_records_give_memory_base_and_gaps_back(tmp_path_factory, memory, form):
    data, base, gaps = memory
    path = tmp_path_factory.mktemp("images") / "a"
    write_image(path, data, form, base, gaps)
    file = read_image(path)
    assert (file.form, file.base, file.data, file.gaps) == (form, base, data, gaps)
    # Reference library: bincopy reads the same segments.
    other = bincopy.BinFile()
    (other.add_ihex if form == "hex" else other.add_srec)(path.read_text())
    for start, chunk in other.segments:
        assert data[start - base : start - base + len(chunk)] == bytes(chunk)
    assert sum(len(chunk) for _, chunk in other.segments) == len(data) - sum(b - a for a, b in gaps)


def read(tmp_path, text):
    path = tmp_path / "x.s19"
    path.write_text(text)
    return read_image(path)


def test_s_records_of_each_kind(tmp_path):
    file = read(tmp_path, "S00600004844521B\nS10810000102030405D8\nS5030001FB\nS9030000FC\n")
    assert (file.base, file.data) == (0x1000, bytes([1, 2, 3, 4, 5]))
    file = read(tmp_path, "S2061234560102" + f"{0xFF - (6 + 0x12 + 0x34 + 0x56 + 3) % 256:02X}\nS804000000FB\n")
    assert (file.base, file.data) == (0x123456, bytes([1, 2]))


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("S10810000102030405D9\nS9030000FC\n", "line 1: is damaged"),
        ("S10810000102030405D8\n", "has no end"),
        (
            "S10810000102030405D8\nS5030002FA\nS9030000FC\n",
            "line 2: says that 2 records came before it, there were 1",
        ),
        ("S10810000102030405D8\nS9030000FC\nS10810000102030405D8\n", "line 3: goes on behind its end"),
        ("S10810000102030405D8\nS10810000102030405D8\nS9030000FC\n", "line 2: writes address 0x1000 a second time"),
        ("S10810000102030405D8\nS4030000FC\n", "line 2: is not an S-record"),
        ("S1081000010203040\nS9030000FC\n", "line 1: is not an S-record"),
        ("S00600004844521B\nS9030000FC\n", "holds no data"),
        ("S30A00000000010203040" + "5E6\nS30AFFFFFF000102030405E9\nS70500000000FA\n", "further than"),
    ],
)
def test_other_text_is_no_s_record(tmp_path, text, message):
    with pytest.raises(FormatError, match=message):
        read(tmp_path, text)


def test_raw_bytes_cannot_leave_gaps_out():
    with pytest.raises(FormatError, match="cannot leave gaps out"):
        to_text(b"1234", "raw", 0, ((1, 2),))
    assert to_text(b"1234", "raw", 0x80000) == b"1234"


def layout(**more):
    return Layout(family="f", byte_order="big", **more)


def file_of(tmp_path, data, form="raw", base=0, gaps=()):
    path = tmp_path / "image"
    write_image(path, data, form, base, gaps)
    return read_image(path)


def test_a_layout_without_a_length_takes_that_of_its_image(tmp_path):
    bound, data = fitted(file_of(tmp_path, b"abcdef", "hex", 0x100, ((0x102, 0x103),)), layout())
    assert (bound.base, bound.size, bound.gaps, len(data)) == (0x100, 6, ((0x102, 0x103),), 6)
    bound, _ = fitted(file_of(tmp_path, b"abcdef"), layout(base=0x100))
    assert (bound.base, bound.size, bound.gaps) == (0x100, 6, ())


@pytest.mark.parametrize(
    ("form", "data", "base", "message"),
    [
        ("raw", b"x" * 15, 0, "15 bytes, the layout 16: 1 too few"),
        ("raw", b"x" * 17, 0, "1 too many"),
        ("hex", b"x" * 16, 0x101, "0x101 to 0x110, the layout's memory from 0x100 to 0x10F"),
        ("srec", b"x" * 4, 0xFE, "0xFE to 0x101"),
    ],
)
def test_shorter_and_longer_are_said_and_never_filled_up(tmp_path, form, data, base, message):
    with pytest.raises(FormatError, match=message) as caught:
        fitted(file_of(tmp_path, data, form, base), layout(base=0x100, size=16))
    assert caught.value.remedy


def test_what_records_leave_out_is_a_gap(tmp_path):
    bound, data = fitted(file_of(tmp_path, b"abcd", "hex", 0x104), layout(base=0x100, size=16))
    assert bound.gaps == ((0x100, 0x104), (0x108, 0x110)) and data[4:8] == b"abcd" and len(data) == 16
    # A later image of that memory holds the same, or more; less is said.
    assert in_memory(file_of(tmp_path, b"z" * 16), bound) == b"\xff" * 4 + b"zzzz" + b"\xff" * 8
    with pytest.raises(FormatError, match="lacks 0x107 to 0x107,"):
        in_memory(file_of(tmp_path, b"abc", "hex", 0x104), bound)


@pytest.mark.parametrize(
    ("data", "what"),
    [
        (b"SQLite format 3\0" + bytes(200), "a database"),
        (b"PK\x03\x04" + bytes(200), "an archive"),
        ("/* Zündung */\n".encode("cp1252") * 20, "text"),
        (b"time;speed\r\n" + b"0.1;1200\r\n" * 900, "text"),
    ],
)
def test_what_is_plainly_no_memory_is_refused(tmp_path, data, what):
    path = tmp_path / "stock.bin"
    path.write_bytes(data)
    with pytest.raises(FormatError, match=f"is {what}, no image"):
        read_image(path)


def test_a_memory_that_holds_text_is_a_memory(tmp_path):
    path = tmp_path / "stock.bin"
    path.write_bytes(b"name\n" * 20 + b"\0" + bytes(range(256)) * 4)
    assert read_image(path).form == "raw"


_spans = st.lists(st.tuples(st.integers(0, 60), st.integers(1, 12)).map(lambda s: (s[0], s[0] + s[1])), max_size=6)


@given(gaps=_spans, known=_spans, asked=st.tuples(st.integers(0, 70), st.integers(1, 9)))
def test_gaps_are_held_against_gaps_address_by_address(gaps, known, asked):
    from yarvic.core.calibration.places import Memory
    from yarvic.core.formats.images import _without

    lacking = sorted(set().union(*(range(*g) for g in gaps)) - set().union(*(range(*k) for k in known)))
    found = _without(gaps, known)
    assert (found is None) == (not lacking)
    if found is not None:
        assert found[0] == lacking[0] and set(range(*found)) <= set(lacking)
    start, end = asked[0], asked[0] + asked[1]
    there = set(range(80)) - set().union(*(range(*g) for g in gaps))
    assert Memory(bytes(80), 0, tuple(gaps)).has(start, end) == (set(range(start, end)) <= there)
