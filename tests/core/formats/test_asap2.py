"""Description files: a case for each rule of the standard, ASAM MCD-2 MC 1.6 and 1.7. The rules are from memory."""

import random
import struct

import numpy as np
import pytest

from yarvic.core.calibration.faults import of_image
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.errors import FormatError, YarvicError
from yarvic.core.formats.arrived import kind_of_file
from yarvic.core.formats.asap2.module import read_asap2
from yarvic.core.formats.descriptions import document, read_description, under
from yarvic.core.formats.images import ImageFile, read_image, write_image
from yarvic.core.reading import DEFECTS

BASE = 0x8000
COMMON = '/begin MOD_COMMON "" BYTE_ORDER MSB_FIRST /end MOD_COMMON'
RECORDS = """
/begin RECORD_LAYOUT U8 FNC_VALUES 1 UBYTE ROW_DIR DIRECT /end RECORD_LAYOUT
/begin RECORD_LAYOUT U16 FNC_VALUES 1 UWORD COLUMN_DIR DIRECT /end RECORD_LAYOUT
/begin RECORD_LAYOUT F32 FNC_VALUES 1 FLOAT32_IEEE ROW_DIR DIRECT /end RECORD_LAYOUT
/begin RECORD_LAYOUT AX AXIS_PTS_X 1 UBYTE INDEX_INCR DIRECT /end RECORD_LAYOUT
"""
NO = "NO_COMPU_METHOD"


def text_of(*blocks, common=COMMON, version="ASAP2_VERSION 1 61", par=""):
    inner = "\n".join(blocks)
    return (
        f'{version}\n/begin PROJECT Row ""\n/begin MODULE Unit ""\n{par}\n{common}\n{RECORDS}\n{inner}\n'
        "/end MODULE\n/end PROJECT\n"
    )


@pytest.fixture
def taken(tmp_path):
    """Read a description of some blocks; gives layout and faults."""

    def take(*blocks, **more):
        path = tmp_path / "unit.a2l"
        path.write_bytes(text_of(*blocks, **more).encode())
        return read_asap2(path)

    return take


def image_of(layout, **places):
    """An image of 4 KiB from BASE with bytes at offsets."""
    data = bytearray(4096)
    for at, raw in places.items():
        data[int(at[1:]) : int(at[1:]) + len(raw)] = raw
    return Image(layout.changed(base=BASE, size=4096), bytes(data))


def value(name="V", record="U8", method=NO, low=0, high=255, address=BASE, options=""):
    inner = f'{name} "" VALUE 0x{address:X} {record} 0 {method} {low} {high} {options}'
    return f"/begin CHARACTERISTIC {inner} /end CHARACTERISTIC"


def table(kind, axes, name="T", record="U8", method=NO, address=BASE, options=""):
    return (
        f'/begin CHARACTERISTIC {name} "" {kind} 0x{address:X} {record} 0 {method} -1e6 1e6 {options}'
        f" {axes} /end CHARACTERISTIC"
    )


def fix(n, start=0, step=1):
    return (
        f"/begin AXIS_DESCR FIX_AXIS NO_INPUT_QUANTITY {NO} {n} 0 255 FIX_AXIS_PAR_DIST {start} {step} {n}"
        " /end AXIS_DESCR"
    )


def std(source="NO_INPUT_QUANTITY", n=4, method=NO, options=""):
    return f"/begin AXIS_DESCR STD_AXIS {source} {method} {n} 0 65535 {options} /end AXIS_DESCR"


def shown(image, key):
    maps = image["Maps"]
    return maps.tables[key].values if key in maps.tables else maps.scalars[key].value


def reason(layout, key):
    return next(x.reason for x in layout.left_out if x.key == key)


# -- COMPU_METHOD


@pytest.mark.parametrize(
    ("method", "raw", "expected"),
    [
        ("IDENTICAL", 7, 7.0),
        ("LINEAR {} COEFFS_LINEAR 0.5 -40", 100, 10.0),
        ("RAT_FUNC {} COEFFS 0 4 0 0 0 1", 200, 50.0),  # raw = 4 x
        ("RAT_FUNC {} COEFFS 0 2 6 0 0 3", 10, 12.0),  # raw = (2 x + 6) / 3
        ("RAT_FUNC {} COEFFS 0 0 1200 0 1 0", 10, 120.0),  # raw = 1200 / x
        ("RAT_FUNC {} COEFFS 0 1 0 0 0 -1", 5, -5.0),
        ('FORM {} /begin FORMULA "X1/10 - 4" FORMULA_INV "(X1+4)*10" /end FORMULA', 50, 1.0),
        ('FORM {} /begin FORMULA "100/(X1+10)" /end FORMULA', 10, 5.0),
        ('FORM {} /begin FORMULA "2*(X1-3)+X1" /end FORMULA', 4, 6.0),
        ("TAB_INTP {} COMPU_TAB_REF tab", 15, 150.0),
        ("TAB_NOINTP {} COMPU_TAB_REF tab", 20, 200.0),
    ],
)
def test_conversions(taken, method, raw, expected):
    tab = '/begin COMPU_TAB tab "" TAB_INTP 3 0 0 10 100 20 200 DEFAULT_VALUE_NUMERIC 0 /end COMPU_TAB'
    words = method.format('"%6.2" "kPa"') if "{}" in method else f'{method} "%6.2" "kPa"'
    layout, faults = taken(
        f'/begin COMPU_METHOD m "" {words} /end COMPU_METHOD', tab, value(method="m", low=-999, high=999)
    )
    assert faults == [] and layout.left_out == ()
    image = image_of(layout, a0=bytes([raw]))
    scalar = image["Maps"].scalar("V")
    assert scalar.value == pytest.approx(expected) and scalar.unit == "kPa"
    # Back into memory: the byte that was there.
    assert float(scalar.storing.raw(np.array(scalar.value))) == raw


@pytest.mark.parametrize(
    ("method", "message", "fault"),
    [
        ('RAT_FUNC "%1.0" "" COEFFS 1 2 3 0 0 1', "second degree", False),
        ('RAT_FUNC "%1.0" "" COEFFS 0 0 5 0 0 1', "factor is nothing", True),
        ('RAT_FUNC "%1.0" ""', "without its COEFFS", True),
        ('LINEAR "%1.0" "" COEFFS_LINEAR 0 1', "stores nothing", True),
        ('FORM "%1.0" "" /begin FORMULA "sin(X1)" /end FORMULA', "is not simple", False),
        ('FORM "%1.0" "" /begin FORMULA "X1*X1" /end FORMULA', "is not simple", False),
        ('FORM "%1.0" "" /begin FORMULA "__import__(1)" /end FORMULA', "is not simple", False),
        ('FORM "%1.0" "" /begin FORMULA "' + "(" * 250 + '" /end FORMULA', "is not simple", False),
        ('TAB_VERB "%1.0" "" COMPU_TAB_REF none', "there is no COMPU_VTAB none", True),
        ('NOVEL "%1.0" ""', "no kind of conversion", True),
    ],
)
def test_conversions_that_cannot_be_used_leave_their_entries_out(taken, method, message, fault):
    layout, faults = taken(f'/begin COMPU_METHOD m "" {method} /end COMPU_METHOD', value(method="m"), value("W"))
    assert message in reason(layout, "V") and [e.key for e in layout.entries] == ["W"]
    assert bool(faults) is fault
    if fault:
        assert message in faults[0].sentence() and "line" in faults[0].sentence() and faults[0].remedy


def test_words_and_ranges_of_words(taken):
    layout, faults = taken(
        '/begin COMPU_METHOD a "" TAB_VERB "%1.0" "" COMPU_TAB_REF va /end COMPU_METHOD',
        '/begin COMPU_VTAB va "" TAB_VERB 2 0 "off" 1 "say ""on""" DEFAULT_VALUE "none" /end COMPU_VTAB',
        '/begin COMPU_METHOD b "" TAB_VERB "%1.0" "" COMPU_TAB_REF vb /end COMPU_METHOD',
        '/begin COMPU_VTAB_RANGE vb "" 2 0 9 "cold" 10 20 "warm" /end COMPU_VTAB_RANGE',
        value("A", method="a", high=1),
        value("B", method="b", high=20, address=BASE + 1),
    )
    image = image_of(layout, a0=b"\x01\x0c")
    assert faults == [] and image["Maps"].scalar("A").shown() == 'say "on"'
    assert image["Maps"].scalar("B").shown() == "warm"


# -- CHARACTERISTIC


def test_values_masks_texts_and_blocks(taken):
    layout, faults = taken(
        value(),
        value("BITS", address=BASE + 1, high=15, options="BIT_MASK 0xF0"),
        value("FIX", address=BASE + 2, options="READ_ONLY"),
        value("REAL", "F32", address=BASE + 4, low=-10, high=10, options='FORMAT "%8.4" PHYS_UNIT "bar"'),
        f'/begin CHARACTERISTIC NAME "" ASCII 0x{BASE + 16:X} U8 0 {NO} 0 255 NUMBER 6 /end CHARACTERISTIC',
        f'/begin CHARACTERISTIC BLK "" VAL_BLK 0x{BASE + 32:X} U16 0 {NO} 0 65535 NUMBER 3 /end CHARACTERISTIC',
        f'/begin CHARACTERISTIC BLK2 "" VAL_BLK 0x{BASE + 48:X} U8 0 {NO} 0 255 MATRIX_DIM 2 3 1 /end CHARACTERISTIC',
    )
    assert faults == [] and [e.kind for e in layout.entries] == ["value"] * 4 + ["text", "block", "block"]
    real = struct.pack(">f", 1.5)
    image = image_of(
        layout, a0=b"\x07\xa5\x09", a4=real, a16=b"FR-1\0\0", a32=b"\0\1\0\2\0\3", a48=bytes([1, 2, 3, 4, 5, 6])
    )
    assert [shown(image, k) for k in ("V", "BITS", "FIX", "REAL")] == [7.0, 10.0, 9.0, 1.5]
    assert image["Maps"].scalar("FIX").read_only and image["Maps"].scalar("REAL").decimals == 4
    assert image["Maps"].texts["NAME"].text == "FR-1"
    assert shown(image, "BLK").tolist() == [[1.0, 2.0, 3.0]]
    assert shown(image, "BLK2").tolist() == [[1.0, 2.0], [3.0, 4.0], [5.0, 6.0]]


def test_rows_and_columns(taken):
    layout, _ = taken(table("MAP", fix(3) + fix(2)), table("MAP", fix(3) + fix(2), "C", "U16", address=BASE + 16))
    image = image_of(layout, a0=bytes([1, 2, 3, 4, 5, 6]), a16=struct.pack(">6H", 1, 2, 3, 4, 5, 6))
    assert shown(image, "T").tolist() == [[1, 2, 3], [4, 5, 6]]  # ROW_DIR: x along a row
    assert shown(image, "C").tolist() == [[1, 3, 5], [2, 4, 6]]  # COLUMN_DIR


def test_a_cuboid_is_its_slices(taken):
    layout, faults = taken(table("CUBOID", fix(2) + fix(2) + fix(3, 10, 5), "Q"))
    image = image_of(layout, a0=bytes(range(12)))
    assert faults == [] and [e.key for e in layout.entries] == ["Q[0]", "Q[1]", "Q[2]"]
    assert shown(image, "Q[1]").tolist() == [[4, 5], [6, 7]]
    told = {e["key"]: e for e in document(layout, (), ())["entries"]}
    assert told["Q"]["kind"] == "cuboid" and told["Q"]["slices"] == ["Q[0]", "Q[1]", "Q[2]"]


# -- axes


def test_a_standard_axis_with_its_counts_in_memory(taken):
    record = """/begin RECORD_LAYOUT R
      NO_AXIS_PTS_X 1 UBYTE NO_AXIS_PTS_Y 2 UBYTE AXIS_PTS_X 3 UWORD INDEX_INCR DIRECT
      AXIS_PTS_Y 4 UBYTE INDEX_DECR DIRECT FNC_VALUES 5 SBYTE COLUMN_DIR DIRECT /end RECORD_LAYOUT"""
    speed = '/begin COMPU_METHOD n "" RAT_FUNC "%5.0" "1/min" COEFFS 0 4 0 0 0 1 /end COMPU_METHOD'
    nmot = '/begin MEASUREMENT nmot "Engine speed" UWORD n 1 0 0 8000 ECU_ADDRESS 0x10 /end MEASUREMENT'
    layout, faults = taken(record, speed, nmot, table("MAP", std("nmot", 8, "n") + std("rl", 8), record="R"))
    data = (
        bytes([2, 3]) + struct.pack(">2H", 4000, 8000) + bytes([30, 20, 10]) + struct.pack("6b", -1, -2, -3, 4, 5, 6)
    )
    image = image_of(layout, a0=data)
    made = image["Maps"].table("T")
    assert faults == [] and made.x.title == "Engine speed" and made.x.unit == "rpm"
    assert made.x.values.tolist() == [1000.0, 2000.0] and made.y.values.tolist() == [10.0, 20.0, 30.0]
    assert made.values.tolist() == [[-1, 4], [-2, 5], [-3, 6]]


def test_a_fixed_count_static_records_and_alignment(taken):
    record = """/begin RECORD_LAYOUT R FIX_NO_AXIS_PTS_X 3 AXIS_PTS_X 1 UBYTE INDEX_INCR DIRECT RESERVED 2 BYTE
      ALIGNMENT_WORD 4 FNC_VALUES 3 UWORD ROW_DIR DIRECT STATIC_RECORD_LAYOUT /end RECORD_LAYOUT"""
    layout, faults = taken(record, table("CURVE", std(n=9), record="R"))
    image = image_of(layout, a0=bytes([1, 2, 3, 0]) + struct.pack(">3H", 7, 8, 9))
    assert faults == [] and shown(image, "T").tolist() == [[7, 8, 9]]


def test_shared_fixed_listed_and_shifted_axes(taken):
    pts = f'/begin AXIS_PTS N "speed axis" 0x{BASE + 100:X} nmot AX 0 {NO} 4 0 255 /end AXIS_PTS'
    com = f"/begin AXIS_DESCR COM_AXIS nmot {NO} 4 0 255 AXIS_PTS_REF N /end AXIS_DESCR"
    listed = (
        f"/begin AXIS_DESCR FIX_AXIS NO_INPUT_QUANTITY {NO} 3 0 9 /begin FIX_AXIS_PAR_LIST 1 5 9 /end FIX_AXIS_PAR_LIST"
        " /end AXIS_DESCR"
    )
    shifted = f"/begin AXIS_DESCR FIX_AXIS NO_INPUT_QUANTITY {NO} 4 0 99 FIX_AXIS_PAR 10 3 4 /end AXIS_DESCR"
    layout, faults = taken(
        pts, table("CURVE", com, "A"), table("CURVE", com, "B", address=BASE + 8),
        table("CURVE", listed, "L", address=BASE + 16), table("CURVE", shifted, "S", address=BASE + 24),
    )  # fmt: skip
    image = image_of(layout, a100=bytes([10, 20, 30, 40]))
    assert faults == []
    x = {k: image["Maps"].table(k).x for k in "ABLS"}
    assert x["A"].values.tolist() == x["B"].values.tolist() == [10, 20, 30, 40] and x["A"].of == "N"
    assert x["L"].values.tolist() == [1, 5, 9] and x["S"].values.tolist() == [10, 18, 26, 34]


def test_an_axis_by_a_curve_and_by_rescaling(taken):
    by = f"/begin AXIS_DESCR CURVE_AXIS nmot {NO} 3 0 9 CURVE_AXIS_REF NORM /end AXIS_DESCR"
    rescale = """/begin RECORD_LAYOUT RS NO_RESCALE_X 1 UBYTE RESERVED 2 BYTE AXIS_RESCALE_X 3 UBYTE 5 INDEX_INCR DIRECT
      /end RECORD_LAYOUT"""
    pts = f'/begin AXIS_PTS P "" 0x{BASE + 200:X} nmot RS 0 {NO} 3 0 255 /end AXIS_PTS'
    res = f"/begin AXIS_DESCR RES_AXIS nmot {NO} 3 0 255 AXIS_PTS_REF P /end AXIS_DESCR"
    layout, faults = taken(
        rescale, pts, table("CURVE", fix(3, 0, 100), "NORM"), table("CURVE", by, "A", address=BASE + 16),
        table("CURVE", res, "R", address=BASE + 24),
    )  # fmt: skip
    image = image_of(layout, a0=bytes([0, 1, 2]), a200=bytes([2, 0, 0, 0, 100, 2]))
    assert faults == []
    assert image["Maps"].table("A").x.values.tolist() == [0, 100, 200]
    assert image["Maps"].table("R").x.values.tolist() == [0, 50, 100]


def test_axes_stored_as_differences(taken):
    record = """/begin RECORD_LAYOUT D AXIS_PTS_X 1 UBYTE INDEX_INCR DIRECT FNC_VALUES 2 UBYTE ROW_DIR DIRECT
      /end RECORD_LAYOUT"""
    layout, _ = taken(record, table("CURVE", std(n=3, options="DEPOSIT DIFFERENCE"), record="D"))
    assert image_of(layout, a0=bytes([10, 5, 5, 1, 2, 3]))["Maps"].table("T").x.values.tolist() == [10, 15, 20]


# -- what is left out, and why


@pytest.mark.parametrize(
    ("block", "message", "fault"),
    [
        (value(record="NONE"), "there is no RECORD_LAYOUT NONE", True),
        (value(method="none"), "there is no COMPU_METHOD none", True),
        (value(low=9, high=1), "lower limit 9 is above its upper limit 1", True),
        (value(options="ECU_ADDRESS_EXTENSION 1"), "another address space", False),
        (value(options="/begin VIRTUAL_CHARACTERISTIC \"X1\" A /end VIRTUAL_CHARACTERISTIC"), "lies in no memory", False),
        (value().replace("VALUE", "CUBE_5"), "type CUBE_5 are not read", False),
        (value().replace("0 NO_COMPU_METHOD 0 255", ""), "has 5 entries of at least 9", True),
        (table("MAP", fix(3)), "needs 2 AXIS_DESCR, it has 1", True),
        (table("CURVE", std()), "holds no axis x", True),
        (table("CURVE", fix(3).replace("FIX_AXIS_PAR_DIST 0 1 3", "")), "without its points", True),
        (table("CURVE", fix(3).replace("FIX_AXIS ", "ODD_AXIS ")), "no kind of axis", True),
        (
            table("CURVE", "/begin AXIS_DESCR COM_AXIS n NO_COMPU_METHOD 4 0 255 AXIS_PTS_REF Q /end AXIS_DESCR"),
            "no usable AXIS_PTS Q", True,
        ),
        (value().replace("VALUE", "ASCII"), "neither NUMBER nor MATRIX_DIM", True),
        (value(record="FAR"), "reached through an address", False),
        (value(record="U64"), "type A_UINT64 are not read", False),
        (table("MAP", fix(2) + fix(2), record="MIX"), "no row and no column", False),
        (value(options="BYTE_ORDER BIG_ENDIAN"), "meant both ways", True),
    ],
)  # fmt: skip
def test_every_characteristic_is_an_entry_or_left_out_with_its_reason(taken, block, message, fault):
    records = """/begin RECORD_LAYOUT FAR FNC_VALUES 1 UBYTE ROW_DIR PLONG /end RECORD_LAYOUT
      /begin RECORD_LAYOUT U64 FNC_VALUES 1 A_UINT64 ROW_DIR DIRECT /end RECORD_LAYOUT
      /begin RECORD_LAYOUT MIX FNC_VALUES 1 UBYTE ALTERNATE_WITH_X DIRECT /end RECORD_LAYOUT"""
    layout, faults = taken(records, block, value("GOOD", address=BASE + 64))
    assert [e.key for e in layout.entries] == ["GOOD"] and len(layout.left_out) == 1
    assert message in layout.left_out[0].reason and layout.left_out[0].line > 0
    assert bool(faults) is fault and all(f.remedy and f.line for f in faults)


def test_a_name_twice_overlaps_and_units(taken):
    method = '/begin COMPU_METHOD odd "" LINEAR "%1.1" "Furlong" COEFFS_LINEAR 2 0 /end COMPU_METHOD'
    layout, faults = taken(
        method, value("A", "U16"), value("A", address=BASE + 8), value("B", address=BASE + 1),
        value("C", method="odd", address=BASE + 20), value("D", method="odd", address=BASE + 21),
    )  # fmt: skip
    assert [e.key for e in layout.entries] == ["A", "B", "C", "D"] and reason(layout, "A") == "is there twice"
    said = [f.sentence() for f in faults]
    assert any("A and B overlap at 0x8001" in s for s in said)
    assert any("unit 'Furlong' is unknown, here and 1 times more" in s for s in said) and len(said) == 3


# -- the file


def test_groups_functions_measurements_and_identification(taken):
    par = f'/begin MOD_PAR "" VERSION "7" EPK "FR-20" ADDR_EPK 0x{BASE:X} /end MOD_PAR'
    layout, faults = taken(
        value("A", address=BASE + 8),
        value("B", address=BASE + 9),
        '/begin GROUP G "fuel" ROOT /begin REF_CHARACTERISTIC A none /end REF_CHARACTERISTIC'
        " /begin SUB_GROUP S /end SUB_GROUP /end GROUP",
        '/begin FUNCTION F "spark" /begin DEF_CHARACTERISTIC B /end DEF_CHARACTERISTIC /end FUNCTION',
        f'/begin MEASUREMENT m "boost" UWORD {NO} 1 0 -5 300 BIT_MASK 0xFF PHYS_UNIT "hPa" ECU_ADDRESS 0x20'
        " /end MEASUREMENT",
        par=par,
    )
    assert faults == [] and layout.version == "7" and layout.family == "Row, Unit"
    assert [(g.title, g.entries, g.groups, g.root) for g in layout.groups] == [
        ("G", ("A",), ("S",), True), ("F", ("B",), (), False),
    ]  # fmt: skip
    [m] = layout.measurements
    assert (m.key, m.title, m.unit, m.low, m.high, m.mask, m.address) == ("m", "boost", "mbar", -5.0, 300.0, 255, 32)
    assert layout.identification[0].text == "FR-20"
    bound, found, unknown = of_image(layout.changed(base=BASE, size=64), bytes(64), "x.hex")
    assert "EPK" in found[0].sentence() and unknown == ["the layout states no checksum"] and len(bound.entries) == 2


def test_comments_texts_and_free_blocks_hide_nothing(taken):
    layout, faults = taken(
        "/* /begin CHARACTERISTIC X */ // /begin CHARACTERISTIC Y",
        '/begin A2ML block "IF_DATA" taggedunion { "X" struct { uint; }; }; /begin /* odd */ /end A2ML',
        value(options='/begin ANNOTATION ANNOTATION_LABEL "say /begin \\"x\\" /end" /end ANNOTATION'
              " /begin IF_DATA Q /begin R 1 2 /end R \"/end\" /end IF_DATA"),
    )  # fmt: skip
    assert faults == [] and [e.key for e in layout.entries] == ["V"]


def test_includes_are_read_from_beside_the_file(tmp_path):
    (tmp_path / "part.a2l").write_text(value("INNER", address=BASE + 4) + "\n" + value("BAD", record="NONE"))
    (tmp_path / "order.inc").write_text("BYTE_ORDER MSB_FIRST")
    path = tmp_path / "unit.a2l"
    common = '/begin MOD_COMMON "" /include "order.inc" /end MOD_COMMON'
    path.write_text(text_of('/include "part.a2l"', value(), common=common))
    layout, faults = read_asap2(path)
    assert {e.key for e in layout.entries} == {"V", "INNER"} and layout.byte_order == "big"
    assert [f.line for f in faults] == [2]
    for text, message in (
        ('/include "unit.a2l"', "without end"),
        ('/include "../elsewhere.a2l"', "lies elsewhere"),
        ('/include "/etc/hostname"', "lies elsewhere"),
        ('/include "none.a2l"', "is not there"),
    ):
        path.write_text(text_of(text))
        with pytest.raises(FormatError, match=message):
            read_asap2(path)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_old_encodings(tmp_path, encoding):
    path = tmp_path / "unit.a2l"
    method = '/begin COMPU_METHOD m "Zündwinkel" LINEAR "%1.1" "°KW" COEFFS_LINEAR 0.75 0 /end COMPU_METHOD'
    path.write_bytes(text_of(method, value(method="m")).encode(encoding))
    layout, faults = read_description(path)
    assert faults == [] and layout.entries[0].unit == "deg" and kind_of_file(path) == "description"


@pytest.mark.parametrize(
    ("text", "message"),
    [
        (text_of(version="ASAP2_VERSION 2 0"), "version 2.0 of the standard"),
        (text_of(version="ASAP2_VERSION x"), "that is none"),
        ("ASAP2_VERSION 1 61 /begin PROJECT P \"\" /end PROJECT", "holds no MODULE"),
        (text_of()[:-20], "has no end"),
        (text_of().replace("/end MODULE", "/end MODUL"), "line 13: /end MODUL where MODULE is open"),
        (text_of(common='/begin MOD_COMMON "" BYTE_ORDER MSB_MIDDLE /end MOD_COMMON'), "byte order MSB_MIDDLE"),
        (text_of("/begin IF_DATA x"), "IF_DATA has no end"),
        ("/begin A x " * 60, "without end"),
        ("", "holds no MODULE"),
    ],
)  # fmt: skip
def test_what_is_no_description_is_said_with_its_place(tmp_path, text, message):
    path = tmp_path / "unit.a2l"
    path.write_text(text)
    with pytest.raises(FormatError, match=message) as caught:
        read_asap2(path)
    assert caught.value.remedy and "unit.a2l" in caught.value.concerns


@pytest.mark.parametrize("word", ["BIG_ENDIAN", "LITTLE_ENDIAN"])
@pytest.mark.parametrize("order", ["big", "little"])
def test_a_byte_order_in_a_word_that_is_meant_both_ways_is_told_by_the_axes(tmp_path, word, order):
    record = """/begin RECORD_LAYOUT R AXIS_PTS_X 1 UWORD INDEX_INCR DIRECT FNC_VALUES 2 UWORD ROW_DIR DIRECT
      /end RECORD_LAYOUT"""
    common = f'/begin MOD_COMMON "" BYTE_ORDER {word} /end MOD_COMMON'
    curves = [table("CURVE", std(n=4), f"T{n}", "R", address=BASE + 16 * n) for n in range(3)]
    path = tmp_path / "unit.a2l"
    path.write_text(text_of(record, *curves, common=common))
    layout, faults = read_description(path)
    assert "meant both ways" in faults[0].what and layout.order_doubted
    # 250, 260, 500, 1030: the bytes of it turned round do not rise.
    numbers = np.array([[250, 260, 500, 1030, 1, 2, 3, 4]] * 3, dtype=">u2" if order == "big" else "<u2")
    write_image(tmp_path / "a.hex", numbers.tobytes(), "hex", BASE)
    taken = under(layout, faults, read_image(tmp_path / "a.hex"))
    assert taken.layout.byte_order == order and taken.faults == () and len(taken.layout.entries) == 3
    write_image(tmp_path / "b.hex", bytes(48), "hex", BASE)
    with pytest.raises(YarvicError, match="none of the 3 entries"):
        under(layout, faults, read_image(tmp_path / "b.hex"))


@pytest.mark.parametrize(("version", "fault"), [("1 60", False), ("1 71", False), ("1 51", True), (None, True)])
def test_versions(taken, version, fault):
    _, faults = taken(value(), version=f"ASAP2_VERSION {version}" if version else "")
    assert bool(faults) is fault


def many(count, seed=0):
    """Characteristics of all kinds, one after the other in memory."""
    rng, at, found = random.Random(seed), BASE, []
    for n in range(count):
        kind = rng.choice(["VALUE", "CURVE", "MAP", "VAL_BLK", "NONE"])
        name = f"C{n}"
        if kind == "VALUE":
            found.append(value(name, address=at))
            at += 1
        elif kind == "VAL_BLK":
            found.append(f'/begin CHARACTERISTIC {name} "" VAL_BLK {at} U8 0 {NO} 0 255 NUMBER 4 /end CHARACTERISTIC')
            at += 4
        elif kind == "NONE":
            found.append(value(name, record="NOWHERE", address=at))
        else:
            found.append(table(kind, fix(4) + (fix(3) if kind == "MAP" else ""), name, address=at))
            at += 12 if kind == "MAP" else 4
    return found


def test_ten_thousand_entries_are_all_accounted_for(tmp_path):
    path = tmp_path / "big.a2l"
    path.write_text(text_of(*many(10_000)))
    layout, faults = read_asap2(path)
    keys = {e.key for e in layout.entries} | {x.key for x in layout.left_out}
    assert keys == {f"C{n}" for n in range(10_000)} and len(faults) == len(layout.left_out)
    assert parse_layout(layout.to_json()) == layout


def test_mutated_descriptions_are_read_or_refused(tmp_path):
    """Bytes flipped, pieces cut out and doubled: an answer or an error of ours, and nothing that nobody foresaw."""
    rng, path = random.Random(7), tmp_path / "m.a2l"
    good = text_of(*many(30), par='/begin MOD_PAR "" EPK "E" ADDR_EPK 0x8000 /end MOD_PAR').encode()
    before = len(DEFECTS)
    for _ in range(400):
        data = bytearray(good)
        for _ in range(rng.randint(1, 4)):
            a, b = sorted(rng.randrange(len(data)) for _ in range(2))
            b = min(b, a + 200)
            how = rng.randrange(4)
            if how == 0:
                data[a] = rng.randrange(256)
            elif how == 1:
                del data[a:b]
            elif how == 2:
                data[a:a] = data[a:b]
            else:
                data[a:b] = b" 0x7FFFFFFF -1 1e308 " if rng.random() < 0.5 else b'"'
        path.write_bytes(data)
        try:
            layout, _ = read_asap2(path)
            of_image(layout.changed(base=BASE, size=4096), bytes(4096), "x")
        except YarvicError as error:
            assert error.remedy
    assert len(DEFECTS) == before


# -- alignment that nobody states

CURVE_RECORD = """/begin RECORD_LAYOUT R NO_AXIS_PTS_X 1 UBYTE AXIS_PTS_X 2 UWORD INDEX_INCR DIRECT
  FNC_VALUES 3 UWORD ROW_DIR DIRECT /end RECORD_LAYOUT"""
X, VALUES = (1, 2, 3, 5, 8), (10, 20, 30, 40, 50)


def curve_bytes(gap):
    return bytes([5]) + bytes(gap) + struct.pack(">5H", *X) + struct.pack(">5H", *VALUES)


def test_types_lie_at_a_multiple_of_their_size_where_no_alignment_is_stated(taken):
    """The standard's default (from memory): a word behind a byte leaves a byte free."""
    layout, _ = taken(CURVE_RECORD, table("CURVE", std(n=5), record="R"))
    made = image_of(layout, a0=curve_bytes(1))["Maps"].table("T")
    assert made.x.values.tolist() == list(X) and made.values[0].tolist() == list(VALUES)
    record = layout.records["R"]
    assert record.align["u16"] == 2 and "u16" in record.assumed


@pytest.mark.parametrize("gap", [0, 1])
def test_the_image_decides_where_two_alignments_are_possible(taken, gap):
    """Three curves with axes that rise under one alignment alone."""
    curves = [table("CURVE", std(n=5), f"T{n}", address=BASE + 64 * n, record="R") for n in range(3)]
    layout, faults = taken(CURVE_RECORD, *curves)
    data = bytearray(4096)
    for n in range(3):
        axis = struct.pack(">5H", 256 * 3 + 200, 256 * 4 + 7, 256 * 5 + 250, 256 * 6 + 3, 256 * 7 + 100)
        whole = bytes([5]) + bytes(gap) + axis + struct.pack(">5H", *VALUES)
        data[64 * n : 64 * n + len(whole)] = whole
    found = under(layout, list(faults), ImageFile("x.bin", "binary", bytes(data), BASE, (), "0" * 64))
    assert found.layout.records["R"].align["u16"] == (2 if gap else 1)
    assert Image(found.layout, found.data)["Maps"].table("T1").x.values.tolist()[0] == 968
    assert not any("alignment" in f.what for f in found.faults)


def test_where_the_image_does_not_tell_the_alignment_it_is_said(taken):
    """Axes that rise under both: the default stays, with a fault that names what to state."""
    layout, faults = taken(CURVE_RECORD, table("CURVE", std(n=5), record="R"))
    data = curve_bytes(0) + bytes(4096 - 21)
    found = under(layout, list(faults), ImageFile("x.bin", "binary", data, BASE, (), "0" * 64))
    said = [f for f in found.faults if "states no alignment" in f.what]
    told = Image(found.layout, found.data)["Maps"].table("T").x.values.tolist() == list(X)
    assert told or said
    stated = CURVE_RECORD.replace("FNC_VALUES 3", "ALIGNMENT_WORD 1 FNC_VALUES 3")
    layout, _ = taken(stated, table("CURVE", std(n=5), record="R"))
    assert layout.records["R"].align["u16"] == 1 and "u16" not in layout.records["R"].assumed


# -- what hides: comments, ends inside texts, bounds without end


def test_comments_between_a_word_of_structure_and_its_keyword(taken):
    layout, faults = taken(
        "/begin /* the first */ // and more\n CHARACTERISTIC A \"\" VALUE 0x8000 U8 0 " + NO + " 0 255"
        " /end /* of it */ CHARACTERISTIC",
        value("B", address=BASE + 1),
    )  # fmt: skip
    assert faults == [] and [e.key for e in layout.entries] == ["A", "B"]


@pytest.mark.parametrize(
    "inside",
    [
        'X "says /end IF_DATA here" 1',
        'X "a /begin IF_DATA and /end IF_DATA" /* /end IF_DATA */',
        'X "five inches (5") wide',  # a quote without its other half hides nothing
    ],
)
def test_ends_inside_the_texts_of_a_free_block(taken, inside):
    layout, faults = taken(
        f"/begin IF_DATA {inside} /end IF_DATA", value("A"), value("B", address=BASE + 1),
        "/begin IF_DATA Z 1 /end IF_DATA", value("C", address=BASE + 2),
    )  # fmt: skip
    assert faults == [] and [e.key for e in layout.entries] == ["A", "B", "C"]


@pytest.mark.parametrize("end", ["1.7976931348623157e+308", "1.8E308", "9e999"])
def test_bounds_over_the_whole_range_of_doubles_are_none(taken, end):
    layout, faults = taken(
        f'/begin MEASUREMENT m "" FLOAT64_IEEE {NO} 0 0 -{end} {end} /end MEASUREMENT',
        value("A", "F32", low=f"-{end}", high=end),
    )
    assert faults == [] and layout.left_out == ()
    assert (layout.measurements[0].low, layout.measurements[0].high) == (None, None)
    assert (layout.by_key["A"].low, layout.by_key["A"].high) == (None, None)


@pytest.mark.parametrize(
    ("kind", "default", "expected"),
    [
        ("TAB_NOINTP", "", [10.0, np.nan, 30.0, np.nan]),
        ("TAB_NOINTP", "DEFAULT_VALUE_NUMERIC -1", [10.0, -1.0, 30.0, -1.0]),
        ("TAB_INTP", "", [10.0, 20.0, 30.0, 30.0]),
        ("TAB_INTP", "DEFAULT_VALUE_NUMERIC -1", [10.0, 20.0, 30.0, -1.0]),
    ],
)
def test_raw_numbers_that_a_table_of_pairs_does_not_hold(taken, kind, default, expected):
    layout, faults = taken(
        f'/begin COMPU_METHOD M "" {kind} "%5.1" "" COMPU_TAB_REF T /end COMPU_METHOD',
        f'/begin COMPU_TAB T "" {kind} 2 1 10 3 30 {default} /end COMPU_TAB',
        f'/begin CHARACTERISTIC V "" VAL_BLK 0x{BASE:X} U8 0 M -5 100 NUMBER 4 /end CHARACTERISTIC',
    )
    image = image_of(layout, a0=bytes([1, 2, 3, 9]))
    assert faults == []
    np.testing.assert_array_equal(image["Maps"].table("V").values.ravel(), expected)


# -- variants


CRITERION = '/begin VAR_CRITERION Gear "" Manual Auto VAR_MEASUREMENT S_GEAR /end VAR_CRITERION'


def coded(*characteristics, criterion=CRITERION):
    inner = "\n".join(f"/begin VAR_CHARACTERISTIC {c} /end VAR_CHARACTERISTIC" for c in characteristics)
    return f'/begin VARIANT_CODING VAR_SEPARATOR "." VAR_NAMING NUMERIC {criterion}\n{inner} /end VARIANT_CODING'


def test_each_variant_is_an_entry_of_its_own(taken):
    axis = f'/begin AXIS_PTS A "" 0x{BASE + 16:X} NO_INPUT_QUANTITY AX 0 {NO} 3 0 255 /end AXIS_PTS'
    curve = (
        f'/begin CHARACTERISTIC C "curve" CURVE 0x{BASE + 32:X} U8 0 {NO} 0 255'
        f" /begin AXIS_DESCR COM_AXIS NO_INPUT_QUANTITY {NO} 3 0 255 AXIS_PTS_REF A /end AXIS_DESCR"
        " /end CHARACTERISTIC"
    )
    layout, faults = taken(
        value("V"), value("W", address=BASE + 1), axis, curve,
        "/begin GROUP G \"\" /begin REF_CHARACTERISTIC V W /end REF_CHARACTERISTIC /end GROUP",
        coded(
            f"V Gear /begin VAR_ADDRESS 0x{BASE:X} 0x{BASE + 8:X} /end VAR_ADDRESS",
            f"C Gear /begin VAR_ADDRESS 0x{BASE + 32:X} 0x{BASE + 48:X} /end VAR_ADDRESS",
            f"A Gear /begin VAR_ADDRESS 0x{BASE + 16:X} 0x{BASE + 64:X} /end VAR_ADDRESS",
        ),
    )  # fmt: skip
    assert faults == [] and layout.left_out == ()
    assert [e.key for e in layout.entries] == ["V[0]", "V[1]", "W", "C[0]", "C[1]"]
    assert layout.by_key["V[1]"].title == "V, variant 2 of 2 (Gear: Auto)"
    assert layout.groups[0].entries == ("V[0]", "V[1]", "W")
    places = {
        "a0": b"\x07",
        "a8": b"\x09",
        "a16": b"\1\2\3",
        "a64": b"\4\5\6",
        "a32": b"\x0a\x0b\x0c",
        "a48": b"\x14\x15\x16",
    }
    image = image_of(layout, **places)
    assert image["Maps"].scalar("V[0]").value == 7.0 and image["Maps"].scalar("V[1]").value == 9.0
    second = image["Maps"].table("C[1]")
    np.testing.assert_array_equal(second.x.values, [4.0, 5.0, 6.0])
    np.testing.assert_array_equal(second.values.ravel(), [20.0, 21.0, 22.0])


def test_variants_that_cannot_be_told_are_said(taken):
    axis = f'/begin AXIS_PTS A "" 0x{BASE + 16:X} NO_INPUT_QUANTITY AX 0 {NO} 3 0 255 /end AXIS_PTS'
    curve = (
        f'/begin CHARACTERISTIC C "" CURVE 0x{BASE + 32:X} U8 0 {NO} 0 255'
        f" /begin AXIS_DESCR COM_AXIS NO_INPUT_QUANTITY {NO} 3 0 255 AXIS_PTS_REF A /end AXIS_DESCR"
        " /end CHARACTERISTIC"
    )
    body = '/begin VAR_CRITERION Body "" Van Bus Cab /end VAR_CRITERION'
    layout, faults = taken(
        value("V"), value("W", address=BASE + 1), value("Z", address=BASE + 2), axis, curve,
        coded(
            "V Gear",  # without addresses
            f"W Gear /begin VAR_ADDRESS 0x{BASE + 1:X} 0x{BASE + 8:X} 0x{BASE + 9:X} /end VAR_ADDRESS",
            f"Z Gear Body /begin VAR_ADDRESS 0x{BASE + 2:X} 0x{BASE + 10:X} /end VAR_ADDRESS",
            f"A Gear /begin VAR_ADDRESS 0x{BASE + 16:X} 0x{BASE + 64:X} /end VAR_ADDRESS",
            f"NOBODY Gear /begin VAR_ADDRESS 0x{BASE:X} 0x{BASE + 64:X} /end VAR_ADDRESS",
            criterion=CRITERION + body,
        ),
    )  # fmt: skip
    said = {f.about: f.what for f in faults}
    assert "addresses are not stated" in said["V"] and "3 addresses for the 2 variants" in said["W"]
    assert "no entry of its own" in said["NOBODY"]
    assert layout.by_key["Z[1]"].title == "Z, variant 2 of 2 (by Gear and Body)"
    [out] = layout.left_out
    assert out.key == "C" and "its axis A has 2 variants" in out.reason


# -- types and instances of 1.7


TYPES = f"""
/begin TYPEDEF_CHARACTERISTIC T_V "a value" VALUE U8 0 {NO} 0 200 /end TYPEDEF_CHARACTERISTIC
/begin TYPEDEF_AXIS T_A "an axis" NO_INPUT_QUANTITY AX 0 {NO} 3 0 255 /end TYPEDEF_AXIS
/begin TYPEDEF_CHARACTERISTIC T_C "a curve" CURVE U8 0 {NO} 0 255
  /begin AXIS_DESCR COM_AXIS NO_INPUT_QUANTITY {NO} 3 0 255 AXIS_PTS_REF THIS.axis /end AXIS_DESCR
/end TYPEDEF_CHARACTERISTIC
/begin TYPEDEF_MEASUREMENT T_M "" UBYTE {NO} 0 0 0 255 /end TYPEDEF_MEASUREMENT
/begin TYPEDEF_STRUCTURE T_S "" 0x20
  /begin STRUCTURE_COMPONENT gain T_V 0 /end STRUCTURE_COMPONENT
  /begin STRUCTURE_COMPONENT axis T_A 4 /end STRUCTURE_COMPONENT
  /begin STRUCTURE_COMPONENT curve T_C 8 /end STRUCTURE_COMPONENT
  /begin STRUCTURE_COMPONENT trims T_V 16 MATRIX_DIM 3 1 1 /end STRUCTURE_COMPONENT
  /begin STRUCTURE_COMPONENT odd T_NONE 20 /end STRUCTURE_COMPONENT
/end TYPEDEF_STRUCTURE
/begin TYPEDEF_STRUCTURE T_LOOP "" 4 /begin STRUCTURE_COMPONENT in T_LOOP 0 /end STRUCTURE_COMPONENT /end TYPEDEF_STRUCTURE
"""


def test_instances_of_types_are_the_entries_that_they_stand_for(taken):
    layout, faults = taken(
        TYPES, value("PLAIN", address=BASE + 200),
        f'/begin INSTANCE S "" T_S 0x{BASE:X} MATRIX_DIM 2 1 1 /end INSTANCE',
        f'/begin INSTANCE M "" T_M 0x{BASE + 240:X} /end INSTANCE',
        version="ASAP2_VERSION 1 71",
    )  # fmt: skip
    assert faults == []
    each = ("gain", "curve", "trims[0]", "trims[1]", "trims[2]")
    assert {e.key for e in layout.entries} == {"PLAIN", *(f"S[{n}].{k}" for n in (0, 1) for k in each)}
    assert {(x.key, x.reason) for x in layout.left_out} == {
        (f"S[{n}].odd", "there is no type T_NONE that is read here") for n in (0, 1)
    }
    assert [m.address for m in layout.measurements] == [BASE + 240]
    image = image_of(layout, a36=b"\1\2\3", a40=b"\x0a\x0b\x0c", a50=b"\x63")
    curve = image["Maps"].table("S[1].curve")
    np.testing.assert_array_equal(curve.x.values, [1.0, 2.0, 3.0])
    np.testing.assert_array_equal(curve.values.ravel(), [10.0, 11.0, 12.0])
    assert image["Maps"].scalar("S[1].trims[2]").value == 99.0 and image["Maps"].scalar("S[1].gain").high == 200.0


@pytest.mark.parametrize(
    ("instance", "message"),
    [
        ("T_LOOP 0x8000", "without end"),
        ("T_NONE 0x8000", "no type T_NONE"),
        ("T_V 0x8000 ADDRESS_TYPE PLONG", "reached through an address"),
        ("T_C 0x8000 MATRIX_DIM 4 1 1", "length is not stated"),
        ("T_S 0x8000 MATRIX_DIM 2 2 1 LAYOUT COLUMN_DIR", "lies in columns"),
        ("T_V 0x8000 /begin OVERWRITE I 0 LIMITS 0 1 /end OVERWRITE", "overwrites"),
        ("T_V zebra", "whole number"),
    ],
)
def test_instances_that_cannot_be_read_are_left_out_with_their_reason(taken, instance, message):
    layout, _ = taken(TYPES, value(), f'/begin INSTANCE I "" {instance} /end INSTANCE', version="ASAP2_VERSION 1 71")
    assert [e.key for e in layout.entries] == ["V"]
    assert any(message in x.reason and x.key.startswith("I") for x in layout.left_out)
