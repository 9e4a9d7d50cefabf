"""Other languages of the system, no fonts, no D-Bus, a fine screen: the window stands, and its numbers are the same."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

LANGUAGES = ["de_DE", "fa_IR", "tr_TR"]
NO_FONTS = '<?xml version="1.0"?><fontconfig><cachedir>{}</cachedir></fontconfig>'
ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def log(tmp_path_factory):
    """A log as it is written where a comma stands before the fraction."""
    rows = [(n / 20, 1800 + 15 * n, 100, 0.9, 180 + n / 10) for n in range(300)]
    head = "time [s];RPM [rpm];Throttle [%];Lambda [lambda];Boost [kPa abs]\n"
    path = tmp_path_factory.mktemp("log") / "comma.csv"
    path.write_text(head + "".join(";".join(f"{v:.3f}".replace(".", ",") for v in row) + "\n" for row in rows))
    return path


def in_desk(job, log, **more):
    """What the desk and the command line say with an environment; the job lies in the same place each time."""
    folder = log.parent / "shop"
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    shutil.copy(job, folder / "ptarmigan.yarvic")
    env = {
        **os.environ, "YARVIC_HOME": str(folder / "home"), "QT_QPA_PLATFORM": "offscreen", "LC_ALL": "C.UTF-8", **more
    }  # fmt: skip
    said = []
    for command in (
        ["-m", "tests.desk.surroundings", str(folder / "ptarmigan.yarvic"), str(log), str(folder)],
        ["-c", "from yarvic.cli import main; main()", "check", str(log), "--json"],
    ):
        done = subprocess.run(
            [sys.executable, *command], capture_output=True, text=True, encoding="utf-8", timeout=300, check=False,
            cwd=ROOT, env=env,
        )  # fmt: skip
        assert done.returncode != 2 and done.stdout, done.stderr[-2000:]
        said.append(json.loads(done.stdout))
    return said


@pytest.fixture(scope="module")
def usual(demo_file, log):
    desk, line = in_desk(demo_file, log)
    assert desk["unexpected"] == desk["heard"] == [] and desk["typed"] == 18.5 and desk["colours"] > 300
    assert all(len(words) > 20 for words in desk["pages"].values()) and len(desk["written"]) > 1000
    assert "1 pull was found: 1,800 to 6,285 rpm at 100 % throttle." in desk["pages"]["import"]
    return desk, line


def installed(language, folder):
    """The folder of a language of the system, made here where the system has none; None where it cannot be made."""
    if not shutil.which("localedef") or not Path(f"/usr/share/i18n/locales/{language}").exists():
        return None
    made = subprocess.run(
        ["localedef", "--no-archive", "-i", language, "-f", "UTF-8", str(folder / f"{language}.UTF-8")],
        capture_output=True, check=False,
    )  # fmt: skip
    return folder if made.returncode == 0 else None


@pytest.mark.parametrize("language", LANGUAGES)
def test_in_every_language_of_the_system_all_is_the_same(language, usual, demo_file, log, tmp_path):
    """Also to the last point that is drawn: nothing in the window goes by the system's marks and digits."""
    folder = installed(language, tmp_path)
    if folder is None:
        pytest.skip(f"localedef cannot make {language} here")
    assert in_desk(demo_file, log, LC_ALL=f"{language}.UTF-8", LOCPATH=str(folder)) == list(usual)


def test_without_fonts_and_dbus_on_a_fine_screen(usual, demo_file, log, tmp_path):
    """Our own fonts are drawn, and the same words stand there."""
    (tmp_path / "fonts.conf").write_text(NO_FONTS.format(tmp_path / "cache"))
    nobody = f"unix:path={tmp_path}/nobody"
    desk, line = in_desk(
        demo_file, log, FONTCONFIG_FILE=str(tmp_path / "fonts.conf"), QT_SCALE_FACTOR="1.5",
        DBUS_SESSION_BUS_ADDRESS=nobody, DBUS_SYSTEM_BUS_ADDRESS=nobody,
    )  # fmt: skip
    assert desk["ratio"] == 1.5 and desk["unexpected"] == desk["heard"] == [] and desk["colours"] > 300
    assert desk["pages"] == usual[0]["pages"] and desk["written"] == usual[0]["written"] and line == usual[1]
