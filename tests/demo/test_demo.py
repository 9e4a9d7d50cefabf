"""The demo job: reproducible, true to its story, and measured, not staged."""

import pytest

from yarvic.core.checks.finding import STOP, WATCH
from yarvic.core.errors import Cancelled
from yarvic.core.job.store import Job
from yarvic.demo.ptarmigan import build_ptarmigan
from yarvic.state.results import evaluate


@pytest.fixture(scope="module")
def story(demo_file):
    job = Job.open(demo_file, read_only=True)
    results = evaluate(job, [r.id for r in job.revisions()], lambda s, w: None, lambda: False)
    yield job, {r.name: results[r.id] for r in job.revisions()}
    job.close()


def worst(results, check):
    return next(s for s in results.summaries if s.check == check)


def test_it_is_built_the_same_every_time(demo_file, tmp_path):
    again = tmp_path / "again.yarvic"
    build_ptarmigan(again)
    one, other = Job.open(demo_file, read_only=True), Job.open(again)
    try:
        assert [(r.name, r.image, r.time) for r in one.revisions()] == [
            (r.name, r.image, r.time) for r in other.revisions()
        ]
        for a, b in zip(one.evidence(), other.evidence(), strict=True):
            assert a == b
            for key, channel in one.log(a.id).channels.items():
                assert (channel.values == other.log(b.id).channels[key].values).all()
        # The package is named after the file that each was built in.
        told = [[e.sentence for e in j.journal() if e.subject != "release"] for j in (one, other)]
        assert told[0] == told[1]
        assert [r.manifest_sha256 for r in one.releases()] == [r.manifest_sha256 for r in other.releases()]
    finally:
        one.close()
        other.close()


def test_each_revision_has_three_pulls_and_was_flashed(story):
    job, results = story
    assert {name: len(r.pulls) for name, r in results.items()} == {"Stock": 3, "A1": 3, "B1": 3}
    assert [f.image for f in job.flashes()] == [r.image for r in job.revisions()]
    assert all(e.conditions.simulated for e in job.evidence())
    assert [b.title for b in job.builds()] == ["as received", "front intercooler"]


def test_stock_runs_lean_at_the_top_and_a1_mends_it(story):
    _, results = story
    assert worst(results["Stock"], "lambda_lean").worst.severity == WATCH
    assert worst(results["A1"], "lambda_lean").worst.severity == "holds"
    assert results["A1"].verdict == WATCH


def test_b1_knocks_on_cylinder_two_in_every_pull(story):
    _, results = story
    knock = worst(results["B1"], "knock_retard")
    assert knock.worst.severity == STOP
    assert knock.worst.where.cylinder == 2
    assert knock.pulls == knock.failing == 3
    assert results["B1"].verdict == STOP
    # Knock is all that stops it.
    assert [s.check for s in results["B1"].summaries if s.worst.severity == STOP] == ["knock_retard"]
    assert worst(results["B1"], "rail_sag").worst.severity == WATCH


def test_b1_makes_more_power(story):
    _, results = story
    peaks = {n: max(c.peak_power()[0] for c in r.curves("none")) for n, r in results.items()}
    assert peaks["B1"] > 1.08 * peaks["Stock"]


def test_a_cancelled_build_leaves_nothing(tmp_path):
    path = tmp_path / "a.yarvic"
    seen = []
    with pytest.raises(Cancelled):
        build_ptarmigan(path, lambda share, what: seen.append(share), lambda: len(seen) >= 2)
    assert not path.exists()
    assert seen == sorted(seen)
