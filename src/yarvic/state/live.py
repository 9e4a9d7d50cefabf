"""Logging from the unit while its engine runs: what is logged and how often, what has come, and the run that it becomes."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from psygnal import Signal

from yarvic.core.errors import Cancelled, JobError, LinkError, YarvicError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Log
from yarvic.core.job.runs import NewRun
from yarvic.state.reach.door import Engine, Reach
from yarvic.state.work import Asked, Progress, Work

if TYPE_CHECKING:
    from yarvic.core.job.model import Revision
    from yarvic.core.link.live import Logged
    from yarvic.state.bench import Measured
    from yarvic.state.requests import Request
    from yarvic.state.session import Session

USUAL_HZ = 20.0
KIND = "logging"
LONGEST_S = 4 * 3600.0
OF_THE_DYNO = ("roller_speed", "roller_torque")  # what the cell measures beside the unit


@dataclass(frozen=True)
class Moment:
    """Values that came together, at a time from the start."""

    time_s: float
    values: Mapping[str, float]


class Live:
    """`changed`: what is to be logged, or whether it runs; `came`: a moment, while it runs."""

    changed = Signal()
    came = Signal(object)

    def __init__(self, session: Session) -> None:
        self.session = session
        self.rate_hz = USUAL_HZ
        self.left_out: frozenset[str] = frozenset()
        self.given: tuple[str, ...] = ()  # what the unit gives, as far as it was asked
        self.moments: list[Moment] = []
        self.running = False
        self.said = ""
        self._stop = threading.Event()

    def channels(self) -> tuple[str, ...]:
        """What the unit gives: of a simulated one from its engine, of another as it said when it was asked last."""
        bench, reach = self.session.bench, self.session.link.reached()
        if bench is not None and reach is bench.link:
            try:
                return bench.rig(self.session.slot).heard_by_unit(bench.settings)
            except YarvicError:
                return ()  # a unit that does not start gives nothing; why is said where it is logged from
        return self.given

    def chosen(self) -> tuple[str, ...]:
        """What is logged; all that a unit gives as long as nobody asked it."""
        return tuple(c for c in self.channels() if c not in self.left_out)

    def choose(self, channel: str, on: bool) -> None:
        """Log a channel, or leave it out."""
        self.left_out = self.left_out - {channel} if on else self.left_out | {channel}
        self.changed.emit()

    def set_rate(self, rate_hz: float) -> None:
        """How many times a second."""
        self.rate_hz = rate_hz
        self.changed.emit()

    def stop(self) -> None:
        """End it; what came until then is kept."""
        self._stop.set()

    def start(self) -> None:
        """Log: a simulated vehicle is run as the bench is set, any other runs as it is driven."""
        s = self.session
        reach = s.link.reached()
        if s.job is None or reach is None:
            return
        try:
            asked = self._asked(reach)
        except YarvicError as error:
            s.failed.emit(error)
            return
        request = s.request(KIND, revision=asked.revision.id if asked.revision is not None else None)
        self._stop.clear()
        stop, mine = self._stop.is_set, s.busy is None

        def work(progress: Progress, cancelled: Asked) -> tuple[Logged, Measured | None]:
            return _log(asked, progress, cancelled, stop)

        def ended() -> None:
            self.running = False
            self.changed.emit()

        if mine:
            self.running, self.moments, self.said = True, [], ""
        s.start(
            request, "Logging", work, lambda found: self._record(request, asked, *found),
            ended=ended if mine else lambda: None, heard=self._heard,
        )  # fmt: skip
        self.changed.emit()

    def _asked(self, reach: Reach) -> _ToLog:
        s = self.session
        assert s.job is not None
        if s.job.read_only:
            raise JobError("the job is open read only", remedy="The log could not be recorded.")
        bench = s.bench if s.bench is not None and reach is s.bench.link else None
        if bench is None:
            return _ToLog(reach, s.link.holds(), None, (), self.left_out, self.rate_hz)
        revision, chosen = s.working_revision(), self.chosen()
        bench.may_pull(revision)
        pull = bench.pull_work(s.slot, [bench.settings])
        if not chosen:
            raise LinkError("there is no channel to log", remedy="Tick one.")
        return _ToLog(reach, revision, pull, chosen, self.left_out, self.rate_hz)

    def _heard(self, detail: object) -> None:
        if isinstance(detail, Moment):
            self.moments.append(detail)
            self.came.emit(detail)
        elif isinstance(detail, tuple):
            self.given = detail
            self.changed.emit()

    def _record(self, request: Request, asked: _ToLog, logged: Logged, measured: Measured | None) -> None:
        """Store what came as a run of the revision that the unit holds; unassigned where that is not known."""
        s, revision, reach = self.session, asked.revision, asked.reach
        job, log = s.job, logged.log
        assert job is not None
        conditions = Conditions(simulated=reach.simulated, run="", fan=None)  # of a drive nothing more is known
        if measured is not None:
            run, conditions = measured.runs[0]
            log = Log({**log.channels, **{k: run.channel(k) for k in OF_THE_DYNO if k in run.channels}})
        missed = f"{logged.missed:,} of {logged.due:,} moments were missed"
        title = f"{revision.name if revision is not None else 'unassigned'} log {len(job.evidence()) + 1}"
        noted = conditions.model_copy(update={"note": f"logged from the unit at {asked.rate_hz:g} Hz: {missed}"})
        job.add_runs(
            [NewRun(title, log, noted)],
            revision.id if revision is not None else None,
            source=f"logged over {reach.over}" if reach.over else "simulated bench",
            build=request.build if revision is not None else None,
        )
        if measured is not None and s.bench is not None:
            s.bench.pulled(measured)
        self.said = f"{title} is recorded: {missed} ({logged.share_missed * 100:.1f} %)."
        s.say(self.said)
        if logged.fault is not None:
            s.failed.emit(logged.fault)
        if revision is not None:
            s.judge(revision.id)


@dataclass(frozen=True)
class _ToLog:
    """What was asked for: the unit, the revision that it holds, the run that is made meanwhile, channels and rate."""

    reach: Reach
    revision: Revision | None
    pull: Work[Measured] | None
    channels: tuple[str, ...]
    left_out: frozenset[str]
    rate_hz: float


def _log(
    asked: _ToLog, progress: Progress, cancelled: Asked, stop: Callable[[], bool]
) -> tuple[Logged, Measured | None]:
    from yarvic.core.link.live import LiveLog, channels_of

    measured, engine, lasts_s = None, None, LONGEST_S
    if asked.pull is not None:
        measured = asked.pull(_quiet, cancelled)
        engine, lasts_s = _played(measured.runs[0][0], asked.channels)
    with asked.reach.live(engine) as hearing:
        given = tuple(channels_of(hearing.tester))
        progress(0.0, "Logging", given)

        def seen(t: float, values: Mapping[str, float]) -> None:
            progress(min(t / lasts_s, 1.0), f"Logging, {t:.0f} s", Moment(t, values))

        live = LiveLog(
            tester=hearing.tester, channels=[c for c in given if c not in asked.left_out], rate_hz=asked.rate_hz,
            seen=seen, clock=hearing.clock, sleep=hearing.sleep,
        )  # fmt: skip
        hearing.begin()
        found = live.run(lambda: stop() or cancelled(), longest_s=lasts_s)
    if cancelled():
        raise Cancelled("logging was cancelled", remedy="Nothing was recorded.")
    return found, measured


def _quiet(share: float, what: str, detail: object = None, /) -> None:
    """The simulated run is made before its time; what is shown is the log."""


def _played(log: Log, channels: tuple[str, ...]) -> tuple[Engine, float]:
    """A run as its engine gives it, each channel held from sample to sample; and how long it lasts."""
    columns = {k: log.channel(k) for k in channels if k in log.channels}

    def at(t: float) -> dict[str, float]:
        found = {}
        for key, column in columns.items():
            if column.time_s.size:
                n = max(int(np.searchsorted(column.time_s, t, side="right")) - 1, 0)
                found[key] = float(column.values[n])
        return found

    lasts_s = max((float(c.time_s[-1]) for c in columns.values() if c.time_s.size), default=0.0)
    return Engine(tuple(columns), at), lasts_s
