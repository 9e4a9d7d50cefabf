"""Refreshes docs/screenshots from the tour: one picture per view, and Maps in Night, as isolines."""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
from pathlib import Path

NAMES = {
    "01-job": "job",
    "02-job-readiness": "job-readiness",
    "03-job-station": "job-station",
    "04-plan": "plan",
    "05-plan-stages": "plan-stages",
    "07-checks-fall-short": "checks",
    "08-logs-where-it-knocked": "logs",
    "10-maps-spark-off": "maps",
    "11-flash-done": "flash",
    "13-dyno-against-stock": "dyno",
    "16-release-open": "release",
    "18-import": "import",
    "19-bench": "bench",
    "21-wether-ratings": "plan-ratings",
    "24-whinchat-sheet": "import-dyno-sheet",
    "30-by-file-half-written": "flash-by-file",
    "34-vault": "vault",
    "35-live-log": "live-log",
}


def main(target: Path) -> int:
    """Run the tour offscreen and keep its pictures of the views under their names."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from yarvic.desk.app import make_window
    from yarvic.desk.driver import Driver
    from yarvic.desk.tour import run_tour
    from yarvic.state.settings import Settings

    target.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as work:
        folder = Path(work)
        os.environ["YARVIC_HOME"] = str(folder / "home")
        # A folder of a plain name: it stands in the picture of the release.
        shop = Path(tempfile.gettempdir()) / "fennel-row"
        shutil.rmtree(shop, ignore_errors=True)
        if not run_tour(shop, print):
            return 1
        for picture, name in NAMES.items():
            shutil.copy(shop / f"{picture}.png", target / f"{name}.png")
        window = make_window(Settings(theme="night", author="Rowan Sedge", step="maps"))
        window.resize(1280, 800)
        window.show()
        driver = Driver(window, folder, print)
        driver.open(shop / "ptarmigan.yarvic")
        driver.rung("B1")
        driver.idle()
        window.view("maps").show_panel("isolines")
        shutil.copy(driver.picture("maps"), target / "maps-night.png")
        window.close()
    return 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("docs/screenshots")))
