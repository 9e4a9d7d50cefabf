"""Evidence from files: stored as it stood there, read by what its columns are said to mean, never edited."""

import numpy as np
import pytest

from yarvic.core.errors import JobError
from yarvic.core.evidence.mapping import Column
from yarvic.core.evidence.origin import Assigned, Reading, SetAside
from yarvic.core.formats.logs.import_log import read_file
from yarvic.core.job.file import verify
from yarvic.core.job.runs import NewRun
from yarvic.core.job.store import Job

TEXT = "Time (s);RPM;Boost (kPa);IAT;Gear;EGT (°C)\n" + "".join(
    f"{i / 20:.2f};{2000 + 15 * i};{40 + i * 0.4:.1f};{75 + i / 50:.2f};{'D' if i < 50 else 'N'};{700 + i if i % 5 == 0 else ''}\n"  # noqa: E501
    for i in range(300)
)


@pytest.fixture
def recording(tmp_path):
    path = tmp_path / "run of tuesday.csv"
    path.write_text(TEXT, encoding="utf-8")
    return read_file(path)[0]


def stored(job, recording, revision_id=None, build=None):
    reading = Reading(mapping=recording.understood.mapping(recording.raw, "logger"))
    run = NewRun("Tuesday", recording.raw, None, recording.origin, reading)
    return job.add_runs([run], revision_id, source="file", build=build)[0]


def same(one, other):
    assert set(one.channels) == set(other.channels)
    for key, c in one.channels.items():
        o = other.channels[key]
        assert np.array_equal(c.values, o.values, equal_nan=True) and np.array_equal(c.time_s, o.time_s), key
        assert (c.doubt, c.states, c.unit, c.title) == (o.doubt, o.states, o.unit, o.title)


def test_a_run_from_a_file_comes_back_as_it_was_read(job, recording):
    fresh = recording.log(recording.understood)
    run = stored(job, recording)
    same(job.log(run.id), fresh)
    assert fresh.channel("exhaust_temperature").time_s.size == 60 and fresh.channel("Gear").states == ("D", "N")
    few = job.log(run.id, ["exhaust_temperature"])
    assert list(few.channels) == ["exhaust_temperature"]
    path = job.path
    job.close()
    again = Job.open(path)
    try:
        assert again.evidence()[-1] == run and again.evidence()[-1].origin.name == "run of tuesday.csv"
        same(again.log(run.id), fresh)
    finally:
        again.close()
    assert verify(path).faults == ()


def test_it_waits_for_its_revision(job, recording):
    run = stored(job, recording)
    assert run.revision_id is None and [e.id for e in job.runs_of(None)] == [run.id] and job.runs_of(1) == []
    job.say_of([(run.id, "assigned", Assigned(revision_id=1, build=1))], "R0001 belongs to Stock.")
    assert job.runs_of(None) == [] and [(e.id, e.build) for e in job.runs_of(1)] == [(run.id, 1)]
    assert job.revisions_with_runs() == {None, 1}
    job.say_of([(run.id, "assigned", Assigned())], "R0001 belongs to none.")
    assert [e.id for e in job.runs_of(None)] == [run.id] and job.runs_of(1) == []
    assert verify(job.path).faults == ()


def test_a_unit_is_corrected_and_set_back_and_the_numbers_stay(job, recording):
    run = stored(job, recording)
    before = job.reading(run.id)
    assert job.log(run.id).channel("charge_temperature").doubt.about == "unit"

    def with_unit(label):
        def told(c):
            if c.name != "IAT":
                return c
            return Column(**{**c.entries(), "unit": label, "question": "", "about": "", "how": "confirmed"})

        columns = tuple(map(told, before.mapping.columns))
        return Reading(mapping=before.mapping.model_copy(update={"columns": columns}), barometer_pa=97e3)

    for label, kelvin in (("degC", 348.15), ("degF", 297.04)):
        job.say_of([(run.id, "reading", with_unit(label))], "read otherwise")
        c = job.whole_log(run.id).channel("charge_temperature")
        assert c.doubt is None and c.values[0] == pytest.approx(kelvin, abs=0.01)
        assert job.evidence()[-1].reading != run.reading
    job.say_of([(run.id, "reading", before)], "as before")
    same(job.whole_log(run.id), recording.log(recording.understood))


def test_a_pull_is_set_aside_and_taken_back(job, recording):
    run = stored(job, recording, 1, 1)
    job.say_of([(run.id, "set_aside", SetAside(pull=0, reason="wheel slipped"))], "set aside")
    assert job.runs_of(1)[0].aside == {0: "wheel slipped"}
    job.say_of([(run.id, "set_aside", SetAside(pull=0, aside=False))], "taken back")
    assert job.runs_of(1)[0].aside == {}


def test_nothing_is_said_of_a_run_that_is_not_there(job, recording):
    stored(job, recording)
    lines = len(job.journal())
    with pytest.raises(JobError, match="no run R0099"):
        job.say_of([("R0001", "set_aside", SetAside()), ("R0099", "set_aside", SetAside())], "x")
    assert len(job.journal()) == lines and job.evidence()[0].aside == {}
    with pytest.raises(ValueError, match="to neither"):
        Assigned(revision_id=1)


@pytest.mark.parametrize(
    "statement",
    [
        "UPDATE evidence_note SET document = '{}' WHERE kind = 'reading'",
        "UPDATE evidence_note SET document = replace(document, 'kPa', 'kg') WHERE kind = 'reading'",
        "DELETE FROM evidence_note WHERE kind = 'header'",
        "UPDATE evidence_note SET document = '5' WHERE kind = 'source'",
        "DELETE FROM evidence_column WHERE position = 2",
    ],
)
def test_damage_to_what_is_said_is_found(job, recording, statement):
    import sqlite3

    run = stored(job, recording)
    path = job.path
    job.close()
    connection = sqlite3.connect(path)
    connection.execute(statement)
    connection.commit()
    connection.close()
    assert verify(path).faults
    again = Job.open(path)
    try:
        with pytest.raises(JobError):
            again.evidence(), again.log(run.id)
    finally:
        again.close()
