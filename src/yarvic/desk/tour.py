"""Drives the real window through the main job: key presses and clicks on its widgets, never calls into the model."""

# The stubs of QtTest take its functions for methods of an object.
# mypy: disable-error-code="call-arg, arg-type, call-overload, misc"

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt

from yarvic.core.formats.files import make_folder
from yarvic.desk.app import make_window, unexpected
from yarvic.desk.driver import Driver, Say, TourStopped
from yarvic.desk.tour_by_file import ByFiles, sign
from yarvic.desk.views.job import JobView
from yarvic.desk.views.maps.view import MapsView
from yarvic.desk.views.plan import PlanView
from yarvic.desk.views.release.view import ReleaseView
from yarvic.state.selection import DRAFT
from yarvic.state.settings import Settings
from yarvic.state.verifying import report_of

SIGNER = "Rowan Sedge"


def run_tour(folder: Path, say: Say) -> bool:
    """The tour: pictures and the package are left in `folder`. True when the package is whole, and its signature fits."""
    make_folder(folder)
    from yarvic.demo.jobs import build_missing
    from yarvic.demo.ptarmigan import PTARMIGAN
    from yarvic.desk.tour_beside import Beside
    from yarvic.desk.tour_of_unit import OfUnit

    job = folder / "ptarmigan.yarvic"
    for old in (job, folder / "whinchat.yarvic", *folder.glob("ptarmigan-*.zip")):
        old.unlink(missing_ok=True)
    say(f"Building the demo job {job}: nine pulls on the simulated bench.")
    PTARMIGAN.build(job)
    window = make_window(Settings(author=SIGNER))
    window.resize(1280, 800)
    window.show()
    driver = Driver(window, folder, say)
    before = len(unexpected().errors)
    try:
        driver.open(job)
        package = Walk(driver).whole()
        say("Building the other demo jobs beside it.")
        build_missing(folder)
        Beside(driver).whole(folder)
        by_file = ByFiles(driver).whole(folder)
        OfUnit(driver).whole(folder)
    finally:
        window.close()
    for error in unexpected().errors[before:]:
        raise TourStopped(error.what, remedy=error.remedy, details=error.details)
    verified = report_of(package)
    signer = verified.signers[0][1]
    say(f"verify: {package.name}. {verified.verdict} {signer.sentence}")
    say(f"Pictures: {folder}")
    say(f"Release package: {package}")
    other = report_of(by_file)
    say(f"Release package of what was written by file: {by_file}. {other.verdict}")
    return all(v.intact and v.signed for v in (verified, other))


class Walk:
    """The steps of the tour, each said with its result."""

    def __init__(self, driver: Driver) -> None:
        self.d = driver
        self.w = driver.window

    def whole(self) -> Path:
        """All steps in order; gives the package."""
        self.read_job()
        self.see_trouble()
        self.retard_spark()
        self.commit()
        self.flash()
        self.pull()
        self.read_evidence()
        return self.release()

    def say(self, step: str, result: str) -> None:
        """A step with its result."""
        self.d.say(f"{step}: {result}")

    def read_job(self) -> None:
        """Job and Plan of the revision that came up short; a draft on it is in hand already."""
        self.d.rung("B1")
        self.d.step(1)
        self.d.picture("job")
        self.say(
            "1 Job",
            f"{self.w.session.working_name()} is selected; {self.w.readings.cards[0].reading.sentence.lower()}",
        )
        job = self.w.view("job")
        assert isinstance(job, JobView)
        job.show_panel("readiness")
        self.d.picture("job-readiness")
        job.show_station("intercooler")
        self.d.picture("job-station")
        self.d.step(2)
        plan = self.w.view("plan")
        assert isinstance(plan, PlanView)
        self.d.click(plan.target.solve_word)
        self.d.idle()
        self.d.picture("plan")
        self.say("2 Plan", plan.target.headline.text().lower())
        for panel in ("stages", "sizing"):
            plan.show_panel(panel)
            self.d.picture(f"plan-{panel}")
        plan.show_panel("target")

    def see_trouble(self) -> None:
        """Checks say why the revision may not be released; a click on the reading shows where."""
        self.d.step(7)
        self.d.picture("checks-fall-short")
        card = self.w.readings.cards[0]
        self.say("7 Checks", f"{card.reading.sentence}, {card.reading.numbers}")
        self.d.click(card)
        self.d.picture("logs-where-it-knocked")
        self.d.step(8)
        self.d.picture("release-falls-short")
        self.say("8 Release", self.w.view("release").state.text())  # type: ignore[attr-defined]

    def retard_spark(self) -> None:
        """Select the cells in which cylinder 2 was retarded, take 3 degrees off, smooth nothing, undo and redo."""
        d = self.d
        d.rung(self.w.session.name_of(DRAFT))
        d.rung("B1", reference=True)
        d.step(3)
        view = self.w.view("maps")
        assert isinstance(view, MapsView)
        view.maps.choose("spark_advance")
        d.settle()
        grid = view.grid
        table = view.maps.table()
        assert table is not None
        top = int((table.y.values >= 140.0).argmax())
        left, right = int((table.x.values >= 2500.0).argmax()), int((table.x.values >= 4500.0).argmax())
        first = grid.visualRect(grid.cells.index(top, left)).center()
        last = grid.visualRect(grid.cells.index(table.values.shape[0] - 1, right)).center()
        viewport = grid.viewport()
        assert viewport is not None
        d.click(viewport, first)
        d.click(viewport, last, Qt.KeyboardModifier.ShiftModifier)
        d.key(Qt.Key.Key_A)
        d.type("-3")
        d.key(Qt.Key.Key_Return)
        d.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        d.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        d.picture("maps-spark-off")
        self.say("3 Maps", view.about.text())

    def commit(self) -> None:
        """First without a reason, which is refused; then with one."""
        d = self.d
        view = self.w.view("maps")
        assert isinstance(view, MapsView)
        d.click(view.commit.commit_act)
        self.say("3 Maps, no reason given", view.commit.fault.text())
        d.fill(view.commit.reason, "spark retarded where cylinder 2 knocked")
        d.key(Qt.Key.Key_Return)
        self.say("3 Maps, committed", f"{self.w.session.working_name()} is on the ladder")

    def flash(self) -> None:
        """Write the revision into the unit."""
        d = self.d
        d.step(4)
        d.click(self.w.view("flash").main_widget())
        d.idle()
        d.picture("flash-done")
        self.say("4 Flash", self.w.status.message.text())

    def pull(self) -> None:
        """Three pulls in a row."""
        d = self.d
        d.step(5)
        d.click(self.w.view("dyno").main_widget())
        d.idle()
        d.rung("B1", reference=True)
        d.picture("dyno-against-b1")
        for card in self.w.readings.cards[:3]:
            self.say("5 Dyno", f"{card.reading.sentence}: {card.reading.numbers}")
        d.rung("Stock", reference=True)
        d.picture("dyno-against-stock")

    def read_evidence(self) -> None:
        """Logs and checks of the new revision."""
        d = self.d
        d.step(6)
        d.picture("logs")
        d.step(7)
        d.picture("checks-hold")
        card = self.w.readings.cards[0]
        self.say("7 Checks", f"worst is {card.reading.severity}: {card.reading.sentence}, {card.reading.numbers}")

    def release(self) -> Path:
        """Sign by name and export."""
        d = self.d
        d.step(8)
        d.picture("release-open")
        view = self.w.view("release")
        assert isinstance(view, ReleaseView)
        self.say("8 Release", view.state.text())
        path = view.package_path()
        assert path is not None
        sign(d, view, path, SIGNER)
        d.picture("release-signed")
        self.say("8 Release, signed", view.state.text())
        return path
