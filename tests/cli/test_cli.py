"""The command line: exit codes, one message, JSON and nothing else."""

import json
import os
import shutil
import subprocess
import sys
from contextlib import closing
from datetime import date

import numpy as np
import program
import pytest
from evidence_files import read_log
from kept import kept_drafts

from yarvic.bench.loggers import STYLES, write_log
from yarvic.core.evidence.log import Log
from yarvic.core.formats.csv_log import write_csv_log
from yarvic.core.job.store import Job
from yarvic.core.release.keys import to_toml
from yarvic.demo.jobs import DEMO_JOBS
from yarvic.demo.ptarmigan import MILD

CODE = "import sys; from yarvic.cli import main; sys.argv = ['yarvic', *sys.argv[1:]]; main()"


def yarvic(*arguments, home=None):
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    if home is not None:
        env["YARVIC_HOME"] = str(home)
    return program.run(*map(str, arguments), env=env)


def test_correct():
    done = yarvic(
        "correct",
        "--standard",
        "sae-j1349",
        "--temperature",
        "25C",
        "--pressure",
        "990mbar",
        "--humidity",
        "0%",
        "--json",
    )
    assert done.returncode == 0 and done.stderr == ""
    document = json.loads(done.stdout)
    assert document["factor"] == pytest.approx(1.0, abs=2e-4)
    assert document["warnings"] == []
    words = yarvic(
        "correct", "--standard", "std", "--temperature", "77F", "--pressure", "29.23inHg", "--humidity", "0%"
    )
    assert "factor 1.04" in words.stdout


@pytest.mark.parametrize(
    "arguments",
    [
        ("--standard", "abc", "--temperature", "25C", "--pressure", "990mbar", "--humidity", "40%"),
        ("--standard", "std", "--temperature", "25", "--pressure", "990mbar", "--humidity", "40%"),
        ("--standard", "std", "--temperature", "25C", "--pressure", "990C", "--humidity", "40%"),
        ("--standard", "std", "--temperature", "25C", "--pressure", "14.5mbar", "--humidity", "40%"),
        ("--standard", "std", "--temperature", "25C", "--pressure", "990mbar", "--humidity", "40"),
    ],
)
def test_correct_refuses_what_cannot_be(arguments):
    done = yarvic("correct", *arguments)
    assert done.returncode == 2
    assert done.stdout == "" and done.stderr.startswith("yarvic: ")
    assert "Traceback" not in done.stderr and len(done.stderr.strip().splitlines()) == 1


def test_a_diesels_log_is_asked_about_smoke(demo_job, tmp_path):
    path = demo_job("wether")
    job = Job.open(path, read_only=True)
    log = tmp_path / "b1.csv"
    log.write_text(write_csv_log(job.log(job.evidence()[-2].id)))
    job.close()
    done = yarvic("check", log, "--job", path, "--json")
    assert done.returncode == 1, done.stderr
    checks = {c["check"] for c in json.loads(done.stdout)[0]["checks"]}
    assert "smoke_lambda" in checks and "knock_retard" not in checks and "lambda_lean" not in checks


def test_check(demo_path, tmp_path):
    job = Job.open(demo_path, read_only=True)
    paths = {}
    for evidence in job.evidence():
        if evidence.title in ("A1 pull 1", "B1 pull 1"):
            paths[evidence.title[:2]] = tmp_path / f"{evidence.title}.csv"
            paths[evidence.title[:2]].write_text(write_csv_log(job.log(evidence.id)))
    job.close()
    # What it drove no file says: then how fast it ran up is no power.
    unsaid = yarvic("check", paths["A1"], "--job", demo_path, "--json")
    power = next(c for c in json.loads(unsaid.stdout)[0]["checks"] if c["check"] == "power_loss")
    assert unsaid.returncode == 3 and power["severity"] == "no_data"
    assert "taken as the same, for the file does not say; the baseline was simulated" in str(
        json.loads(unsaid.stdout)[0]["notes"]
    )
    good = yarvic("check", paths["A1"], "--job", demo_path, "--same-drive", "--json")
    assert good.returncode == 0, good.stderr
    document = json.loads(good.stdout)
    assert document[0]["pulls"] == 1 and document[0]["verdict"] in ("pass", "watch")
    bad = yarvic("check", paths["A1"], paths["B1"], "--job", demo_path)
    assert bad.returncode == 1
    assert "Cylinder 2 knocked" in bad.stdout
    limits = tmp_path / "limits.toml"
    limits.write_text(
        '[knock_retard]\ntitle="k"\nquantity="angle"\nunit="deg"\nside="above"\nwatch=6.0\nstop=9.0\nsource="mine"\n'
    )
    assert yarvic("check", paths["B1"], "--job", demo_path, "--limits", limits, "--same-drive").returncode == 0
    other = yarvic("check", paths["A1"], "--job", demo_path, "--same-drive", "--fuel", "ethanol", "--json")
    assert "the baseline was pulled on" in str(json.loads(other.stdout)[0]["notes"])


@pytest.mark.parametrize(
    ("drop", "code", "said"),
    [
        ((), 0, "pass"),
        (("Spark correction cylinder 2",), 3, "cylinder 2 was not heard"),
        (("Lambda", "Lambda target"), 3, "Lambda is not in this log"),
        (("Ambient temperature",), 3, "no ambient temperature"),
    ],
)
def test_what_could_not_be_judged_is_no_pass(demo_path, tmp_path, drop, code, said):
    """Exit 3 and the verdict no_data where a check was asked and could not be answered."""
    job = Job.open(demo_path, read_only=True)
    log = job.log(next(e.id for e in job.evidence() if e.title == "A1 pull 1"))
    job.close()
    kept = Log({k: c for k, c in log.channels.items() if c.title not in drop})
    path = tmp_path / "a.csv"
    path.write_text(write_csv_log(kept))
    done = yarvic("check", path, "--job", demo_path, "--same-drive", "--json")
    assert done.returncode == code, done.stderr
    assert json.loads(done.stdout)[0]["verdict"] == ("no_data" if code else "pass")
    shown = yarvic("check", path, "--job", demo_path, "--same-drive")
    assert shown.returncode == code and said in shown.stdout
    if code:
        assert "no data" in shown.stdout.splitlines()[0]


def test_a_stop_outranks_what_is_not_known(demo_path, tmp_path):
    job = Job.open(demo_path, read_only=True)
    log = job.log(next(e.id for e in job.evidence() if e.title == "B1 pull 1"))
    job.close()
    path = tmp_path / "b.csv"
    path.write_text(write_csv_log(Log({k: c for k, c in log.channels.items() if not k.startswith("lambda")})))
    assert yarvic("check", path, "--job", demo_path).returncode == 1


def test_a_positive_knock_retard_and_a_fourth_cylinder_are_heard(tmp_path):
    rows = [
        "time [s],RPM [rpm],TPS [%],Knock retard 1 [°KW],Knock retard 2 [°],Knock retard 3 [deg],Knock retard 4 [deg]"
    ]
    for i in range(500):
        t = i * 0.02
        rows.append(f"{t:.2f},{1800 + 440 * t:.0f},100,0,0,0,{6.0 if 3 < t < 8 else 0.0}")
    path = tmp_path / "four.csv"
    path.write_text("\n".join(rows) + "\n")
    done = yarvic("check", path, "--cylinders", "4", "--json")
    assert done.returncode == 1, done.stderr
    found = {c["check"]: c for c in json.loads(done.stdout)[0]["checks"]}
    assert found["knock_retard"]["severity"] == "stop" and found["knock_retard"]["value"] == 6.0
    assert "Cylinder 4" in found["knock_retard"]["sentence"]


def test_gauge_pressure_is_judged_as_absolute(tmp_path):
    """The same boost written absolute and over the barometer is the same boost."""
    values = {}
    for name, unit, zero in (("abs", "kPa abs", 0.0), ("gauge", "bar(g)", 97.0), ("plain", "kPa", 97.0)):
        rows = [f"time [s],RPM [rpm],TPS [%],Boost pressure [{unit}],Boost target [{unit}],Barometer [kPa abs]"]
        for i in range(600):
            t = i * 0.02
            kpa = 100.0 + min(12.0 * max(t - 2.0, 0.0), 100.0) - zero
            scale = 100.0 if unit == "bar(g)" else 1.0
            target = (200.0 - zero) / scale
            rows.append(
                f"{t:.2f},{1800 + 440 * max(t - 2, 0):.0f},{100 if t > 2 else 5},{kpa / scale:.3f},{target:.3f},97.0"
            )
        path = tmp_path / f"{name}.csv"
        path.write_text("\n".join(rows) + "\n")
        log = read_log(path)
        values[name] = log.channel("boost_pressure").values.max()
        assert log.channel("boost_target").values.max() == pytest.approx(200e3, abs=200.0)
    assert values["abs"] == pytest.approx(values["gauge"], abs=200.0) == pytest.approx(values["plain"], abs=200.0)


def test_check_refuses_what_is_no_log(tmp_path, demo_path):
    path = tmp_path / "a.csv"
    path.write_text("time [s],RPM [rpm],TPS [%]\n0,1000,5\n1,1000,5\n2,1000,5\n")
    for arguments in ((path,), (tmp_path / "none.csv",), (demo_path,)):
        done = yarvic("check", *arguments)
        assert done.returncode == 2 and done.stdout == "" and "Traceback" not in done.stderr
    assert "no pull" in yarvic("check", path).stderr


def test_check_reports_every_file_and_exits_with_the_worst(tmp_path):
    """One that cannot be read stands beside those that were judged, and its exit code is the worst."""
    good, empty = tmp_path / "good.csv", tmp_path / "empty.csv"
    rows = ["time [s],RPM [rpm],TPS [%]"]
    rows += [f"{i / 20},{1500 + (i * 20 if i > 40 else 0)},{100 if i > 40 else 5}" for i in range(240)]
    good.write_text("\n".join(rows) + "\n")
    empty.write_text("time [s],RPM [rpm],TPS [%]\n0,1000,5\n1,1000,5\n")
    done = yarvic("check", good, empty, tmp_path / "none.csv", good, "--json")
    found = json.loads(done.stdout)
    assert [d["log"].rpartition("/")[2] for d in found] == ["good.csv", "empty.csv", "none.csv", "good.csv"]
    assert done.returncode == 2 and done.stderr.count("yarvic: ") == 2
    assert [("error" in d, d["pulls"]) for d in found] == [(False, 1), (True, 0), (True, 0), (False, 1)]
    assert yarvic("check", good, good).returncode == yarvic("check", good).returncode != 2


@pytest.fixture
def package(tmp_path, stock):
    from yarvic.core.calibration.image import image_id
    from yarvic.core.formats.images import image_to_hex
    from yarvic.core.release.package import build_package

    facts = {
        "job": "P", "vehicle": "\x1b[2JP", "family": "ptarmigan-14", "revision": "A1", "reason": "why", "build": "1",
        "author": "a", "signed_by": "Rowan\x1b]0;x\x07 Sedge", "time": "2026-03-01T00:00:00+00:00",
        "image_sha256": image_id(stock), "image_size": len(stock), "simulated": True, "waivers": [],
        "history": {"lines": 1, "sha256": "ab" * 32},
    }  # fmt: skip
    files = {"image.hex": image_to_hex(stock).encode(), "evidence.json": b"{}", "customer-sheet.pdf": b"%PDF"}

    def build(key):
        path = tmp_path / "a.zip"
        path.write_bytes(build_package(files, facts, key).data)
        return path

    return build


def test_verify_says_apart_whole_by_whom_and_known(tmp_path, package):
    from yarvic.core.release.keys import of_seed

    home = tmp_path / "home"
    key = of_seed(bytes(range(32)), "Rowan Sedge", date(2026, 1, 1))
    path = package(key)
    done = yarvic("verify", path, "--require-signature", home=home)
    assert done.returncode == 0 and "Whole: every file is what its manifest names." in done.stdout
    assert "unknown here" in done.stdout and key.public.fingerprint in done.stdout
    assert "\x1b" not in done.stdout and "\x07" not in done.stdout
    # The key comes as a file, and its fingerprint from its owner.
    theirs = tmp_path / "rowan.pub.toml"
    theirs.write_bytes(to_toml(key.public))
    assert yarvic("keys", "add", theirs, "--fingerprint", "AAAA-BBBB", home=home).returncode == 2
    added = yarvic("keys", "add", theirs, "--fingerprint", key.public.fingerprint.lower(), home=home)
    assert added.returncode == 0, added.stderr
    assert "known here since" in yarvic("verify", path, home=home).stdout
    assert json.loads(yarvic("verify", path, "--json", home=home).stdout)["signature"]["known"] is True
    gone = yarvic("keys", "revoke", key.public.fingerprint, "--reason", "stolen", home=home)
    assert gone.returncode == 0 and "stolen" in yarvic("keys", "show", home=home).stdout
    assert "revoked" in yarvic("verify", path, home=home).stdout
    assert yarvic("verify", path, "--require-signature", home=home).returncode == 1
    unsigned = package(None)
    done = yarvic("verify", unsigned, home=home)
    assert done.returncode == 0 and "Unsigned" in done.stdout
    assert yarvic("verify", unsigned, "--require-signature", home=home).returncode == 1


def test_verify_finds_what_was_changed(tmp_path, package):
    path = package(None)
    data = path.read_bytes()
    path.write_bytes(data + b"x")
    changed = yarvic("verify", path, "--json")
    assert changed.returncode == 1 and "added or changed" in json.loads(changed.stdout)["faults"][0]
    path.write_bytes(b"no")
    broken = yarvic("verify", path)
    assert broken.returncode == 2 and broken.stdout == "" and "Traceback" not in broken.stderr


def test_verify_goes_through_a_job(demo_path):
    import sqlite3

    done = yarvic("verify", demo_path)
    assert done.returncode == 0 and "lines in its journal" in done.stdout and "key of the demo" in done.stdout
    assert yarvic("verify", demo_path, "--require-signature").returncode == 1  # everybody has that key
    connection = sqlite3.connect(demo_path)
    connection.execute("UPDATE release SET manifest_sha256 = 'x', name = 'Somebody'")
    connection.commit()
    connection.close()
    changed = yarvic("verify", demo_path, "--json")
    assert changed.returncode == 1
    assert "is not as it was recorded" in json.loads(changed.stdout)["faults"][0]


def test_an_error_nobody_foresaw_is_one_message_and_exit_2(tmp_path):
    code = (
        "import yarvic.core.physics.correction as c\n"
        "def broken(*_): raise ZeroDivisionError('a slip')\n"
        "c.correction = broken\n"
        "import sys\nfrom yarvic.cli import main\n"
        "sys.argv = ['yarvic', 'correct', '--standard', 'std', '--temperature', '25C', '--pressure', '990mbar',"
        " '--humidity', '40%']\nmain()\n"
    )
    home = tmp_path / "home"
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=False,
        env={**os.environ, "YARVIC_HOME": str(home)},
    )  # fmt: skip
    assert done.returncode == 2 and done.stdout == "" and "Traceback" not in done.stderr
    assert "ZeroDivisionError" in done.stderr and "last-defect.txt" in done.stderr
    assert "a slip" in (home / "last-defect.txt").read_text()


@pytest.mark.parametrize(
    "arguments",
    [
        ("check", "x" * 5000), ("check", "/dev/zero"), ("check", "/dev/null"), ("check", "/"), ("verify", "/dev/stdin"),
        ("verify", ""), ("verify", "a\nb"), ("open", "/proc/self/mem"), ("check", "a.csv", "--limits", "y" * 5000),
        ("check", "a.csv", "--job", "z" * 300), ("keys", "add", "/", "--fingerprint", "x"),
        ("keys", "revoke", "x", "--reason", "y"),
        ("correct", "--standard", "std", "--temperature", "9" * 5000, "--pressure", "990mbar", "--humidity", "40%"),
        ("check", "a.csv", "--barometer", "nanmbar"), ("check", "a.csv", "--fuel", "\x1b"), ("demo", "--jobs", "/proc/none"),
    ],
)  # fmt: skip
def test_what_cannot_be_used_is_one_message_and_exit_2(tmp_path, arguments):
    done = subprocess.run(
        [sys.executable, "-c", "from yarvic.cli import main; main()", *arguments], cwd=tmp_path, timeout=60,
        capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL, errors="replace",
        env={**os.environ, "YARVIC_HOME": str(tmp_path / "home"), "PYTHONIOENCODING": "ascii", "LC_ALL": "C"},
    )  # fmt: skip
    assert done.returncode == 2 and done.stdout == "", (done.stdout, done.stderr)
    assert "Traceback" not in done.stderr and done.stderr.strip()
    assert "inside Yarvic" not in done.stderr


def test_an_ascii_terminal_is_answered_in_its_letters(tmp_path):
    log = tmp_path / "lög-°.csv"
    log.write_text("time [s],RPM [rpm]\n0,1000\n1,1000\n", encoding="utf-8")
    done = subprocess.run(
        [sys.executable, "-c", "from yarvic.cli import main; main()", "check", str(log)], capture_output=True,
        check=False, env={**os.environ, "PYTHONIOENCODING": "ascii"},
    )  # fmt: skip
    assert done.returncode == 2 and b"no pull" in done.stderr and b"Traceback" not in done.stderr


def test_open_refuses_what_is_no_job(tmp_path):
    path = tmp_path / "a.yarvic"
    path.write_text("no")
    done = yarvic("open", path, home=tmp_path / "home")
    assert done.returncode == 2 and "not a job" in done.stderr


def test_version_and_unknown_commands():
    assert yarvic("--version").stdout.startswith("yarvic ")
    assert yarvic("dance").returncode == 2


def test_the_demo_jobs_are_built_the_same_every_time(demo_job, tmp_path):
    (tmp_path / "jobs").mkdir()
    again = ("ptarmigan", "wether")  # the others are told by the same means, and stay as they lie there
    for name in (j.name for j in DEMO_JOBS if j.name not in again):
        shutil.copy(demo_job(name), tmp_path / "jobs" / f"{name}.yarvic")
    done = yarvic("demo", "--jobs", tmp_path / "jobs", home=tmp_path / "home")
    assert done.returncode == 0, done.stderr
    for name in (j.name for j in DEMO_JOBS):
        with (
            closing(Job.open(demo_job(name), read_only=True)) as one,
            closing(Job.open(tmp_path / "jobs" / f"{name}.yarvic", read_only=True)) as other,
        ):
            assert one.revisions() == other.revisions() and len(one.revisions()) >= 2
            assert kept_drafts(one) == kept_drafts(other)
            assert one.releases() == other.releases()
            assert one.journal() == other.journal()
            for a, b in zip(one.evidence(), other.evidence(), strict=True):
                assert a == b
                for key, channel in one.log(a.id).channels.items():
                    assert (channel.values == other.log(b.id).channels[key].values).all()


# -- logs of other loggers


def foreign(path, head, boost, zero=0.0):
    """A pull as a logger of few words writes it."""
    rows = []
    for i in range(300):
        t = i * 0.05
        pulls = 2.0 <= t <= 12.0
        kpa = (97.0 + min(12.0 * (t - 2.0), 88.0) if pulls else 45.0) - zero
        speed = 1800 + 440 * (t - 2.0) if pulls else 1800
        rows.append(
            f"{t:.2f};{speed:.0f};{100 if pulls else 15};{kpa * boost:.2f};{305 + t:.1f};{'D' if pulls else 'N'}"
        )
    path.write_text("\n".join([head, *rows]) + "\n")
    return path


def checked(*arguments):
    done = yarvic("check", *arguments, "--json")
    assert done.returncode in (0, 1, 3), done.stderr
    return json.loads(done.stdout)[0]


def test_check_says_what_it_used_guessed_and_did_not_understand(tmp_path):
    document = checked(foreign(tmp_path / "a.csv", "Time (s);RPM;TPS;MAP (kPa abs);IAT;Gear", 1.0))
    found = {c["name"]: (c["channel"], c["unit"], c["how"]) for c in document["columns"]}
    assert found == {
        "Time (s)": ("time", "s", "used"),
        "RPM": ("engine_speed", "rpm", "used"),
        "TPS": ("throttle", "%", "guessed"),
        "MAP (kPa abs)": ("boost_pressure", "kPa absolute", "used"),
        "IAT": ("charge_temperature", "K", "guessed"),
        "Gear": ("", "", "not_understood"),
    }
    assert document["pulls"] == 1 and all(c["reason"] for c in document["columns"])


def test_a_doubtful_guess_is_not_judged_and_a_mapping_settles_it(tmp_path):
    limits = tmp_path / "limits.toml"
    path = foreign(tmp_path / "a.csv", "Time (s);RPM;TPS;Boost (bar);IAT (K);Gear", 0.01, zero=97.0)
    document = checked(path, "--limits", limits) if limits.exists() else checked(path)
    boost = next(c for c in document["columns"] if c["channel"] == "boost_pressure")
    assert boost["unit"] == "bar gauge" and boost["how"] == "guessed"  # by its vacuum
    rise = next(c for c in document["checks"] if c["check"] == "charge_rise")
    assert rise["severity"] in ("pass", "watch")
    bare = foreign(tmp_path / "b.csv", "Time (s);RPM;TPS;MAP (kPa abs);Air;Gear", 1.0)
    assert next(c for c in checked(bare)["checks"] if c["check"] == "charge_rise")["severity"] == "no_data"
    mapping = tmp_path / "mapping.toml"
    mapping.write_text(
        'kind = "yarvic mapping"\n[[columns]]\nname = "Air"\nchannel = "charge_temperature"\nunit = "K"\nhow = "confirmed"\n'
    )
    document = checked(bare, "--mapping", mapping)
    assert {c["name"]: c["how"] for c in document["columns"]}["Air"] == "used"
    assert next(c for c in document["checks"] if c["check"] == "charge_rise")["severity"] in ("pass", "watch")
    other = mapping.read_text().replace('"Air"', '"Something"')
    mapping.write_text(other)
    done = yarvic("check", bare, "--mapping", mapping)
    assert done.returncode == 2 and "another logger" in done.stderr


def test_a_shop_adds_names_of_its_own(tmp_path):
    shop = tmp_path / "home/shop"
    shop.mkdir(parents=True)
    path = foreign(tmp_path / "a.csv", "Time (s);RPM;TPS;MAP (kPa abs);Luftfuehler Nord (K);Gear", 1.0)
    (shop / "channels.toml").write_text('[charge_temperature]\nnames.de = ["Luftfühler Nord"]\n')
    document = json.loads(yarvic("check", path, "--json", home=tmp_path / "home").stdout)[0]
    assert any(c["channel"] == "charge_temperature" and c["unit"] == "K" for c in document["columns"])
    (shop / "channels.toml").write_text('[charge_temperature]\nnames.de = ["Drehzahl"]\n')
    done = yarvic("check", path, home=tmp_path / "home")
    assert done.returncode == 2 and "stands for engine_speed and for charge_temperature" in done.stderr


def test_a_log_without_a_pull_says_what_was_not_understood(tmp_path):
    path = foreign(tmp_path / "a.csv", "Time (s);RPM;Valve;MAP (kPa abs);IAT (K);Gear", 1.0)
    done = yarvic("check", path)
    assert done.returncode == 2 and "no pull" in done.stderr and "'Valve'" in done.stderr
    path = foreign(tmp_path / "b.csv", "Time;RPM;TPS;MAP;IAT;Gear", 1.0)
    done = yarvic("check", path)
    assert "asked" in done.stdout and "not understood: Gear" in done.stdout


# -- dyno sheets


def sheet(tmp_path, text):
    path = tmp_path / "sheet.csv"
    rows = "\n".join(f"{n},{n * 0.018:.2f},{171.9:.1f}" for n in range(2000, 6001, 100))
    path.write_text(text + rows + "\n")
    return path


def test_dyno_says_what_a_sheet_holds_and_by_which_standard(tmp_path):
    weather = "Temperature: 24 °C\nStation pressure: 960 mbar\nHumidity: 40 %\n"
    path = sheet(tmp_path, weather + "rpm,wheel power [kW] uncorrected,torque [Nm]\n")
    done = yarvic("dyno", path, "--standard", "din-70020", "--json")
    assert done.returncode == 0, done.stderr
    (found,) = json.loads(done.stdout)
    # DIN 70020: (1013/p) sqrt((T+273)/293), from the standard's own formula.
    assert found["curve"]["factor"] == pytest.approx(1013 / 960 * (297 / 293) ** 0.5, rel=1e-3)
    assert found["basis"] == "wheel" and found["corrected_by"] == "none" and not found["faults"]
    said = yarvic("dyno", path).stdout
    assert "at the wheel, Uncorrected" in said and "108.0 kW at 6,000 rpm" in said


@pytest.mark.parametrize(
    "head, more, code, words",
    [
        ("rpm,power [kW],torque [Nm]\n", (), 3, "is not said"),
        ("rpm,power [kW],torque [Nm]\n", ("--basis", "wheel", "--corrected", "none"), 0, "at the wheel"),
        (
            "rpm,power [kW],torque [lb-ft]\n",
            ("--basis", "wheel", "--corrected", "none"),
            1,
            "power and torque disagree",
        ),
        ("rpm,power [kW],torque [Nm]\n", ("--basis", "hub"), 2, "Say wheel or crank"),
        ("rpm,power [kW],torque [Nm]\n", ("--standard", "best"), 2, "is unknown"),
        ("time [s],throttle [%],rpm\n", (), 2, "no dyno sheet"),
    ],
)
def test_dyno_exit_codes(tmp_path, head, more, code, words):
    done = yarvic("dyno", sheet(tmp_path, head), *more)
    assert done.returncode == code and words in done.stdout + done.stderr, done.stdout + done.stderr


def test_check_sends_a_dyno_sheet_to_dyno(tmp_path):
    done = yarvic("check", sheet(tmp_path, "rpm,power [kW],torque [Nm]\n"))
    assert done.returncode == 2 and "yarvic dyno" in done.stderr


# -- layouts


@pytest.fixture
def whinchat():
    from importlib.resources import files

    folder = files("yarvic.bench").joinpath("data")
    return folder.joinpath("ptarmigan_layout.toml")


def test_layout_says_what_lies_where(whinchat, tmp_path):
    from yarvic.bench.vehicles import stock_image
    from yarvic.core.formats.images import write_image

    done = yarvic("layout", str(whinchat), "--json")
    told = json.loads(done.stdout)
    assert done.returncode == 0 and told["faults"] == [] and told["left_out"] == []
    spark = next(e for e in told["entries"] if e["key"] == "spark_advance")
    assert (spark["kind"], spark["unit"], spark["address"], spark["shape"]) == ("map", "deg", 0x100, [10, 13])
    image = tmp_path / "stock.s37"
    write_image(image, stock_image("ptarmigan"), "srec")
    assert yarvic("layout", str(whinchat), str(image)).returncode == 0
    done = yarvic("layout", str(whinchat), str(image), "--values", "--json")
    held = json.loads(done.stdout)["values"]
    spark = held[min(held)]["spark_advance"]
    assert done.returncode == 0 and len(spark["values"]) == 10 and len(spark["x"]) == len(spark["values"][0]) == 13
    shown = yarvic("layout", str(whinchat), str(image), "--values").stdout
    assert f"{spark['values'][0][0]:.{spark['decimals']}f}" in shown.split("spark_advance deg")[1]
    assert "needs an image" in yarvic("layout", str(whinchat), "--values").stderr
    data = bytearray(stock_image("ptarmigan"))
    data[5000] ^= 1
    image.write_bytes(data)
    done = yarvic("layout", str(whinchat), str(image))
    assert done.returncode == 1 and "crc-32 at 0x1C" in done.stdout
    image.write_bytes(data[:-1])
    done = yarvic("layout", str(whinchat), str(image))
    assert done.returncode == 2 and "1 too few" in done.stderr


def test_layout_of_a_description_file(tmp_path):
    text = """ASAP2_VERSION 1 61 /begin PROJECT P "" /begin MODULE M ""
/begin MOD_COMMON "" BYTE_ORDER MSB_LAST /end MOD_COMMON
/begin RECORD_LAYOUT R FNC_VALUES 1 UWORD ROW_DIR DIRECT /end RECORD_LAYOUT
/begin CHARACTERISTIC A "limit" VALUE 0x8000 R 0 NO_COMPU_METHOD 0 9000 /end CHARACTERISTIC
/begin CHARACTERISTIC B "" CUBE_5 0x8002 R 0 NO_COMPU_METHOD 0 9000 /end CHARACTERISTIC
/end MODULE /end PROJECT"""
    path = tmp_path / "unit.a2l"
    path.write_text(text)
    done = yarvic("layout", str(path), "--json")
    told = json.loads(done.stdout)
    # What is left out could not be judged.
    assert done.returncode == 3 and [e["key"] for e in told["entries"]] == ["A"]
    assert [x["key"] for x in told["left_out"]] == ["B"] and told["left_out"][0]["line"] == 5
    image = tmp_path / "image.bin"
    image.write_bytes(bytes(16))
    done = yarvic("layout", str(path), str(image))
    assert done.returncode == 2 and "do not say where they begin" in done.stderr
    done = yarvic("layout", str(path), str(image), "--base", "0x8000")
    assert done.returncode == 3 and "states no checksum" in done.stdout
    assert yarvic("layout", str(path), str(image), "--base", "here").returncode == 2
    path.write_text(text.replace("/begin CHARACTERISTIC B", "/begin CHARACTERISTIC A"))
    assert yarvic("layout", str(path)).returncode == 1


def test_two_images_are_compared_byte_by_byte(tmp_path):
    from yarvic.bench.vehicles import stock_image
    from yarvic.core.formats.images import write_image

    data = bytearray(stock_image("ptarmigan"))
    write_image(tmp_path / "a.hex", bytes(data), "hex")
    data[5000] ^= 0xFF
    (tmp_path / "b.bin").write_bytes(data)
    assert yarvic("diff", tmp_path / "a.hex", tmp_path / "a.hex").returncode == 0
    done = yarvic("diff", tmp_path / "a.hex", tmp_path / "b.bin", "--json")
    told = json.loads(done.stdout)
    assert done.returncode == 1 and told["bytes_differ"] == 1 and told["differs"][0]["start"] == 5000
    assert yarvic("diff", tmp_path / "a.hex", tmp_path / "none").returncode == 2
    done = yarvic("diff", tmp_path / "a.hex", tmp_path / "b.bin", "--checksums")
    assert done.returncode == 1 and "No checksum was told by these two." in done.stdout


def test_two_images_tell_what_a_checksum_covers(tmp_path):
    from yarvic.core.calibration.checksum import Checksum

    made = Checksum(kind="crc-32", ranges=((0x40, 0x3F00),), address=0x1C, byte_order="big")
    for name, change in (("a.bin", 0), ("b.bin", 7)):
        data = bytearray(np.random.default_rng(1).integers(0, 256, 0x4000).astype(np.uint8).tobytes())
        data[0x800] ^= change
        made.correct(data, 0, "big")
        (tmp_path / name).write_bytes(data)
    files = tmp_path / "a.bin", tmp_path / "b.bin"
    done = yarvic("diff", *files, "--checksums")
    assert done.returncode == 1 and "covers 0x40 to 0x3EFF: holds in both" in done.stdout
    assert '\n[[checksums]]\nkind = "crc-32"\n' in done.stdout
    told = json.loads(yarvic("diff", *files, "--checksums", "--json").stdout)
    assert told["checksums"][0]["ranges"] == [[0x40, 0x3F00]] and told["checksums"][0]["confidence"] > 0.9
    assert "checksums" not in json.loads(yarvic("diff", *files, "--json").stdout)
    done = yarvic("diff", files[0], "A1", "B1", "--checksums")
    assert done.returncode == 2 and "--checksums is of two images" in done.stderr


def test_check_holds_a_log_against_the_baseline_of_its_job_and_names_causes(tmp_path, demo_path):
    """A leak that passes every limit of its own: seen only beside what the same maps gave before."""
    from dataclasses import replace

    from yarvic.demo.checks_campaign import _pulled, case

    def written(name, **changes):
        made = replace(case(1), engine="ptarmigan", air=MILD, dialect="", **changes)
        text = write_log(_pulled(made)[0][0], STYLES["plain"], stoichiometric_afr=14.6)
        (tmp_path / name).write_text(text)
        return tmp_path / name

    sound, leaks = written("sound.csv", fault="", size=0.0), written("leaks.csv", fault="boost_leak", size=0.5)
    document = checked(leaks, "--job", demo_path)
    assert document["baseline"] == "A1 on build 1"
    late = next(c for c in document["checks"] if c["check"] == "boost_delay")
    assert late["severity"] == "watch" and late["value"] > 100.0
    assert document["causes"][0]["cause"] == "boost_leak" and document["next_look"]
    document = checked(sound, "--job", demo_path)
    assert document["baseline"] == "A1 on build 1" and document["causes"] == []
    # Without a job nothing is known of how it was before.
    bare = checked(leaks)
    assert bare["baseline"] is None and not any(c["check"] == "boost_delay" for c in bare["checks"])
    said = yarvic("check", leaks, "--job", demo_path).stdout
    assert "points at: the charge pipes leak" in said and "held against A1" in said


def test_the_campaign_of_the_checks_prints_counts_and_writes_its_page(tmp_path):
    done = yarvic("campaign", "checks", "--seeds", "2", "--json", "--report", tmp_path / "checks.md")
    assert done.returncode in (0, 1), done.stderr
    document = json.loads(done.stdout)
    assert sum(f["runs"] for f in document["faults"]) == document["clean"]["runs"] == 1
    assert {"fault", "engine", "size", "runs", "found", "cause_first"} <= document["faults"][0].keys()
    page = (tmp_path / "checks.md").read_text()
    assert "# What the checks find" in page and "\n2 draws of each design" in page


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ("no speed", "engine speed was not logged"),
        ("no throttle", "throttle was not logged"),
        ("stuck", "throttle stays at 12 % all along"),
        ("constant", "engine speed stays at 3,000 rpm all along"),
    ],
)
def test_a_log_without_a_pull_says_what_of_it_is_in_the_way(tmp_path, change, why):
    rows = ["time (s),Engine speed (rpm),Throttle (%),Lambda"]
    for n in range(300):
        t = n * 0.05
        speed = 3000.0 if change == "constant" else 1800.0 + 300.0 * t
        rows.append(
            f"{t:.2f},{speed:.0f},{12 if change == 'stuck' else 100 if t > 2.0 else 20},{0.86 + 0.01 * (n % 3):.3f}"
        )
    text = "\n".join(rows) + "\n"
    if change == "no speed":
        text = text.replace("Engine speed (rpm)", "Oil level (mm)")
    if change == "no throttle":
        text = text.replace("Throttle (%)", "Fuel level (%)")
    (tmp_path / "a.csv").write_text(text)
    done = yarvic("check", tmp_path / "a.csv")
    assert done.returncode == 2 and "no pull was found" in done.stderr and why in done.stderr


def test_check_gives_the_matrix_and_the_owners_page_as_json(tmp_path):
    rows = ["time [s],Engine speed [rpm],Throttle [%],Coolant temperature [degC]"]
    for i in range(1200):
        t = i / 20.0
        phase = t % 30.0
        on = 10.0 <= phase < 20.0
        hot = 118.0 if t > 30.0 else 90.0
        rows.append(
            f"{t:.2f},{1800 + 440 * (phase - 10.0) if on else 1800:.0f},{100 if on else 12},{hot + 0.1 * (i % 3):.1f}"
        )
    (tmp_path / "two.csv").write_text("\n".join(rows))
    done = yarvic("check", tmp_path / "two.csv", "--json")
    (entry,) = json.loads(done.stdout)
    first, second = ({f["check"]: f for f in p["findings"]}["coolant_temperature"] for p in entry["pull_list"])
    assert (first["severity"], second["severity"]) == ("pass", "stop")
    assert (
        second["value"] == pytest.approx(391.35, abs=0.01) and second["margin"] < 0.0 and second["at_rpm"] >= 1800.0
    )
    worst = next(c for c in entry["checks"] if c["check"] == "coolant_temperature")
    assert worst["limit_key"] == "coolant_temperature" and "coolant_temperature" in worst["read"]
    assert entry["for_the_owner"]["in_a_sentence"].startswith(
        "Do not drive it hard until this is put right: temperatures"
    )
    assert any("Temperatures" in line for line in entry["for_the_owner"]["What is wrong"])


def test_check_says_what_a_log_without_a_pull_still_tells(tmp_path):
    rows = ["time [s],Engine speed [rpm],Throttle [%],Fuel trim [%]"]
    rows += [f"{i / 10.0:.1f},2100,14,{11.0 + 0.1 * (i % 3):.1f}" for i in range(900)]
    (tmp_path / "cruise.csv").write_text("\n".join(rows))
    done = yarvic("check", tmp_path / "cruise.csv")
    assert done.returncode == 2 and "Judged without a pull: At cruise the unit adds fuel" in done.stderr
    (tmp_path / "idle.csv").write_text("\n".join(r.replace(",2100,", ",900,") for r in rows))
    assert "Nothing of it can be judged without a pull" in yarvic("check", tmp_path / "idle.csv").stderr


def test_check_judges_by_the_limits_that_a_job_changed_and_a_file_comes_before_them(tmp_path, demo_path):
    from yarvic.core.checks.limits import OwnLimit

    job = Job.open(demo_path)
    own = OwnLimit(check="knock_retard", watch=5.0, stop=6.0, unit="deg", reason="race fuel", name="Rowan Sedge")
    log = job.log(next(e.id for e in job.evidence() if e.title == "B1 pull 1"))
    path = tmp_path / "b1.csv"
    path.write_text(write_csv_log(log))

    def limit(*arguments):
        found = {c["check"]: c for c in checked(path, "--job", demo_path, *arguments)["checks"]}
        return found["knock_retard"]["severity"], found["knock_retard"]["source"]

    assert limit()[0] == "stop"
    job.save_sheet(job.sheet.changed(check_limits=(own,)), "a limit of its own")
    job.close()
    assert limit() == ("pass", "this job: race fuel (Rowan Sedge)")
    file = tmp_path / "limits.toml"
    file.write_text(
        '[knock_retard]\ntitle = "Knock retard"\nquantity = "angle"\nunit = "deg"\nside = "above"\nwatch = 1.0\nstop = 2.0\n'
        'source = "a file"\n'
    )
    assert limit("--limits", file) == ("stop", "a file")


@pytest.mark.skipif(not os.path.exists("/dev/full"), reason="no full device here")
@pytest.mark.parametrize(
    "arguments",
    ["keys show", "correct --standard std --temperature 25C --pressure 990mbar --humidity 40%"],
)
def test_what_a_full_disk_does_not_take_is_said(arguments, tmp_path):
    env = {**os.environ, "YARVIC_HOME": str(tmp_path)}
    with open("/dev/full", "w") as full:
        done = subprocess.run(
            [sys.executable, "-c", CODE, *arguments.split()],
            stdout=full,
            stderr=subprocess.PIPE,
            text=True,
            env=env,
            check=False,
        )
    assert done.returncode == 2 and "the disk is full" in done.stderr and "report" not in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1
