"""The sheet: as TOML and as template, unfinished; job files of version 1; builds and their events."""

import json
import shutil
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pytest
from kept import kept_drafts
from pydantic import ValidationError

from yarvic.bench.vehicles import layout_text, stock_image
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.errors import CalibrationError, FormatError, JobError
from yarvic.core.job.lacks import lacks
from yarvic.core.job.migrations import VERSION, sheet_of_1
from yarvic.core.job.model import Fitting, parts_on
from yarvic.core.job.store import Job
from yarvic.core.job.template import as_template, begin, parse_sheet, read_sheet, starts, to_toml, write_sheet
from yarvic.core.plan.vehicle import Vehicle
from yarvic.demo.jobs import DEMO_JOBS
from yarvic.demo.ptarmigan import PTARMIGAN

OLD = Path(__file__).parents[2] / "data/old_jobs/version-1.yarvic"


@pytest.mark.parametrize("job", DEMO_JOBS, ids=lambda j: j.name)
def test_toml_there_and_back(job, tmp_path):
    sheet = job.sheet()
    write_sheet(sheet, tmp_path / "s.toml")
    back = read_sheet(tmp_path / "s.toml")
    assert all(i.state == "" for i in back.readiness) and len(back.readiness) == len(sheet.readiness)
    assert back.model_copy(update={"readiness": sheet.readiness}) == sheet


@pytest.mark.parametrize("kind", starts())
def test_a_sheet_from_nothing(kind):
    sheet = begin(kind, "Lapwing")
    assert sheet.vehicle.bore_mm is None and sheet.readiness and sheet.limits == ()
    assert parse_sheet(to_toml(sheet)) == sheet
    wanted = {s: [x.what for x in lacks(sheet, False, s)] for s in ("job", "plan", "flash", "checks", "release")}
    assert "cylinders, bore, stroke" in wanted["job"][0]
    assert "limits for power and torque" in wanted["plan"] and "a target" in wanted["plan"]
    assert wanted["flash"] == ["the maps"] and "the maps" in wanted["release"]
    with pytest.raises(FormatError):
        begin(kind, "")


def test_lacks_of_a_crank_limit_without_loss():
    sheet = PTARMIGAN.sheet()
    limit = sheet.limits[0].model_copy(update={"basis": "crank"})
    bare = sheet.model_copy(
        update={"limits": (limit,), "vehicle": sheet.vehicle.model_copy(update={"drivetrain_loss": None})}
    )
    assert any("drivetrain's loss" in x.what for x in lacks(bare, True, "checks"))
    assert lacks(sheet, True, "checks") == [] and lacks(sheet, True, "job") == []


def test_a_template_leaves_the_one_vehicle_behind():
    made = as_template(PTARMIGAN.sheet(), "Plover")
    assert made.title == made.vehicle.name == "Plover"
    assert all(i.state == "" for i in made.readiness) and all(s.revisions == () for s in made.plan.stages)
    assert made.limits == PTARMIGAN.sheet().limits
    with pytest.raises(FormatError):
        as_template(PTARMIGAN.sheet(), "")


def test_what_a_sheet_takes_from_another_keeps_title_and_name():
    onto = begin("turbo-diesel", "Lapwing")
    taken = parse_sheet(to_toml(PTARMIGAN.sheet()), onto=onto)
    assert taken.title == taken.vehicle.name == "Lapwing" and taken.vehicle.bore_mm == 80
    part = 'format = "yarvic sheet 1"\n[vehicle]\nbore_mm = 81.5\nname = "x"\n'
    assert parse_sheet(part, onto=PTARMIGAN.sheet()).limits == PTARMIGAN.sheet().limits


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[vehicle\n", "line 1"),
        ('format = "yarvic sheet 1"\nbore = \n', "line 2"),
        ("a = 1", "is no job sheet"),
        ('format = "yarvic sheet 1"\ntitle = "x"', "vehicle"),
        (
            'format = "yarvic sheet 1"\ntitle = "x"\n[vehicle]\nname = "x"\nbore_mm = 8000.0',
            "Bore 8,000 mm cannot be",
        ),
        ('format = "yarvic sheet 1"\ntitle = "x"\n[vehicle]\nname = "x"\nwings = 2', "wings"),
        ('format = "yarvic sheet 1"\ntitle = "x"\n[vehicle]\nname = "x"\ncylinders = 0', "Cylinders 0 cannot be"),
        (
            'format = "yarvic sheet 1"\ntitle = "x"\n[vehicle]\nname = "x"\n[[limits]]\nkey = "power"\ncomponent = "c"\n'
            'basis = "wheel"\nunit = "N m"\nsafe = 1.0\nstretch = 2.0\nsource = "s"',
            "limits.0: c: N m measures torque",
        ),
        (
            'format = "yarvic sheet 1"\ntitle = "x"\n[vehicle]\nname = "x"\n[[limits]]\nkey = "power"\ncomponent = "c"\n'
            'basis = "wheel"\nunit = "kW"\nsafe = 3.0\nstretch = 2.0\nsource = "s"',
            "safe is above stretch",
        ),
        (f'format = "yarvic sheet 1"\na = {"[" * 3000}', "TOML|nested"),
    ],
)
def test_sheets_that_cannot_be_read_name_line_or_entry(text, words):
    with pytest.raises(FormatError, match=words):
        parse_sheet(text)


def test_files_that_are_no_text(tmp_path):
    (tmp_path / "x.toml").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(FormatError, match="not text"):
        read_sheet(tmp_path / "x.toml")


# -- jobs without maps, builds


def test_a_job_without_maps_takes_them_once(tmp_path):
    path = tmp_path / "a.yarvic"
    Job.create(path, begin("turbo-petrol", "Lapwing"), author="R").close()
    job = Job.open(path)
    assert not job.has_maps and job.revisions() == [] and job.flashes() == []
    with pytest.raises(JobError, match="no maps yet"):
        _ = job.layout
    with pytest.raises(CalibrationError):
        job.import_stock(parse_layout(layout_text("wether")), stock_image("ptarmigan"), "R")
    assert not job.has_maps and job.revisions() == []
    made = job.import_stock(parse_layout(layout_text("ptarmigan")), stock_image("ptarmigan"), "R")
    assert made.name == "Stock" and job.has_maps
    with pytest.raises(JobError, match="its maps already"):
        job.import_stock(parse_layout(layout_text("ptarmigan")), stock_image("ptarmigan"), "R")
    job.close()
    again = Job.open(path)
    assert again.layout.family == "ptarmigan-14" and again.revision("Stock").build == 1
    again.close()


def test_builds_say_which_parts_are_on(tmp_path):
    job = Job.create(tmp_path / "a.yarvic", begin("turbo-petrol", "Lapwing"), author="R")
    job.fit("pump", {"fuel": "pump"}, Fitting(parts=("pump",), date="2025-01-02", odometer_km=1200, cost=50))
    job.fit("pipe", {}, Fitting(parts=("pipe",)))
    job.fit("pump off", {"fuel": "stock"}, Fitting(removed=("pump",), labour_hours=1.5))
    builds = job.builds()
    assert [sorted(parts_on(builds, n)) for n in (1, 2, 3, 4)] == [[], ["pump"], ["pipe", "pump"], ["pipe"]]
    assert parts_on(builds) == {"pipe"} and builds[1].event.odometer_km == 1200
    with pytest.raises(JobError, match="needs its title"):
        job.fit("  ", {})
    with pytest.raises(ValidationError):
        Fitting(cost=-1)
    job.close()


def test_the_sheet_is_kept_with_a_line_in_the_journal(tmp_path):
    job = Job.create(tmp_path / "a.yarvic", begin("turbo-petrol", "Lapwing"), author="R")
    v = Vehicle(name="Lapwing", bore_mm=81.0)
    job.save_sheet(job.sheet.model_copy(update={"vehicle": v}), "Bore: not stated to 81.")
    job.close()
    again = Job.open(tmp_path / "a.yarvic", read_only=True)
    assert again.sheet.vehicle.bore_mm == 81.0 and again.journal()[-1].sentence == "Bore: not stated to 81."
    with pytest.raises(JobError, match="read only"):
        again.save_sheet(again.sheet, "x")
    again.close()


# -- version 1


def test_version_1_is_read_as_it_is_and_brought_up_to_date_for_writing(tmp_path):
    path = tmp_path / "old.yarvic"
    shutil.copy(OLD, path)
    before = path.read_bytes()
    job = Job.open(path, read_only=True)
    seen = (job.sheet, job.builds(), job.revisions(), [e.title for e in job.evidence()], kept_drafts(job))
    job.close()
    assert path.read_bytes() == before
    job = Job.open(path)
    assert (job.sheet, job.builds(), job.revisions(), [e.title for e in job.evidence()], kept_drafts(job)) == seen
    job.fit("pipe", {}, Fitting(parts=("pipe",)))
    job.close()
    with sqlite3.connect(path) as connection:
        assert connection.execute("PRAGMA user_version").fetchone()[0] == VERSION
    job = Job.open(path)
    v = job.sheet.vehicle
    assert (v.induction, v.injection, v.knock_control, v.bore_mm) == ("turbo", "direct", True, 80.0)
    assert (
        job.sheet.fitted["intercooler"] == "stock, side mounted"
        and job.fitted()["intercooler"] == "front intercooler"
    )
    assert {m.component: m.station for m in job.sheet.limits}["gearbox"] == "gearbox"
    assert job.log("R0001").channels and job.builds()[-1].event.parts == ("pipe",)
    job.close()


def test_a_broken_sheet_of_version_1_is_said_to_be_so(tmp_path):
    path = tmp_path / "old.yarvic"
    shutil.copy(OLD, path)
    connection = sqlite3.connect(path)
    connection.execute("UPDATE sheet SET document = '{\"vehicle\": 3}'")
    connection.commit()
    connection.close()
    for read_only in (True, False):
        with pytest.raises(JobError, match="cannot be understood"):
            Job.open(path, read_only=read_only)
    assert sheet_of_1("nonsense") == "nonsense"


def test_diesels_and_twins_of_version_1():
    old = {"vehicle": {"boost_controlled": True, "ignition": "compression"}, "stations": [], "limits": []}
    assert json.loads(sheet_of_1(json.dumps(old)))["vehicle"]["injection"] == "common rail"
    old["vehicle"] = {"boost_controlled": False, "rail": False}
    twin = json.loads(sheet_of_1(json.dumps(old)))["vehicle"]
    assert (twin["induction"], twin["injection"], twin["knock_control"]) == ("natural", "port", True)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"band_rpm": (3000, 2000)}, "must rise"),
        ({"standard": "best"}, "no correction standard"),
        ({"limits": PTARMIGAN.sheet().limits[:1] * 2}, "two limits"),
        ({"parts": ()}, "moved by"),
        ({"altitude_m": 20000}, "altitude_m"),
        ({"readiness": PTARMIGAN.sheet().readiness[:1] * 2}, "twice"),
        ({"pulls_required": 0}, "pulls_required"),
        ({"band_rpm": (2000, 1e308)}, "band_rpm"),
        ({"limits": PTARMIGAN.sheet().limits * 200}, "limits"),
    ],
)
def test_sheets_that_contradict_themselves(change, words):
    sheet = PTARMIGAN.sheet()
    with pytest.raises(JobError, match=words):
        sheet.changed(**change)


# -- killed

EDITS = """
import sys
from pathlib import Path
from yarvic.core.job.model import Fitting
from yarvic.core.job.store import Job
job = Job.open(Path(sys.argv[1]))
print("ready", flush=True)
for n in range(100000):
    v = job.sheet.vehicle.changed(mass_kg=1000.0 + n % 500)
    job.save_sheet(job.sheet.changed(vehicle=v), f"mass {n}")
    print(f"mass {n}", flush=True)
    if n % 5 == 0:
        job.fit(f"part {n}", {"fuel": f"part {n}"}, Fitting(parts=(f"p{n}",)))
        print(f"Build {len(job.builds())}: part {n}.".replace(" ", "_"), flush=True)
"""


@pytest.mark.parametrize("moment", range(4))
def test_kill_at_any_moment_keeps_the_sheet_whole(tmp_path, moment):
    """SIGKILL while the sheet changes and parts are fitted: what was reported is there, sheet and journal agree."""
    path = tmp_path / "a.yarvic"
    Job.create(path, PTARMIGAN.sheet(), author="R").close()
    process = subprocess.Popen([sys.executable, "-c", EDITS, str(path)], stdout=subprocess.PIPE, text=True)
    assert process.stdout.readline().strip() == "ready"
    time.sleep(0.06 + 0.041 * moment)
    process.kill()
    said = [line.strip().replace("_", " ") for line in process.stdout.read().splitlines()]
    process.wait()
    job = Job.open(path)
    lines = [e.sentence for e in job.journal()]
    assert [s for s in said if s not in lines] == [] and len(said) > 0
    last = [s for s in lines if s.startswith("mass")][-1]
    assert job.sheet.vehicle.mass_kg == 1000.0 + int(last.split()[1]) % 500
    assert len(job.builds()) == 1 + sum(s.startswith("Build") for s in lines)
    job.close()


def test_kill_while_an_old_file_is_brought_up_to_date_leaves_the_old_one(tmp_path):
    path = tmp_path / "old.yarvic"
    shutil.copy(OLD, path)
    code = (
        "import sys, os\nfrom pathlib import Path\nimport yarvic.core.job.migrations as m\n"
        "m.sheet_of_1 = lambda text: os.kill(os.getpid(), 9)\n"
        "from yarvic.core.job.store import Job\nJob.open(Path(sys.argv[1]))\n"
    )
    assert subprocess.run([sys.executable, "-c", code, str(path)], check=False).returncode == -9
    job = Job.open(path, read_only=True)
    assert job.sheet.vehicle.induction == "turbo"
    job.close()
    job = Job.open(path)
    assert job.builds()[-1].title == "front intercooler"
    job.close()
