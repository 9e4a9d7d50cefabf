"""Roles: proposed by name, unit and shape, said by a person, shared; and tables found by part of what they are called."""

import pytest

from yarvic.core.calibration.finding import Names
from yarvic.core.calibration.layout import Axis, Entry, Group, Layout
from yarvic.core.calibration.roles import kinds, propose, roles_to_toml, with_input, with_roles, with_roles_of
from yarvic.core.errors import CalibrationError
from yarvic.core.evidence.inputs import input_of, with_inputs

SPEED = Axis(kind="fixed", title="Engine speed", unit="rpm", count=4, step=1000.0, input="engine_speed")
LOAD = Axis(kind="fixed", title="Load", unit="%", count=3, step=30.0, input="filling")


def table(key, title, unit, **more):
    more = {"kind": "map", "x": SPEED, "y": LOAD, "storage": "u8", **more}
    return Entry(key=key, title=title, unit=unit, address=more.pop("address", 0), **more)


def layout_of(*entries):
    placed = [e.model_copy(update={"address": n * 100}) for n, e in enumerate(entries)]
    return Layout(family="f", byte_order="big", size=10_000, entries=tuple(placed))


# Names as workshops write them in several languages: common practice, no published source.
@pytest.mark.parametrize(
    ("title", "unit", "role"),
    [
        ("Ignition angle, base", "deg", "spark_advance"),
        ("Zündwinkel Kennfeld", "deg", "spark_advance"),
        ("BaseIgnitionTiming", "deg", "spark_advance"),
        ("Avance allumage", "deg", "spark_advance"),
        ("Ladedruck Sollwert: Ladedrucksollwert", "mbar", "boost_target"),
        ("Desired boost", "kPa", "boost_target"),
        ("Consigne richesse", "lambda", "lambda_target"),
        ("Volumetric efficiency", "%", "filling"),
        ("Torque limitation", "N m", "torque_limit"),
    ],
)
def test_a_table_is_known_by_its_name_and_unit(title, unit, role):
    [found] = propose(layout_of(table("t1", title, unit)))
    assert found.role == role and found.confidence >= 0.7 and title.split()[0] and found.reason


@pytest.mark.parametrize(
    ("title", "unit"),
    [
        ("Knock retard of spark advance", "deg"),  # beside it, and another thing
        ("Spark advance", "kPa"),  # in a unit that no spark has
        ("Idle ignition angle minimum", "deg"),
        ("Fan speed", "rpm"),
        ("", "deg"),
    ],
)
def test_what_is_near_is_not_taken_for_certain(title, unit):
    assert all(p.confidence < 0.7 for p in propose(layout_of(table("t1", title, unit))))


def test_the_likeliest_stands_first_and_each_entry_has_one_role():
    layout = layout_of(
        table("a", "Spark advance, cold", "deg", y=None, kind="curve"),
        table("b", "Spark advance", "deg"),
        table("c", "Boost target", "kPa"),
        Entry(key="n", kind="value", title="Rev limit", unit="rpm", address=0, storage="u16"),
    )
    found = propose(layout)
    assert [(p.role, p.key) for p in found] == [
        ("spark_advance", "b"), ("spark_advance", "a"), ("boost_target", "c"), ("rev_limit", "n"),
    ]  # fmt: skip
    assert all(p.role in kinds() for p in found)


def test_roles_are_said_kept_and_shared():
    layout = layout_of(table("b", "Spark advance", "deg"), table("l", "Lambda", ""))
    said = with_roles(layout, {"spark_advance": ["b"], "lambda_target": ["l"]}, "Rowan Sedge")
    assert said.of_role("spark_advance") == ("b",) and said.role_of("l") == "lambda_target"
    assert said.by_key["l"].unit == "lambda"  # what has no unit has that of what it is
    assert Layout.model_validate_json(said.to_json()) == said
    said = with_input(said, "b", "y", "boost_pressure")
    text = roles_to_toml(said)
    again, lost = with_roles_of(layout, text)
    assert again.roles == said.roles and lost == []
    assert again.by_key["b"].y.input == "boost_pressure" and again.by_key["b"].y.input_said
    fewer, lost = with_roles_of(layout_of(table("b", "Spark advance", "deg")), text)
    assert lost == ["l"] and list(fewer.roles) == ["spark_advance"]
    assert with_roles(said, {"spark_advance": []}, "x").of_role("spark_advance") == ()


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "is no list of roles"),
        ('format = "yarvic roles 1"\nfamily = "other"', "of family 'other'"),
        ('format = "yarvic roles 1"\nfamily = "f"\n[roles.magic]\nentries = ["b"]', "there is no role 'magic'"),
        ('format = "yarvic roles 1"\nsurprise = 1', "surprise"),
    ],
)
def test_lists_that_cannot_be(text, message):
    with pytest.raises(CalibrationError, match=message):
        with_roles_of(layout_of(table("b", "Spark advance", "deg")), text)
    with pytest.raises(CalibrationError, match="no table or value"):
        with_roles(layout_of(), {"spark_advance": ["b"]}, "x")


def test_axes_are_known_by_name_and_unit_and_never_against_it():
    assert input_of("Engine speed", "rpm") == "engine_speed" and input_of("anything", "rpm") == "engine_speed"
    assert input_of("Cylinder filling", "%") == "filling"
    assert input_of("Boost", "bar(g)") == ""  # a gauge pressure is another number
    assert input_of("Gear", "") == "" and input_of("Engine speed", "kPa") == ""
    said = Axis(kind="fixed", title="Engine speed", unit="rpm", count=2, input="", input_said=True)
    layout = with_inputs(layout_of(table("a", "A", "deg", x=SPEED.model_copy(update={"input": ""}), y=said)))
    assert layout.by_key["a"].x.input == "engine_speed" and layout.by_key["a"].y.input == ""


def test_tables_are_found_by_part_of_what_they_are_called():
    layout = layout_of(table("Spk_1", "Zündwinkel", "deg"), table("Bst", "Boost target", "kPa"))
    layout = with_roles(layout, {"spark_advance": ["Spk_1"]}, "x")
    layout = layout.changed(groups=(Group(title="Air", entries=("Bst",)),))
    names = Names(layout)

    def keys(text):
        return [f.key for f in names.search(text)[0]]

    assert keys("") == ["Spk_1", "Bst"] and keys("zundw") == keys("spk") == keys("spark adv") == ["Spk_1"]
    assert keys("boost kpa") == keys("air") == keys("0x64") == ["Bst"] and keys("none") == []
    assert names.search("", most=1)[1] == 2
