"""Where cells come from: chains, branches and merges, against what was done to them."""

import numpy as np
import pytest

from yarvic.bench.vehicles import layout_text
from yarvic.core.calibration.image import Image
from yarvic.core.errors import JobError
from yarvic.core.evidence.expected import Expected, answer
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.job.lineage import ancestors, common_ancestor, last_changed, last_touched, line_of, states_of
from yarvic.core.job.store import Job
from yarvic.demo.ptarmigan import PTARMIGAN
from yarvic.demo.story import AUTHOR

SLOT = "RON 95"


@pytest.fixture
def family(tmp_path, stock):
    """Stock; A1 and A2 on it one behind the other; A3 a branch on A1; A4 is A2 with A3 merged into it."""
    job = Job.create(tmp_path / "f.yarvic", PTARMIGAN.sheet(), layout_text("ptarmigan"), stock, author=AUTHOR)

    def revise(name, parent, cells, merged=None, key="spark_advance"):
        image = Image(job.layout, job.image(job.revision(parent).image))
        table = image[SLOT].table(key)
        values = table.values.copy()
        for at, value in cells.items():
            values[at] = value
        edits = image.edits_to(SLOT, table.with_values(values), "x")
        made = job.commit_revision(
            name, job.revision(parent).id, f"reason of {name}", AUTHOR, image.with_edits(edits).sealed(name), edits,
            merged_id=job.revision(merged).id if merged else None,
        )  # fmt: skip
        return made

    revise("A1", "Stock", {(0, 0): 20.0, (1, 1): 21.0})
    revise("A2", "A1", {(1, 1): 22.0})
    revise("A3", "A1", {(2, 2): 9.5})
    revise("A4", "A2", {(2, 2): 9.5, (3, 3): 8.0}, merged="A3")
    yield job
    job.close()


def image_of(job):
    return lambda r: Image(job.layout, job.image(r.image))


def test_lines_ancestors_and_what_two_have_in_common(family):
    r = {x.name: x for x in family.revisions()}
    assert [x.name for x in line_of(family.revisions(), r["A4"].id)] == ["A4", "A2", "A1", "Stock"]
    assert ancestors(family.revisions(), r["A4"].id) == {x.id for x in r.values()}
    assert common_ancestor(family.revisions(), r["A2"].id, r["A3"].id).name == "A1"
    assert common_ancestor(family.revisions(), r["A4"].id, r["A3"].id).name == "A3"
    assert r["A4"].merged_id == r["A3"].id and r["A2"].merged_id is None
    with pytest.raises(JobError, match="no revision in common"):
        common_ancestor(family.revisions(), r["A1"].id, 99)


def test_a_cell_names_who_last_changed_it_and_from_what(family, stock):
    r = {x.name: x for x in family.revisions()}
    found = last_changed(family.revisions(), r["A4"].id, SLOT, "spark_advance", image_of(family))
    before = Image(family.layout, stock)[SLOT].table("spark_advance").values
    names = {x.id: x.name for x in r.values()}
    assert names[found.revision[0, 0]] == "A1" and found.before[0, 0] == before[0, 0]
    assert names[found.revision[1, 1]] == "A2" and found.before[1, 1] == 21.0
    # What was merged is looked up where it came from.
    assert names[found.revision[2, 2]] == "A3" and found.before[2, 2] == before[2, 2]
    assert names[found.revision[3, 3]] == "A4"
    assert found.revision[5, 5] == 0 and np.isnan(found.before[5, 5])
    touched = last_touched(family.revisions(), r["A4"].id, SLOT, image_of(family))
    assert {key: names[n] for key, n in touched.items()} == {"spark_advance": "A4"}
    states = states_of(family.revisions(), r["A4"].id, SLOT, "spark_advance", image_of(family))
    assert [x.name for x, _ in states] == ["Stock", "A1", "A2", "A4"] and states[1][1].values[0, 0] == 20.0
    scalar = last_changed(family.revisions(), r["A4"].id, SLOT, "rev_limit", image_of(family))
    assert scalar.revision.tolist() == [[0]]


def test_marks_and_expectations_stay_in_the_file(family):
    a2 = family.revision("A2")
    family.put_tag(a2.id, "do not use", "put", AUTHOR, "lean at the top")
    family.put_tag(a2.id, "keep", "put", AUTHOR, "to compare with")
    family.put_tag(a2.id, "keep", "removed", AUTHOR, "compared")
    expected = Expected(
        channel="knock_retard", index=2, statistic="greatest", way="below", limit=2.0, unit="deg", from_rpm=2800.0
    )
    family.expect(a2.id, expected, AUTHOR)
    with pytest.raises(JobError, match="name and a reason"):
        family.put_tag(a2.id, "keep", "put", AUTHOR, " ")
    path = family.path
    family.close()
    again = Job.open(path, read_only=True)
    try:
        assert [t.tag for t in again.tags_of(a2.id)] == ["do not use"]
        [kept] = again.expectations()
        assert kept.expected == expected and kept.name == AUTHOR
        assert "greatest knock retard of cylinder 2 below 2 deg from 2,800 rpm on" in again.journal()[-1].sentence
    finally:
        again.close()


def test_pulls_answer_what_was_expected():
    t = np.arange(0.0, 3.0, 0.5)
    speed = np.array([2000.0, 2500.0, 3000.0, 3500.0, 4000.0, 4500.0])
    retard = np.array([9.0, 3.0, 1.5, np.nan, 0.0, 0.0])
    log = Log(
        {
            "engine_speed": Channel("engine_speed", "n", "engine speed", "rpm", t, speed),
            "spark_correction_2": Channel("spark_correction_2", "k", "angle", "deg", t, -retard),
            "boost_pressure": Channel("boost_pressure", "p", "pressure", "kPa", t, speed * 50.0),
        }
    )
    runs = [(log, Pull(0.4, 2.6, 1.0, 0.0, 0.0))]

    def asked(**more):
        return Expected(
            **{
                "channel": "knock_retard",
                "statistic": "greatest",
                "way": "below",
                "limit": 2.0,
                "unit": "deg",
                **more,
            }
        )

    assert answer(asked(index=2), runs) == 3.0  # what lies before the pull does not count
    assert answer(asked(index=2, from_rpm=2800.0), runs) == 1.5 and asked().holds(1.5) and not asked().holds(2.0)
    assert answer(asked(index=1), runs) is None and answer(asked(index=2, from_rpm=9000.0), runs) is None
    boost = asked(channel="boost_pressure", statistic="mean", way="above", unit="kPa", to_rpm=3000.0)
    assert answer(boost, runs) == pytest.approx(137.5)
