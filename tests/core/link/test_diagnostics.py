"""The tester against the simulated unit in a process of its own, and against units that answer what they should not."""

import os
import signal
import threading
import time
import zlib
from random import Random

import can
import pytest
from udsoncan import TimeoutException

from yarvic.bench.control_unit.facts import UnitFacts
from yarvic.bench.control_unit.process import new_unit, start_unit
from yarvic.core.errors import LinkError
from yarvic.core.link.buses import BusChoice, open_bus
from yarvic.core.link.diagnostics import Diagnostics, NonsenseError, Refusal, SilenceError, refusals
from yarvic.core.link.identifiers import Did
from yarvic.core.link.transport import TESTER, UNIT, IsoTp, TransportError

QUICK = UnitFacts(codes=("P0300", "P0999"), speed=200.0)


@pytest.fixture(scope="module")
def bus(tmp_path_factory):
    before = os.environ.get("YARVIC_BUS")
    os.environ["YARVIC_BUS"] = str(tmp_path_factory.mktemp("b"))
    with open_bus(BusChoice(channel="d")) as opened:
        yield opened
    os.environ.pop("YARVIC_BUS")
    if before is not None:
        os.environ["YARVIC_BUS"] = before


@pytest.fixture(scope="module")
def unit(tmp_path_factory, bus, layout, stock):
    folder = tmp_path_factory.mktemp("unit")
    new_unit(folder, layout, stock, QUICK)
    started = start_unit(folder, "d")
    yield started
    started.kill()


@pytest.fixture
def tester(bus, unit):
    made = Diagnostics(bus)
    made.default_session()
    return made


def test_a_unit_says_who_it_is(tester, layout):
    assert tester.text(Did.FAMILY) == layout.family
    assert tester.text(Did.SOFTWARE_VERSION) == layout.version
    assert tester.text(Did.SYSTEM_NAME) == "Simulated unit"
    assert tester.text(Did.RUNNING) == "Stock"
    state, supply, memory = tester.state(), tester.supply(), tester.memory_map()
    assert (state.boot, state.whole, state.lock, state.engine_runs) == (False, True, "open", False)
    assert supply.maintained and supply.voltage_v == pytest.approx(13.4)
    assert (memory.base, memory.length, memory.sectors) == (layout.base, layout.length, layout.length // 4096)
    assert [(c.code, c.title) for c in tester.fault_codes()] == [
        ("P0300", "misfire, more than one cylinder"),
        ("P0999", "no text for this code"),
    ]
    with pytest.raises(ValueError, match="no text"):
        tester.text(Did.STATE)


def test_a_memory_is_read_written_and_proven(tester, unit, layout, stock):
    tester.extended_session()
    assert b"".join(tester.upload(layout.base, layout.length)) == stock
    tester.programming_session()
    tester.unlock_programming()
    new = stock[:8192][::-1]
    tester.erase(layout.base, 8192)
    done = list(tester.download(layout.base, new))
    assert done == [4096, 8192]
    assert b"".join(tester.upload(layout.base, 8192)) == new
    assert tester.checksum(layout.base, 8192) == zlib.crc32(new)
    assert tester.programming_dependencies() != 0
    tester.reset()
    assert (tester.state().boot, tester.text(Did.RUNNING)) == (True, "")
    tester.programming_session()
    tester.unlock_programming()
    tester.erase(layout.base, 8192)
    assert list(tester.download(layout.base, stock[:8192]))[-1] == 8192
    tester.tester_present()
    tester.reset()
    assert (tester.state().boot, tester.text(Did.RUNNING)) == (False, "Stock")
    assert "P0603" in [c.code for c in tester.fault_codes()]
    tester.clear_fault_codes()
    assert tester.fault_codes() == []
    assert unit.memory() == stock


def test_a_refusal_says_what_and_what_to_do(tester, layout):
    with pytest.raises(Refusal, match="the unit refused to erase") as told:
        tester.erase(layout.base, 4096)
    assert told.value.code == 0x7F and told.value.remedy
    tester.programming_session()
    with pytest.raises(Refusal, match="locked") as told:
        list(tester.download(layout.base, bytes(16)))
    assert told.value.code == 0x33 and "lock" in told.value.remedy
    with pytest.raises(Refusal, match="nothing there"):
        list(tester.upload(layout.base + layout.length, 16))


def test_a_locked_unit_is_opened_once(tester, unit):
    unit.set(lock="once")
    with pytest.raises(Refusal) as told:
        tester.programming_session()
    assert told.value.code == 0x22
    tester.extended_session()
    tester.open_lock()
    tester.programming_session()
    assert tester.state().opened
    unit.set(lock="open", opened=False)


def test_a_unit_without_supply_is_silent_and_stands_as_it_stood(tmp_path, bus, layout, stock):
    """Killed in the middle of a block: it comes up in boot mode and can be written again."""
    bus_here = open_bus(BusChoice(channel="cut"))
    new_unit(tmp_path, layout, stock, UnitFacts(write_s_kib=0.05, erase_s=0.0))
    unit = start_unit(tmp_path, "cut")
    tester = Diagnostics(bus_here, answer_s=0.3)
    tester.programming_session()
    tester.unlock_programming()
    tester.erase(layout.base, layout.length)
    begun = threading.Event()

    def cut():
        begun.wait()
        os.kill(unit.process.pid, signal.SIGKILL)

    threading.Thread(target=cut, daemon=True).start()
    with pytest.raises((SilenceError, TransportError)) as told:
        for count, _ in enumerate(tester.download(layout.base, stock), 1):
            if count == 2:
                begun.set()  # while the next block is on its way, however slow the machine is
    assert told.value.remedy
    unit.kill()
    held = unit.memory()
    assert held[:4096] == stock[:4096] and held != stock
    again = start_unit(tmp_path, "cut")
    again.set(write_s_kib=0.0)
    assert tester.state().boot
    tester.programming_session()
    tester.unlock_programming()
    tester.erase(layout.base, layout.length)
    list(tester.download(layout.base, stock))
    tester.reset()
    assert tester.text(Did.RUNNING) == "Stock"
    again.kill()
    bus_here.shutdown()


def test_a_unit_outlives_a_tester_that_was_killed(bus, unit, layout):
    """Half a transfer, then nobody: the next tester finds it in its session and begins anew."""
    child = os.fork()
    if child == 0:
        try:
            other = Diagnostics(open_bus(BusChoice(channel="d")))
            other.extended_session()
            next(other.upload(layout.base, layout.length))
            os.kill(os.getpid(), signal.SIGKILL)
        finally:
            os._exit(1)
    assert os.WIFSIGNALED(os.waitpid(child, 0)[1])
    tester = Diagnostics(bus)
    tester.extended_session()
    assert len(b"".join(tester.upload(layout.base, layout.length))) == layout.length


def test_no_unit_no_bus_no_folder(tmp_path, layout):
    with open_bus(BusChoice(channel="nobody")) as alone:
        with pytest.raises((SilenceError, TransportError)) as told:
            Diagnostics(alone, answer_s=0.05).state()
        assert "ignition" in told.value.remedy
    with pytest.raises(LinkError, match="does not come up"):
        start_unit(tmp_path / "none", "nobody")
    with pytest.raises(LinkError, match="bytes"):
        new_unit(tmp_path, layout, b"short")


class Odd:
    """A unit that gives scripted answers to whatever it is asked."""

    def __init__(self, *answers, late_s=0.0):
        self.channel = f"odd-{time.monotonic_ns()}"
        self.bus, self.far = (can.Bus(interface="virtual", channel=self.channel) for _ in range(2))
        self.asked = []

        def run():
            line = IsoTp(self.far, UNIT, TESTER, fd=True)
            for answer in answers:
                request = line.receive(0.5)
                if request is None:
                    return
                self.asked.append(request.hex())
                time.sleep(late_s)
                for one in answer if isinstance(answer, tuple) else (answer,):
                    if one:
                        line.specific_send(bytes.fromhex(one))

        self.thread = threading.Thread(target=run, daemon=True)
        self.thread.start()
        self.tester = Diagnostics(self.bus, answer_s=0.15)

    def gone(self):
        self.thread.join(5.0)
        self.bus.shutdown()
        self.far.shutdown()


@pytest.fixture
def scripted():
    """Makes units that answer as they are told."""
    made = []

    def make(*answers, late_s=0.0):
        made.append(Odd(*answers, late_s=late_s))
        return made[-1]

    yield make
    for one in made:
        one.gone()


@pytest.mark.parametrize("answer", ["FF", "00", "7F", "50 03", "62 F1 8C 41", "62", "62 FD 02 00", "7E 00"])
def test_nonsense_is_no_state(scripted, answer):
    odd = scripted(*[answer] * 3)
    with pytest.raises((NonsenseError, LinkError)) as told:
        odd.tester.state()
    assert told.value.remedy and not isinstance(told.value, Refusal)


def test_what_was_not_answered_is_asked_again(scripted):
    odd = scripted("", "62 FD 02 00 01 00 01 00")
    assert odd.tester.state().whole
    assert odd.asked == ["22fd02"] * 2


def test_an_answer_that_comes_twice_is_taken_once(scripted):
    odd = scripted(("62 FD 01 41", "62 FD 01 41"), "62 FD 02 00 01 00 01 00")
    assert odd.tester.text(Did.RUNNING) == "A"
    assert odd.tester.state().whole


def test_an_answer_that_comes_late_is_not_that_to_the_next_question(scripted):
    odd = scripted("62 FD 01 41", "62 FD 02 00 01 00 01 00", "62 FD 02 00 01 00 01 00", late_s=0.2)
    with pytest.raises(LinkError):
        odd.tester.ask("x", lambda: odd.tester.client.read_data_by_identifier([int(Did.RUNNING)]), attempts=1)
    time.sleep(0.1)
    odd.tester.client.config["p2_timeout"] = 1.0
    assert odd.tester.state().whole


def test_pending_is_waited_for(scripted):
    odd = scripted(("7F 22 78", "7F 22 78", "62 FD 01 41"))
    assert odd.tester.text(Did.RUNNING) == "A"


def test_a_wrong_key_is_not_tried_again(scripted):
    odd = scripted("67 01 01 02 03 04", "7F 27 35", "67 01 01 02 03 04")
    with pytest.raises(Refusal, match="key is wrong"):
        odd.tester.unlock_programming()
    assert len(odd.asked) == 2


def test_every_refusal_has_words_and_a_remedy(scripted):
    assert all(entry["what"] and entry["remedy"].endswith(".") for entry in refusals().values())
    odd = scripted("7F 22 55")
    with pytest.raises(Refusal, match="gives no reason"):
        odd.tester.state()


def test_whatever_a_unit_answers_is_an_answer_or_a_clear_error():
    """Random answers to every service, many of them beginning as a right one does."""
    rng, asked, kinds = Random(1), [b""], set()
    tester = Diagnostics(Silent(), answer_s=0.0)

    def answer(timeout=None):
        share, service = rng.random(), asked[0][0]
        if share < 0.1:
            raise TimeoutException("nothing")
        if share < 0.25:
            return bytes([0x7F, service, rng.randrange(256)]) + rng.randbytes(rng.choice((0, 0, 1)))
        if share < 0.3:
            return rng.randbytes(rng.randrange(8))
        return bytes([service + 0x40]) + asked[0][1 : 1 + rng.randrange(4)] + rng.randbytes(rng.randrange(12))

    tester.line.specific_send = lambda payload, timeout=None: asked.__setitem__(0, bytes(payload))
    tester.line.specific_wait_frame, tester.line.empty_rxqueue = answer, lambda: None
    calls = (
        tester.programming_session, tester.unlock_programming, tester.open_lock, tester.tester_present, tester.reset,
        tester.state, tester.supply, tester.memory_map, tester.fault_codes, tester.clear_fault_codes,
        lambda: tester.text(Did.FAMILY), lambda: tester.erase(0, 16), lambda: tester.checksum(0, 16),
        tester.programming_dependencies, lambda: list(tester.upload(0, 16)),
        lambda: list(tester.download(0, bytes(16))),
    )  # fmt: skip
    for _ in range(250):
        for call in calls:
            try:
                call()
                kinds.add("answered")
            except LinkError as error:
                assert error.remedy
                kinds.add(type(error).__name__)
    assert kinds >= {"answered", "Refusal", "NonsenseError"}


class Silent(can.BusABC):
    """A bus on which nobody is."""

    channel_info = "nobody"

    def __init__(self):
        super().__init__("nobody")

    def send(self, msg, timeout=None):
        pass

    def _recv_internal(self, timeout):
        return None, False
