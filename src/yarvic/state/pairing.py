"""Which image the gearbox's own unit is to hold with a revision: said by a person, from a file."""

from __future__ import annotations

from pathlib import Path

from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import JobError, name_of
from yarvic.core.formats.descriptions import read_description
from yarvic.core.formats.images import in_memory, read_image
from yarvic.core.job.model import Pairing
from yarvic.state.requests import Request
from yarvic.state.session import Session

KIND = "pairing"


def paired_in_words(session: Session) -> str:
    """What the gearbox's unit is to hold with the working revision; empty where the vehicle has none."""
    job, revision = session.job, session.working_revision()
    if job is None or not job.has_maps:
        return ""
    if not job.pairings():
        return "Of the gearbox's unit nothing was said yet." if job.sheet.vehicle.gearbox_unit else ""
    paired = job.pairing_of(revision.id) if revision is not None else None
    if revision is None or paired is None:
        return "Of a gearbox's unit nothing is said for this revision."
    return f"{revision.name} goes with {paired.title} in the gearbox's unit: both are written, or neither."


def may_pair(session: Session, revision: int | None) -> int:
    """For which revision a pairing is said: the first is what the gearbox's unit came with. Raises JobError."""
    job = session.job
    if job is None or not job.has_maps:
        raise JobError("the job has no maps yet", remedy="Import its stock image under Maps.")
    if job.read_only:
        raise JobError("the job is open read only", remedy="Close it elsewhere and open it again.")
    if not job.pairings():
        return job.revisions()[0].id
    if revision is None:
        raise JobError("a draft is paired with nothing", remedy="Commit it under Maps, then pair it.")
    return revision


def pair_image(
    session: Session, image: Path, description: Path | None = None, *, name: str, request: Request | None = None
) -> None:
    """Pair the revision that was asked for with an image of the gearbox's unit; the first of a job needs its description.

    Raises JobError. What is wrong with the files is shown; then nothing has changed.
    """
    request = request or session.request(KIND, revision=session.working)
    session.still(request)
    job = session.job
    asked = request.revision if session.revision(request.revision) is not None else None
    revision_id = may_pair(session, asked)
    assert job is not None
    known = job.pairings()
    if not known and description is None:
        raise JobError(
            "nothing is known of the gearbox's unit yet", remedy="Choose the description of its memory too."
        )

    def read() -> tuple[Layout, bytes]:
        layout = known[0].layout if known else read_description(description)[0] if description is not None else None
        assert layout is not None
        return layout, in_memory(read_image(image), layout)

    def pair(found: tuple[Layout, bytes]) -> None:
        made = job.pair(revision_id, found[0], found[1], name_of(Path(image.stem)), name)
        if session.bench is not None:
            session.bench.pair_up()
        session.settings.author = name.strip()
        session.link.paired()
        session.say(_said(session, made, first=not known))

    session.read_file(request, image, read, pair)


def _said(session: Session, made: Pairing, *, first: bool) -> str:
    revision = session.revision(made.revision_id)
    of = revision.name if revision is not None else "the revision"
    if first:
        return f"The gearbox's unit came with {made.title}: it goes with {of} and what is made of it."
    return f"{of} goes with {made.title} in the gearbox's unit."
