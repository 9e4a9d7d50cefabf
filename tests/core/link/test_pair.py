"""Two units that belong together: both or neither, wherever it breaks off."""

from random import Random

import pytest

from yarvic.bench.control_unit.facts import UnitFacts, read_facts, write_facts
from yarvic.bench.control_unit.loop import Clock, Loop
from yarvic.bench.control_unit.process import new_unit
from yarvic.bench.flash_campaign import LAYOUT, _image
from yarvic.core.errors import Cancelled, LinkError
from yarvic.core.link.diagnostics import Diagnostics
from yarvic.core.link.journal import JOURNALS, Journal, pair_of, unfinished
from yarvic.core.link.pair import Pair, finish_pair, write_pair
from yarvic.core.link.sectors import SectorWriter
from yarvic.core.link.sequence import Flashing
from yarvic.core.link.standing import standing_of
from yarvic.core.link.vault import Vault

HALVES = ("engine", "gearbox")
SECTORS = 8


class Bench:
    """Two units, each on a bus of its own, and one vault."""

    def __init__(self, folder):
        random = Random(9)
        self.folder, self.clock = folder, Clock()
        self.before = {h: _image(random) for h in HALVES}
        self.image = {h: _image(random) for h in HALVES}
        self.stop = lambda: False
        for h in HALVES:
            facts = UnitFacts(serial=h, sector=1024, block=512, erase_s=0.0)
            new_unit(folder / h, LAYOUT, self.before[h], facts)
        self.loops = {h: Loop(folder / h, LAYOUT, self.clock) for h in HALVES}

    def flashing(self, half):
        loop = self.loops[half]
        return Flashing(
            tester=Diagnostics(loop.tester_end, answer_s=0.05, **loop.settings), layout=LAYOUT,
            vault=Vault(self.folder / "vault"), cancelled=lambda: self.stop(), sleep=self.clock.sleep,
            clock=self.clock, comes_back_s=0.5, wait_s=1.0,
        )  # fmt: skip

    def pair(self):
        return Pair(*(self.flashing(h) for h in HALVES))

    def write(self):
        return write_pair(self.pair(), self.image["engine"], self.image["gearbox"], job="a.yarvic", revision="A1")

    def memory(self):
        return {h: (self.folder / h / "memory.bin").read_bytes() for h in HALVES}

    def left(self):
        folder = self.folder / "vault" / JOURNALS
        found = unfinished(folder)
        return pair_of(folder, found[-1]) if found else []


@pytest.fixture
def bench(tmp_path):
    made = Bench(tmp_path)
    yield made
    for loop in made.loops.values():
        loop.close()


def test_both_are_written_and_either_alone_where_the_other_holds_it_already(bench):
    engine, gearbox = bench.write()
    assert bench.memory() == bench.image and bench.left() == []
    assert len(engine.sectors) == len(gearbox.sectors) == SECTORS
    assert bench.write() == (None, None)
    bench.image["gearbox"] = bench.before["gearbox"]
    engine, gearbox = bench.write()
    assert engine is None and gearbox is not None and bench.memory() == bench.image
    bench.image["engine"] = bench.before["engine"]
    engine, gearbox = bench.write()
    assert engine is not None and gearbox is None and bench.memory() == bench.image


@pytest.mark.parametrize(("half", "facts", "words"), [
    ("gearbox", {"lock": "bench"}, "only on the bench"), ("engine", {"lock": "once"}, "is locked"),
    ("gearbox", {"maintained": False, "charge": 0.1, "extra_a": 20.0}, "supply is"),
])  # fmt: skip
def test_what_bars_the_one_leaves_the_other_alone(bench, half, facts, words):
    write_facts(bench.folder / half, read_facts(bench.folder / half).changed(**facts))
    with pytest.raises(LinkError, match=words):
        bench.write()
    assert bench.memory() == bench.before and bench.left() == []


@pytest.mark.parametrize("way", ["go on", "restore"])
@pytest.mark.parametrize("at", range(0, 2 * SECTORS + 2, 3))
def test_wherever_a_supply_gives_out_both_can_be_ended_alike(bench, at, way, monkeypatch):
    """`at`: the sector, counted over both, before which the unit that is being written goes out."""
    whole, done = SectorWriter._sector, []

    def breaks(self, image, sector):
        done.append(sector)
        if len(done) == at + 1:
            for loop in bench.loops.values():
                loop.power_off()
        whole(self, image, sector)

    monkeypatch.setattr(SectorWriter, "_sector", breaks)
    broken = False
    try:
        bench.write()
    except LinkError as error:
        broken = True
        assert "Do not drive" in error.remedy
    monkeypatch.undo()
    assert broken == (at < 2 * SECTORS)
    if not broken:
        return
    left = bench.left()
    assert [j.begun.half for j in left] == list(HALVES)
    assert standing_of(bench.pair(), left).next == ("bench",)
    for loop in bench.loops.values():
        loop.power_on()
    stands = standing_of(bench.pair(), left)
    assert stands.sentence.startswith("Half a pair") and way in stands.next
    finish_pair(bench.pair(), left, way)
    assert bench.memory() == (bench.image if way == "go on" else bench.before) and bench.left() == []
    assert all(loop.server.whole for loop in bench.loops.values())


@pytest.mark.parametrize("at", [3, SECTORS + 3])
def test_a_cancel_in_either_puts_both_back(bench, at, monkeypatch):
    whole, done = SectorWriter._sector, []

    def counts(self, image, sector):
        done.append(sector)
        whole(self, image, sector)

    monkeypatch.setattr(SectorWriter, "_sector", counts)
    bench.stop = lambda: len(done) >= at
    with pytest.raises(Cancelled):
        bench.write()
    assert bench.memory() == bench.before and bench.left() == []


def test_a_gearbox_that_is_gone_when_it_is_to_be_ended_is_said(bench, monkeypatch):
    def breaks(self, image, sector):
        raise LinkError("the cable is out", remedy="Plug it in.")

    monkeypatch.setattr(SectorWriter, "_sector", breaks)
    with pytest.raises(LinkError):
        bench.write()
    monkeypatch.undo()
    left = bench.left()
    with pytest.raises(LinkError, match="gearbox's unit cannot be reached"):
        finish_pair(Pair(bench.flashing("engine")), left, "go on")
    bench.loops["gearbox"].power_off()
    with pytest.raises(LinkError, match="does not answer"):
        finish_pair(bench.pair(), left, "go on")
    bench.loops["gearbox"].power_on()
    finish_pair(bench.pair(), [Journal.read(j.path) for j in left], "go on")
    assert bench.memory() == bench.image and bench.left() == []
