"""A unit that nobody here can ask: what is known of it, and what of that opens the gate."""

import pytest

from yarvic.core.calibration.checksum import Checksum
from yarvic.core.errors import JobError, LinkError, YarvicError
from yarvic.core.formats.images import write_image
from yarvic.core.job.store import Job
from yarvic.core.link.by_file import items
from yarvic.demo import foreign, outside
from yarvic.demo.whinchat import WHINCHAT
from yarvic.state.by_file import export, read_back, say_written, unit_in_words
from yarvic.state.readings import readings, route_state
from yarvic.state.release import begin_waiver, gate_conditions, waive
from yarvic.state.session import Session
from yarvic.state.settings import Settings
from yarvic.state.work import InlineRunner

WHO = "Rowan Sedge"
ALL = {i.key for i in items()}


@pytest.fixture
def session(tmp_path):
    """The wagon's job with stock and a revision on it, from its files."""
    known = outside.taken()
    path = tmp_path / "w.yarvic"
    Job.create(path, WHINCHAT.sheet(), known.layout.to_json(), known.data, author=WHO).close()
    s = Session(Settings(), InlineRunner())
    s.errors = []
    s.failed.connect(s.errors.append)
    s.open_job(path)
    draft = s.editable_draft()
    draft.change("Maps", draft.image["Maps"].scalar("nMax").with_value(6500.0), "x")
    s.edited(draft)
    s.commit_draft("rev limit lower", WHO)
    yield s
    s.close_job()


def condition(session, key):
    return next((c for c in gate_conditions(session) if c.key == key), None)


def exported(session, tmp_path, form="hex"):
    path = tmp_path / "a1.hex"
    export(session, session.working_revision(), path, form, WHO)
    return path


def back(session, tmp_path, data, form="srec"):
    path = tmp_path / "back"
    layout = session.job.layout
    write_image(path, data, form, layout.base, layout.gaps if form != "raw" else ())
    read_back(session, session.working_revision(), path, WHO)


def image(session, name="A1"):
    return session.job.image(session.job.revision(name).image)


def test_the_way_by_file_step_by_step(session, tmp_path):
    assert session.from_outside and session.bench is None and unit_in_words(session) == "not read yet"
    assert not condition(session, "flashed").met and not condition(session, "flashed").may_waive
    revision = session.working_revision()
    with pytest.raises(JobError, match="not exported since"):
        say_written(session, revision, WHO, ALL)
    exported(session, tmp_path)
    assert "not said to be written" in condition(session, "flashed").evidence
    with pytest.raises(JobError, match="not ticked, the first"):
        say_written(session, revision, WHO, set())
    say_written(session, revision, WHO, ALL)
    flashed = condition(session, "flashed")
    assert flashed.may_waive and not flashed.met and "nobody read it back" in flashed.evidence
    assert unit_in_words(session).startswith("unknown: Rowan Sedge wrote A1") and session.unit_holds() is None
    assert route_state(session, "flash") != "pass"
    back(session, tmp_path, image(session))
    assert (
        condition(session, "flashed").met and condition(session, "flashed").title == "Written and read back, by file"
    )
    assert unit_in_words(session).startswith("A1, as last read back, by file, on ")
    assert session.unit_holds().name == "A1" and route_state(session, "flash") == "pass"
    assert any("A1 is in the unit" in r.sentence for r in readings(session, "flash"))
    # What is written anew is not known to be there.
    exported(session, tmp_path)
    say_written(session, revision, WHO, ALL)
    assert not condition(session, "flashed").met
    path = session.job.path
    steps = session.job.carried()
    session.close_job()
    job = Job.open(path)
    assert job.carried() == steps and [c.kind for c in steps] == [
        "exported",
        "written",
        "read back",
        "exported",
        "written",
    ]
    job.close()


def test_the_exported_file_itself_proves_nothing(session, tmp_path):
    path = exported(session, tmp_path)
    before = len(session.job.carried())
    heard = []
    session.failed.connect(heard.append)
    read_back(session, session.working_revision(), path, WHO)
    assert len(session.job.carried()) == before and "was exported here" in str(heard[0])
    other = tmp_path / "of-the-unit.hex"
    other.write_bytes(path.read_bytes())
    read_back(session, session.working_revision(), other, WHO)
    assert session.job.carried()[-1].document.equal


def test_written_and_not_read_back_may_be_waived_by_name_and_lapses_with_what_is_worse(session, tmp_path):
    exported(session, tmp_path)
    say_written(session, session.working_revision(), WHO, ALL)
    waive(session, begin_waiver(session, "flashed"), WHO, "the writer reads back by itself")
    assert condition(session, "flashed").met
    back(session, tmp_path, image(session, "Stock"))
    found = condition(session, "flashed")
    assert not found.met and not found.may_waive and "It is what Stock is: the write did not take" in found.evidence
    assert session.unit_holds().name == "Stock"


def test_volatile_ranges_and_gaps_are_left_aside(session, tmp_path):
    exported(session, tmp_path)
    path = tmp_path / "back"
    path.write_bytes(foreign.read_out((tmp_path / "a1.hex").read_bytes(), b""))
    read_back(session, session.working_revision(), path, WHO)
    last = session.job.carried()[-1].document
    assert last.equal and last.aside == 0x100 + 0x1000 and "left aside" in condition(session, "flashed").evidence


def test_a_half_written_unit_is_said_and_not_waived(session, tmp_path):
    exported(session, tmp_path)
    half = session.job.layout.by_key["nMax"].address - session.job.layout.base
    back(session, tmp_path, image(session)[:half] + image(session, "Stock")[half:])
    found = condition(session, "flashed")
    assert not found.met and not found.may_waive
    # All that A1 changes lies behind the place at which the write stopped.
    assert "It is what Stock is" in found.evidence and session.unit_holds().name == "Stock"


@pytest.mark.parametrize(
    ("spoil", "message"),
    [
        (lambda d: d[:-5], "lacks 0x80045FFB"),
        (lambda d: d.replace(b"WHN20.04", b"WHN20.03", 1), "is 'WHN20.03-FR7', not 'WHN20.04-FR7'"),
        (lambda d: d[:100], "lacks"),
    ],
)
def test_a_file_of_another_unit_is_refused_and_nothing_is_recorded(session, tmp_path, spoil, message):
    exported(session, tmp_path)
    before = session.job.carried()
    path = tmp_path / "other"
    write_image(path, spoil(image(session)), "srec", session.job.layout.base)
    read_back(session, session.working_revision(), path, WHO)
    [error] = session.errors
    assert message in str(error) and error.remedy and session.job.carried() == before


def test_a_checksum_of_unknown_rule_is_a_condition_of_its_own(session):
    assert condition(session, "checksum") is None
    layout = session.job.layout
    for sums, words in (
        ((), "states no checksum"),
        ((Checksum(kind="unknown", title="boot check"),), "boot check: its rule is unknown"),
    ):
        session.job.save_layout(layout.changed(checksums=sums), "x")
        session.layout_changed()
        found = condition(session, "checksum")
        assert found.may_waive and not found.met and words in found.evidence.lower()
    waive(session, begin_waiver(session, "checksum"), WHO, "the writer corrects it")
    assert condition(session, "checksum").met


def test_who_and_readiness_are_asked(session, tmp_path):
    with pytest.raises(JobError, match="who exports"):
        export(session, session.working_revision(), tmp_path / "x.hex", "hex", " ")
    with pytest.raises(JobError, match="who read it back"):
        read_back(session, session.working_revision(), tmp_path / "x.hex", "")
    sheet = session.job.sheet
    broken = sheet.readiness[0].seen("stop", "code", WHO, "2024-01-01T00:00:00", 1)
    session.job.save_sheet(sheet.changed(readiness=(broken, *sheet.readiness[1:])), "x")
    with pytest.raises(LinkError, match="readiness"):
        exported(session, tmp_path)
    assert session.job.carried() == []


def test_raw_bytes_cannot_hold_a_memory_with_gaps(session, tmp_path):
    exported(session, tmp_path, "raw")
    assert isinstance(session.errors[0], YarvicError) and "gaps" in str(session.errors[0])
    assert session.job.carried() == [] and not (tmp_path / "a1.hex").exists()
