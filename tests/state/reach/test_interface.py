"""A unit on a bus of its own, in another process: looked at, read, written, and everything that may be wrong with it."""

import contextlib
import os
import shutil
import subprocess
import sys
import threading
import time
from pathlib import Path

import can
import pytest

from yarvic.bench.control_unit.facts import UnitFacts
from yarvic.bench.control_unit.process import new_unit, start_unit
from yarvic.bench.control_unit.server import Server
from yarvic.bench.vehicles import gearbox_image, layout_text
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.errors import LinkError
from yarvic.core.job.store import Job
from yarvic.core.link.buses import BusChoice, open_bus
from yarvic.core.link.sectors import SectorWriter
from yarvic.core.link.transport import TESTER, UNIT, IsoTp, TransportError
from yarvic.state.session import Session
from yarvic.state.settings import Settings
from yarvic.state.work import InlineRunner
from yarvic.state.write_conditions import write_conditions

CHANNEL = "shop"


@pytest.fixture
def unit(tmp_path, layout, stock, monkeypatch):
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path / "bus"))
    monkeypatch.setattr("yarvic.state.reach.interface.InterfaceReach.sleeps_s", 0.1)
    facts = UnitFacts(name="wagon unit", serial="W-7", codes=("P0300",), erase_s=0.0, write_s_kib=0.0)
    new_unit(tmp_path / "unit", layout, stock, facts)
    made = start_unit(tmp_path / "unit", CHANNEL)
    yield made
    made.kill()


@pytest.fixture
def session(small_job, tmp_path, unit, monkeypatch):
    made = Session(Settings(interface="virtual bus", channel=CHANNEL), InlineRunner())
    made.open_job(shutil.copy(small_job, tmp_path / "a.yarvic"))
    made.errors = []
    made.failed.connect(made.errors.append)
    made.link.choose_way("by interface")
    made.link.reach().place = tmp_path
    made.choose_working(made.job.revision("A1").id)
    yield made
    made.close_job()


def open_images(path):
    job = Job.open(path, read_only=True)
    try:
        return {r.name: job.image(r.image) for r in job.revisions() if r.image}
    finally:
        job.close()


def conditions(session):
    session.link.look()
    return {r.sentence: (r.severity, r.numbers) for r in write_conditions(session.link, session.working_revision())}


def test_a_unit_on_another_bus_is_read_and_written(session, unit):
    found = conditions(session)
    assert found["The unit is of the job's family"][1] == "ptarmigan-14, wagon unit W-7"
    assert session.link.reach().memory() is None and session.unit_holds() is None
    session.link.read()
    assert session.unit_holds().name == "Stock"
    bench = session.bench.unit.memory
    session.link.write()
    assert session.errors == []
    assert session.unit_holds().name == "A1" and unit.memory() == session.job.image(session.job.revision("A1").image)
    assert session.job.flashes()[-1].unit == "wagon unit W-7, by virtual bus shop"
    # The simulated vehicle's own unit is another one, also at the next start.
    assert session.bench.unit.memory == bench
    path = session.job.path
    session.close_job()
    session.open_job(path)
    assert session.bench.holds().name == "B1" and session.link.way.key == "by interface"


def test_what_moves_is_seen_and_a_unit_that_goes_is_said(session, unit):
    assert conditions(session)["1 fault code is stored"]
    unit.set(maintained=False, codes=())
    found = conditions(session)
    assert "No maintainer holds the battery" in found and "No fault code is stored" in found
    unit.kill()
    found = conditions(session)
    assert any("The unit cannot be asked: the unit does not answer" in k for k in found)
    session.link.write()
    assert "does not answer" in str(session.errors[-1])


def test_a_write_that_breaks_off_here_is_ended_here(session, unit, tmp_path, monkeypatch):
    whole = SectorWriter._sector

    def breaks(self, image, sector):
        raise LinkError("the cable is out", remedy="Plug it in.")

    monkeypatch.setattr(SectorWriter, "_sector", breaks)
    session.link.write()
    assert "broke off" in str(session.errors[-1])
    session.link.look()
    assert session.link.looked.standing.next == ("go on", "restore")
    assert not session.link.looked.now.state.whole
    # The simulated unit is not the one that waits.
    session.link.choose_way("simulated")
    assert session.link.reach().left_unfinished() is None
    session.link.choose_way("by interface")
    session.link.reach().place = tmp_path
    monkeypatch.setattr(SectorWriter, "_sector", whole)
    session.link.finish("go on")
    assert session.link.reach().left_unfinished() is None and session.unit_holds().name == "A1"


@pytest.mark.parametrize(
    ("interface", "channel", "words"),
    [
        ("no such interface", "can0", "no interface is called 'no such interface'"),
        ("socketcan", "can77", "the interface cannot be opened"),
        ("virtual bus", "../etc", "the interface cannot be opened"),
        ("virtual bus", "", "no channel is named"),
        ("virtual bus", "nobody", "the unit does not answer"),
    ],
)
def test_an_interface_that_is_not_there_is_said_with_its_remedy(session, interface, channel, words):
    session.link.choose_bus(interface, channel, long_frames=True)
    session.link.write()
    assert words in str(session.errors[-1]) and session.errors[-1].remedy
    assert any("cannot be asked" in k for k in conditions(session))


def test_another_tester_on_the_bus_bars_the_write(session, unit):
    stop = threading.Event()

    def talks():
        with open_bus(BusChoice(channel=CHANNEL)) as bus:
            while not stop.is_set():
                bus.send(can.Message(arbitration_id=0x7E1, data=[2, 0x3E, 0x80], is_extended_id=False))
                stop.wait(0.02)

    other = threading.Thread(target=talks)
    other.start()
    try:
        before = unit.memory()
        assert conditions(session)["Somebody else talks on the bus"][1].startswith("heard 0x7E1")
        session.link.write()
        assert "somebody else talks" in str(session.errors[-1]) and unit.memory() == before
    finally:
        stop.set()
        other.join()


def test_a_unit_of_another_family_and_one_that_talks_nonsense_are_said(session, unit, layout, tmp_path):
    unit.kill()
    other = layout.model_copy(update={"family": "somebody-else"})
    new_unit(tmp_path / "other", other, unit.memory(), UnitFacts(serial="W-8"))
    started = start_unit(tmp_path / "other", CHANNEL)
    try:
        assert conditions(session)["The unit is of another family"][1].startswith("somebody-else")
        session.link.write()
        assert "is of family 'somebody-else'" in str(session.errors[-1])
    finally:
        started.kill()
    stop = threading.Event()

    def babbles():
        with open_bus(BusChoice(channel=CHANNEL)) as bus:
            while not stop.is_set():
                frame = bus.recv(0.05)
                if frame is not None and frame.arbitration_id == TESTER:
                    bus.send(can.Message(arbitration_id=UNIT, data=[3, 0xAA, 1, 2, 0, 0, 0, 0], is_extended_id=False))

    other = threading.Thread(target=babbles)
    other.start()
    try:
        session.link.write()
        assert (
            "answers nonsense" in str(session.errors[-1])
            and "Check that nothing else talks" in session.errors[-1].remedy
        )
    finally:
        stop.set()
        other.join()


def test_a_pair_on_another_bus_is_written_both(session, unit, tmp_path):
    """The gearbox's unit is the second on the same bus."""
    made = gearbox_image("ptarmigan", "Box stock"), gearbox_image("ptarmigan", "Box 120", 1.2)
    layout = parse_layout(layout_text("ptarmigan_gearbox"))
    job = session.job
    job.pair(job.revisions()[0].id, layout, made[0], "Box stock", "Rowan Sedge")
    job.pair(job.revision("A1").id, layout, made[1], "Box 120", "Rowan Sedge")
    session.link.paired()
    for each in (session.link.reach(), session.link.reach().gearbox):
        each.place = tmp_path
    assert "The gearbox's unit does not answer" in conditions(session)
    new_unit(tmp_path / "box", layout, made[0], UnitFacts(serial="W-9", erase_s=0.0, write_s_kib=0.0))
    box = start_unit(tmp_path / "box", CHANNEL, 1)
    try:
        assert conditions(session)["The gearbox's unit takes its half"][1] == "Simulated unit W-9, Box 120"
        session.link.write()
        assert session.errors == []
        assert (unit.memory(), box.memory()) == (job.image(job.revision("A1").image), made[1])
        assert session.link.half_a_pair() == "" and session.link.reach().pair_left() == []
        assert [f.unit for f in job.flashes()[-2:]] == [
            "wagon unit W-7, by virtual bus shop", "Simulated unit W-9, by virtual bus shop",
        ]  # fmt: skip
    finally:
        box.kill()


@pytest.mark.parametrize(("late_s", "times"), [(0.0, 2), (0.02, 2), (1.3, 1), (0.1, 1)])
def test_a_unit_that_answers_late_or_twice_is_written_right_or_not_at_all(
    session, unit, layout, stock, tmp_path, late_s, times
):
    """One that is only slow is written; of one that cannot be understood it is said, and it stays as it was."""
    unit.kill()
    new_unit(tmp_path / "odd", layout, stock, UnitFacts(serial="W-7", erase_s=0.0, write_s_kib=0.0))
    stop = threading.Event()

    def answers():
        server = Server(tmp_path / "odd", layout)
        with open_bus(BusChoice(channel=CHANNEL)) as bus:
            line = IsoTp(bus, UNIT, TESTER, fd=True)
            while not stop.is_set():
                request = line.receive(0.05)
                if request is None:
                    continue
                with contextlib.suppress(TransportError):
                    for response in server.answer(request):
                        for _ in range(times):
                            time.sleep(late_s)
                            line.specific_send(response)
        server.close()

    odd = threading.Thread(target=answers)
    odd.start()
    try:
        session.link.write()
        held = (tmp_path / "odd" / "memory.bin").read_bytes()
        wanted = session.job.image(session.job.revision("A1").image)
        if session.errors:
            assert held == stock and session.errors[-1].remedy, session.errors
        else:
            assert held == wanted
        assert (late_s < 1.0 and times == 1) <= (not session.errors), session.errors
    finally:
        stop.set()
        odd.join()


@pytest.mark.parametrize("apart_s", [0.0])
def test_two_programs_never_write_one_unit_at_a_time(apart_s, small_job, tmp_path, unit):
    """The second is told, with nothing written; whoever wrote last is what the unit holds, whole."""
    unit.set(erase_s=2.0)
    started = []
    for name, revision in (("one", "A1"), ("other", "B1")):
        (tmp_path / name).mkdir()
        job = shutil.copy(small_job, tmp_path / name / "a.yarvic")
        started.append(subprocess.Popen(
            [sys.executable, "-m", "tests.state.reach.two_programs", str(job), str(tmp_path / name), CHANNEL, revision],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=Path(__file__).parents[3],
            env={**os.environ, "YARVIC_HOME": str(tmp_path / name / "home")},
        ))  # fmt: skip
    for each in started:
        assert each.stdout.readline() == "ready\n", each.stderr.read()
    for each in started:
        each.stdin.write("go\n")
        each.stdin.flush()
        time.sleep(apart_s)
    said = [each.communicate(timeout=120)[0].strip() for each in started]
    wrote = [n for n, words in enumerate(said) if words == "written"]
    assert wrote, said
    for n, words in enumerate(said):
        assert n in wrote or "another Yarvic window is using this bus" in words or "somebody else talks" in words, (
            said
        )
    held = open_images(small_job)
    assert unit.memory() in [held[("A1", "B1")[n]] for n in wrote]
