"""What of the tour lies beside the main job: a log from outside, the bench's page, and what only the other jobs show."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt

from yarvic.bench.loggers import STYLES, write_log
from yarvic.desk.driver import Driver
from yarvic.desk.views.dyno import DynoView
from yarvic.desk.views.importing import ImportView
from yarvic.desk.views.logs.view import LogsView
from yarvic.desk.views.plan import PlanView

# The ratio that the other logger counts by.
PUMP_FUEL_AFR = 14.6


class Beside:
    """The steps beside the main job, each said with its result."""

    def __init__(self, driver: Driver) -> None:
        self.d = driver
        self.w = driver.window

    def whole(self, folder: Path) -> None:
        """A log from outside, the bench's page with a fault on, and what only the other two demo jobs show."""
        d, w = self.d, self.w
        self.bring_a_log(folder)
        d.step(5)
        d.rung("B1")
        d.key(Qt.Key.Key_B)
        assert w.session.bench is not None
        w.session.bench.set_fault("tired_pump", 0.4)
        d.picture("bench")
        self.say("Bench", f"injected faults: {w.session.bench.faults_text()}")
        d.key(Qt.Key.Key_Escape)
        self.d.open(folder / "wether.yarvic")
        d.rung("B1")
        d.step(6)
        logs = w.view("logs")
        assert isinstance(logs, LogsView)
        logs.choose(3)
        d.picture("wether-climb")
        card = next(c for c in w.readings.cards if c.reading.sentence.startswith("Torque for the gearbox"))
        self.say("Wether, 6 Logs", f"{card.reading.sentence}: {card.reading.numbers}")
        d.step(2)
        plan = w.view("plan")
        assert isinstance(plan, PlanView)
        plan.show_panel("ratings")
        refused = next(c for c in plan.ratings.cards if not c.move_.allowed)
        d.click(refused)
        d.wait("the way by parts", lambda: "being worked out" not in plan.ratings.beside.text())
        d.picture("wether-ratings")
        self.say("Wether, 2 Plan, ratings", plan.ratings.beside.text().replace("\n", " "))
        self.d.open(folder / "fieldfare.yarvic")
        d.rung("A2")
        d.rung("Stock", reference=True)
        d.step(5)
        dyno = w.view("dyno")
        assert isinstance(dyno, DynoView)
        dyno.choose_throttle(0.5)
        d.picture("fieldfare-half-throttle")
        self.say("Fieldfare, 5 Dyno at half throttle", dyno.peaks.text().replace("\n", "; "))
        self.from_outside(folder)

    def from_outside(self, folder: Path) -> None:
        """The wagon, of which nothing is simulated: three loggers' logs and a dyno sheet are dropped and answered."""
        from yarvic.demo import outside
        from yarvic.demo.jobs import outside_files

        d, w, arrivals = self.d, self.w, self.w.arrivals
        d.open(folder / "whinchat.yarvic")
        paths = {p.name: p for p in outside_files(folder)}
        for name, revision in ((outside.FRENCH, "Stock"), (outside.SPARSE, "A1"), (outside.GAUGE, "A1")):
            d.rung(revision)
            w.arriving.bring([paths[name]])
            d.idle()
            page = w.shown()
            assert isinstance(page, ImportView) and arrivals.shown is not None
            self.say(f"Whinchat, {name}", page.pulls.text())
            if name == outside.GAUGE:
                d.picture("whinchat-gauge")
                d.fill(page.barometer, "968 mbar")
                d.key(Qt.Key.Key_Return)
                arrivals.say(fuel="petrol-95")
            d.click(page.take)
            d.idle()
        w.arriving.bring([paths[outside.SHEET]])
        d.idle()
        page = w.shown()
        assert isinstance(page, ImportView)
        job = w.session.job
        assert job is not None
        evening = next(e for e in job.evidence() if e.title == Path(outside.GAUGE).stem)
        # Of three pulls in a row the shop knows which was logged: their engine speed does not tell.
        arrivals.look_at(1)
        arrivals.join(evening.id, 0)
        d.settle()
        page.turn_to(1)
        d.picture("whinchat-sheet")
        self.say("Whinchat, dyno sheet", f"{page.pulls.text()} In the pull: {page.curve.joined_said.text()}")
        while arrivals.shown is not None:
            d.click(page.take)
            d.idle()
        d.step(5)
        d.picture("whinchat-dyno")
        dyno = w.view("dyno")
        assert isinstance(dyno, DynoView)
        self.say("Whinchat, 5 Dyno", dyno.peaks.text().replace("\n", "; "))
        d.step(7)
        card = w.readings.cards[0]
        self.say("Whinchat, 7 Checks", f"{card.reading.sentence}: {card.reading.numbers}")

    def bring_a_log(self, folder: Path) -> None:
        """A run of the bench as another logger wrote it: dropped, answered, and in the job."""
        d, w = self.d, self.w
        d.rung("A1")
        results = w.session.working_results()
        assert results is not None
        path = folder / "evening-run.csv"
        path.write_text(
            write_log(results.pulls[0].log, STYLES["imperial"], stoichiometric_afr=PUMP_FUEL_AFR), "utf-8"
        )
        w.arriving.bring([path])
        d.idle()
        page = w.shown()
        assert isinstance(page, ImportView)
        d.picture("import")
        asked = page.arrivals.shown.asked() if page.arrivals.shown is not None else 0
        self.say("6 Logs, Import", f"{asked} columns of {path.name} are in doubt: an air-fuel ratio needs its fuel")
        w.arrivals.say(fuel="petrol-95")
        d.click(page.take)
        d.idle()
        self.say("6 Logs, Import", w.status.message.text())

    def say(self, step: str, result: str) -> None:
        """A step with its result."""
        self.d.say(f"{step}: {result}")
