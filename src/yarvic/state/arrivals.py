"""What arrives from outside: recordings of files, looked at and answered before they become evidence; and read anew."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from psygnal import Signal

from yarvic.core.document import Document
from yarvic.core.errors import Cancelled, JobError, YarvicError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.job.runs import NewRun
from yarvic.core.physics.fuel import fuel as fuel_by_key
from yarvic.core.physics.fuel import fuels
from yarvic.state.work import Asked, Progress

if TYPE_CHECKING:
    from yarvic.core.evidence.mapping import Mapping
    from yarvic.core.evidence.origin import Assigned, NoteKind, Origin, Reading, SetAside
    from yarvic.core.evidence.raw import RawLog
    from yarvic.core.formats.logs.import_log import Recording
    from yarvic.core.job.model import Evidence
    from yarvic.state.arrival import Answers, Arrival
    from yarvic.state.session import Session

SOURCE = "file"
Said = tuple[str, "NoteKind", Document]


class Arrivals:
    """The recordings that wait to be answered, and the acts on those that are in the job already."""

    changed = Signal()

    def __init__(self, session: Session) -> None:
        self.session = session
        self.waiting: list[Arrival] = []
        self.at = 0
        # How each act is taken back: what is said again of runs, and of which.
        self._done: list[tuple[list[Said], str]] = []
        session.job_changed.connect(self._job_changed)
        self._opening = session.opening

    def _job_changed(self) -> None:
        if self._opening != self.session.opening:
            self._opening = self.session.opening
            self.waiting, self.at, self._done = [], 0, []
            self.changed.emit()

    @property
    def shown(self) -> Arrival | None:
        """The one that is looked at."""
        return self.waiting[self.at] if self.at < len(self.waiting) else None

    # -- arriving

    def open(
        self, path: Path, *, opened: Callable[[], None] = lambda: None, ended: Callable[[], None] = lambda: None
    ) -> None:
        """Read a file beside the window; its recordings then wait to be answered. `ended` whatever comes of it."""
        from yarvic.core.formats.logs.import_log import read_file
        from yarvic.state.arrival import Arrival
        from yarvic.state.mappings import known_mapping
        from yarvic.state.shop import channel_words

        session = self.session
        if session.job is None:
            session.failed.emit(JobError("no job is open", remedy="Open the vehicle's job, then drop the log again."))
            ended()
            return
        request = session.request("reading the file")

        def work(progress: Progress, cancelled: Asked) -> list[Recording]:
            progress(0.1, path.name)
            found = read_file(path, known_mapping, channel_words(), cancelled)
            if cancelled():
                raise Cancelled(f"reading {path.name} was cancelled")
            return found

        def arrive(found: list[Recording]) -> None:
            first = len(self.waiting)
            self.waiting += [Arrival(r, self._proposed(r)) for r in found]
            self.at = first
            self.changed.emit()
            opened()

        session.start(request, f"Reading {path.name}", work, arrive, ended=ended)

    def _proposed(self, recording: Recording) -> Answers:
        """What is proposed before a person says anything: the working revision, its build, the fuel of the vehicle."""
        from yarvic.state.arrival import Answers

        session = self.session
        assert session.job is not None
        origin = recording.origin
        title = f"{Path(origin.name).stem}, {origin.part}" if origin.part else Path(origin.name).stem
        time, columns = recording.understood.time, recording.understood.columns
        return Answers(time, columns, title[:80], None, "", *self._belongs(origin))

    def _belongs(self, origin: Origin) -> tuple[int | None, int | None]:
        """The revision and build that a file is from, as far as its time tells: the last flashed before it was begun."""
        job = self.session.job
        assert job is not None
        revision = self.session.evidence_revision()
        if origin.started:
            before = [f for f in job.flashes() if f.time[:10] <= origin.started[:10]]
            found = self.session.revision(before[-1].revision_id) if before else None
            revision = found or revision
        if revision is None:
            return None, None
        return revision.id, self.build_of(revision.id, origin.started)

    def build_of(self, revision: int, started: str = "") -> int:
        """The build that is proposed for a run of a revision: the one fitted when it began, else that of its other runs."""
        job = self.session.job
        assert job is not None
        builds, runs = job.builds(), job.runs_of(revision)
        if started:
            fitted = [b for b in builds if b.time[:10] <= started[:10]]
            return (fitted or builds)[-1].number
        return runs[-1].on_build if runs and runs[-1].build is not None else builds[-1].number

    def read_anew(self, run: Evidence, *, opened: Callable[[], None] = lambda: None) -> None:
        """Look again at how the columns of a run from a file are read."""
        from yarvic.core.formats.logs.import_log import Recording
        from yarvic.state.arrival import Answers, Arrival

        session = self.session
        assert session.job is not None
        job = session.job
        for at, waits in enumerate(self.waiting):
            if waits.run == run.id:
                self.look_at(at)
                opened()
                return
        request = session.request("reading the run", revision=run.revision_id)

        def work(progress: Progress, cancelled: Asked) -> tuple[RawLog, Reading]:
            reading = job.reading(run.id)
            if reading is None or run.origin is None:
                raise JobError(f"{run.title} was not imported from a file", remedy="Choose another run.")
            return job.raw(run.id), reading

        def arrive(found: tuple[RawLog, Reading]) -> None:
            raw, reading = found
            assert run.origin is not None
            answers = Answers(
                reading.understood.time, reading.understood.columns, run.title, reading.barometer_pa,
                _fuel_of(reading.stoichiometric_afr, session), run.revision_id, run.build,
            )  # fmt: skip
            self.waiting.append(Arrival(Recording(raw, run.origin, reading.understood), answers, run.id))
            self.at = len(self.waiting) - 1
            self.changed.emit()
            opened()

        session.start(request, f"Reading {run.title}", work, arrive)

    # -- answering

    def say(self, **said: object) -> None:
        """Say something of the one that is looked at: title, barometer, fuel, revision and build."""
        if self.shown is not None and self.shown.say(replace(self.shown.answers, **said)):  # type: ignore[arg-type]
            self.changed.emit()

    def tell(self, place: int, **said: object) -> None:
        """Say what a column is, or what the time counts in. Raises ValueError for what it cannot be."""
        from yarvic.state.arrival import TIME_PLACE

        arrival = self.shown
        if arrival is None:
            return
        if place == TIME_PLACE:
            self.say(time=arrival.answers.time.told(**said))
            return
        columns = list(arrival.answers.columns)
        columns[place] = columns[place].told(**said)
        key = columns[place].channel
        for n, other in enumerate(columns):
            if key and n != place and other.channel == key:
                # One channel, one column: the one that a person names has it.
                columns[n] = other.left_aside(f"'{columns[place].name}' was named {CHANNELS[key].title.lower()}")
        if arrival.say(replace(arrival.answers, columns=tuple(columns))):
            self.changed.emit()

    def use_mapping(self, mapping: Mapping) -> None:
        """Read the columns as a mapping says. Raises FormatError for one of another logger."""
        from yarvic.core.evidence.taking import understand
        from yarvic.state.shop import channel_words

        arrival = self.shown
        if arrival is None:
            return
        raw = replace(arrival.recording.raw, columns=list(arrival.recording.raw.columns))
        understood = understand(raw, mapping, channel_words(), mapping.title or "the mapping")
        self.say(time=understood.time, columns=understood.columns)

    def step(self, by: int) -> bool:
        """Undo or redo an answer; whether there was one."""
        if self.shown is None or not self.shown.step(by):
            return False
        self.changed.emit()
        return True

    def look_at(self, at: int) -> None:
        """Look at another of those that wait."""
        self.at = max(0, min(at, len(self.waiting) - 1))
        self.changed.emit()

    def leave(self) -> None:
        """Let go of the one that is looked at; nothing is kept of it."""
        if self.shown is not None:
            self.waiting.pop(self.at)
            self.at = max(0, min(self.at, len(self.waiting) - 1))
            self.changed.emit()

    # -- becoming evidence

    def accept(self) -> None:
        """Put the one that is looked at into the job, as it is answered; its mapping is remembered for its logger."""
        from yarvic.core.evidence.origin import SetAside
        from yarvic.state.mappings import remember_mapping

        session, arrival = self.session, self.shown
        if arrival is None or session.job is None:
            return
        job, said = session.job, arrival.answers
        request = session.request("importing", revision=said.revision)
        reading, origin = arrival.reading(), arrival.recording.origin
        before = next((e for e in job.evidence() if e.id == arrival.run), None)

        def work(progress: Progress, cancelled: Asked) -> Callable[[], list[Evidence]]:
            progress(0.2, said.title)
            if arrival.run:
                return lambda: self._read_otherwise(arrival.run, reading, said)
            run = NewRun(said.title, arrival.recording.raw, None, origin, reading)
            ready = job.ready_runs([run])
            if cancelled():
                raise Cancelled(f"importing {origin.name} was cancelled")
            return lambda: job.add_ready(ready, said.revision, source=SOURCE, build=said.build)

        def apply(commit: Callable[[], list[Evidence]]) -> None:
            made = commit()
            try:
                remember_mapping(reading.mapping)
            except YarvicError as error:
                session.say(f"The mapping could not be kept: {error}", trouble=True)
            if arrival in self.waiting:
                self.waiting.remove(arrival)
                self.at = max(0, min(self.at, len(self.waiting) - 1))
            if not arrival.run:
                undone: Said = (made[0].id, "set_aside", SetAside(reason="the import was undone"))
                self._done.append(([undone], said.title))
            where = session.name_of(said.revision) if said.revision is not None else "no revision yet"
            session.say(f"{said.title} is in the job, as evidence of {where}.")
            self._after({said.revision, before.revision_id if before is not None else None})

        session.start(request, f"Importing {said.title}", work, apply)

    def _read_otherwise(self, run: str, reading: Reading, said: Answers) -> list[Evidence]:
        from yarvic.core.evidence.origin import Assigned

        job = self.session.job
        assert job is not None
        found = next(e for e in job.evidence() if e.id == run)
        old = job.reading(run)
        assigned = Assigned(revision_id=said.revision, build=said.build)
        told: list[Said] = []
        back: list[Said] = []
        if old is not None and old != reading:
            told.append((run, "reading", reading))
            back.append((run, "reading", old))
        if (found.revision_id, found.build) != (said.revision, said.build):
            told.append((run, "assigned", assigned))
            back.append((run, "assigned", Assigned(revision_id=found.revision_id, build=found.build)))
        if told:
            job.say_of(told, f"{found.title} is read and assigned otherwise.")
            self._done.append((back, found.title))
        return [found]

    def assign(self, run: Evidence, revision: int | None, build: int | None) -> None:
        """Say to which revision and build a run belongs. Raises JobError."""
        from yarvic.core.evidence.origin import Assigned

        self._say(
            run,
            "assigned",
            Assigned(revision_id=revision, build=build),
            Assigned(revision_id=run.revision_id, build=run.build),
        )

    def set_aside(self, run: Evidence, pull: int | None, reason: str) -> None:
        """Set a pull, or a whole run, aside. Raises JobError without a reason."""
        from yarvic.core.evidence.origin import SetAside

        if not reason.strip():
            raise JobError("nothing is left out without a reason", remedy="Say why it does not count.")
        said = SetAside(pull=pull, reason=reason.strip(), name=self.session.settings.author)
        self._say(run, "set_aside", said, SetAside(pull=pull, aside=False))

    def take_back(self, run: Evidence, pull: int | None) -> None:
        """Let a pull, or a run, count again."""
        from yarvic.core.evidence.origin import SetAside

        said = SetAside(pull=pull, aside=False)
        self._say(run, "set_aside", said, SetAside(pull=pull, reason=run.aside.get(pull, "")))

    def _say(self, run: Evidence, kind: NoteKind, said: Assigned | SetAside, back: Assigned | SetAside) -> None:
        job = self.session.job
        if job is None:
            return
        what = (
            "is assigned otherwise"
            if kind == "assigned"
            else "counts"
            if not getattr(said, "aside", True)
            else "is left out"
        )
        job.say_of([(run.id, kind, said)], f"{run.title} {what}.")
        self._done.append(([(run.id, kind, back)], run.title))
        revisions = {run.revision_id, getattr(said, "revision_id", None)}
        self._after(revisions)

    def undo(self) -> bool:
        """Take back the last thing that was said of a run in the job; whether there was one. Raises JobError."""
        job = self.session.job
        if job is None or not self._done:
            return False
        back, title = self._done[-1]
        runs = {run for run, _, _ in back}
        before = {e.revision_id for e in job.evidence() if e.id in runs}
        job.say_of(back, f"{title}: the last change is undone.")
        self._done.pop()
        after = {e.revision_id for e in job.evidence() if e.id in runs}
        self.session.say(f"Undone: what was last said of {title}.")
        self._after(before | after)
        return True

    def _after(self, revisions: Sequence[int | None] | set[int | None]) -> None:
        for revision in revisions:
            if revision is not None:
                self.session.judge(revision)
        self.session.job_changed.emit()
        self.changed.emit()


def _fuel_of(ratio: float | None, session: Session) -> str:
    """The fuel whose ratio this is, one of the vehicle's before others; empty where none is."""
    job = session.job
    keys = [*(job.sheet.vehicle.fuels.values() if job is not None else ()), *fuels()]
    return next((k for k in keys if ratio is not None and abs(fuel_by_key(k).stoichiometric_afr - ratio) < 1e-6), "")
