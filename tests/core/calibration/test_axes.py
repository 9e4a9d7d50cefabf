"""Break points that move: the function stays where it can, memory holds what is shown, and undo gives the same bits."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from test_cells import table_of
from test_decoding import layout_of, memory_with

from yarvic.core.calibration.axes import (
    axis_of,
    change_of_function,
    deleted_points,
    inserted_points,
    least_missed,
    moved_points,
    widest_gap,
    with_axis,
)
from yarvic.core.calibration.edits import Edit
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.layout import Axis, Entry, Part, Record, SharedAxis
from yarvic.core.calibration.storing import Storing
from yarvic.core.errors import CalibrationError

rising = st.lists(st.integers(0, 400), min_size=3, max_size=6, unique=True).map(
    lambda v: np.array(sorted(v), dtype=float)
)


@given(st.data(), rising, rising)
@settings(max_examples=80, deadline=None)
def test_a_break_point_more_leaves_the_function_where_it_was(data, x, y):
    values = data.draw(arrays(np.float64, (y.size, x.size), elements=st.floats(-50.0, 50.0)))
    table = table_of(values, x=x, y=y)
    along = data.draw(st.sampled_from(["x", "y"]))
    at = data.draw(st.floats(-20.0, 420.0))
    if np.any(axis_of(table, along).values == at):
        return
    more = with_axis(table, along, inserted_points(axis_of(table, along), at))
    assert abs(change_of_function(table, more).most) < 1e-9
    # Everywhere, not only on the break points: against the function itself at random places.
    places = np.random.default_rng(1).uniform(-30.0, 430.0, (2, 200))
    assert np.allclose(more.look_up(*places), table.look_up(*places), atol=1e-8)
    # What was there before is there to the bit, and without the point the table is what it was.
    n = int(np.flatnonzero(axis_of(more, along).values == at)[0])
    again = with_axis(more, along, deleted_points(axis_of(more, along), n))
    assert np.array_equal(again.values, table.values)


@given(st.data(), rising)
@settings(max_examples=80, deadline=None)
def test_the_change_of_the_function_is_the_greatest_there_is(data, x):
    values = data.draw(arrays(np.float64, (2, x.size), elements=st.floats(-50.0, 50.0)))
    table = table_of(values, x=x)
    place = data.draw(st.integers(0, x.size - 1))
    to = data.draw(st.floats(-20.0, 420.0))
    try:
        moved = with_axis(table, "x", moved_points(table.x, place, to))
    except CalibrationError as error:
        assert "break points rise" in error.what
        return
    most = change_of_function(table, moved)
    at = np.linspace(-30.0, 430.0, 3000)
    for row in (0.0, 0.37, 1.0):
        away = moved.look_up(at, row) - table.look_up(at, row)
        assert np.abs(away).max() <= abs(most.most) + 1e-9
    there = float(moved.look_up(most.x, most.y) - table.look_up(most.x, most.y))
    assert there == pytest.approx(most.most)


def test_the_point_on_a_straight_line_is_missed_least():
    table = table_of([[0.0, 10.0, 20.0, 90.0, 0.0]], x=[0.0, 1.0, 2.0, 3.0, 4.0])
    assert least_missed(table, "x") == 1
    assert least_missed(table, "x", keep=1.0) != 1
    assert widest_gap(replace(table.x, values=np.array([0.0, 1.0, 5.0]))) == 3.0


def test_what_no_axis_can_be_is_refused():
    axis = table_of([[1.0, 2.0, 3.0]]).x
    for act, message in (
        (lambda: moved_points(axis, 1, 2.0), "rise"),
        (lambda: moved_points(axis, 1, float("nan")), "a number"),
        (lambda: moved_points(axis, 7, 1.0), "no such break point"),
        (lambda: inserted_points(axis, 1.0), "already"),
        (lambda: deleted_points(replace(axis, values=np.array([1.0, 2.0])), 0), "keeps two"),
        (lambda: least_missed(table_of([[1.0, 2.0]]), "x"), "give up"),
    ):
        with pytest.raises(CalibrationError, match=message) as caught:
            act()
        assert caught.value.remedy


# -- in memory

STORED = Axis(title="Speed", unit="rpm", address=0, storage="u16", factor=10.0, count=4)
LIES = {"a0": ("u16", "big", [100, 200, 300, 400])}


def curve_image(axis=STORED, lies=LIES, **more):
    entry = Entry(key="c", kind="curve", address=100, storage="u8", x=axis, **more)
    return Image(layout_of(entry), memory_with(**lies, a100=("u8", "big", [10, 20, 30, 40])))


def changed(image, along, points, key="c"):
    table = image["Maps"].table(key)
    return image.edits_to("Maps", with_axis(table, along, image.axis_as_stored("Maps", key, along, points)), "x")


@pytest.mark.parametrize(
    ("axis", "lies"),
    [
        (STORED, LIES),
        (STORED, {"a0": ("u16", "big", [400, 300, 200, 100])}),  # falling in memory
        (STORED.model_copy(update={"falls": True}), {"a0": ("u16", "big", [400, 300, 200, 100])}),
        (STORED.model_copy(update={"differences": True}), {"a0": ("u16", "big", [100, 100, 100, 100])}),
        (
            STORED.model_copy(update={"storage": "f32", "factor": 1.0}),
            {"a0": ("f32", "big", [1000, 2000, 3000, 4000])},
        ),
    ],
)
def test_moving_is_exact_whichever_way_the_axis_lies(axis, lies):
    image = curve_image(axis, lies)
    edits = changed(image, "x", np.array([1000.0, 2504.0, 3000.0, 4000.0]))
    assert {e.part for e in edits} == {"x", "values"}
    after, back = image.edited(edits)
    table = after["Maps"].table("c")
    assert table.x.values[1] == (2504.0 if axis.storage == "f32" else 2500.0)
    before = image["Maps"].table("c")
    assert abs(table.values[0, 1] - before.look_up(table.x.values[1], 0.0)) <= 0.5
    assert np.array_equal(table.values[0, [0, 2, 3]], before.values[0, [0, 2, 3]])
    assert after.with_patches(back).data == image.data
    with pytest.raises(CalibrationError, match="expects"):
        after.with_edits(edits)


def test_axes_that_cannot_be_changed_say_why():
    for axis, message in (
        (Axis(kind="fixed", values=(1.0, 2.0, 3.0, 4.0), count=4), "states it as fixed"),
        (STORED.model_copy(update={"count": 4}), ""),
    ):
        image = curve_image(axis)
        if message:
            with pytest.raises(CalibrationError, match=message):
                changed(image, "x", np.array([1.0, 2.0, 3.0, 5.0]))
    image = curve_image()
    with pytest.raises(CalibrationError, match="would be stored as one"):
        changed(image, "x", np.array([1000.0, 1001.0, 3000.0, 4000.0]))
    with pytest.raises(CalibrationError, match="does not fit its storage"):
        changed(image, "x", np.array([1000.0, 2000.0, 3000.0, 900_000.0]))
    with pytest.raises(CalibrationError, match="may not be changed"):
        changed(curve_image(read_only=True), "x", np.array([1000.0, 2500.0, 3000.0, 4000.0]))
    # An edit from a file that would make the axis fall changes nothing.
    falling = Edit("Maps", "c", "x", ((0, 1),), (200.0,), (350.0,), "x")
    with pytest.raises(CalibrationError, match="rise"):
        image.with_edits([falling])


def test_a_shared_axis_is_changed_once_and_its_tables_with_it():
    shared = SharedAxis(key="n", title="Engine speed", unit="rpm", address=0, storage="u16", count=4)
    entries = [
        Entry(key=k, kind="curve", address=a, storage="u8", x=Axis(kind="shared", of="n"))
        for k, a in (("a", 100), ("b", 110))
    ]
    there = memory_with(**LIES, a100=("u8", "big", [0, 20, 40, 60]), a110=("u8", "big", [9, 9, 9, 9]))
    image = Image(layout_of(*entries, axes=(shared,)), there)
    points = np.array([100.0, 250.0, 300.0, 400.0])
    edits = []
    for key in ("a", "b"):
        after = with_axis(image["Maps"].table(key), "x", points)
        edits += image.edits_to("Maps", after, "x", axes_known=key == "b")
    assert [(e.key, e.part) for e in edits] == [("n", "axis"), ("a", "values")]
    after, back = image.edited(edits)
    assert after["Maps"].table("b").x.values.tolist() == points.tolist()
    assert after["Maps"].table("a").values[0].tolist() == [0.0, 30.0, 40.0, 60.0]
    assert after.with_patches(back).data == image.data
    with pytest.raises(CalibrationError, match="must be finite and rise"):
        image.with_edits([Edit("Maps", "n", "x", ((0, 0),), (100.0,), (900.0,), "axis")])
    with pytest.raises(CalibrationError, match="no shared axis"):
        image.with_edits([Edit("Maps", "z", "x", ((0, 0),), (100.0,), (90.0,), "axis")])


@pytest.mark.parametrize("fixed", [False, True])
@pytest.mark.parametrize("by", ["rows", "columns"])
def test_a_table_whose_counts_lie_in_memory_grows_and_shrinks(fixed, by):
    record = Record(
        parts=(Part(what="x count"), Part(what="y count"), Part(what="x", storage="u16"), Part(what="y"),
               Part(what="values", storage="i16")),
        fixed=fixed,
    )  # fmt: skip
    entry = Entry(key="t", kind="map", address=32, storage="i16", record="r", by=by, x=Axis(title="x", count=5),
                  y=Axis(title="y", count=3))  # fmt: skip
    y = 34 + 2 * (5 if fixed else 2)
    values = y + (3 if fixed else 2)
    there = memory_with(a32=("u8", "big", [2, 2]), a34=("u16", "big", [100, 200]),
                        **{f"a{y}": ("u8", "big", [1, 2]), f"a{values}": ("i16", "big", [10, 20, 30, 40])})  # fmt: skip
    image = Image(layout_of(entry, records={"r": record}), there)
    table = image["Maps"].table("t")
    assert image.room_for_points("Maps", "t", "x") == (2, 5)
    grown = with_axis(table, "x", np.array([100.0, 150.0, 200.0]))
    edits = image.edits_to("Maps", grown, "one more")
    assert [e.part for e in edits] == ["form"]
    after, back = image.edited(edits)
    found = after["Maps"].table("t")
    assert np.array_equal(found.values, grown.values) and found.x.values.tolist() == [100.0, 150.0, 200.0]
    assert after.with_patches(back).data == image.data
    # And back again by an edit, whose bytes are what the first left of those that belong to the table.
    smaller, again = after.edited(after.edits_to("Maps", table, "one less"))
    assert np.array_equal(smaller["Maps"].table("t").values, table.values)
    assert smaller.with_patches(again).data == after.data
    with pytest.raises(CalibrationError, match="room for 5 break points, not for 6"):
        image.edits_to("Maps", with_axis(table, "x", np.arange(100.0, 160.0, 10.0)), "too many")
    broken = Edit(*[*edits[0].__dict__.values()][:5], edits[0].after[:-1], "form")
    with pytest.raises(CalibrationError, match="not whole"):
        image.with_edits([broken])


def test_values_read_anew_are_rounded_to_what_is_stored():
    table = replace(table_of([[0.0, 1.0]], storing=Storing("u8")), low=0.0, high=255.0)
    assert with_axis(table, "x", np.array([0.0, 0.4, 1.0])).values.tolist() == [[0.0, 0.0, 1.0]]
