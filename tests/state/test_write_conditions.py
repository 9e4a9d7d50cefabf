"""What is looked at before a write, each with its value."""

from pathlib import Path

import pytest

from yarvic.core.checks.finding import PASS, STOP, WATCH
from yarvic.core.job.store import Job
from yarvic.core.link.unit import titled
from yarvic.core.link.vault import Vault
from yarvic.state.bench import BenchState
from yarvic.state.write_conditions import write_conditions


@pytest.fixture
def bench(demo_path, tmp_path):
    job = Job.open(Path(demo_path))
    made = BenchState(job)
    made.link.place = tmp_path
    yield made
    job.close()


def said(bench, name="A1"):
    job = bench.job
    return {r.sentence: (r.severity, r.numbers) for r in write_conditions(job, bench, job.revision(name))}


def test_a_healthy_unit_holds(bench):
    found = said(bench)
    assert [severity for severity, _ in found.values()] == [PASS] * 5
    assert found["Battery is on its maintainer, simulated"][1] == "13.4 V, at least 12.2 V"
    assert "is not in the vault yet" in found["What the unit holds is kept before it is erased"][1]
    assert found["Marks and checksums of A1 are right"][1] == "65,536 bytes"


def test_each_moves_with_what_it_looks_at(bench):
    bench.unit.voltage = 11.9
    bench.unit.codes = (titled("P0300"), titled("P0087"))
    kept = Vault(bench.link.vault_folder).put(
        bench.unit.memory, "read", serial=bench.unit.serial, family=bench.unit.layout.family
    )
    found = said(bench)
    assert found["Battery is too low to write"] == (STOP, "11.9 V, at least 12.2 V")
    assert found["2 fault codes are stored"][0] == WATCH and "P0300 misfire" in found["2 fault codes are stored"][1]
    assert kept.time[:10] in found["What the unit holds is kept before it is erased"][1]


def test_another_family_and_an_image_that_cannot_be_checked_are_said(bench, monkeypatch):
    layout = bench.job.layout
    unknown = layout.model_copy(update={"checksums": ()})
    monkeypatch.setattr(type(bench.job), "layout", property(lambda job: unknown))
    assert said(bench)["Not all of A1 can be checked"] == (WATCH, "the layout states no checksum")
    other = layout.model_copy(update={"family": "wether-32"})
    monkeypatch.setattr(type(bench.job), "layout", property(lambda job: other))
    assert said(bench)["The unit is of another family"] == (STOP, "ptarmigan-14, the job is of wether-32")
    broken = layout.model_copy(update={"base": 4})
    monkeypatch.setattr(type(bench.job), "layout", property(lambda job: broken))
    assert said(bench)["A1 is no image of this unit"][0] == STOP
