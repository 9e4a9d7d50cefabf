"""Writes that go wrong: a short campaign of every kind; `yarvic campaign flash --seeds N` goes on."""

import json
import subprocess
import sys

import pytest

from yarvic.bench import flash_campaign
from yarvic.bench.flash_campaign import KINDS, Outcome, Tally, campaign, one_case
from yarvic.core.errors import Cancelled


def test_every_kind_of_fault_ends_well():
    found = campaign(range(70_000, 70_000 + 6 * len(KINDS)))
    assert found.wrong == []
    assert found.holds and set(found.kinds) == set(KINDS)
    assert found.recovered == found.right_next_step == found.cases == 6 * len(KINDS)
    assert (found.images_lost, found.falsely_done) == (0, 0)


def test_the_same_seed_is_the_same_case():
    assert one_case(3) == one_case(3)


def test_it_sees_what_is_wrong(monkeypatch):
    """A sequence that proves nothing is found out by its campaign."""
    writer = flash_campaign.Flashing

    class Careless(writer):
        def _sector(self, image, sector):
            start, size = self._range(sector)
            self.tester.erase(start, size)
            for _ in self.tester.download(start, self._part(image, sector)):
                pass

        def _prove(self, journal, image):
            pass

        def sums_up_to(self, image):
            return True

        def _end(self, journal, ending):
            journal.add("end", ending)
            return ()

    monkeypatch.setattr(flash_campaign, "Flashing", Careless)
    lies = [n for n in range(200) if KINDS[n % len(KINDS)] == "does not write"]
    found = [one_case(n) for n in lies]
    assert all(o.falsely_done for o in found)
    tally = Tally()
    for n, outcome in zip(lies, found, strict=True):
        tally.add(n, outcome)
    assert not tally.holds and len(tally.wrong) == len(lies)


def test_counts_are_added_up():
    one, other = Tally(), Tally()
    one.add(1, Outcome("cancelled", True, True, 0, False))
    other.add(2, Outcome("cancelled", False, True, 1, True, "lost"))
    one.join(other)
    assert (one.cases, one.recovered, one.right_next_step, one.images_lost, one.falsely_done) == (2, 1, 2, 1, 1)
    assert one.kinds == {"cancelled": 2} and one.wrong == ["seed 2, cancelled: lost"]
    assert not Tally().holds


def test_it_can_be_cancelled():
    with pytest.raises(Cancelled):
        campaign(range(5), cancelled=lambda: True)


def test_from_outside():
    done = subprocess.run(
        [sys.executable, "-c", "from yarvic.cli import main; main()", "campaign", "flash", "--seeds", "17", "--json"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told["cases"] == told["recovered"] == told["right_next_step"] == 17
    assert (told["images_lost"], told["falsely_done"], told["wrong"]) == (0, 0, [])
