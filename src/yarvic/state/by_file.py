"""Writing a unit by file: exporting a revision's image, saying that it was written, and taking what was read back."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from yarvic.core.calibration.image import image_id
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import JobError, LinkError, name_of
from yarvic.core.formats.files import ascii_name, write_whole
from yarvic.core.formats.images import FORMS, SUFFIXES, Form, in_memory, read_image, to_text
from yarvic.core.job.model import Carriage, Carried, Differing, Revision
from yarvic.core.job.store import Job
from yarvic.core.link.by_file import ReadBack, compare_read_back, items
from yarvic.core.plan.readiness import Readiness
from yarvic.state.session import Session
from yarvic.state.work import Asked, Progress

MOST_RANGES = 1000
MOST_OTHERS = 6


def steps_of(job: Job, revision: Revision | None) -> list[Carried]:
    """The steps by file that belong to a revision, in order."""
    return [c for c in job.carried() if revision is not None and c.revision_id == revision.id]


def file_name(job: Job, revision: Revision, form: Form) -> str:
    """The name that an exported image is proposed: job, revision and form."""
    return f"{ascii_name(job.sheet.title) or 'unit'}-{ascii_name(revision.name) or revision.id}{SUFFIXES[form]}"


def unit_in_words(session: Session) -> str:
    """What is known of the unit, which nobody here can ask: as it was read back last, or written since."""
    job = session.job
    if job is None:
        return ""
    steps = [c for c in job.carried() if c.kind != "exported"]
    if not steps:
        return "not read yet"
    last = steps[-1]
    when = f"{last.time[:16].replace('T', ' ')} UTC"
    named = session.revision(last.revision_id)
    if last.kind == "written":
        return f"unknown: {last.name} wrote {named.name if named else 'an image'} on {when}, and nobody read it back"
    held = _held(session, last)
    return f"{held.name if held else 'an image that is none of this job'}, as last read back, by file, on {when}"


def _held(session: Session, step: Carried) -> Revision | None:
    return next((r for r in reversed(session.revisions()) if r.image == step.document.image), None)


def export(session: Session, revision: Revision, path: Path, form: Form, name: str) -> None:
    """Write a revision's image to a file in a form, its checksums as they are in the job, and record that.

    Raises JobError, LinkError where it may not be.
    """
    job = _may_write(session)
    stops = Readiness(tuple(job.sheet.readiness)).stopping()
    if stops:
        raise LinkError(f"writing is stopped by the vehicle's readiness: {stops}", remedy="See to it under Job.")
    if not name.strip():
        raise JobError("who exports it is not said", remedy="Fill in your name.")
    layout = job.layout
    request = session.request("exporting the image", revision=revision.id)

    def work(progress: Progress, cancelled: Asked) -> tuple[str, str]:
        progress(0.2, path.name)
        data = to_text(job.image(revision.image), form, layout.base, layout.gaps)
        write_whole(path, data)
        return name_of(path), hashlib.sha256(data).hexdigest()

    def apply(made: tuple[str, str]) -> None:
        document = Carriage(file=made[0], form=form, sha256=made[1], image=revision.image)
        sentence = f"{revision.name} exported to {made[0]} ({FORMS[form]}), SHA-256 {made[1][:12]}."
        job.record_carried(revision.id, "exported", name, document, sentence)
        session.settings.author = name.strip()
        session.say(f"{revision.name} is in {path}. Nothing is written to a unit yet.")

    session.start(request, f"Exporting {revision.name}", work, apply)


def _may_write(session: Session) -> Job:
    job = session.job
    if job is None:
        raise JobError("no job is open", remedy="Open a job first.")
    if job.read_only:
        raise JobError("the job is open read only", remedy="What is done by file could not be recorded.")
    return job


def say_written(session: Session, revision: Revision, name: str, ticked: Iterable[str]) -> Carried:
    """Record that a person wrote an exported image with their own writer, having seen to what is to be seen to.

    Raises JobError where it was not exported since the last time, or something is not ticked.
    """
    job = _may_write(session)
    steps = steps_of(job, revision)
    if not steps or steps[-1].kind != "exported":
        raise JobError(f"{revision.name} was not exported since", remedy="Export it first.")
    done = set(ticked)
    open_ = [i for i in items() if i.when != "after" and i.key not in done]
    if open_:
        raise JobError(
            f"{len(open_)} thing{'s' if len(open_) != 1 else ''} to see to {'are' if len(open_) != 1 else 'is'} not ticked,"
            f" the first: {open_[0].text}",
            remedy="See to it, and tick it.",
        )
    exported = steps[-1].document
    document = Carriage(
        file=exported.file,
        form=exported.form,
        sha256=exported.sha256,
        image=revision.image,
        ticked=tuple(sorted(done)),
    )
    sentence = f"{name.strip()} wrote {revision.name} to the unit by file ({exported.file}); not read back yet."
    made = job.record_carried(revision.id, "written", name, document, sentence)
    session.bench_changed.emit()
    session.say(f"{revision.name} is said to be written. Read the whole memory back, and take the file here.")
    return made


@dataclass(frozen=True)
class Compared:
    """What was read back from a unit, against the revision that was to be in it."""

    file: str
    sha256: str
    image: str
    found: ReadBack
    is_of: str  # the name of another revision that it is, if it is one

    def document(self) -> Carriage:
        """As the job keeps it."""
        ranges = tuple(
            Differing(start=r.start, end=r.end, names=tuple(n[:200] for n in r.names))
            for r in self.found.differs[:MOST_RANGES]
        )
        return Carriage(
            file=self.file,
            sha256=self.sha256,
            image=self.image,
            equal=self.found.equal,
            compared=self.found.compared,
            aside=self.found.aside,
            differs=ranges,
            said=self.said(),
        )

    def said(self) -> str:
        """What differs, in a sentence or two; what may be the reason first."""
        f = self.found
        if f.equal:
            return ""
        why = f"It is what {self.is_of} is: the write did not take. " if self.is_of else ""
        if not why and f.as_before:
            why = "All that differs is as it was before: the write did not end. "
        count = sum(r.end - r.start for r in f.differs)
        where: dict[str, int] = {}
        for r in f.differs:
            where.setdefault(", ".join(r.names) or "no table", r.start)
        first = "; ".join(f"{names} from 0x{start:X} on" for names, start in list(where.items())[:4])
        more = f"; and {len(where) - 4} more" if len(where) > 4 else ""
        return f"{why}{count:,} byte{'s differ' if count != 1 else ' differs'}: {first}{more}."


def compared(path: Path, layout: Layout, revision: Revision, images: dict[str, tuple[str, bytes]]) -> Compared:
    """Read a file that was read back from a unit and compare it; `images` are the job's by SHA-256, with their names.

    Raises FormatError, CalibrationError for a file of another unit, or one that is shorter or longer.
    """
    file = read_image(path)
    data = in_memory(file, layout)
    written = images[revision.image][1]
    others = [(sha, name, image) for sha, (name, image) in images.items() if sha != revision.image]
    found = compare_read_back(layout, written, data, [image for _, _, image in others], source=path.name)
    image, is_of = (revision.image if found.equal else image_id(data)), ""
    if not found.equal:
        for sha, name, other in others:
            if compare_read_back(layout, other, data, (), source=path.name).equal:
                image, is_of = sha, name
                break
    return Compared(name_of(path), file.sha256, image, found, is_of)


def read_back(session: Session, revision: Revision, path: Path, name: str) -> None:
    """Take the file that was read back from the unit: compared byte by byte with the revision, and recorded.

    Raises JobError where it may not be. What is wrong with the file is shown; then nothing is recorded.
    """
    job = _may_write(session)
    if not name.strip():
        raise JobError("who read it back is not said", remedy="Fill in your name.")
    layout = job.layout
    revisions = session.revisions()
    # What the unit may hold instead: what it came with, what this one stands on, and those made last.
    near = [revision, revisions[0], *(r for r in revisions if r.id == revision.parent_id), *revisions[-MOST_OTHERS:]]
    named = {r.image: r.name for r in near}
    request = session.request("reading back", revision=revision.id)
    gone_out = {(c.document.file, c.document.sha256) for c in job.carried() if c.kind == "exported"}

    def read() -> Compared:
        images = {sha: (title, job.image(sha)) for sha, title in named.items()}
        found = compared(path, layout, revision, images)
        if (found.file, found.sha256) in gone_out:
            raise LinkError(
                "is the file that was exported here, not one that was read from the unit",
                concerns=path.name,
                remedy="Read the unit's whole memory into a file of another name, and take that.",
            )
        return found

    def apply(c: Compared) -> None:
        if c.found.equal:
            text = f"{c.file} was read back: equal to {revision.name} in all {c.found.compared:,} bytes compared."
            if c.found.aside:
                text += f" {c.found.aside:,} bytes were left aside, {c.found.aside_changed:,} of them differ."
        else:
            text = f"{c.file} was read back and is not {revision.name}: {c.said()}"
        job.record_carried(revision.id, "read back", name, c.document(), text)
        session.settings.author = name.strip()
        session.say(text, trouble=not c.found.equal)

    session.read_file(request, path, read, apply)


def last_read_back(session: Session, revision: Revision | None) -> Carried | None:
    """The last file that was read back for a revision, if nothing was written since."""
    job = session.job
    steps = [c for c in steps_of(job, revision) if c.kind != "exported"] if job is not None else []
    return steps[-1] if steps and steps[-1].kind == "read back" else None
