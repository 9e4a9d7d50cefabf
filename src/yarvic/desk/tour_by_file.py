"""The patrol wagon by files alone: from a description, an image and logs to a map that is signed.

Nothing of it is simulated here. The shop's own writer stands between the export and the file that is read back.
"""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt

from yarvic.core.calibration.roles import kinds
from yarvic.core.job.store import Job
from yarvic.demo import outside
from yarvic.demo.foreign import half_written, read_out
from yarvic.demo.jobs import outside_files
from yarvic.demo.story import AUTHOR
from yarvic.demo.whinchat import WHINCHAT
from yarvic.desk.driver import Driver
from yarvic.desk.views.flash import FlashView
from yarvic.desk.views.importing import ImportView
from yarvic.desk.views.maps.view import MapsView
from yarvic.desk.views.release.sign import SignDialog
from yarvic.desk.views.release.view import ReleaseView
from yarvic.state.release import begin_waiver, waive

NAME = "whinchat-by-file"
WHY_NO_BASELINE = "one stock log came with the wagon; it cannot be measured in stock trim any more"


def sign(d: Driver, view: ReleaseView, path: Path, signer: str) -> None:
    """Sign by name, answer the question, and wait for the package."""
    d.fill(view.signer, signer)
    d.click(view.sign)
    d.wait("the question before signing", lambda: view.findChild(SignDialog) is not None)
    dialog = view.findChild(SignDialog)
    assert dialog is not None
    d.click(dialog.sign)
    d.idle()
    d.wait("the package", path.exists, 30.0)


class ByFiles:
    """From the first drop to the signature."""

    def __init__(self, driver: Driver) -> None:
        self.d, self.w = driver, driver.window

    def whole(self, folder: Path) -> Path:
        """All of it, in a job of its own; gives the package."""
        paths = {p.name: p for p in outside_files(folder)}
        self.begin(folder)
        self.drop_unit(paths)
        self.confirm_roles()
        self.revise()
        self.write(folder)
        self.measure(paths)
        return self.release()

    def say(self, step: str, result: str) -> None:
        """A step with its result."""
        self.d.say(f"By file, {step}: {result}")

    def _maps(self) -> MapsView:
        view = self.w.view("maps")
        assert isinstance(view, MapsView)
        return view

    def begin(self, folder: Path) -> None:
        """A job of which only the sheet is known."""
        path = folder / f"{NAME}.yarvic"
        for old in (path, *folder.glob(f"{NAME}-*")):
            old.unlink(missing_ok=True)
        Job.create(path, WHINCHAT.sheet(), author=AUTHOR).close()
        self.d.open(path)

    def drop_unit(self, paths: dict[str, Path]) -> None:
        """The description, what it does not say, and the image; then the image is the stock image."""
        for name in outside.OF_THE_UNIT:
            self.w.arriving.bring([paths[name]])
            self.d.idle()
        view = self._maps()
        self.d.picture("by-file-stock")
        self.say("3 Maps", view.stock.said.text())
        self.d.click(view.stock.go)
        self.d.idle()

    def confirm_roles(self) -> None:
        """What each table does, as it is proposed, is confirmed."""
        view = self._maps()
        self.d.click(view.page_words["roles"])
        self.d.picture("by-file-roles")
        self.d.click(view.roles.confirm)
        self.d.click(view.page_words["roles"])
        job = self.w.session.job
        assert job is not None
        self.say("3 Maps, roles", f"{len(job.layout.roles)} of {len(kinds())} are confirmed")
        self.d.picture("by-file-maps")

    def revise(self) -> None:
        """A1 asks for more boost and too much spark; A2 takes the spark back."""
        session = self.w.session
        assert session.job is not None
        roles = {name: role.entries[0] for name, role in session.job.layout.roles.items()}
        for change, why in (
            (outside.more_boost, "boost to 205 kPa, 3 deg more spark under load"),
            (outside.gentler, "spark back by 4 deg under load, where cylinder 4 knocked; more fuel at the top"),
        ):
            draft = session.editable_draft()
            for table, what in change(draft.image[session.slot], roles):
                draft.change(session.slot, table, what)
            session.edited(draft)
            self.d.settle()
            self.d.fill(self._maps().commit.reason, why)
            self.d.key(Qt.Key.Key_Return)
        self.say("3 Maps, committed", f"{session.working_name()} is on the ladder")

    def write(self, folder: Path) -> None:
        """Exported, seen to, written by the shop's writer; at first half of it, then all, read back each time."""
        d, s = self.d, self.w.session
        d.step(4)
        view = self.w.view("flash")
        assert isinstance(view, FlashView)
        panel, revision = view.by_file, s.working_revision()
        assert revision is not None and s.job is not None
        exported = folder / f"{NAME}-{revision.name.lower()}.hex"
        request = s.request("exporting the image", revision=revision.id)
        d.fill(panel.name, AUTHOR)
        panel.export_to(exported, request, "hex")
        d.idle()
        for box in panel.boxes.values():
            if box.isEnabled() and not box.isChecked():
                box.click()
        d.settle()
        d.picture("by-file-exported")
        d.click(panel.wrote)
        stock = s.job.image(s.revisions()[0].image)
        back = folder / f"{NAME}-back.s37"
        for made, name in ((half_written, "by-file-half-written"), (read_out, "by-file-read-back")):
            back.write_bytes(made(exported.read_bytes(), stock))
            panel.take_read_back(back, s.request("reading back", revision=revision.id))
            d.idle()
            d.picture(name)
            self.say("4 Flash", panel.said.text())

    def measure(self, paths: dict[str, Path]) -> None:
        """The stock log, the log of A2 and its dyno sheet are dropped and answered."""
        d, w, arrivals = self.d, self.w, self.w.arrivals
        for name, revision in ((outside.FRENCH, "Stock"), (outside.NOON, "A2"), (outside.SHEET_2, "A2")):
            d.rung(revision)
            w.arriving.bring([paths[name]])
            d.idle()
            page = w.shown()
            assert isinstance(page, ImportView) and arrivals.shown is not None
            if name == outside.NOON:
                d.fill(page.barometer, "968 mbar")
                d.key(Qt.Key.Key_Return)
                arrivals.say(fuel="petrol-95")
                d.fill(page.conditions.temperature, "26.5")
                d.key(Qt.Key.Key_Return)
            if name == outside.SHEET_2:
                self._join()
            self.say(name, page.pulls.text())
            while arrivals.shown is not None:
                arrivals.state(fuel="petrol-95")
                d.click(page.take)
                d.idle()
        d.step(5)
        d.rung("A2")
        d.rung("Stock", reference=True)
        d.picture("by-file-dyno")

    def _join(self) -> None:
        """Which curve was measured in which pull of the log: the shop did them one after the other."""
        job, arrivals = self.w.session.job, self.w.arrivals
        assert job is not None
        log = next(e for e in job.evidence() if e.title == Path(outside.NOON).stem)
        for number in range(3):
            arrivals.look_at(number)
            arrivals.join(log.id, number)
        arrivals.look_at(0)
        self.d.settle()

    def release(self) -> Path:
        """The gate: what falls short is waived by name where that is honest; then it is signed."""
        d, session = self.d, self.w.session
        d.step(8)
        waive(session, begin_waiver(session, "baseline"), AUTHOR, WHY_NO_BASELINE)
        d.idle()
        d.picture("by-file-release")
        view = self.w.view("release")
        assert isinstance(view, ReleaseView)
        self.say("8 Release", view.state.text())
        path = view.package_path()
        assert path is not None
        sign(d, view, path, AUTHOR)
        self.say("8 Release, signed", view.state.text())
        return path
