"""The demo jobs: reproducible, true to their stories, and measured, not staged."""

from dataclasses import replace

import pytest

from yarvic.bench.vehicles import layout_text
from yarvic.core.calibration.image import check_image, name_in
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.checks.finding import NO_DATA, STOP, WATCH
from yarvic.core.errors import Cancelled
from yarvic.core.formats.images import in_memory, read_image
from yarvic.core.job.store import Job
from yarvic.core.release.package import verify_package
from yarvic.demo.jobs import DEMO_JOBS, build_missing, job_path
from yarvic.state.evaluating import evaluate


def told(path):
    """A job with the results of its revisions by name."""
    job = Job.open(path, read_only=True)
    results = evaluate(job, [r.id for r in job.revisions()], lambda s, w: None, lambda: False)
    return job, {r.name: results[r.id] for r in job.revisions()}


@pytest.fixture(scope="module")
def any_story(any_demo_file):
    job, results = told(any_demo_file)
    yield job, results
    job.close()


@pytest.fixture(scope="module")
def story(demo_file):
    job, results = told(demo_file)
    yield job, results
    job.close()


def worst(results, check):
    return next(s for s in results.summaries if s.check == check)


def stopped(results):
    return {s.family for s in results.summaries if s.worst.severity == STOP}


def test_each_has_a_believable_history(any_story, any_demo_file):
    """Baseline, several revisions, a part fitted between, one released, one that falls short, one draft in hand."""
    job, results = any_story
    names = list(results)
    assert names[0] == "Stock" and len(names) >= 3
    assert all(r.full_pulls >= 3 for r in results.values())
    assert len(job.builds()) == 2
    released = [r.revision_id for r in job.releases()]
    assert len(released) == 1
    name = next(r.name for r in job.revisions() if r.id == released[0])
    assert results[name].verdict != STOP
    package = any_demo_file.with_name(job.releases()[0].package)
    verified = verify_package(package)
    assert verified.intact and verified.manifest.simulated and verified.manifest.revision == name
    # The newest falls short, and the draft on it is what is to be done about it.
    assert results[names[-1]].verdict == STOP
    [draft] = job.drafts()
    assert job.steps(draft.id) and draft.parent_id == job.revision(names[-1]).id
    assert [f.image for f in job.flashes()] == [r.image for r in job.revisions()]
    assert all(e.conditions.simulated and not e.conditions.faults for e in job.evidence())


def test_the_buggy_knocks_on_cylinder_two_and_its_rail_is_to_be_watched(story):
    job, results = story
    assert worst(results["Stock"], "lambda_lean").worst.severity == WATCH
    assert worst(results["A1"], "lambda_lean").worst.severity == "pass"
    knock = worst(results["B1"], "knock_retard")
    assert knock.worst.severity == STOP and knock.worst.where.cylinder == 2
    assert knock.pulls == knock.failing == 3
    assert stopped(results["B1"]) == {"Knock"}
    assert worst(results["B1"], "rail_sag").worst.severity == WATCH
    peaks = {n: max(c.peak_power[0] for c in r.curves("none")) for n, r in results.items()}
    assert peaks["B1"] > 1.08 * peaks["Stock"]
    assert [b.title for b in job.builds()] == ["as received", "front intercooler"]


def test_the_carrier_smokes_runs_hot_and_its_gearbox_is_the_weak_link(demo_job):
    job, results = told(demo_job("wether"))
    try:
        assert worst(results["Stock"], "smoke_opacity").worst.severity == WATCH
        assert worst(results["A1"], "smoke_opacity").worst.severity == "pass"
        assert {"Power and torque", "Temperatures"} <= stopped(results["B1"])
        assert worst(results["B1"], "torque").worst.rule.source.startswith("gearbox")
        # The climb is evidence beside the pulls: it is judged, without a curve of its own.
        climb = [p for p in results["B1"].pulls if not p.sweeps]
        assert len(climb) == 1 and climb[0].curves == {} and results["B1"].full_pulls == 3
        checks = {f.check for f in climb[0].findings}
        assert "exhaust_temperature" in checks and "torque" not in checks and "charge_rise" not in checks
        # A diesel is asked about smoke, not about knock.
        assert "knock_retard" not in {s.check for r in results.values() for s in r.summaries}
    finally:
        job.close()


def test_the_twin_came_far_too_rich_and_lean_at_half_throttle(demo_job):
    job, results = told(demo_job("fieldfare"))
    try:
        stock = results["Stock"]
        assert worst(stock, "lambda_rich").worst.severity == STOP
        rich = worst(stock, "lambda_rich").worst.where
        assert rich.speed_rpm > 2.0 / 3.0 * job.sheet.vehicle.redline_rpm
        half = next(p for p in stock.pulls if p.throttle == 0.5)
        lean = next(f for f in half.findings if f.check == "lambda_lean")
        assert lean.severity == STOP
        assert stock.throttles == [1.0, 0.75, 0.5, 0.25]
        assert len(stock.curves("none")) == 3 and len(stock.curves("none", 0.5)) == 1
        gained = [max(c.peak_power[0] for c in results[n].curves("none")) for n in ("Stock", "A2")]
        assert gained[1] > 1.05 * gained[0]
        # Not asked of an engine that has none: boost, rail, knock control.
        asked = {s.check for s in stock.summaries}
        assert not asked & {"boost_overshoot", "rail_sag", "knock_spread"}
        assert worst(stock, "knock_retard").worst.severity == NO_DATA
        # Released all the same: by a named person's word, which stands in the package.
        assert [w.condition for w in job.waivers(job.revision("A2").id)] == ["check Knock"]
        assert stopped(results["B1"]) == {"Mixture"}
    finally:
        job.close()


def test_a_cancelled_build_leaves_nothing(tmp_path):
    seen = []
    with pytest.raises(Cancelled):
        build_missing(tmp_path, lambda share, what: seen.append(share), lambda: len(seen) >= 2)
    assert list(tmp_path.iterdir()) == []
    assert seen == sorted(seen)


def test_what_is_there_is_not_built_again(tmp_path):
    for job in DEMO_JOBS:
        job_path(tmp_path, job).write_bytes(b"mine")
    assert build_missing(tmp_path) == [job_path(tmp_path, j) for j in DEMO_JOBS]
    assert all(job_path(tmp_path, j).read_bytes() == b"mine" for j in DEMO_JOBS)
    # The family's ratings lie beside, as images that the carrier's unit takes.
    rated = sorted(tmp_path.glob("wether-rating-*.hex"))
    assert len(rated) == 4
    layout = parse_layout(layout_text("wether"))
    for path, letter in zip(rated, "ABCD", strict=True):
        data = in_memory(read_image(path), layout)
        check_image(data, layout)
        assert name_in(data, layout).startswith(f"Rating {letter}")


def test_what_came_meanwhile_is_not_replaced_and_what_was_killed_is_swept(tmp_path):
    import os
    import subprocess
    import sys

    from yarvic.demo.ptarmigan import PTARMIGAN
    from yarvic.demo.story import TELLING

    gone = subprocess.Popen([sys.executable, "-c", ""])
    gone.wait()
    left = tmp_path / f"{TELLING}{gone.pid}-killed"
    left.mkdir()
    other = tmp_path / f"{TELLING}{os.getpid()}-under-way"
    other.mkdir()
    path = tmp_path / "ptarmigan.yarvic"
    quick = replace(PTARMIGAN, told=lambda story: path.write_bytes(b"somebody has this open"))
    quick.build(path)
    assert path.read_bytes() == b"somebody has this open"
    assert not left.exists() and other.exists()
