"""A gearbox with a unit of its own: written with the engine's or not at all, half a pair said everywhere."""

import shutil
from pathlib import Path

import pytest

from yarvic.bench.vehicles import gearbox_image, layout_text
from yarvic.core.calibration.image import image_id
from yarvic.core.checks.finding import STOP
from yarvic.core.errors import LinkError
from yarvic.core.link.sectors import SectorWriter
from yarvic.state.pairing import pair_image, paired_in_words
from yarvic.state.readings import readings
from yarvic.state.release import gate_conditions
from yarvic.state.session import Session
from yarvic.state.settings import Settings
from yarvic.state.work import InlineRunner


@pytest.fixture
def files(tmp_path):
    layout = tmp_path / "box.toml"
    layout.write_text(layout_text("ptarmigan_gearbox"), "utf-8")
    found = [layout]
    for name, share in (("Box stock", 1.0), ("Box 120", 1.2)):
        path = tmp_path / f"{name}.bin"
        path.write_bytes(gearbox_image("ptarmigan", name, share))
        found.append(path)
    return found


@pytest.fixture
def session(small_job, tmp_path):
    made = opened(shutil.copy(small_job, tmp_path / "a.yarvic"), tmp_path)
    yield made
    made.close_job()


def opened(path, place):
    made = Session(Settings(author="Rowan Sedge"), InlineRunner())
    made.open_job(Path(path))
    made.errors = []
    made.failed.connect(made.errors.append)
    quick(made, place)
    return made


def quick(session, place):
    bench = session.bench
    for link, unit in ((bench.link, bench.unit), (bench.link.gearbox, bench.gearbox)):
        if link is not None:
            link.place, unit.seconds_per_block = place, 0.0


def pair(session, files, tmp_path):
    """Stock goes with what the gearbox came with, A1 with more."""
    layout, stock, more = files
    choose(session, "A1")
    pair_image(session, stock, layout, name="Rowan Sedge")
    choose(session, "A1")
    pair_image(session, more, name="Rowan Sedge")
    quick(session, tmp_path)


def choose(session, name):
    session.choose_working(session.job.revision(name).id)


def test_the_first_image_is_what_it_came_with_and_later_ones_go_with_a_revision(session, files, tmp_path):
    _, stock, _ = files
    choose(session, "A1")
    with pytest.raises(Exception, match="description"):
        pair_image(session, stock, name="Rowan Sedge")
    pair(session, files, tmp_path)
    job = session.job
    titles = {name: job.pairing_of(job.revision(name).id).title for name in ("Stock", "A1", "B1")}
    assert titles == {"Stock": "Box stock", "A1": "Box 120", "B1": "Box 120"}
    assert "A1 goes with Box 120" in paired_in_words(session)
    assert image_id(session.bench.gearbox.memory) == job.pairings()[0].image
    # Another unit's image, and the engine's own, are none.
    wrong = tmp_path / "wrong.bin"
    wrong.write_bytes(session.bench.unit.memory)
    pair_image(session, wrong, name="Rowan Sedge")
    assert session.errors and len(job.pairings()) == 2


def test_half_a_pair_is_said_everywhere_until_both_are_written(session, files, tmp_path):
    pair(session, files, tmp_path)
    # B1 lies in the engine's unit since before; the gearbox has what it came with.
    choose(session, "B1")
    half = session.link.half_a_pair()
    assert half == "the engine's unit holds B1, the gearbox's holds Box stock, not Box 120"
    for step in ("job", "plan", "maps", "flash", "dyno", "logs", "checks", "release"):
        assert any(r.sentence == "Half a pair" and r.severity == STOP for r in readings(session, step)), step
    assert {c.key: c.severity for c in gate_conditions(session)}["pair"] == STOP
    session.pull(1)
    assert "half a pair" in str(session.errors[-1])
    session.link.write()
    assert session.link.half_a_pair() == "" and image_id(session.bench.gearbox.memory) == image_id(
        files[2].read_bytes()
    )
    assert not any(r.sentence == "Half a pair" for r in readings(session, "logs"))
    assert {c.key: c.severity for c in gate_conditions(session)}["pair"] == "pass"
    # Both halves again at the next start, and each other revision takes its own.
    path = session.job.path
    session.close_job()
    session.open_job(path)
    quick(session, tmp_path)
    assert session.link.half_a_pair() == "" and session.bench.holds().name == "B1"
    choose(session, "Stock")
    session.link.write()
    assert session.bench.holds().name == "Stock" and session.link.half_a_pair() == ""
    assert image_id(session.bench.gearbox.memory) == image_id(files[1].read_bytes())


def test_what_nobody_can_tell_does_not_pass_the_gate(session, files, tmp_path):
    """By file nobody asks the gearbox's unit: until it was written over a link, that is no data."""
    pair(session, files, tmp_path)
    choose(session, "A1")
    session.link.choose_way("by file")
    found = {c.key: c for c in gate_conditions(session)}["pair"]
    assert found.severity == "no_data" and found.may_waive
    session.link.choose_way("simulated")
    session.link.write()
    session.link.choose_way("by file")
    assert {c.key: c.severity for c in gate_conditions(session)}["pair"] == "pass"


@pytest.mark.parametrize("way", ["go on", "restore"])
def test_a_pair_that_broke_off_is_found_by_the_next_start_and_ended_alike(session, files, tmp_path, monkeypatch, way):
    pair(session, files, tmp_path)
    choose(session, "B1")
    session.link.write()
    whole, done = SectorWriter._sector, []

    def breaks(self, image, sector):
        done.append(sector)
        if self.layout.family == session.job.layout.family and len(done) > 3:
            raise LinkError("the cable is out", remedy="Plug it in.")
        whole(self, image, sector)

    monkeypatch.setattr(SectorWriter, "_sector", breaks)
    choose(session, "Stock")
    session.link.write()
    assert "broke off" in str(session.errors[-1])
    monkeypatch.undo()
    # The gearbox has its half, the engine has not: that outlives the program.
    path = session.job.path
    session.close_job()
    monkeypatch.setattr("yarvic.state.reach.simulated.home", lambda: tmp_path)
    monkeypatch.setattr("yarvic.state.reach.door.home", lambda: tmp_path)
    session.errors.clear()
    session.open_job(path)
    quick(session, tmp_path)
    assert any("broken off" in str(e) for e in session.errors)
    assert image_id(session.bench.gearbox.memory) == image_id(files[1].read_bytes())
    session.link.look()
    assert session.link.looked.standing.sentence.startswith("Half a pair")
    session.link.finish(way)
    held = session.bench.holds().name
    assert held == ("Stock" if way == "go on" else "B1") and session.link.half_a_pair() == ""
    assert session.link.reach().pair_left() == []
    session.close_job()
    session.open_job(path)
    assert session.bench.holds().name == held and session.link.half_a_pair() == ""
