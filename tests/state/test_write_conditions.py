"""What is looked at before a write, each with its value."""

import pytest

from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.core.link.unit import titled
from yarvic.core.link.vault import Vault
from yarvic.state.link import Link
from yarvic.state.write_conditions import write_conditions


@pytest.fixture
def session(at_once):
    at_once.choose_working(at_once.job.revision("A1").id)
    return at_once


def said(session):
    revision = session.working_revision()
    session.link.look()
    session.link.look_through(revision)
    return {r.sentence: (r.severity, r.numbers) for r in write_conditions(session.link, revision)}


def test_a_healthy_unit_holds(session):
    before = write_conditions(session.link, session.working_revision())
    assert [r.severity for r in before if r.severity == NO_DATA] == [NO_DATA] * 2, (
        "nothing is known before it is looked at"
    )
    found = said(session)
    others = {k: v for k, v in found.items() if v[0] != PASS}
    assert set(others) == {"Readiness lets it be written", "The gearbox's unit is not written with it"}
    assert found["Battery is on its maintainer"][1] == "13.4 V, at least 12.2 V"
    assert (
        found["The engine is off"] and found["Nobody else talks on the bus"] and found["The unit takes programming"]
    )
    assert "is not in the vault yet" in found["What the unit holds is kept before it is erased"][1]
    assert found["Marks and checksums of A1 are right"][1] == "65,536 bytes"
    assert found["A1 lies within its bounds"][0] == PASS


def test_each_moves_with_what_it_looks_at(session):
    bench = session.bench
    bench.unit.codes = (titled("P0300"), titled("P0087"))
    bench.set_unit(maintained=False)
    kept = Vault(bench.link.vault_folder).put(
        bench.unit.memory, "read", serial=bench.unit.serial, family=bench.unit.layout.family
    )
    found = said(session)
    assert found["No maintainer holds the battery"] == (WATCH, "12.5 V, at least 12.2 V; 12.6 V without load")
    assert found["2 fault codes are stored"][0] == WATCH and "P0300 misfire" in found["2 fault codes are stored"][1]
    assert kept.time[:10] in found["What the unit holds is kept before it is erased"][1]
    bench.set_unit(charge=0.2, engine_runs=True, lock="once")
    found = said(session)
    assert found["Battery is too low to write"] == (STOP, "11.7 V, at least 12.2 V")
    assert found["The engine runs"][0] == STOP and found["The unit is locked"][0] == STOP


def test_what_bars_a_write_is_refused_by_it_too(session):
    bench, before = session.bench, session.bench.unit.memory
    session.choose_working(session.job.revision("Stock").id)
    for values, words in (
        ({"engine_runs": True}, "engine runs"),
        ({"engine_runs": False, "lock": "bench"}, "on the bench"),
        ({"lock": "once"}, "locked"),
        ({"lock": "open", "maintained": False, "charge": 0.1}, "supply is"),
    ):
        bench.set_unit(**values)
        session.link.write()
        assert words in str(session.errors[-1]) and "Nothing was written" in session.errors[-1].remedy
        assert bench.unit.memory == before
    bench.set_unit(maintained=True, charge=0.9, lock="bench", on_bench=True)
    session.link.write()
    assert bench.holds().name == "Stock"


def test_a_locked_unit_is_opened_once_and_for_good(session):
    bench = session.bench
    bench.set_unit(lock="once")
    assert said(session)["The unit is locked"][0] == STOP
    session.link.open_lock()
    assert bench.unit.around.opened and said(session)["The unit takes programming"] == (PASS, "was opened")
    bench.set_unit(lock="bench", opened=False)
    session.link.open_lock()
    assert "on the bench" in str(session.errors[-1]) and not bench.unit.around.opened


def test_the_ledger_is_held_against_the_image(session):
    """A boost target beyond what the fitted turbocharger stands."""
    limits = session.job.sheet.limits
    boost = next(limit for limit in limits if limit.key == "boost")
    low = boost.model_copy(update={"safe": boost.safe * 0.1, "stretch": boost.stretch * 0.1, "moves": ()})
    session.sheet.set("the limits", limits=tuple(low if limit is boost else limit for limit in limits))
    before = said(session)
    session.sheet.undo()
    assert not any("stands" in k for k in said(session)), "the image is looked through anew when the ledger changes"
    session.sheet.redo()
    assert said(session) == before
    doubts = [k for k, v in before.items() if v[0] == WATCH and boost.component in k]
    assert doubts and "stands" in doubts[0]


def test_another_family_and_an_image_that_cannot_be_checked_are_said(session, monkeypatch):
    said(session)
    looked, job = session.link.looked, session.job
    layout = job.layout

    def with_layout(**update):
        changed = layout.model_copy(update=update)
        monkeypatch.setattr(type(job), "layout", property(lambda job: changed))
        link = Link(session)
        link.looked = looked
        link.look_through(session.working_revision())
        return {r.sentence: (r.severity, r.numbers) for r in write_conditions(link, session.working_revision())}

    assert with_layout(checksums=())["Not all of A1 can be checked"] == (WATCH, "the layout states no checksum")
    other = with_layout(family="wether-32")
    assert other["The unit is of another family"] == (STOP, "ptarmigan-14, the job is of wether-32")
    assert with_layout(base=4)["A1 is no image of this unit"][0] == STOP
