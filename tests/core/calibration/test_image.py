"""Images and layouts: dump, reload, compare, and everything that must be refused."""

import struct
import zlib

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from yarvic.bench.vehicles import layout_text, stock_calibrations
from yarvic.core.calibration.cells import set_cells
from yarvic.core.calibration.compare import compare
from yarvic.core.calibration.image import check_image, image_id, name_in, pack, unpack
from yarvic.core.calibration.layout_file import parse_layout, read_layout
from yarvic.core.calibration.storing import dtype_of, steps
from yarvic.core.errors import CalibrationError, FormatError


def test_pack_and_unpack_give_the_tables_back(layout):
    maps = stock_calibrations(layout)
    image = pack(maps, layout, "Stock")
    assert len(image) == layout.size
    for slot in layout.slots:
        assert compare(maps[slot], unpack(image, layout, slot)) == []


def test_header_says_what_it_is(stock, layout):
    # The header of 64 bytes, as docs/layout-file.md has it; CRC-32 of ISO 3309, as zlib computes it.
    mark, _, version, family, size, crc, name = struct.unpack(">4sHH16sII32s", stock[:64])
    assert (mark, version, family.rstrip(b"\0"), size) == (b"YRVC", 1, b"ptarmigan-14", 65536)
    assert crc == zlib.crc32(stock[64:])
    assert name.rstrip(b"\0").decode() == name_in(stock, layout) == "Stock"


def test_slots_do_not_touch_each_other(stock, layout):
    maps = {slot: unpack(stock, layout, slot) for slot in layout.slots}
    spark = maps["E30"].table("spark_advance")
    maps["E30"] = maps["E30"].with_table(set_cells(spark, np.ones(spark.values.shape, dtype=bool), 5.0))
    image = pack(maps, layout, "x", stock)
    assert compare(maps["RON 95"], unpack(image, layout, "RON 95")) == []
    assert np.all(unpack(image, layout, "E30").table("spark_advance").values == 5.0)


@given(st.integers(0, 9), st.integers(0, 12), st.integers(-100, 500))
@settings(max_examples=40, deadline=None)
def test_any_storable_value_survives(layout, row, column, tenths):
    maps = stock_calibrations(layout)
    spark = maps["RON 95"].table("spark_advance")
    mask = np.zeros(spark.values.shape, dtype=bool)
    mask[row, column] = True
    maps["RON 95"] = maps["RON 95"].with_table(set_cells(spark, mask, tenths / 10.0))
    again = unpack(pack(maps, layout, "x"), layout, "RON 95")
    assert again.table("spark_advance").values[row, column] == pytest.approx(tenths / 10.0)


def test_bytes_no_table_owns_are_kept(stock, layout):
    data = bytearray(stock)
    data[60000:60010] = b"keep this!"
    maps = {slot: unpack(stock, layout, slot) for slot in layout.slots}
    assert pack(maps, layout, "x", bytes(data))[60000:60010] == b"keep this!"


@given(st.integers(64, 65535), st.integers(1, 255))
@settings(max_examples=50, deadline=None)
def test_any_flipped_byte_is_found(stock, layout, at, flip):
    data = bytearray(stock)
    data[at] ^= flip
    with pytest.raises(CalibrationError, match="checksum"):
        check_image(bytes(data), layout)


@pytest.mark.parametrize(
    ("damage", "message"),
    [
        (lambda d: b"", "65,536 too few"),
        (lambda d: b"\0" * len(d), "the image mark at 0x0 is 00 00 00 00, not 'YRVC'"),
        (lambda d: d[:-1], "1 too few"),
        (lambda d: d + b"x", "1 too many"),
        (lambda d: d[:4] + b"\x09\x09" + d[6:], "version of the image header at 0x4 is 09 09"),
        (lambda d: d[:6] + b"\x00\x07" + d[8:], "the layout version at 0x6"),
        (
            lambda d: d.replace(b"ptarmigan-14", b"wether-32\0\0\0", 1),
            "family at 0x8 is 'wether-32', not 'ptarmigan-14'",
        ),
    ],
)
def test_other_images_are_refused_with_a_remedy(stock, layout, damage, message):
    with pytest.raises(CalibrationError, match=message) as caught:
        check_image(damage(stock), layout, source="some.hex")
    assert caught.value.concerns == "some.hex"
    assert caught.value.remedy


def test_image_is_named_by_its_content(stock):
    # SHA-256 of the empty string, FIPS 180-4 example value.
    assert image_id(b"") == "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
    assert len(image_id(stock)) == 64


def test_a_value_that_does_not_fit_its_storage_is_refused(layout):
    text = layout_text("ptarmigan").replace("high = 50.0", "high = 50000.0", 1)
    wide = parse_layout(text)
    maps = stock_calibrations(layout)
    spark = maps["RON 95"].table("spark_advance")
    from dataclasses import replace

    big = replace(spark, high=50000.0)
    maps["RON 95"] = maps["RON 95"].with_table(set_cells(big, np.ones(big.values.shape, dtype=bool), 40000.0))
    with pytest.raises(CalibrationError, match="storage i16"):
        pack(maps, wide, "x")


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('family = "ptarmigan-14"', "family = 3", "family"),
        ("block = 512", "block = 500", "whole number of blocks"),
        ("address = 0x0300", "address = 0x0110", "overlap"),
        ("slot_start = 4096", "slot_start = 10", "behind the header"),
        ("slot_size = 8192", "slot_size = 3000", "outside the slot"),
        ("slot_size = 8192", "slot_size = 81920", "do not fit"),
        ('unit = "deg"', 'unit = "furlong"', "furlong"),
        ("factor = 0.1", "factor = 0.0", "stores nothing"),
        ("count = 13", "count = 0", "greater than or equal"),
        ("version = 1", "version = 1\nsurprise = 2", "surprise"),
        ("version = 1", "version = = 1", "TOML"),
    ],
)
def test_layouts_that_cannot_be_are_refused(old, new, message):
    text = layout_text("ptarmigan").replace(old, new, 1)
    with pytest.raises(CalibrationError, match=message) as caught:
        parse_layout(text, source="mine.toml")
    assert caught.value.concerns.startswith("mine.toml")
    assert caught.value.remedy


def test_layout_from_a_file(tmp_path):
    path = tmp_path / "unit.toml"
    path.write_text(layout_text("ptarmigan"))
    layout, faults = read_layout(path)
    assert layout.family == "ptarmigan-14" and faults == []
    assert parse_layout(layout.to_json()) == layout
    with pytest.raises(FormatError, match="is not there"):
        read_layout(tmp_path / "none.toml")
    path.write_bytes(b"\xff\xfe\x00")
    with pytest.raises(FormatError, match="not text"):
        read_layout(path)


STORAGES = {
    "u8": (0, 255), "i8": (-128, 127), "u16": (0, 65535), "i16": (-32768, 32767), "u32": (0, 2**32 - 1),
    "i32": (-(2**31), 2**31 - 1),
}  # fmt: skip
ONE_TABLE = """
family = "one"
version = 1
byte_order = "{order}"
size = 1024
block = 64
slots = ["A"]
slot_start = 64
slot_size = 512
[[scalars]]
key = "s"
title = "S"
unit = "deg"
address = 400
storage = "{storage}"
factor = {factor!r}
offset = {offset!r}
low = -1e15
high = 1e15
[[tables]]
key = "t"
title = "T"
unit = "deg"
address = 100
storage = "{storage}"
factor = {factor!r}
offset = {offset!r}
low = -1e15
high = 1e15
x = {{ title = "X", unit = "rpm", address = 0, storage = "u16", factor = 1.0, count = 4 }}
y = {{ title = "Y", unit = "%", address = 32, storage = "u16", factor = 1.0, count = 3 }}
"""


@given(
    st.sampled_from(sorted(STORAGES)),
    st.sampled_from(["big", "little"]),
    st.sampled_from([1.0, 0.1, 0.75, 0.05, 1 / 256, 0.0078125, 2.5, 1e-4, 40.0]),
    st.floats(-60.0, 60.0),
    st.data(),
)
@settings(max_examples=150, deadline=None)
def test_what_is_shown_is_what_is_stored(storage, order, factor, offset, data):
    """For every storage: an edit of one cell changes one cell, and the image holds what the screen showed."""
    layout = parse_layout(ONE_TABLE.format(storage=storage, order=order, factor=factor, offset=offset))
    low, high = STORAGES[storage]
    raw = data.draw(st.lists(st.integers(low, high), min_size=12, max_size=12))
    memory = bytearray(b"\xff" * layout.size)
    dtype, whole = dtype_of(storage, order), dtype_of("u16", order)
    memory[64:72] = np.array([1, 2, 3, 4], dtype=whole).tobytes()
    memory[96:102] = np.array([1, 2, 3], dtype=whole).tobytes()
    memory[164 : 164 + 12 * dtype.itemsize] = np.array(raw, dtype=dtype).tobytes()
    memory[464 : 464 + dtype.itemsize] = np.array(raw[:1], dtype=dtype).tobytes()
    header = pack_header(layout, memory)
    before = unpack(header, layout, "A")
    table = before.table("t")
    # Untouched maps pack to the same bytes.
    assert pack({"A": before}, layout, "x", header)[64:] == header[64:]
    target = data.draw(st.integers(low, high)) * factor + offset
    mask = np.zeros((3, 4), dtype=bool)
    mask[1, 2] = True
    after = set_cells(table, mask, target)
    assert np.count_nonzero(after.values != table.values) <= 1
    again = unpack(pack({"A": before.with_table(after)}, layout, "x", header), layout, "A").table("t")
    assert np.array_equal(again.values, after.values)
    # What is shown, typed in again, is the same number in memory.
    shown = float(f"{after.values[1, 2]:.{after.decimals}f}")
    assert set_cells(after, mask, shown).values[1, 2] == after.values[1, 2] or factor < 10.0**-6
    scalar = before.scalar("s").with_value(target)
    stored = unpack(pack({"A": before.with_scalar(scalar)}, layout, "x", header), layout, "A").scalar("s")
    assert stored.value == scalar.value


def pack_header(layout, memory):
    """The memory under a header that holds, without going through any table."""
    import struct

    order = ">" if layout.byte_order == "big" else "<"
    head = struct.pack(order + "4sHH16sII32s", b"YRVC", 1, 1, b"one", layout.size, zlib.crc32(memory[64:]), b"x")
    return head.ljust(64, b"\0") + bytes(memory[64:])


def test_a_bound_off_the_steps_is_kept_within(table):
    """50.0 with steps of 0.75 from 0.1: the highest that can be stored and is allowed, not one step over."""
    from dataclasses import replace

    t = replace(table, storing=steps(0.75, 0.1))
    mask = np.ones(t.values.shape, dtype=bool)
    assert set_cells(t, mask, 50.0).values.max() == pytest.approx(49.6)
    with pytest.raises(CalibrationError, match="outside the bounds"):
        set_cells(t, mask, 50.5)


def test_what_the_storage_cannot_hold_is_refused_at_the_edit():
    layout = parse_layout(ONE_TABLE.format(storage="u8", order="big", factor=0.5, offset=-40.0))
    memory = bytearray(b"\0" * layout.size)
    memory[64:72] = np.array([1, 2, 3, 4], dtype=">u2").tobytes()
    memory[96:102] = np.array([1, 2, 3], dtype=">u2").tobytes()
    table = unpack(pack_header(layout, memory), layout, "A").table("t")
    assert (table.low, table.high) == (-40.0, 87.5)
    with pytest.raises(CalibrationError, match="outside the bounds"):
        set_cells(table, np.ones((3, 4), dtype=bool), 88.0)


@given(
    st.sampled_from([1.0, 0.1, 0.75, 0.05, 0.5, 2.5, 12.5, 1 / 3, 1 / 256, 1e-4, 1e-5]),
    st.one_of(st.floats(-60.0, 60.0), st.sampled_from([0.0, -40.0, 0.75, 0.5, 0.05])),
    st.integers(0, 3),
    st.integers(-32768, 65535),
)
@example(0.1, 0.75, 1, 0)  # 0.75 shown as 0.8 would be typed in as 0.85
@example(2.5, 0.0, 0, 1)  # 2.5 shown as 2 would be no number of this table
@settings(max_examples=400, deadline=None)
def test_a_number_that_is_typed_as_it_is_shown_finds_its_own_step(step, origin, wanted, raw):
    storing = steps(step, origin)
    value, places = float(storing.value(raw)), storing.decimals(wanted)
    assert float(storing.nearest(float(f"{value:.{places}f}"), -1e9, 1e9)) == value
    assert places >= wanted
    if step in (0.1, 0.75, 0.5, 2.5, 12.5) and origin in (0.0, -40.0, 0.75, 0.5, 0.05):
        assert float(f"{value:.{places}f}") == value  # what can be shown exactly is
