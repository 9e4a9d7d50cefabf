"""Tells a job's story on the bench, through the same session that a person uses, by the story's own clock."""

from __future__ import annotations

import os
import shutil
import tempfile
import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cached_property
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np

from yarvic.bench.vehicles import layout_text, stock_image
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.table import Table
from yarvic.core.errors import Cancelled, YarvicError
from yarvic.core.formats.files import write_new
from yarvic.core.job.model import Fitting, JobSheet
from yarvic.core.job.store import Job
from yarvic.core.physics import FloatArray
from yarvic.core.physics.air import Air
from yarvic.core.plan.readiness import default_items
from yarvic.demo import outside
from yarvic.state.bench import BenchState
from yarvic.state.keys import demo_key
from yarvic.state.release import begin_waiver, capture, release, waive
from yarvic.state.session import Session
from yarvic.state.settings import Settings
from yarvic.state.work import Asked, Handle, Heard, InlineRunner, Progress, Work

AUTHOR = "Rowan Sedge"
TELLING = ".telling-"

Told = Callable[[float, str], None]
Change = Callable[[Calibration], list[tuple[Table, str]]]


@dataclass
class StoryClock:
    """A clock that the story sets and that moves on by a minute at each look."""

    now: datetime

    def __call__(self) -> datetime:
        self.now += timedelta(seconds=60)
        return self.now


class _StoryRunner(InlineRunner):
    """Runs work in place and lets the teller cancel it."""

    def __init__(self, cancelled: Callable[[], bool]) -> None:
        self.cancelled = cancelled

    def run(
        self,
        title: str,
        work: Work[Any],
        done: Callable[[Any], None],
        failed: Callable[[YarvicError], None],
        *,
        visible: bool = True,
        heard: Heard | None = None,
    ) -> Handle:
        def told(progress: Progress, asked: Asked) -> Any:
            return work(progress, self.cancelled)

        return super().run(title, told, done, failed, visible=visible, heard=heard)


@dataclass(frozen=True)
class Beginning:
    """What a job begins with: its sheet, the layout and stock image of its unit, the time, how many runs it will take."""

    sheet: JobSheet
    layout: str
    stock: bytes
    begins: datetime
    runs: int = 0


class Story:
    """A job being told. Whatever fails ends the telling with that error."""

    def __init__(self, path: Path, start: Beginning, progress: Told, cancelled: Callable[[], bool]) -> None:
        self.clock = StoryClock(start.begins)
        self._aside = tempfile.TemporaryDirectory(prefix="yarvic-story-")
        Job.create(path, start.sheet, start.layout, start.stock, author=AUTHOR, clock=self.clock).close()
        self.path, self.steps, self.progress, self.cancelled = path, start.runs, progress, cancelled
        self.session = Session(Settings(), _StoryRunner(cancelled))
        self.session.failed.connect(self._stop)
        self._failed: YarvicError | None = None
        self.session.open_job(path, clock=self.clock)
        assert self.session.job is not None
        self.job = self.session.job
        self.done = 0

    @cached_property
    def bench(self) -> BenchState:
        """The bench that simulates the vehicle; one that comes from outside has none."""
        bench = self.session.bench
        assert bench is not None
        bench.unit.seconds_per_block = 0.0
        # What is told is not the shop's: its images stay out of the vault.
        bench.link.place = Path(self._aside.name)
        return bench

    def _stop(self, error: YarvicError) -> None:
        self._failed = error

    def _go_on(self) -> None:
        if self._failed is not None:
            raise self._failed
        if self.cancelled():
            raise Cancelled("building the demo job was cancelled", remedy="Nothing was saved.")

    def wait(self, **span: float) -> None:
        """Let time pass."""
        self.clock.now += timedelta(**span)

    def weather(self, air: Air, hour: float) -> None:
        """The day's air in the cell."""
        self.bench.set_weather(air, hour=hour, drifts=True)

    def flash(self, name: str) -> None:
        """Write a revision into the unit."""
        self.session.choose_working(self.job.revision(name).id)
        self.session.link.write()
        self._go_on()

    def measure(self, name: str, count: int = 3, **run: Any) -> None:
        """Run the vehicle on what the unit holds: `run` are settings that differ from the usual ones."""
        usual = self.bench.settings
        self.session.choose_working(self.job.revision(name).id)
        self.bench.set_run(**run)
        for _ in range(count):
            self._go_on()
            self.session.pull(1)
            self._go_on()
            self.done += 1
            self.progress(min(self.done / self.steps, 1.0), f"{self.job.sheet.title}, {name}, run {self.done}")
        self.bench.settings = usual

    def fit(self, title: str, fitted: dict[str, str], **event: Any) -> None:
        """Fit parts: what stands at which station now, and the event's entries."""
        self.job.fit(title, fitted, Fitting(date=f"{self.clock.now:%Y-%m-%d}", **event))
        self.session.job_changed.emit()

    def edit(self, parent: str, change: Change, **scalars: float) -> None:
        """A draft on a revision, with tables and scalars changed in the first slot."""
        self.session.choose_working(self.job.revision(parent).id)
        draft = self.session.editable_draft()
        slot = self.session.slot
        for table, what in change(draft.image[slot]):
            draft.change(slot, table, what)
        for key, value in scalars.items():
            scalar = draft.image[slot].scalar(key)
            draft.change(slot, scalar.with_value(value), f"{scalar.title} set")
        self.session.edited(draft)

    def revise(self, parent: str, reason: str, change: Change, **scalars: float) -> str:
        """A revision on its parent; gives its name."""
        self.edit(parent, change, **scalars)
        made = self.session.commit_draft(reason, AUTHOR)
        self._go_on()
        return made.name

    def waive(self, name: str, condition: str, reason: str, signer: str = AUTHOR) -> None:
        """Set a condition of a revision's release aside, by name."""
        self.session.choose_working(self.job.revision(name).id)
        waive(self.session, begin_waiver(self.session, condition), signer, reason)

    def release(self, name: str, signer: str = AUTHOR) -> None:
        """Sign a revision, through the gate. Raises ReleaseError when the gate is shut."""
        self.session.choose_working(self.job.revision(name).id)
        package = self.path.with_name(f"{self.path.stem}-{name}.zip")
        release(self.session, capture(self.session, signer), package, demo_key)
        self._go_on()

    def close(self) -> None:
        """Close the job's file; a draft stays in it."""
        self.session.close_job()


@dataclass(frozen=True)
class DemoJob:
    """A demo job: its name, what it is in words, when its story begins, how many runs it takes, and the story."""

    name: str
    title: str
    begins: datetime
    runs: int
    told: Callable[[Story], None]
    outside: bool = False  # whose evidence comes as files, and of which nothing is simulated

    def begin(self) -> Beginning:
        """What its job begins with."""
        if self.outside:
            known = outside.taken()
            return Beginning(self.sheet(), known.layout.to_json(), known.data, self.begins)
        return Beginning(self.sheet(), layout_text(self.name), stock_image(self.name), self.begins, self.runs)

    def sheet(self) -> JobSheet:
        """The job sheet of its vehicle."""
        data = tomllib.loads(files("yarvic.demo").joinpath(f"data/{self.name}.toml").read_text("utf-8"))
        seen = {entry["key"]: entry for entry in data.pop("seen")}
        sheet = JobSheet.model_validate(data)
        when = (self.begins - timedelta(minutes=30)).isoformat(timespec="seconds")
        looked_at = tuple(
            item.seen(s["state"], s.get("reason", ""), AUTHOR, when, s.get("value"))
            if (s := seen.get(item.key))
            else item
            for item in default_items(sheet.vehicle)
        )
        return sheet.model_copy(update={"readiness": looked_at})

    def build(
        self,
        path: Path,
        progress: Told = lambda share, what: None,
        cancelled: Callable[[], bool] = lambda: False,
    ) -> None:
        """Tell the story into `path`, with the packages of what was released beside it.

        It is told in a folder of its own and moved when it is whole: what is not finished leaves nothing. Raises
        Cancelled and whatever went wrong.
        """
        _sweep(path.parent)
        with tempfile.TemporaryDirectory(prefix=f"{TELLING}{os.getpid()}-", dir=path.parent) as folder:
            here = Path(folder) / path.name
            teller = Story(here, self.begin(), progress, cancelled)
            try:
                self.told(teller)
            finally:
                teller.close()
            # The job itself last: when it is there, all of it is.
            for made in [*sorted(Path(folder).glob("*.zip")), here]:
                # Never in the place of one that came meanwhile: somebody may have it open.
                if not path.with_name(made.name).exists():
                    write_new(path.with_name(made.name), made.read_bytes())


def _sweep(folder: Path) -> None:
    """Remove what a telling that was killed has left: its process is gone."""
    for left in folder.glob(f"{TELLING}*"):
        process = left.name.removeprefix(TELLING).partition("-")[0]
        if process.isdigit() and not Path(f"/proc/{process}").exists():
            shutil.rmtree(left, ignore_errors=True)


def scaled(table: Table, speeds: list[float], shares: list[float], rows: FloatArray | None = None) -> Table:
    """The table times a share that runs along its engine speed axis; `rows` weighs its rows from 0 to 1."""
    share = np.interp(table.x.values, speeds, shares)
    weight = np.ones(table.y.values.size) if rows is None else rows
    factor = 1.0 + weight[:, None] * (share - 1.0)[None, :]
    return table.with_values(np.clip(table.values * factor, table.low, table.high))
