"""Every storage, conversion and kind of axis: out of a memory and back, exact to the stored bit."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yarvic.core.calibration.conversion import Linear, Named, Points, Rational, Words
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.layout import Axis, Entry, Layout, Part, Record, SharedAxis
from yarvic.core.calibration.storing import CODES, SIZES, Storing, dtype_of
from yarvic.core.errors import CalibrationError

SIZE = 1024
CONVERSIONS = {
    "plain": Linear(),
    "tenths": Linear(factor=0.1, offset=-40.0),
    "falling": Linear(factor=-0.75, offset=60.0),
    "binary": Linear(factor=1 / 128),
    "third": Linear(factor=1 / 3, offset=0.1),
    "inverse": Rational(b=0.0, c=12000.0, e=1.0, f=0.0),
    "bend": Rational(b=3.0, c=1.0, e=0.01, f=2.0),
    "line": Points(raws=(0.0, 50.0, 100.0, 200.0), values=(-10.0, 0.0, 5.0, 90.0)),
    "downhill": Points(raws=(0.0, 100.0, 200.0), values=(90.0, 20.0, -5.0)),
    "words": Words(words=(Named(low=0.0, high=0.0, text="off"), Named(low=1.0, high=1.0, text="on"))),
}


def memory_with(**places):
    """A memory, and the numbers put where they are to lie: address: (storage, order, raws)."""
    data = bytearray(np.random.default_rng(1).integers(0, 256, SIZE, dtype=np.uint8).tobytes())
    for address, (storage, order, raws) in places.items():
        start = int(address[1:])
        raw = np.array(raws).astype(dtype_of(storage, order)).tobytes()
        data[start : start + len(raw)] = raw
    return bytes(data)


def layout_of(*entries, **more):
    return Layout(
        family="f",
        byte_order=more.pop("byte_order", "big"),
        size=SIZE,
        conversions=CONVERSIONS,
        entries=entries,
        **more,
    )


def raws(draw, storage, conversion):
    if storage[0] == "f":
        # A zero has no sign once something was added to it.
        return draw(st.lists(st.floats(-1e6, 1e6, width=32).map(lambda v: v + 0.0), min_size=6, max_size=6))
    low, high = Storing(storage).raw_limits
    if isinstance(CONVERSIONS[conversion], Points):
        low, high = max(low, 0), min(high, 200)  # past the ends all are one value
    if isinstance(CONVERSIONS[conversion], Rational):
        low, high = max(low, -65_536), min(high, 65_535)  # further out neighbours are one number in double precision
    return draw(st.lists(st.integers(int(low), int(high)), min_size=6, max_size=6))


@given(
    st.sampled_from(sorted(CODES)), st.sampled_from(sorted(CONVERSIONS)), st.sampled_from(["big", "little"]),
    st.sampled_from(["rows", "columns"]), st.data(),
)  # fmt: skip
@settings(max_examples=250, deadline=None)
def test_what_is_read_is_written_back_to_the_bit(storage, conversion, order, by, data):
    found = raws(data.draw, storage, conversion)
    x = Axis(kind="fixed", title="x", values=(1.0, 2.0, 3.0), count=3)
    y = Axis(kind="fixed", title="y", start=5.0, step=5.0, count=2)
    entry = Entry(
        key="t", kind="map", address=64, storage=storage, byte_order=order, conversion=conversion, by=by, x=x, y=y
    )
    image = Image(layout_of(entry), memory_with(a64=(storage, order, found)))
    table = image["Maps"].table("t")
    at = data.draw(st.tuples(st.integers(0, 1), st.integers(0, 2)))
    index = at[1] * 2 + at[0] if by == "columns" else at[0] * 3 + at[1]
    # An edit of one cell to the value of another changes that cell's bytes to that other's, and no others.
    other = data.draw(st.tuples(st.integers(0, 1), st.integers(0, 2)))
    was, new = float(table.values[at]), float(table.values[other])
    if not np.isfinite([was, new]).all() or (storage[0] == "f" and conversion not in ("plain", "binary", "words")):
        return
    edited = with_cell(image, "t", at, new)
    source = other[1] * 2 + other[0] if by == "columns" else other[0] * 3 + other[1]
    wanted = np.array(found).astype(dtype_of(storage, order))
    value = image.layout.storing(entry).value(wanted[source].astype(np.float64))
    if float(table.values[at]) != new:
        wanted[index] = wanted[source]
    assert edited["Maps"].table("t").values[at] == value
    size = SIZES[storage] * 6
    if isinstance(CONVERSIONS[conversion], Linear | Rational | Words) and len(set(found)) == len(
        set(table.values.ravel())
    ):
        assert edited.data[64 : 64 + size] == wanted.tobytes()
    assert edited.data[:64] == image.data[:64] and edited.data[64 + size :] == image.data[64 + size :]


@given(st.sampled_from(["f32", "f64"]), st.sampled_from(["plain", "tenths", "falling", "third"]), st.data())
@settings(max_examples=100, deadline=None)
def test_floating_point_keeps_every_bit_that_nobody_touched(storage, conversion, data):
    found = data.draw(st.lists(st.floats(width=32 if storage == "f32" else 64), min_size=6, max_size=6))
    entry = Entry(
        key="b", kind="block", count=6, address=64, storage=storage, conversion=conversion, low=-1e30, high=1e30
    )
    image = Image(layout_of(entry), memory_with(a64=(storage, "big", found)))
    edits = cell_edit(image, "b", (0, 2), 12.5)
    edited = image.with_edits(edits)
    size = SIZES[storage]
    assert edited["Maps"].table("b").values[0, 2] == pytest.approx(12.5, rel=1e-6)
    assert edited.data[: 64 + 2 * size] == image.data[: 64 + 2 * size]
    assert edited.data[64 + 3 * size :] == image.data[64 + 3 * size :]
    # The bytes that lay there take it back, whatever they were.
    again, back = image.edited(edits)
    assert again.data == edited.data and again.with_patches(back).data == image.data


def test_a_factor_below_zero_turns_the_bounds_round():
    entry = Entry(key="v", kind="value", address=0, storage="u8", conversion="falling", low=-200.0, high=200.0)
    image = Image(layout_of(entry), memory_with(a0=("u8", "big", [40])))
    value = image["Maps"].scalar("v")
    assert (value.value, value.low, value.high) == (30.0, -131.25, 60.0)
    assert value.with_value(60.0).value == 60.0
    with pytest.raises(CalibrationError, match="outside the bounds"):
        value.with_value(61.0)


def test_bits_lie_beside_each_other():
    flags = [Entry(key=f"f{n}", kind="value", address=10, storage="u8", mask=mask, conversion="words" if n < 2 else "")
             for n, mask in enumerate((0x01, 0x04, 0xF0))]  # fmt: skip
    image = Image(layout_of(*flags), memory_with(a10=("u8", "big", [0xA5])))
    maps = image["Maps"]
    assert [maps.scalar(f"f{n}").value for n in range(3)] == [1.0, 1.0, 10.0]
    assert maps.scalar("f0").shown() == "on" and maps.scalar("f2").high == 15.0
    edited = with_cell(with_cell(image, "f1", (0, 0), 0.0), "f2", (0, 0), 3.0)
    assert edited.data[10] == 0x31
    with pytest.raises(CalibrationError, match="outside the bounds"):
        maps.scalar("f2").with_value(16.0)


def test_words_by_the_standard_ranges_and_the_rest():
    words = Words(words=(Named(low=0.0, high=2.0, text="low"), Named(low=5.0, high=5.0, text="High")), otherwise="?")
    assert [words.word(v) for v in (0.0, 1.0, 2.0, 3.0, 5.0)] == ["low", "low", "low", "?", "High"]
    assert words.number("HIGH ") == 5.0 and words.number("none") is None


# -- axes

GRID = [10, 20, 30, 40]


def cell_edit(image, key, at, value):
    maps = image["Maps"]
    if key in maps.scalars:
        return image.edits_to("Maps", maps.scalar(key).with_value(value), "x")
    values = maps.table(key).values.copy()
    values[at] = value
    return image.edits_to("Maps", replace(maps.table(key), values=values), "x")


def with_cell(image, key, at, value):
    return image.with_edits(cell_edit(image, key, at, value))


def curve(axis, storage="u8", **more):
    return Entry(key="c", kind="curve", address=100, storage=storage, x=axis, **more)


def test_an_axis_in_memory_whichever_way_it_lies():
    there = memory_with(a0=("u16", "big", GRID), a20=("u16", "big", GRID[::-1]), a40=("u8", "big", [10, 10, 10, 10]),
                        a100=("u8", "big", [1, 2, 3, 4]))  # fmt: skip
    for axis, values in (
        (Axis(address=0, storage="u16", count=4), [1, 2, 3, 4]),
        (Axis(address=20, storage="u16", count=4), [4, 3, 2, 1]),  # it falls in memory: shown rising, cells with it
        (Axis(address=20, storage="u16", count=4, falls=True), [1, 2, 3, 4]),  # written from its end
        (Axis(address=40, storage="u8", count=4, differences=True), [1, 2, 3, 4]),
        (Axis(address=0, storage="u16", count=4, conversion="falling"), [4, 3, 2, 1]),
    ):
        image = Image(layout_of(curve(axis)), there)
        table = image["Maps"].table("c")
        assert table.values[0].tolist() == values
        assert np.all(np.diff(table.x.values) > 0)
        edited = with_cell(image, "c", (0, 0), 99.0)
        assert edited.data[100 + values[0] - 1] == 99
        assert edited["Maps"].table("c").values[0].tolist() == [99.0, *values[1:]]


def test_an_axis_that_does_not_rise_is_said_with_its_entry():
    there = memory_with(a0=("u16", "big", [10, 30, 20, 40]))
    image = Image(layout_of(curve(Axis(title="Speed", address=0, storage="u16", count=4))), there)
    with pytest.raises(CalibrationError, match="must be finite and rise") as caught:
        image["Maps"].table("c")
    assert caught.value.concerns == "c" and caught.value.remedy
    assert list(image.check_all()) == ["c"]


def test_a_shared_axis_moves_all_its_tables():
    shared = SharedAxis(key="n", title="Engine speed", unit="rpm", address=0, storage="u16", count=4)
    entries = [
        Entry(key=k, kind="curve", address=a, storage="u8", x=Axis(kind="shared", of="n"))
        for k, a in (("a", 100), ("b", 110))
    ]
    layout = layout_of(*entries, axes=(shared,))
    image = Image(layout, memory_with(a0=("u16", "big", GRID)))
    assert image["Maps"].table("a").x.unit == "rpm" and image["Maps"].table("b").x.of == "n"
    moved = image.with_patches([(0, b"\x00\x05")])
    assert moved["Maps"].table("b").x.values[0] == 5.0
    assert image.changed_keys(moved, "Maps") == ["a", "b"]


def test_an_axis_from_a_curve_and_one_from_pairs():
    # The curve turns 0, 100, 200, 300 into the places 0, 1.5, 2, 3: its axis has its points where places are whole.
    norm = Entry(
        key="n", kind="curve", address=50, storage="u8", factor=0.5,
        x=Axis(kind="fixed", values=(0.0, 100.0, 200.0, 300.0), count=4),
    )  # fmt: skip
    there = memory_with(a50=("u8", "big", [0, 3, 4, 6]), a60=("u8", "big", [0, 0, 100, 2, 255, 3]))
    image = Image(layout_of(norm, curve(Axis(kind="curve", of="n", count=4))), there)
    assert image["Maps"].table("c").x.values.tolist() == pytest.approx([0.0, 200 / 3, 200.0, 300.0])
    pairs = SharedAxis(key="p", kind="pairs", address=60, storage="u8", pairs=3, count=4)
    image = Image(layout_of(curve(Axis(kind="shared", of="p", count=4)), axes=(pairs,)), there)
    assert image["Maps"].table("c").x.values.tolist() == [0.0, 50.0, 100.0, 255.0]


@pytest.mark.parametrize("fixed", [False, True])
def test_a_record_whose_counts_lie_in_memory(fixed):
    record = Record(
        parts=(
            Part(what="x count"), Part(what="skip", skip=1), Part(what="y count"), Part(what="x", storage="u16"),
            Part(what="y", storage="u8"), Part(what="values", storage="i16"),
        ),
        fixed=fixed,
        align={"u16": 2, "i16": 2},
    )  # fmt: skip
    entry = Entry(
        key="t", kind="map", address=32, storage="i16", record="r",
        x=Axis(title="x", count=5), y=Axis(title="y", count=3),
    )  # fmt: skip
    # Room for 5 and 3 where it is fixed, else packed for the 2 and 2 that there are: x at 36, y behind it, values even.
    y = 36 + 2 * (5 if fixed else 2)
    values = y + (3 if fixed else 2)
    values += values % 2
    there = memory_with(
        a32=("u8", "big", [2]), a34=("u8", "big", [2]), a36=("u16", "big", [100, 200]),
        **{f"a{y}": ("u8", "big", [1, 2]), f"a{values}": ("i16", "big", [-1, -2, -3, -4])},
    )  # fmt: skip
    image = Image(layout_of(entry, records={"r": record}), there)
    table = image["Maps"].table("t")
    assert table.values.tolist() == [[-1.0, -2.0], [-3.0, -4.0]] and table.x.values.tolist() == [100.0, 200.0]
    edited = with_cell(image, "t", (1, 1), 7.0)
    assert np.frombuffer(edited.data[values : values + 8], ">i2").tolist() == [-1, -2, -3, 7]
    wrong = image.with_patches([(32, b"\x09")])
    with pytest.raises(CalibrationError, match="says 9 break points, of at most 5"):
        wrong["Maps"].table("t")


def test_texts_and_what_is_read_only():
    name = Entry(key="n", kind="text", address=8, count=8)
    fixed = Entry(key="v", kind="value", address=0, storage="u8", read_only=True)
    image = Image(layout_of(name, fixed), memory_with(a0=("u8", "big", [7]), a8=("u8", "big", [*b"FR-1\0zzz"])))
    assert image["Maps"].texts["n"].text == "FR-1"
    with pytest.raises(CalibrationError, match="may not be changed"):
        image["Maps"].scalar("v").with_value(8.0)


def test_what_lay_outside_its_bounds_is_read_and_may_be_brought_in():
    entry = curve(Axis(kind="fixed", values=(1.0, 2.0, 3.0, 4.0), count=4), low=10.0, high=50.0)
    image = Image(layout_of(entry), memory_with(a100=("u8", "big", [5, 20, 30, 60])))
    table = image["Maps"].table("c")
    assert table.outside().tolist() == [[True, False, False, True]]
    edited = with_cell(image, "c", (0, 1), 21.0)  # the others stay as they are
    assert edited.data[100:104] == bytes([5, 21, 30, 60])
    with pytest.raises(CalibrationError, match="outside the bounds"):
        with_cell(image, "c", (0, 1), 51.0)
