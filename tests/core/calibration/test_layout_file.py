"""Layouts written by hand: what each entry means, and every fault with its line and what to do."""

import pytest

from yarvic.core.calibration.faults import of_image
from yarvic.core.calibration.image import Image, check_image, sealed
from yarvic.core.calibration.layout_file import known_unit, parse_layout, understood_layout
from yarvic.core.errors import CalibrationError

GOOD = """\
format = "yarvic layout 2"
family = "test-1"
version = "7"
byte_order = "big"
base = 0x8000
size = 512
block = 100
volatile = [[0x8100, 0x8110]]

[[identification]]
address = 0x8000
text = "TST"
what = "the mark"

[[identification]]
address = 0x8003
hex = "01 ?? 03"

[[checksums]]
kind = "crc-16/arc"
ranges = [[0x8000, 0x81F0]]
address = 0x81FE

[conversions.switch]
kind = "words"
words = [{ low = 0.0, high = 0.0, text = "off" }, { low = 1.0, high = 1.0, text = "on" }]

[[axes]]
key = "speed"
title = "Engine speed"
unit = "1/min"
address = 0x8010
storage = "u16"
count = 4
input = "engine_speed"
input_said = true

[[entries]]
key = "spark"
kind = "map"
unit = "°KW"
address = 0x8020
storage = "i8"
factor = 0.75
low = -20
high = 60
x = { kind = "shared", of = "speed" }
y = { kind = "fixed", title = "Load", unit = "%", start = 10, step = 30, count = 3 }

[[entries]]
key = "limit"
kind = "value"
unit = "rpm"
address = 0x8040
storage = "u16"

[[entries]]
key = "switch"
kind = "value"
address = 0x8042
conversion = "switch"
mask = 4

[roles.spark_advance]
entries = ["spark"]
by = "the layout"
"""


def good_image(layout):
    data = bytearray(b"\x07" * 512)
    data[:6] = b"TST\x01\x99\x03"
    data[0x10:0x18] = bytes([0, 100, 0, 200, 1, 0, 1, 100])
    return sealed(bytes(data), layout)


def test_a_layout_says_what_it_holds():
    layout, faults = understood_layout(GOOD)
    assert faults == [] and layout.sets == ("Maps",) and layout.blocks == 6
    image = Image(layout, good_image(layout))
    spark = image["Maps"].table("spark")
    assert spark.unit == "deg" and spark.x.unit == "rpm" and spark.x.input == "engine_speed"
    assert spark.x.values.tolist() == [100.0, 200.0, 256.0, 356.0] and spark.y.values.tolist() == [10.0, 40.0, 70.0]
    assert image["Maps"].scalar("switch").shown() == "on" and layout.role_of("spark") == "spark_advance"
    assert parse_layout(layout.to_json()) == layout


@pytest.mark.parametrize(
    ("old", "new", "line", "about", "message"),
    [
        ('key = "limit"', 'key = "spark"', 50, "spark", "is there twice"),
        ("address = 0x8040", "address = 0x9040", 50, "limit", "0x9040 to 0x9041, outside the memory, which is 0x8000"),
        ("address = 0x8040", "address = 0x81FE", 50, "limit", "it lies on the checksum crc-16/arc at 0x81FE"),
        ("address = 0x8040", "address = 0x8001", 50, "limit", "it lies on a mark"),
        ("address = 0x8040", "address = 0x802B", 50, "limit", "spark and limit overlap at 0x802B"),
        ("factor = 0.75", "factor = 0.0", 38, "spark", "a factor of 0 stores nothing"),
        ("start = 10, step = 30, count = 3", "start = 10, count = 1", 38, "spark", "its axis y has one point"),
        ('kind = "shared", of = "speed"', 'kind = "shared", of = "sped"', 38, "spark", "there is no shared axis 'sped'"),
        ('conversion = "switch"', 'conversion = "swich"', 57, "switch", "there is no conversion 'swich'"),
        ('unit = "rpm"', 'unit = "furlong"', 50, "limit", "unit 'furlong' is unknown"),
        ("mask = 4", "mask = 400", 57, "switch", "the mask does not fit u8"),
        ('kind = "map"', 'kind = "mop"', 38, "spark", "kind"),
        ("low = -20", "low = 80", 38, "spark", "low must not be above high"),
        ("low = -20", "surprise = 1", 38, "spark", "surprise"),
        ("low = -20", 'low = "deep"', 38, "spark", "low"),
        ("[[0x8000, 0x81F0]]", "[[0x7000, 0x71F0]]", 0, "crc-16/arc", "lies outside the memory"),
    ],
)  # fmt: skip
def test_each_fault_is_named_with_its_line(old, new, line, about, message):
    text = GOOD.replace(old, new, 1)
    assert text != GOOD
    layout, faults = understood_layout(text, source="mine.toml")
    assert [(f.line, f.about.split(" at ")[0]) for f in faults] == [(line, about)] and message in faults[0].sentence()
    assert faults[0].remedy
    if "overlap" not in message and "unknown" not in message and "one point" not in message and line:
        assert [x.line for x in layout.left_out] == [line] and message in layout.left_out[0].reason
    with pytest.raises(CalibrationError, match="mine"):
        parse_layout(text, source="mine.toml")


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "is no layout"),
        ('format = "yarvic layout 3"', "is no layout"),
        (GOOD.replace("size = 512", "size = 0"), "size"),
        (GOOD.replace('"big"', '"middle"'), "byte_order"),
        (GOOD.replace('text = "TST"', ""), "a mark is either hex or text"),
        (GOOD.replace("address = 0x81FE", "address = 0x8100"), "lies in its own range"),
        (GOOD.replace('kind = "crc-16/arc"', 'kind = "crc-17"'), "checksums"),
        (GOOD.replace("family = ", "family = = "), "TOML"),
        ('format = "yarvic layout 2"\nfamily = "x"\nbyte_order = "big"\nentries = 3', "entries must be a list"),
        ('format = "yarvic layout 2"\nfamily = "x"\nbyte_order = "big"\nbase = 2020-01-01', "a date"),
    ],
)
def test_what_is_no_layout_at_all(text, message):
    with pytest.raises(CalibrationError, match=message) as caught:
        understood_layout(text)
    assert caught.value.remedy


def test_what_is_wrong_with_an_image_under_it():
    layout = parse_layout(GOOD)
    image = good_image(layout)
    assert of_image(layout, image, "x.bin")[1:] == ([], [])
    check_image(image, layout)
    bad = bytearray(image)
    bad[0x10:0x14] = bytes([0, 100, 0, 50])  # the axis does not rise
    bad[4] = 0
    bound, faults, _ = of_image(layout, bytes(bad), "x.bin")
    said = [f.sentence() for f in faults]
    assert any("crc-16/arc at 0x81FE: it must be" in s for s in said)
    assert any("line 38, spark: axis break points must be finite and rise" in s for s in said) and len(said) == 2
    assert [x.key for x in bound.left_out] == ["spark"]
    bad[0] = 0
    assert any("no image of family 'test-1'" in f.what for f in of_image(layout, bytes(bad), "x.bin")[1])
    unknown = layout.changed(checksums=(layout.checksums[0].model_copy(update={"kind": "unknown", "title": "boot"}),))
    assert of_image(unknown, image, "x.bin")[2] == ["boot: its rule is unknown"]


@pytest.mark.parametrize(
    ("words", "label"),
    [
        ("1/min", "rpm"),
        ("°C", "degC"),
        ("", ""),
        ("-", ""),
        ("bar(g)", "bar(g)"),
        ("furlong", "furlong"),
        ("Nm", "N m"),
    ],
)
def test_units_by_the_words_of_a_layout(words, label):
    # A gauge pressure stays as it is written: nobody here knows the barometer.
    assert known_unit(words) == label


def test_what_the_unit_changes_itself_is_shown_and_not_edited():
    text = (
        'format = "yarvic layout 2"\nfamily = "F"\nbyte_order = "big"\nsize = 64\nvolatile = [[16, 24]]\n'
        + "".join(f'[[entries]]\nkey = "k{a}"\nkind = "value"\naddress = {a}\n' for a in (15, 16, 23, 24))
    )
    layout, faults = understood_layout(text)
    assert [e.read_only for e in layout.entries] == [False, True, True, False]
    assert [(f.about, f.line) for f in faults] == [("k16", 10), ("k23", 14)]
    assert all("the unit itself changes" in f.what for f in faults)
