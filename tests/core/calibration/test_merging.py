"""The laws of a three-way merge, its conflicts, and that nothing of it is half applied."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from test_decoding import layout_of, memory_with

from yarvic.core.calibration.axes import with_axis
from yarvic.core.calibration.compare import compare_images
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.layout import Axis, Entry, SharedAxis
from yarvic.core.calibration.merging import merge
from yarvic.core.errors import CalibrationError

X = Axis(kind="stored", title="x", address=0, storage="u8", count=4)
LAYOUT = layout_of(
    Entry(key="t", kind="map", address=16, storage="u8", x=X, y=Axis(kind="fixed", values=(1.0, 2.0, 3.0), count=3)),
    Entry(key="v", kind="value", address=60, storage="u8"),
)
BASE = Image(
    LAYOUT,
    memory_with(a0=("u8", "big", [10, 20, 30, 40]), a16=("u8", "big", list(range(12))), a60=("u8", "big", [7])),
)

changes = st.dictionaries(st.tuples(st.integers(0, 2), st.integers(0, 3)), st.integers(0, 255), max_size=6)


def with_cells(image, cells, value=None):
    table = image["Maps"].table("t")
    values = table.values.copy()
    for at, new in cells.items():
        values[at] = new
    image = image.with_edits(image.edits_to("Maps", table.with_values(values), "x"))
    if value is not None:
        image = image.with_edits(image.edits_to("Maps", image["Maps"].scalar("v").with_value(value), "x"))
    return image


def done(base, ours, theirs, side="theirs"):
    found = merge(base, ours, theirs)
    sides = {(c.slot, c.key, c.cell): side for c in found.conflicts}
    return ours.with_edits(found.step("merge", sides))


@given(changes, changes)
@settings(max_examples=120, deadline=None)
def test_the_laws_of_merging(one, other):
    a, b = with_cells(BASE, one), with_cells(BASE, other)
    assert done(BASE, a, a).data == a.data  # idempotent
    assert done(BASE, a, BASE).data == a.data and done(BASE, BASE, b).data == b.data  # identity
    # Symmetric: who calls himself "ours" changes nothing but whose value stands in a conflict.
    assert done(BASE, a, b, "theirs").data == done(BASE, b, a, "ours").data
    found, other_way = merge(BASE, a, b), merge(BASE, b, a)
    assert [c.cell for c in found.conflicts] == [c.cell for c in other_way.conflicts]
    # Against the definition, cell by cell.
    base, mine, its = (i["Maps"].table("t").values for i in (BASE, a, b))
    wanted = np.where(mine == base, its, mine)
    clash = (mine != base) & (its != base) & (mine != its)
    assert np.array_equal(done(BASE, a, b, "ours")["Maps"].table("t").values, wanted)
    assert {c.cell for c in found.conflicts} == {(int(r), int(c)) for r, c in np.argwhere(clash)}
    # Merged again, there is nothing more to do.
    result = done(BASE, a, b, "ours")
    assert done(b, result, b).data == result.data


def test_a_conflict_has_both_values_and_waits_for_a_person():
    a, b = with_cells(BASE, {(0, 1): 50}, 8), with_cells(BASE, {(0, 1): 60, (2, 2): 99}, 9)
    found = merge(BASE, a, b)
    assert [c.sentence() for c in found.conflicts] == [
        "t at 20, 1: 1 became 50 here and 60 there", "v: 7 became 8 here and 9 there",
    ]  # fmt: skip
    assert found.taken == 1
    with pytest.raises(CalibrationError, match="whose value is to stand"):
        found.step("x", {("Maps", "t", (0, 1)): "ours"})
    made = a.with_edits(found.step("x", {("Maps", "t", (0, 1)): "theirs", ("Maps", "v", (0, 0)): "ours"}))
    assert made["Maps"].table("t").values[0, 1] == 60 and made["Maps"].scalar("v").value == 8
    assert made["Maps"].table("t").values[2, 2] == 99


def moved(image, points, key="t"):
    after = with_axis(image["Maps"].table(key), "x", np.array(points, dtype=float))
    return image.with_edits(image.edits_to("Maps", after, "x"))


def test_break_points_moved_on_one_side_are_taken_or_conflict_as_a_whole():
    b = moved(BASE, [10, 25, 30, 40])
    assert done(BASE, with_cells(BASE, {}, 9), b)["Maps"].table("t").x.values[1] == 25.0
    found = merge(BASE, with_cells(BASE, {(1, 1): 77}), b)
    [conflict] = found.conflicts
    assert conflict.cell is None and "break points were moved" in conflict.sentence()
    assert done(BASE, with_cells(BASE, {(1, 1): 77}), b)["Maps"].table("t").x.values[1] == 25.0
    kept = done(BASE, with_cells(BASE, {(1, 1): 77}), b, "ours")
    assert kept["Maps"].table("t").x.values[1] == 20.0 and kept["Maps"].table("t").values[1, 1] == 77


def test_tables_that_share_an_axis_end_with_one():
    shared = SharedAxis(key="n", address=0, storage="u8", count=4)
    entries = [
        Entry(key=k, kind="curve", address=a, storage="u8", x=Axis(kind="shared", of="n"))
        for k, a in (("a", 16), ("b", 24))
    ]
    base = Image(layout_of(*entries, axes=(shared,)), BASE.data)
    theirs = base
    points = np.array([10.0, 22.0, 30.0, 40.0])
    edits = []
    for key in ("a", "b"):
        edits += base.edits_to("Maps", with_axis(base["Maps"].table(key), "x", points), "x", axes_known=key == "b")
    theirs = base.with_edits(edits)
    a = base["Maps"].table("a")
    values = a.values.copy()
    values[0, 0] = 200
    ours = base.with_edits(base.edits_to("Maps", a.with_values(values), "x"))
    found = merge(base, ours, theirs)
    assert [c.key for c in found.conflicts] == ["a"]
    with pytest.raises(CalibrationError, match="shared with a"):
        found.step("x", {("Maps", "a", None): "ours"})
    assert ours.with_edits(found.step("x", {("Maps", "a", None): "theirs"})).data[:32] == theirs.data[:32]


def test_bytes_that_nobody_describes_are_counted():
    data = bytearray(BASE.data)
    data[500], data[501] = data[500] ^ 1, data[501] ^ 1
    found = merge(BASE, BASE, Image(LAYOUT, bytes(data)))
    assert found.undescribed == 2 and found.taken == 0 and found.step("x", {}) == ()
    with pytest.raises(CalibrationError, match="cannot be compared"):
        merge(BASE, BASE, Image(LAYOUT, BASE.data[:-1]))


WORDED = layout_of(
    Entry(key="name", kind="text", title="Name", address=100, count=8, storage="u8"),
    Entry(key="v", kind="value", address=60, storage="u8"),
)


def worded(raw, value=7):
    data = bytearray(BASE.data)
    data[100:108], data[60] = raw.ljust(8, b"\0"), value
    return Image(WORDED, bytes(data))


def test_a_changed_text_is_compared_and_merged_as_one_thing():
    base, ours, theirs = worded(b"PATROL 4"), worded(b"PATROL 4", 9), worded(b"FERRY\0xx")
    [found] = compare_images(base, theirs)["Maps"]
    assert found.sentence() == "Name: “PATROL 4” became “FERRY”" and found.cells == 1
    assert compare_images(base, base)["Maps"] == []
    # Taken where only they changed it, with the bytes behind its end; the value of our side stays.
    result = done(base, ours, theirs)
    assert result.data[100:108] == b"FERRY\0xx" and result.data[60] == 9
    # Both otherwise: a person decides.
    mine = worded(b"BARGE")
    [conflict] = merge(base, mine, theirs).conflicts
    assert (
        conflict.texts == ("PATROL 4", "BARGE", "FERRY") and "“BARGE” here and “FERRY” there" in conflict.sentence()
    )
    assert done(base, mine, theirs).data[100:105] == b"FERRY"
    assert done(base, mine, theirs, "ours").data == mine.data
    # Bytes behind the end are not seen, and differ.
    [behind] = compare_images(worded(b"A\0b"), worded(b"A\0c"))["Maps"]
    assert "behind the end" in behind.sentence()


def test_a_text_that_may_not_be_changed_is_not():
    locked = layout_of(Entry(key="name", kind="text", address=100, count=8, storage="u8", read_only=True))
    base, theirs = Image(locked, worded(b"ONE").data), Image(locked, worded(b"TWO").data)
    with pytest.raises(CalibrationError, match="may not be changed"):
        base.with_edits(merge(base, base, theirs).step("x", {}))
