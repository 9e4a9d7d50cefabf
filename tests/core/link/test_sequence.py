"""Bringing an image into a unit: what is refused before anything changes, what is proven, what a break leaves."""

import os
import signal

import pytest

from yarvic.bench.control_unit.facts import UnitFacts, read_facts, write_facts
from yarvic.bench.control_unit.loop import Clock, Loop
from yarvic.bench.control_unit.process import new_unit
from yarvic.bench.control_unit.server import Server
from yarvic.bench.flash_campaign import LAYOUT, _few_differ, _image
from yarvic.core.calibration.image import image_id
from yarvic.core.errors import CalibrationError, Cancelled, LinkError
from yarvic.core.link.diagnostics import Diagnostics
from yarvic.core.link.journal import JOURNALS, Journal, unfinished
from yarvic.core.link.sectors import SectorWriter
from yarvic.core.link.sequence import KEY_OFF_S, BrokenOffError, Flashing
from yarvic.core.link.standing import standing
from yarvic.core.link.vault import Vault

SECTORS = 8


class Bench:
    """A unit, a vault, and what is reported."""

    def __init__(self, folder, random):
        self.folder = folder
        self.before, self.image = _image(random), _image(random)
        self.near = _few_differ(random, self.before)
        new_unit(
            folder / "unit", LAYOUT, self.before, UnitFacts(sector=1024, block=512, codes=("P0300",), erase_s=0.0)
        )
        self.clock = Clock()
        self.loop = Loop(folder / "unit", LAYOUT, self.clock)
        self.steps = []
        self.stop = lambda: False

    def flashing(self):
        return Flashing(
            tester=Diagnostics(self.loop.tester_end, **self.loop.settings),
            layout=LAYOUT, vault=Vault(self.folder / "vault"), report=self.steps.append,
            cancelled=lambda: self.stop(), sleep=self.clock.sleep, clock=self.clock,
        )  # fmt: skip

    def set(self, **values):
        write_facts(self.folder / "unit", read_facts(self.folder / "unit").changed(**values))

    @property
    def memory(self):
        return (self.folder / "unit" / "memory.bin").read_bytes()

    def journals(self):
        return unfinished(self.folder / "vault" / JOURNALS)

    def all_journals(self):
        return [Journal.read(p) for p in sorted((self.folder / "vault" / JOURNALS).glob("*"))]


@pytest.fixture
def bench(tmp_path):
    from random import Random

    made = Bench(tmp_path, Random(4))
    yield made
    made.loop.close()


def test_an_image_is_written_proven_and_kept(bench):
    begun = bench.clock.now
    done = bench.flashing().write(bench.image, job="buggy.yarvic", revision="A2", vehicle="Ptarmigan")
    assert bench.memory == bench.image
    assert (done.backup, done.image) == (image_id(bench.before), image_id(bench.image))
    assert done.sectors == tuple(range(SECTORS))
    assert done.codes_before == ("P0300",) and [c.code for c in done.codes_raised] == ["P0603"]
    assert read_facts(bench.folder / "unit").codes == ("P0300",)
    vault = Vault(bench.folder / "vault")
    assert vault.get(done.backup) == bench.before and vault.get(done.image) == bench.image
    assert [s.stock for s in vault.seen()] == [True, False] and vault.seen()[1].revision == "A2"
    (journal,) = bench.all_journals()
    assert journal.ended == "written" and journal.begun.job == "buggy.yarvic"
    assert bench.clock.now - begun >= KEY_OFF_S
    assert list(dict.fromkeys(s.phase for s in bench.steps)) == [
        "Identifying", "Reading", "Unlocking", "Writing", "Comparing", "Clearing codes", "Key off", "Starting",
    ]  # fmt: skip
    assert [s.done for s in bench.steps if s.phase == "Writing"] == list(range(1, SECTORS + 1))


def test_only_what_differs_is_written_and_that_by_which_it_is_known_last(bench):
    done = bench.flashing().write(bench.near)
    assert bench.memory == bench.near and 0 in done.sectors and len(done.sectors) < SECTORS
    written = [e.sector for e in bench.all_journals()[0].entries if e.step == "write" and e.when == "before"]
    assert written[-1] == 0 and sorted(written) == list(done.sectors)
    assert bench.all_journals()[0].entries[2].step == "erase"
    assert bench.flashing().write(bench.near) is None
    assert bench.flashing().write(bench.near, everything=True).sectors == tuple(range(SECTORS))


def test_time_left_goes_by_the_measured_rate(bench):
    bench.set(write_s_kib=0.5, speed=1.0)
    bench.flashing().write(bench.image)
    writing = [s for s in bench.steps if s.phase == "Writing"]
    assert writing[3].left_s == pytest.approx(4 * 0.5, rel=0.3)
    assert writing[-1].left_s == 0.0


@pytest.mark.parametrize(
    ("facts", "words"),
    [
        ({"engine_runs": True}, "engine runs"),
        ({"maintained": False, "charge": 0.1, "extra_a": 20.0}, "supply is"),
        ({"lock": "once"}, "is locked"),
        ({"lock": "bench"}, "only on the bench"),
    ],
)
def test_what_bars_a_write_is_said_before_anything_changes(bench, facts, words):
    bench.set(**facts)
    with pytest.raises(LinkError, match=words) as told:
        bench.flashing().write(bench.image)
    assert told.value.remedy and not isinstance(told.value, BrokenOffError)
    assert bench.memory == bench.before and bench.journals() == []


def test_images_and_units_that_do_not_fit_are_refused(bench, layout, stock):
    for image in (bench.image[:-1], b"", bench.image[:100] + b"x" + bench.image[101:], b"text" * 2048):
        with pytest.raises(CalibrationError):
            bench.flashing().write(image)
    other = bench.flashing()
    other.layout = LAYOUT.model_copy(update={"family": "another"})
    with pytest.raises(LinkError, match="of family 'campaign'"):
        other.write(bench.image)
    other.layout = LAYOUT.model_copy(update={"base": 0x9000, "checksums": (), "identification": ()})
    with pytest.raises(LinkError, match="memory has"):
        other.write(bench.image)
    assert bench.memory == bench.before and not (bench.folder / "vault" / JOURNALS).exists()


@pytest.mark.parametrize("after", [0, 3, 8, 16, 20, 22])
def test_cancelled_at_any_point_it_holds_what_it_held(bench, after):
    bench.stop = lambda: len(bench.steps) > after
    with pytest.raises(Cancelled):
        bench.flashing().write(bench.image)
    assert bench.memory == bench.before
    assert bench.journals() == []
    assert bench.loop.server.whole and not bench.loop.server.boot
    assert read_facts(bench.folder / "unit").codes == ("P0300",)


def test_a_listener_that_fails_breaks_no_write(bench):
    flashing = bench.flashing()
    flashing.report = lambda step: 1 / 0
    assert flashing.write(bench.image) is not None


def cut(bench, after):
    """The supply is taken away when so many sectors were written."""

    def report(step):
        if step.phase == "Writing" and step.done == after:
            bench.loop.power_off()

    flashing = bench.flashing()
    flashing.report = report
    with pytest.raises(BrokenOffError, match="broke off") as told:
        flashing.write(bench.image)
    assert "Do not drive" in told.value.remedy and "put the backup back" in told.value.remedy
    (journal,) = bench.journals()
    return journal


@pytest.mark.parametrize("way", ["go on", "restore"])
def test_after_a_cut_it_is_gone_on_with_or_put_back(bench, way):
    journal = cut(bench, 3)
    assert standing(bench.flashing(), journal).next == ("bench",)
    bench.loop.power_on()
    assert bench.loop.server.boot
    found = standing(bench.flashing(), journal)
    assert found.next == ("go on", "restore") and "half written" in found.sentence
    flashing = bench.flashing()
    done = flashing.go_on(journal) if way == "go on" else flashing.restore(journal)
    assert bench.memory == (bench.image if way == "go on" else bench.before)
    assert bench.journals() == [] and not bench.loop.server.boot
    # What three sectors hold already is not written again.
    assert len(done.sectors) < SECTORS or way == "restore"
    assert read_facts(bench.folder / "unit").codes == ("P0300",)


def test_another_unit_is_not_taken_for_the_one_that_was_being_written(bench):
    journal = cut(bench, 2)
    bench.set(serial="YR-SIM-77")
    bench.loop.power_on()
    half = bench.memory
    assert standing(bench.flashing(), journal).next == ("that unit",)
    with pytest.raises(LinkError, match="is not YR-SIM-01"):
        bench.flashing().go_on(journal)
    assert bench.memory == half and len(bench.journals()) == 1


def test_where_the_backup_is_damaged_only_going_on_is_offered(bench):
    journal = cut(bench, 2)
    bench.loop.power_on()
    path = bench.folder / "vault" / "images" / f"{journal.begun.backup}.bin"
    path.write_bytes(b"\0" + path.read_bytes()[1:])
    assert standing(bench.flashing(), journal).next == ("go on",)
    with pytest.raises(LinkError, match="damaged"):
        bench.flashing().restore(journal)
    (bench.folder / "vault" / "images" / f"{journal.begun.image}.bin").unlink()
    assert standing(bench.flashing(), journal).next == ("bench",)


def test_a_unit_that_does_not_write_is_caught_and_one_that_lies_too(bench):
    bench.set(misbehaves=["no_write"])
    with pytest.raises(BrokenOffError, match="does not keep"):
        bench.flashing().write(bench.image)
    bench.set(misbehaves=[])
    bench.flashing().restore(bench.journals()[0])
    bench.set(misbehaves=["no_write", "false_read"])
    bench.loop.power_on()
    flashing = bench.flashing()
    # Even where the sum of each sector is not asked for, the last proof sees it.
    flashing._sector = lambda image, sector: [
        list(flashing.tester.download(flashing._range(sector)[0], flashing._part(image, sector)))
    ]
    with pytest.raises(BrokenOffError, match="other bytes than it sums up"):
        flashing.write(bench.image)
    assert bench.memory == bench.before


def test_what_the_unit_changes_itself_is_no_difference(bench):
    loose = LAYOUT.model_copy(update={"volatile": ((0x8000 + 4096, 0x8000 + 4112),), "checksums": ()})
    flashing = bench.flashing()
    flashing.layout = bench.loop.server.layout = loose
    changed = bytearray(bench.before)
    changed[4096:4112] = bytes(16)
    assert flashing.write(bytes(changed)) is None
    changed[5000] ^= 0xFF
    assert flashing.write(bytes(changed)).sectors == (0, 4)
    # The sector was written whole, and what is not the image's in it is as the unit had it.
    assert bench.memory[4096:4112] == bench.before[4096:4112] and bench.memory[5000] == changed[5000]


def test_killed_for_real_in_the_middle_the_next_start_knows(bench):
    """SIGKILL to the tester's own process; the unit and the vault are what it left on the disk."""
    child = os.fork()
    if child == 0:
        try:
            flashing = bench.flashing()
            flashing.report = lambda step: (
                step.phase == "Writing" and step.done == 4 and os.kill(os.getpid(), signal.SIGKILL)
            )
            flashing.write(bench.image)
        finally:
            os._exit(1)
    assert os.WIFSIGNALED(os.waitpid(child, 0)[1])
    bench.loop.power_on()
    (journal,) = bench.journals()
    assert len([e for e in journal.entries if e.step == "write" and e.when == "after"]) == 4
    assert standing(bench.flashing(), journal).next == ("go on", "restore")
    bench.flashing().go_on(journal)
    assert bench.memory == bench.image and bench.journals() == []


def test_a_unit_that_is_programmed_on_the_bench_alone_is_ended_there(bench, monkeypatch):
    """Broken off on the bench, looked at in the vehicle: only the bench is offered, with its steps."""
    bench.set(lock="bench", on_bench=True)
    monkeypatch.setattr(SectorWriter, "_sector", lambda *a: (_ for _ in ()).throw(LinkError("out", remedy="In.")))
    with pytest.raises(BrokenOffError):
        bench.flashing().write(bench.image)
    monkeypatch.undo()
    (journal,) = bench.journals()
    bench.set(on_bench=False)
    stands = standing(bench.flashing(), journal)
    assert stands.next == ("bench",) and "on the bench" in " ".join(stands.steps)
    bench.set(on_bench=True)
    assert standing(bench.flashing(), journal).next == ("go on", "restore")
    bench.flashing().go_on(journal)
    assert bench.memory == bench.image


def test_a_lock_is_opened_once_and_for_good(bench):
    bench.set(lock="once")
    bench.flashing().open_lock()
    bench.flashing().write(bench.image)
    assert bench.memory == bench.image and read_facts(bench.folder / "unit").opened
    bench.set(lock="bench", opened=False)
    with pytest.raises(LinkError, match="on the bench"):
        bench.flashing().open_lock()
    bench.set(lock="once", engine_runs=True)
    with pytest.raises(LinkError, match="engine runs"):
        bench.flashing().open_lock()


# -- a unit that asks for patience, or is busy


class Endless(Server):
    """Takes its memory's new content and says that it needs more time, twenty times a second for five minutes."""

    service = 0x36

    def answer(self, request):
        if request[:1] == bytes([self.service]) and len(request) > 10:  # data to be written
            for _ in range(6000):
                self.sleep(0.05)
                yield bytes([0x7F, self.service, 0x78])
            return
        yield from super().answer(request)


class Busy(Server):
    """Answers every third request with busyRepeatRequest first."""

    count = 0

    def answer(self, request):
        self.count += 1
        if self.count % 3 == 0:
            yield bytes([0x7F, request[0], 0x21])
            return
        yield from super().answer(request)


def test_a_unit_that_asks_for_patience_without_end_is_given_up_on_and_recovered(bench):
    bench.loop.kind = Endless
    bench.loop.power_on()
    begun = bench.clock.now
    with pytest.raises(BrokenOffError, match="needs more time") as told:
        bench.flashing().write(bench.image)
    assert told.value.remedy and bench.clock.now - begun < 2000.0
    (journal,) = bench.journals()
    bench.loop.kind = Server
    bench.loop.power_on()
    bench.flashing().go_on(journal)
    assert bench.memory == bench.image and bench.journals() == []


def test_a_busy_unit_is_asked_again(bench):
    bench.loop.kind = Busy
    bench.loop.power_on()
    assert bench.flashing().write(bench.near).sectors
    assert bench.memory == bench.near
