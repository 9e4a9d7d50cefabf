"""The simulated unit on its bus: what its memory holds goes out and comes back, whatever ends the program meanwhile."""

import os
import signal

import pytest

from yarvic.bench.unit import SimulatedUnit
from yarvic.bench.vehicles import stock_calibrations, stock_image
from yarvic.core.calibration.image import pack
from yarvic.core.errors import Cancelled, LinkError
from yarvic.core.link.sectors import SectorWriter
from yarvic.core.link.sequence import BrokenOffError
from yarvic.core.link.vault import Vault
from yarvic.state.reach.simulated import UnitLink


@pytest.fixture
def other(layout):
    """Another in every block."""
    base = stock_image("ptarmigan")[: layout.block] + bytes(layout.length - layout.block)
    return pack(stock_calibrations(layout), layout, "other", base)


@pytest.fixture
def link(tmp_path, layout, stock):
    made = UnitLink(tmp_path / "a.yarvic", SimulatedUnit(layout, stock))
    made.place = tmp_path / "home"
    return made


def again(link, layout, stock):
    """The same job after another start of the program."""
    made = UnitLink(link.folder, SimulatedUnit(layout, stock))
    made.job, made.place = link.job, link.place
    made.take_up()
    return made


def quiet(step):
    pass


def never():
    return False


@pytest.mark.parametrize("seconds", [0.0, 0.001])
def test_an_image_goes_over_the_bus_and_the_unit_holds_it(link, other, stock, seconds, monkeypatch, tmp_path):
    """In this process, or by a unit in its own."""
    monkeypatch.setattr("yarvic.state.reach.simulated.SLEEPS_S", 0.1)
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path / "bus"))
    link.unit.seconds_per_block = seconds
    link.unit.learned["long_trim"] = 0.1
    with link.talk(quiet, never) as flashing:
        done = flashing.write(other, job=link.job, revision="A1")
    assert link.unit.memory == other and link.unit.learned == {}
    assert not link.half_written and not link.folder.exists()
    assert not (tmp_path / "bus").exists() or list((tmp_path / "bus").iterdir()) == []
    vault = Vault(link.vault_folder)
    assert vault.get(done.backup) == stock and [s.stock for s in vault.seen()] == [True, False]


def test_a_refusal_changes_nothing_and_keeps_what_was_learnt(link, other, stock):
    link.unit.voltage = 11.4
    link.unit.learned["long_trim"] = 0.1
    with link.talk(quiet, never) as flashing, pytest.raises(LinkError, match=r"11\.4 V"):
        flashing.write(other)
    assert link.unit.memory == stock and link.unit.learned == {"long_trim": 0.1}
    link.unit.voltage = 13.4
    with pytest.raises(Cancelled), link.talk(quiet, lambda: True) as flashing:
        flashing.write(other)
    assert link.unit.memory == stock and not link.folder.exists()


def test_a_second_window_takes_nothing_away_from_a_write_that_begins(link, layout, stock, other):
    def opens(step):
        again(link, layout, stock)

    with link.talk(opens, never) as flashing:
        flashing.write(other, job=link.job)
    assert link.unit.memory == other


def test_a_disk_without_room_is_said_and_changes_nothing(link, stock, monkeypatch):
    def full(self, data):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("pathlib.Path.write_bytes", full)
    with pytest.raises(LinkError, match="No space left"), link.talk(quiet, never):
        pass
    for asks in (link.looking(), link.live(None)):
        with pytest.raises(LinkError, match="No space left"), asks:
            pass
    monkeypatch.undo()
    monkeypatch.setattr("yarvic.bench.control_unit.values.LiveValues.create", full)
    with pytest.raises(LinkError, match="No space left"), link.live(None):
        pass
    assert link.unit.memory == stock


def test_a_program_killed_in_the_middle_finds_the_unit_as_it_stood(link, layout, stock, other):
    child = os.fork()
    if child == 0:
        try:

            def dies(step):
                if step.phase == "Writing":
                    os.kill(os.getpid(), signal.SIGKILL)

            with link.talk(dies, never) as flashing:
                flashing.write(other, job=link.job, revision="A1", everything=True)
        finally:
            os._exit(1)
    assert os.WIFSIGNALED(os.waitpid(child, 0)[1])
    then = again(link, layout, stock)
    assert then.half_written and then.unit.memory not in (stock, other)
    with pytest.raises(LinkError, match="does not start"):
        then.unit.restart()
    # Of another job this is none of the business.
    elsewhere = UnitLink(link.folder / "b.yarvic", SimulatedUnit(layout, stock))
    elsewhere.place = link.place
    elsewhere.take_up()
    assert not elsewhere.half_written and elsewhere.unit.memory == stock
    journal = then.left_unfinished()
    assert journal.begun.revision == "A1"
    with then.talk(quiet, never) as flashing:
        flashing.go_on(journal)
    assert then.unit.memory == other and not then.half_written
    assert not again(link, layout, other).half_written


def test_a_write_that_breaks_off_twice_is_still_ended(link, layout, stock, other, monkeypatch):
    whole, done = SectorWriter._sector, []

    def breaks(self, image, sector):
        if len(done) % 3 == 2:
            raise LinkError("the cable is out", remedy="Plug it in.")
        done.append(sector)
        whole(self, image, sector)

    monkeypatch.setattr(SectorWriter, "_sector", breaks)
    with link.talk(quiet, never) as flashing, pytest.raises(BrokenOffError):
        flashing.write(other, job=link.job, everything=True)
    done.append(-1)
    then = again(link, layout, stock)
    with then.talk(quiet, never) as flashing, pytest.raises(BrokenOffError):
        flashing.restore(then.left_unfinished())
    assert then.half_written
    monkeypatch.setattr(SectorWriter, "_sector", whole)
    last = again(link, layout, stock)
    with last.talk(quiet, never) as flashing:
        flashing.restore(last.left_unfinished())
    assert last.unit.memory == stock and not last.half_written


def test_what_is_done_to_the_unit_while_it_is_written_reaches_it_and_a_battery_runs_down(link, other, stock):
    """Its maintainer falls off in mid-write: the unit sees it, and the battery has less in it afterwards."""
    link.unit.surround(charge=0.95)
    volts = []

    def falls_off(step):
        if step.phase == "Writing" and step.done == 2:
            link.unit.surround(maintained=False)
            link.around_changed()
        if step.supply_v is not None:
            volts.append(step.supply_v)

    with link.talk(falls_off, never) as flashing:
        flashing.write(other, everything=True)
        assert not flashing.tester.supply().maintained
    assert link.unit.memory == other and not link.unit.around.maintained
    assert 0.5 < link.unit.around.charge <= 0.95
