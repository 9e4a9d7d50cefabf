"""What was read back from a unit, byte by byte: what differs by name, what is left aside, and what is refused."""

import pytest

from yarvic.bench.vehicles import stock_image
from yarvic.core.calibration.image import Image, sealed
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import CalibrationError
from yarvic.core.link.by_file import blocks_aside, blocks_by_name, compare_read_back, items


def changed(data, *places):
    found = bytearray(data)
    for at in places:
        found[at] ^= 0xFF
    return bytes(found)


def with_spark(layout, stock, row=3):
    spark = layout.by_key["spark_advance"]
    at = layout.slot_offset("RON 95") + spark.address + row * 26
    return sealed(changed(stock, at, at + 1), layout, "A1"), at


def test_equal_is_said_with_what_was_left_aside(layout, stock):
    found = compare_read_back(layout, stock, stock, (), source="x")
    assert found.equal and (found.compared, found.aside) == (65536, 0)
    aside = layout.changed(volatile=((60_000, 60_100),), gaps=((61_000, 61_050),))
    found = compare_read_back(aside, stock, changed(stock, 60_000, 60_001, 61_000), (), source="x")
    assert found.equal and (found.compared, found.aside, found.aside_changed) == (65536 - 150, 150, 3)
    assert not compare_read_back(aside, stock, changed(stock, 59_999), (), source="x").equal


def test_what_differs_is_named_by_table_slot_and_checksum(layout, stock):
    written, at = with_spark(layout, stock)
    found = compare_read_back(layout, written, stock, (), source="x")
    names = [n for r in found.differs for n in r.names]
    assert "Spark advance, slot RON 95" in names and "checksum crc-32" in names and "name of the revision" in names
    assert any(r.start == at for r in found.differs) and not found.as_before
    nowhere = compare_read_back(layout, stock, changed(stock, 62_000), (), source="x")
    assert nowhere.differs[0].names == () and "no table (0xF230)" in nowhere.differs[0].sentence()


@pytest.mark.parametrize("half", [40, 5_000, 40_000, 65_535])
def test_a_write_that_stopped_is_known_by_what_lay_there_before(layout, stock, half):
    written, _ = with_spark(layout, stock)
    read = written[:half] + stock[half:]
    if read == written:
        return
    found = compare_read_back(layout, written, read, (stock,), source="x")
    assert not found.equal and found.as_before
    assert not compare_read_back(layout, written, changed(read, 62_000), (stock,), source="x").as_before


def test_another_unit_and_another_length_are_refused(layout, stock):
    with pytest.raises(CalibrationError, match="is 'wether-32', not 'ptarmigan-14'"):
        compare_read_back(layout, stock, stock.replace(b"ptarmigan-14", b"wether-32\0\0\0", 1), (), source="x")
    with pytest.raises(CalibrationError, match="too few"):
        compare_read_back(layout, stock, stock_image("fieldfare")[:100], (), source="x")


def test_blocks_are_named_and_those_aside_are_known():
    layout = Layout(
        family="f",
        byte_order="big",
        base=0x100,
        size=1000,
        block=256,
        volatile=((0x200, 0x300),),
        gaps=((0x400, 0x4E8),),
    )
    assert blocks_aside(layout) == {1, 3}  # the last block is shorter, and all of it is a gap
    one, other = Image(layout, bytes(1000)), Image(layout, changed(bytes(1000), 0, 300))
    assert blocks_by_name(layout, one.memory, other.memory) == {0: (), 1: ()}


def test_what_is_ticked_is_for_before_during_and_after():
    assert {i.when for i in items()} == {"before", "while", "after"} and len({i.key for i in items()}) == len(items())
