"""The flash sequence: what is written, what is refused, and what a cancel leaves."""

import numpy as np
import pytest

from yarvic.bench.unit import SimulatedUnit
from yarvic.bench.vehicles import stock_calibrations
from yarvic.core.calibration.cells import set_cells
from yarvic.core.calibration.image import image_id, pack
from yarvic.core.errors import CalibrationError, Cancelled, LinkError
from yarvic.core.link.flash import flash, read_memory


def never():
    return False


def quiet(step):
    pass


@pytest.fixture
def unit(layout, stock):
    return SimulatedUnit(layout, stock)


@pytest.fixture
def other(layout):
    """An image that differs in all tables' cells of one slot."""
    maps = stock_calibrations(layout)
    for key in ("spark_advance", "boost_target", "torque_limit"):
        table = maps["E30"].table(key)
        everything = np.ones(table.values.shape, dtype=bool)
        maps["E30"] = maps["E30"].with_table(set_cells(table, everything, table.low + 30.0))
    return pack(maps, layout, "other")


class Bad(SimulatedUnit):
    """A unit with a fault that tests choose."""

    breaks_at = None
    flips = None
    dead = False

    def write_block(self, index, data):
        if self.dead:
            raise LinkError("no answer")
        if self.breaks_at is not None and self.breaks_at == 0:
            self.breaks_at = None
            raise LinkError("the link broke")
        if self.breaks_at is not None:
            self.breaks_at -= 1
        if self.flips == index:
            self.flips = None
            data = bytes([data[0] ^ 1]) + data[1:]
        super().write_block(index, data)


def test_an_image_is_written_and_proven(unit, layout, stock, other):
    steps = []
    done = flash(unit, layout, other, steps.append, never)
    assert unit.memory == other
    assert done.backup == stock and done.image == image_id(other)
    assert unit.identify().running == "other"
    phases = [s.phase for s in steps]
    assert phases.index("Reading") < phases.index("Writing") < phases.index("Comparing")
    # Only what differs is written, the block of the header last.
    written = [s.block for s in steps if s.phase == "Writing"]
    assert written == list(done.written) and written[-1] == 0
    assert 1 < len(written) < layout.blocks


def test_the_same_image_writes_nothing(unit, layout, stock):
    assert flash(unit, layout, stock, quiet, never).written == ()


def test_the_wrong_unit_is_refused_before_anything(layout, stock, other):
    foreign = SimulatedUnit(layout.model_copy(update={"family": "wether-32"}), stock)
    with pytest.raises(LinkError, match="wether-32") as caught:
        flash(foreign, layout, other, quiet, never)
    assert "Nothing was written" in caught.value.remedy
    assert foreign.memory == stock


def test_a_weak_battery_is_refused(unit, layout, stock, other):
    unit.voltage = 11.9
    with pytest.raises(LinkError, match=r"11\.9 V"):
        flash(unit, layout, other, quiet, never)
    assert unit.memory == stock


def test_a_damaged_image_is_refused(unit, layout, stock, other):
    with pytest.raises(CalibrationError, match="checksum"):
        flash(unit, layout, other[:-1] + b"\0", quiet, never)
    assert unit.memory == stock


@pytest.mark.parametrize("after", range(0, 150, 13))
def test_a_cancel_leaves_the_old_memory(layout, stock, other, after):
    unit = SimulatedUnit(layout, stock)
    asked = iter(range(10_000))
    try:
        flash(unit, layout, other, quiet, lambda: next(asked) >= after)
    except Cancelled as error:
        assert error.remedy
        assert unit.memory == stock
        assert unit.identify().running == "Stock"
    else:
        assert unit.memory == other


@pytest.mark.parametrize("after", [0, 1, 3])
def test_a_link_that_breaks_once_puts_the_old_memory_back(layout, stock, other, after):
    unit = Bad(layout, stock)
    unit.breaks_at = after
    with pytest.raises(LinkError, match="broke"):
        flash(unit, layout, other, quiet, never)
    assert unit.memory == stock


def test_a_block_that_reads_back_otherwise_is_found(layout, stock, other):
    unit = Bad(layout, stock)
    unit.flips = 16
    changed = flash(SimulatedUnit(layout, stock), layout, other, quiet, never).written
    unit.flips = changed[0]
    with pytest.raises(LinkError, match="reads back"):
        flash(unit, layout, other, quiet, never)
    assert unit.memory == stock


def test_a_unit_that_dies_in_the_middle_says_so_and_can_be_flashed_again(layout, stock, other):
    unit = Bad(layout, stock)

    def die(step):
        if step.phase == "Writing" and step.done == 2:
            unit.dead = True

    with pytest.raises(LinkError, match="stopped answering") as caught:
        flash(unit, layout, other, die, never)
    assert "flash the parent revision again" in caught.value.remedy
    # The header was not written yet: the unit knows that its memory is not whole, and does not run it.
    assert unit.identify().running == "memory is not whole"
    with pytest.raises(LinkError, match="does not start"):
        unit.calibration("RON 95")
    unit.dead = False
    flash(unit, layout, stock, quiet, never)
    assert unit.memory == stock and unit.identify().running == "Stock"


def test_reading_can_be_cancelled(unit, layout):
    with pytest.raises(Cancelled, match="reading"):
        read_memory(unit, layout, quiet, lambda: True)


def test_the_unit_refuses_blocks_that_are_none(unit, layout):
    with pytest.raises(LinkError, match="no block"):
        unit.read_block(-1)
    with pytest.raises(LinkError, match="no block"):
        unit.write_block(layout.blocks, b"\0" * layout.block)
    with pytest.raises(LinkError, match="bytes"):
        unit.write_block(1, b"short")
