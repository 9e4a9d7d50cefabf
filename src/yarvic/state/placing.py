"""Where a recording, and each of its pulls, most likely belongs, by when it was made and what was flashed before."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from yarvic.core.job.model import Place
from yarvic.core.job.store import Job

if TYPE_CHECKING:
    from yarvic.core.evidence.origin import Origin
    from yarvic.state.arrival import Arrival
    from yarvic.state.session import Session

DATE = len("2000-01-01")


def place_of(session: Session, origin: Origin) -> Place:
    """The revision and build that a file is from, as far as its date tells: the last flashed until then, else the
    working one.
    """
    job = session.job
    assert job is not None
    revision = session.evidence_revision()
    if origin.started:
        before = [f for f in job.flashes() if _until(f.time, origin.started)]
        found = session.revision(before[-1].revision_id) if before else None
        revision = found or revision
    if revision is None:
        return None, None
    return revision.id, build_of(job, revision.id, origin.started)


def build_of(job: Job, revision: int, started: str = "") -> int:
    """The build that is proposed for a run of a revision: the one fitted when it began, else that of its other runs."""
    builds, runs = job.builds(), job.runs_of(revision)
    if started:
        fitted = [b for b in builds if _until(b.time, started)]
        return (fitted or builds)[-1].number
    return runs[-1].on_build if runs and runs[-1].build is not None else builds[-1].number


def with_places_by_time(session: Session, arrival: Arrival) -> Arrival:
    """The arrival with each pull given to the revision that was flashed last before it, where its file names the hour.

    Nothing changes where one revision holds for all of it; the first answer stays the one that is undone to.
    """
    job, started = session.job, _moment(arrival.recording.origin.started)
    if job is None or started is None or arrival.answers.curve is not None:
        return arrival
    flashed = [(at, f) for f in job.flashes() if (at := _moment(f.time)) is not None]
    answers = arrival.answers
    for number, pull in enumerate(arrival.pulls()):
        when = started + timedelta(seconds=pull.start_s)
        before = [f for at, f in flashed if at <= when]
        if before:
            build = [b for b in job.builds() if (at := _moment(b.time)) is not None and at <= when]
            place = before[-1].revision_id, (build or job.builds())[-1].number
            answers = answers.placed(number, place)
    arrival.steps[0] = answers
    return arrival


def _until(time: str, started: str) -> bool:
    """Whether something was done before a file was begun: by the hour where it names one, else by its date."""
    a, b = _moment(time), _moment(started)
    return time[:DATE] <= started[:DATE] if a is None or b is None else a <= b


def _moment(time: str) -> datetime | None:
    """A time by the clock on the wall; None for a date alone, and for what is no time."""
    try:
        found = datetime.fromisoformat(time)
    except ValueError:
        return None
    if len(time) <= DATE:
        return None
    return found.astimezone().replace(tzinfo=None) if found.tzinfo is not None else found
