"""The demo job of the rescue buggy, measured on the bench from its first pull to the one that falls short.

Reproducible: the bench is seeded and the clock runs by the story, not by the day.
"""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from importlib.resources import files
from pathlib import Path

import numpy as np

from yarvic.bench.rig import PullSettings, Rig
from yarvic.bench.unit import SimulatedUnit
from yarvic.bench.vehicles import layout_text, plant_for, stock_image
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.edits import Edit, apply_edit, edit_between
from yarvic.core.calibration.image import pack, unpack
from yarvic.core.calibration.table import Table
from yarvic.core.errors import Cancelled
from yarvic.core.job.model import JobSheet, Revision
from yarvic.core.job.store import Job
from yarvic.core.link.flash import flash
from yarvic.core.physics.air import Air

AUTHOR = "Rowan Sedge"
SEED = 14
SLOT = "RON 95"
MILD = Air(97_420.0, 291.15, 0.52)
WARM = Air(96_980.0, 303.15, 0.41)
PULLS = PullSettings()


@dataclass
class _StoryClock:
    """A clock that the story sets and that moves on by a minute at each look."""

    now: datetime

    def __call__(self) -> datetime:
        self.now += timedelta(seconds=60)
        return self.now


Progress = Callable[[float, str], None]


def sheet() -> JobSheet:
    """The job sheet of the demo."""
    text = files("yarvic.demo").joinpath("data/ptarmigan.toml").read_text("utf-8")
    return JobSheet.model_validate(tomllib.loads(text))


def build_ptarmigan(
    path: Path,
    progress: Progress = lambda share, what: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> None:
    """Build the job at `path`: Stock, A1, a charge cooler fitted, B1; three pulls of each. Raises Cancelled.

    A job that is not finished is removed again.
    """
    clock = _StoryClock(datetime(2024, 3, 4, 8, 0, tzinfo=UTC))
    job = Job.create(path, sheet(), layout_text("ptarmigan"), stock_image("ptarmigan"), author=AUTHOR, clock=clock)
    try:
        _Story(job, clock, progress, cancelled).run()
    except BaseException:
        job.close()
        path.unlink(missing_ok=True)
        raise
    job.close()


class _Story:
    def __init__(self, job: Job, clock: _StoryClock, progress: Progress, cancelled: Callable[[], bool]) -> None:
        self.job, self.clock, self.progress, self.cancelled = job, clock, progress, cancelled
        self.unit = SimulatedUnit(job.layout, stock_image("ptarmigan"))
        self.done = 0

    def run(self) -> None:
        stock = self.job.revision("Stock")
        self._measure(stock, MILD)
        first = self._revise(stock, "fuel to target above 4,500 rpm", _fuel_to_target)
        self._measure(first, MILD)
        self.clock.now += timedelta(days=2)
        self.job.fit("front intercooler", {"intercooler": "front intercooler"})
        second = self._revise(first, "boost to 210 kPa for the front intercooler", _more_boost)
        self.clock.now += timedelta(hours=5)
        self._measure(second, WARM)

    def _measure(self, revision: Revision, air: Air) -> None:
        job = self.job
        image = job.image(revision.image)
        done = flash(self.unit, job.layout, image, lambda step: None, lambda: False)
        job.record_flash(revision.id, done.identity.name, done.image, len(done.written))
        rig = Rig(
            plant_for(job.layout.family).with_parts(job.fitted()), self.unit, SLOT, air, seed=SEED + revision.id
        )
        for number in range(1, 4):
            if self.cancelled():
                raise Cancelled("building the demo job was cancelled", remedy="Nothing was kept.")
            log, conditions = rig.pull(PULLS)
            title = f"{revision.name} pull {number}"
            job.add_evidence(title, revision.id, log, conditions, source="simulated bench")
            self.done += 1
            self.progress(self.done / 9.0, title)

    def _revise(
        self, parent: Revision, reason: str, change: Callable[[Calibration], list[tuple[Table, str]]]
    ) -> Revision:
        job, base = self.job, self.job.image(parent.image)
        calibrations = {slot: unpack(base, job.layout, slot) for slot in job.layout.slots}
        edits: list[Edit] = []
        for table, what in change(calibrations[SLOT]):
            edit = edit_between(SLOT, calibrations[SLOT].table(table.key), table, what)
            assert edit is not None
            calibrations[SLOT] = apply_edit(calibrations[SLOT], edit)
            edits.append(edit)
        name = job.next_name()
        image = pack(calibrations, job.layout, name, base)
        return job.commit_revision(name, parent.id, reason, AUTHOR, image, edits)


def _fuel_to_target(maps: Calibration) -> list[tuple[Table, str]]:
    table = maps.table("cylinder_filling")
    growth = np.interp(table.x.values, [4500.0, 5500.0, 6000.0, 7000.0], [1.006, 1.022, 1.032, 1.036])
    growth[table.x.values < 4500.0] = 1.0
    return [(table.with_values(table.values * growth), "filling up to what lambda showed")]


def _more_boost(maps: Calibration) -> list[tuple[Table, str]]:
    boost = maps.table("boost_target")
    open_wide = boost.y.values >= 75.0
    share = np.interp(boost.x.values, [1500, 2500, 4500, 5500, 6500, 7000], [1.06, 1.13, 1.14, 1.13, 1.10, 1.08])
    raised = np.where(open_wide[:, None], boost.values * share, boost.values)
    limit = maps.table("torque_limit")
    return [
        (boost.with_values(raised), "boost target raised at full throttle"),
        (limit.with_values(np.full_like(limit.values, 240.0)), "torque request limit to 240 N m"),
    ]
