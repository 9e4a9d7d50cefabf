"""What arrives from outside: recordings of files, looked at and answered before they become evidence; and read anew."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from yarvic.core.errors import Cancelled, JobError, YarvicError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.dictionary import TIME
from yarvic.core.job.runs import NewRun
from yarvic.core.physics.fuel import fuel as fuel_by_key
from yarvic.core.physics.fuel import fuels
from yarvic.state.placing import build_of, place_of, with_places_by_time
from yarvic.state.run_acts import RunActs, Said
from yarvic.state.work import Asked, Progress

if TYPE_CHECKING:
    from yarvic.core.evidence.mapping import Mapping
    from yarvic.core.evidence.origin import Reading
    from yarvic.core.evidence.sheet.joining import Candidate
    from yarvic.core.formats.logs.import_log import Recording
    from yarvic.core.job.model import Evidence
    from yarvic.core.job.store import Job
    from yarvic.state.arrival import Answers, Arrival
    from yarvic.state.session import Session

SOURCE = "file"
Joins = tuple[list["Candidate"], "Candidate | None"]
# So many of the last logs are held against a curve.
MOST_LOGS_JOINED = 30


class Arrivals(RunActs):
    """The recordings that wait to be answered, and the acts on those that are in the job already."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.waiting: list[Arrival] = []
        self.at = 0
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
        from yarvic.core.evidence.sheet.joining import one_for_each
        from yarvic.core.formats.logs.import_log import read_file
        from yarvic.state.arrival import Arrival
        from yarvic.state.mappings import known_mapping
        from yarvic.state.shop import channel_words

        session = self.session
        if session.job is None:
            session.failed.emit(JobError("no job is open", remedy="Open the vehicle's job, then drop the log again."))
            ended()
            return
        request, job = session.request("reading the file"), session.job

        def work(progress: Progress, cancelled: Asked) -> list[tuple[Recording, Joins]]:
            progress(0.1, path.name)
            found = read_file(path, known_mapping, channel_words(), cancelled, job.sheet.altitude_m)
            joins = pulls_of_curves(job, found, cancelled)
            if cancelled():
                raise Cancelled(f"reading {path.name} was cancelled")
            alone = one_for_each([of for _, of in joins])
            return [(r, (offered, of)) for r, (offered, _), of in zip(found, joins, alone, strict=True)]

        def arrive(found: list[tuple[Recording, Joins]]) -> None:
            first = len(self.waiting)
            for recording, joins in found:
                arrival = Arrival(recording, self._proposed(recording, joins[1]), candidates=joins[0])
                self.waiting.append(with_places_by_time(session, arrival))
            self.at = first
            self.changed.emit()
            opened()

        session.start(request, f"Reading {path.name}", work, arrive, ended=ended)

    def _proposed(self, recording: Recording, of: Candidate | None = None) -> Answers:
        """What is proposed before a person says anything: the working revision and its build; for a curve what its
        sheet says, full throttle, and the pull `of` a log whose engine speed has its shape.
        """
        from yarvic.state.arrival import UNKNOWN, Answers
        from yarvic.state.weather import Weather

        session = self.session
        assert session.job is not None
        origin = recording.origin
        title = f"{Path(origin.name).stem}, {origin.part}" if origin.part else Path(origin.name).stem
        time, columns = recording.understood.time, recording.understood.columns
        revision, build = place_of(session, origin)
        conditions, joined = UNKNOWN, None
        if recording.said is not None:
            conditions = recording.said.conditions.changed(throttle=1.0)
        if of is not None:
            run = next(e for e in session.job.evidence() if e.id == of.run)
            revision, build, joined = run.revision_id, run.build, (of.run, of.pull)
        said, height = recording.said, session.job.sheet.altitude_m
        weather = Weather(altitude_m=height) if said is None else Weather(said.pressure_pa, said.at, said.altitude_m)
        return Answers(
            time,
            columns,
            title[:80],
            None,
            "",
            revision,
            build,
            conditions,
            weather,
            recording.understood.curve,
            joined,
        )

    def build_of(self, revision: int) -> int:
        """The build that is proposed for a run of a revision."""
        assert self.session.job is not None
        return build_of(self.session.job, revision)

    def read_anew(self, run: Evidence, *, opened: Callable[[], None] = lambda: None) -> None:
        """Look again at how the columns of a run from a file are read."""
        from yarvic.core.formats.logs.import_log import Recording
        from yarvic.state.arrival import UNKNOWN, Answers, Arrival
        from yarvic.state.weather import Weather

        session = self.session
        assert session.job is not None
        job = session.job
        for at, waits in enumerate(self.waiting):
            if waits.run == run.id:
                self.look_at(at)
                opened()
                return
        request = session.request("reading the run", revision=run.revision_id)

        def work(progress: Progress, cancelled: Asked) -> tuple[Recording, Reading, Joins]:
            reading = job.reading(run.id)
            if reading is None or run.origin is None:
                raise JobError(f"{run.title} was not imported from a file", remedy="Choose another run.")
            recording = Recording(job.raw(run.id), run.origin, reading.understood)
            return recording, reading, pulls_of_curves(job, [recording], cancelled)[0]

        def arrive(found: tuple[Recording, Reading, Joins]) -> None:
            recording, reading, joins = found
            conditions = run.conditions or UNKNOWN
            known = conditions.pressure_pa
            weather = Weather(known, "station" if known is not None else "", job.sheet.altitude_m)
            answers = Answers(
                reading.understood.time, reading.understood.columns, run.title, reading.barometer_pa,
                _fuel_of(reading.stoichiometric_afr, session), run.revision_id, run.build, conditions, weather,
                reading.mapping.curve, run.joined, tuple(sorted(run.pulls.items())),
            )  # fmt: skip
            self.waiting.append(Arrival(recording, answers, run.id, joins[0]))
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
        from yarvic.core.evidence.as_told import renamed_time
        from yarvic.state.arrival import TIME_PLACE

        arrival = self.shown
        if arrival is None:
            return
        before, raw = arrival.answers, arrival.recording.raw
        if TIME in (said.get("channel"), before.column(place).channel) and "channel" in said:
            # Which column is the time: one of them always is.
            named = None if place == TIME_PLACE or said["channel"] != TIME else place
            time, columns = renamed_time(raw, before.time, before.columns, named)
            if said["channel"] != TIME and place != TIME_PLACE:
                columns[place] = columns[place].told(**said)
            if arrival.say(replace(before, time=time, columns=tuple(columns))):
                self.changed.emit()
            return
        if place == TIME_PLACE:
            if said.get("channel"):
                raise ValueError("What the file calls its time is read as Time, or left aside.")
            self.say(time=before.time.told(**said))
            return
        columns = list(before.columns)
        columns[place] = columns[place].told(**said)
        key = columns[place].channel
        for n, other in enumerate(columns):
            if key and n != place and other.channel == key:
                # One channel, one column: the one that a person names has it.
                columns[n] = other.left_aside(f"'{columns[place].name}' was named {CHANNELS[key].title.lower()}")
        if arrival.say(replace(arrival.answers, columns=tuple(columns))):
            self.changed.emit()

    def state(self, **said: object) -> None:
        """State conditions of the one that is looked at. Raises JobError, UnitError for what they cannot be."""
        arrival = self.shown
        if arrival is None:
            return
        answers = replace(arrival.answers, conditions=arrival.answers.conditions.changed(**said))
        answers.stated  # noqa: B018 - a dew point that cannot be is refused before it is kept
        if arrival.say(answers):
            self.changed.emit()

    def state_air(self, **said: object) -> None:
        """State the air of the one that is looked at, by the fields of `Weather`. Raises as `state` does."""
        arrival = self.shown
        if arrival is None:
            return
        weather = replace(arrival.answers.weather, **said)  # type: ignore[arg-type]
        answers = replace(arrival.answers, weather=weather)
        answers.stated  # noqa: B018
        if arrival.say(answers):
            self.changed.emit()

    def say_curve(self, **said: object) -> None:
        """Say what a curve's numbers are, by the fields of `CurveSaid`."""
        arrival = self.shown
        if arrival is not None and arrival.answers.curve is not None:
            self.say(curve=arrival.answers.curve.changed(**said))

    def place(self, pull: int | None, revision: int | None, build: int | None) -> None:
        """Say where a pull of the one that is looked at belongs, or all of it (None)."""
        if self.shown is not None and self.shown.say(self.shown.answers.placed(pull, (revision, build))):
            self.changed.emit()

    def join(self, run: str, pull: int) -> None:
        """Say in which pull of a log the curve was measured, none where `run` is empty; it belongs where that does."""
        job = self.session.job
        if job is None:
            return
        log = next((e for e in job.evidence() if e.id == run), None)
        if log is None:
            self.say(joined=None)
        else:
            self.say(joined=(run, pull), revision=log.revision_id, build=log.build)

    def use_mapping(self, mapping: Mapping) -> None:
        """Read the columns as a mapping says. Raises FormatError for one of another logger."""
        from yarvic.core.evidence.taking import understand
        from yarvic.state.shop import channel_words

        arrival = self.shown
        if arrival is None:
            return
        raw = replace(arrival.recording.raw, columns=list(arrival.recording.raw.columns))
        understood = understand(raw, mapping, channel_words(), mapping.title or "the mapping")
        self.say(time=understood.time, columns=understood.columns, curve=understood.curve)

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
        from yarvic.core.evidence.origin import Joined, PullAssigned, SetAside
        from yarvic.state.arrival import UNKNOWN
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
            stated = said.stated
            joined = Joined(run=said.joined[0], pull=said.joined[1]) if said.joined is not None else None
            pulls = tuple(PullAssigned(pull=n, revision_id=r, build=b) for n, (r, b) in said.pulls)
            known = stated if stated != UNKNOWN else None
            run = NewRun(said.title, arrival.recording.raw, known, origin, reading, joined, pulls)
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
            was = before.places if before is not None else set()
            self._after({said.revision, *(r for _, (r, _) in said.pulls), *(r for r, _ in was)})

        session.start(request, f"Importing {said.title}", work, apply)

    def _read_otherwise(self, run: str, reading: Reading, said: Answers) -> list[Evidence]:
        from yarvic.core.evidence.origin import Assigned, Joined, PullAssigned
        from yarvic.state.arrival import UNKNOWN

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
        stated, before = said.stated, found.conditions or UNKNOWN
        if stated != before:
            told.append((run, "conditions", stated))
            back.append((run, "conditions", before))
        if said.joined != found.joined:
            for notes, to in ((told, said.joined), (back, found.joined)):
                notes.append((run, "joined", Joined(run=to[0], pull=to[1]) if to is not None else Joined()))
        for n in sorted({*dict(said.pulls), *found.pulls}):
            was, now = found.pulls.get(n, (found.revision_id, found.build)), said.place_of(n)
            if was != now:
                told.append((run, "pull_assigned", PullAssigned(pull=n, revision_id=now[0], build=now[1])))
                back.append((run, "pull_assigned", PullAssigned(pull=n, revision_id=was[0], build=was[1])))
        if told:
            job.say_of(told, f"{found.title} is read and assigned otherwise.")
            self._done.append((back, found.title))
        return [found]


def pulls_of_curves(job: Job, recordings: Sequence[Recording], cancelled: Asked) -> list[Joins]:
    """For each recording the pulls of the job's logs in which its curve may have been measured, and the one it must be.

    None for a log. Each log is read once, whatever the number of curves.
    """
    from yarvic.core.evidence.sheet.joining import candidates
    from yarvic.state.arrival import FEW

    runs = job.evidence() if any(r.raw.sheet for r in recordings) else []
    logs = [e for e in runs if e.origin is not None and not e.is_sheet and None not in e.aside][-MOST_LOGS_JOINED:]
    read = [] if cancelled() else [(e.id, job.log(e.id, FEW)) for e in logs]
    taken = {e.joined for e in runs if e.joined is not None and None not in e.aside}
    made: list[Joins] = []
    for recording in recordings:
        speed = recording.log(recording.understood).channels.get("engine_speed") if recording.raw.sheet else None
        if speed is None or speed.doubt is not None or cancelled():
            made.append(([], None))
            continue
        stamps = None if recording.raw.clock == "row" else speed.time_s
        found, best = candidates(speed.values, stamps, read)
        made.append((found, None if best is not None and (best.run, best.pull) in taken else best))
    return made


def _fuel_of(ratio: float | None, session: Session) -> str:
    """The fuel whose ratio this is, one of the vehicle's before others; empty where none is."""
    job = session.job
    keys = [*(job.sheet.vehicle.fuels.values() if job is not None else ()), *fuels()]
    return next((k for k in keys if ratio is not None and abs(fuel_by_key(k).stoichiometric_afr - ratio) < 1e-6), "")
